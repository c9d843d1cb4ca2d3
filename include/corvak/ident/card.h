/* SPDX-License-Identifier: Apache-2.0
 *
 * The motor card: what is known of a motor, each number with its interval and where it came from.
 */
#ifndef CORVAK_IDENT_CARD_H
#define CORVAK_IDENT_CARD_H

#include "corvak/core/status.h"

#include <stdbool.h>
#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_CARD_TEXT 256

typedef enum cvk_card_key {
    CVK_CARD_RESISTANCE = 0,     /* resistance_ohm: winding plus one switch when voltages are
                                    commanded, winding alone when measured at the terminals */
    CVK_CARD_INDUCTANCE_D,       /* inductance_d_h */
    CVK_CARD_INDUCTANCE_Q,       /* inductance_q_h */
    CVK_CARD_FLUX_LINKAGE,       /* flux_linkage_wb, peak of one phase */
    CVK_CARD_POLE_PAIRS,         /* pole_pairs */
    CVK_CARD_INERTIA,            /* inertia_kg_m2 */
    CVK_CARD_FRICTION_COULOMB,   /* friction_coulomb_nm */
    CVK_CARD_FRICTION_VISCOUS,   /* friction_viscous_nm_s */
    CVK_CARD_WINDING_RESISTANCE, /* winding_resistance_ohm: without the switch */
    CVK_CARD_RESISTANCE_25,      /* resistance_25degc_ohm: as resistance_ohm, at 25 degC */
    CVK_CARD_MOTOR_COUNT,
    CVK_CARD_DEAD_TIME_VOLTAGE = CVK_CARD_MOTOR_COUNT, /* dead_time_voltage_v */
    CVK_CARD_DELAY, /* delay_periods, from a logged voltage to its action */
    CVK_CARD_INVERTER_COUNT,
    /* Incremental inductance at current i along the axis: L / (1 + linear i + square i^2). */
    CVK_CARD_LINEAR_D = CVK_CARD_INVERTER_COUNT, /* inductance_d_linear_per_a */
    CVK_CARD_SQUARE_D,                           /* inductance_d_square_per_a2 */
    CVK_CARD_SQUARE_Q,                           /* inductance_q_square_per_a2 */
    CVK_CARD_CROSS,                              /* inductance_cross_per_a */
    CVK_CARD_COUNT
} cvk_card_key;

/* The key as it stands in files, with its unit. */
const char *cvk_card_key_name(cvk_card_key key);

typedef struct cvk_card_entry {
    bool known;
    bool by_hand; /* set by a person; `from` has the reason */
    double value;
    double low, high;                         /* 95 %, everything counted */
    double statistical_low, statistical_high; /* 95 %, without the scale of the channels */
    double probability;                       /* pole pairs: that the integer is right */
    char from[CVK_CARD_TEXT];                 /* logs and method */
    char missing[CVK_CARD_TEXT];              /* when not known: why, and what would show it */
} cvk_card_entry;

typedef struct cvk_card {
    char name[CVK_CARD_TEXT];
    cvk_card_entry entry[CVK_CARD_COUNT];
} cvk_card;

/* The key of a name; CVK_CARD_COUNT when there is none such. */
cvk_card_key cvk_card_key_of(const char *name);

/* Sets a value by hand, with its interval (low <= value <= high, all finite; inductances,
 * resistances and flux linkage positive; pole pairs whole) and the reason. What depends on it and
 * is not itself set by hand is recomputed: inertia and friction follow from torque and mechanical
 * speed, so they scale with pole pairs and flux linkage. CVK_OUT_OF_RANGE when refused. */
cvk_status cvk_card_set(cvk_card *card, cvk_card_key key, double value, double low, double high,
                        const char *reason) CVK_MUST_CHECK;

/* Whether two entries agree within their intervals: `ratio` is the distance of the values over the
 * intervals' half widths, added as squares. Agreement is a ratio of at most one. */
bool cvk_card_agree(const cvk_card_entry *a, const cvk_card_entry *b, double *ratio);

/* Joins what another card of the same motor knows: values that agree are weighed by their
 * statistical intervals, a value set by hand wins, and where the cards contradict each other the
 * entry is left open with that reason: returns how many. `from` keeps both. */
int cvk_card_join(cvk_card *card, const cvk_card *other);

/* What a meter between two terminals should read: twice the phase resistance, and twice the
 * inductance along the line's axis, `angle_rad` (electrical) from the magnet's: NaN for unknown,
 * which gives the whole range. False when the card does not know. */
bool cvk_card_meter_resistance(const cvk_card *card, cvk_card_entry *out);
bool cvk_card_meter_inductance(const cvk_card *card, double angle_rad, cvk_card_entry *out);

/* Torque constant in N m per A of q-axis current peak: 1.5 p flux. False when not known. */
bool cvk_card_torque_constant(const cvk_card *card, cvk_card_entry *out);

/* Speed per volt of line-to-line back-EMF peak, in rpm/V. False when not known. */
bool cvk_card_rpm_per_volt(const cvk_card *card, cvk_card_entry *out);

#ifdef __cplusplus
}
#endif
#endif
