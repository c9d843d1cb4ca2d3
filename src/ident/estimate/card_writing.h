/* SPDX-License-Identifier: Apache-2.0
 *
 * From what was learnt to the card: values with their intervals, or the reason why there is none.
 */
#ifndef CORVAK_IDENT_ESTIMATE_CARD_WRITING_H
#define CORVAK_IDENT_ESTIMATE_CARD_WRITING_H

#include "learning.h"
#include "mechanics/pole_pairs.h"

/* Relative half widths (95 %) that the channels' common gains add. */
typedef struct cvk_scale_share {
    double current, voltage;
    double delay_s, delay_doubt_s; /* age of a current reading; deviation */
} cvk_scale_share;

/* What the options state, else the largest that a log states, else the default. */
cvk_scale_share cvk_scale_of(const cvk_log *const *logs, size_t count,
                             const cvk_estimate_options *options);

/* A value with the half width of its statistical interval; `scale` is the relative half width
 * (95 %) that the channels' common gains add. */
void cvk_fill_entry(cvk_card_entry *entry, double value, double half, double scale,
                    const char *from);

void cvk_leave_open(cvk_card *card, cvk_card_key key, const char *why);

/* Resistance, inductances, flux linkage, the inverter's own voltage, the delay, saturation. */
void cvk_write_electrical(const cvk_learning *learning, const cvk_prepared *logs, size_t count,
                          cvk_scale_share scale, cvk_estimate *out);

/* Resistance of the winding alone, and at 25 degC; after the electrical entries. */
void cvk_write_resistances(const cvk_learning *learning, const cvk_log *const *logs, size_t count,
                           cvk_scale_share scale, cvk_card *card);

/* `stated` pole pairs (0: none) stand where the logs show nothing, and are left open with the
 * reason where these show another number; `by` says who stated them. */
void cvk_write_pole_pairs(cvk_estimate *out, const cvk_pole_evidence *evidence, int stated,
                          const char *by);

#endif
