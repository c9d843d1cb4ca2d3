/* SPDX-License-Identifier: Apache-2.0
 *
 * Gains: from a motor card and what is known of the power stage to a controller's settings, with
 * what they are expected to do and a sentence on where each number comes from. Equations:
 * docs/theory.md section 11.
 */
#ifndef CORVAK_HOST_GAINS_H
#define CORVAK_HOST_GAINS_H

#include "corvak/core/drive.h"
#include "corvak/core/parameters.h"
#include "corvak/ident/card.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_GAINS_MOST 40u

/* The power stage. */
typedef struct cvk_gains_stage {
    cvk_hardware hardware;
    double bus_v;           /* nominal */
    double current_noise_a; /* of a reading, rms; 0: not known */
    double current_delay_s; /* age of a current reading; 0: not known */
    double knee_a;          /* current at which the inverter's own voltage bends; 0: not known */
} cvk_gains_stage;

/* What the current loop is designed to do; the worst over the corners of the card's intervals. */
typedef struct cvk_loop_prediction {
    double bandwidth_hz;
    double rise_periods; /* from a step of the set-point to 63 % of it, transport included */
    double overshoot;    /* share of the step, with the card's values */
    double margin_rad;   /* phase margin, with the card's values */
    double worst_margin_rad, worst_overshoot;
} cvk_loop_prediction;

typedef struct cvk_gains_item {
    const cvk_parameter *parameter;
    char from[192];
} cvk_gains_item;

typedef struct cvk_gains {
    cvk_settings settings;
    unsigned items;
    cvk_gains_item item[CVK_GAINS_MOST]; /* what was set, in the order of the table */
    cvk_loop_prediction current;
    double speed_bandwidth_rad_s, top_speed_rad_s; /* electrical; top: at the linear range's end */
    char missing[CVK_CARD_TEXT];                   /* CVK_NOT_IN_LOG: what the card lacks */
} cvk_gains;

/* Settings for this motor on this stage. `base` has the limits and everything that gains do not
 * set. CVK_NOT_IN_LOG when the card lacks a value that is needed (see `missing`); without inertia
 * the speed loop stays as in `base`. */
cvk_status cvk_compute_gains(const cvk_card *card, const cvk_gains_stage *stage,
                             const cvk_settings *base, cvk_gains *out) CVK_MUST_CHECK;

/* The same loop's answer to a unit step of the set-point: response[0] is the current at the sample
 * that first knows of the step, then one value each control period. */
void cvk_current_loop_step(double bandwidth_hz, double period_s, double ratio, double *response,
                           size_t count);

/* The current loop that settings make of a motor whose inductance is `ratio` times what they say:
 * phase margin (rad) and overshoot of a step. */
void cvk_current_loop_analysis(double bandwidth_hz, double period_s, double ratio,
                               double *margin_rad, double *overshoot);

#ifdef __cplusplus
}
#endif
#endif
