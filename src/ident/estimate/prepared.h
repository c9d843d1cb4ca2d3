/* SPDX-License-Identifier: Apache-2.0
 *
 * One log on its way through the estimation: its signals, where the motor turns in it and where it
 * stands still.
 */
#ifndef CORVAK_IDENT_ESTIMATE_PREPARED_H
#define CORVAK_IDENT_ESTIMATE_PREPARED_H

#include "log/waveforms.h"
#include "turning/turns.h"

#define CVK_MOST_SPANS 64u

typedef struct cvk_prepared {
    cvk_log log; /* with the encoder's counts per turn, when its column shows them */
    cvk_waveforms waveforms;
    cvk_turns turns;
    cvk_span still[CVK_MOST_SPANS];
    size_t still_count;
    cvk_span windows; /* its windows among all: cvk_learning */
    bool usable;      /* else the findings say why not */
    bool stood;       /* the standstill model fits its standing stretches */
    bool moved;       /* meant as a standstill test, but the rotor did not stand still */
    bool fitted;      /* its turning stretches have been fitted row by row */
} cvk_prepared;

/* The logs in an order of their own, by what they contain: whatever order they are named in, the
 * numbers come out the same to the last bit. `order` gets `count` pointers. */
void cvk_order_logs(const cvk_log *const *logs, size_t count, const cvk_log **order);

/* Findings go to `out`; a log that cannot be used is none of the failures (`usable` is false then),
 * only CVK_NO_MEMORY is. Free in any case. */
cvk_status cvk_prepare(cvk_prepared *prepared, const cvk_log *log,
                       const cvk_estimate_options *options, cvk_estimate *out);

void cvk_prepared_free(cvk_prepared *prepared);

#endif
