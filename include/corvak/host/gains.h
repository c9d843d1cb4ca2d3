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

/* What is asked of the loops, in place of the rules. 0: as the rules say. */
typedef struct cvk_gains_wish {
    double current_bandwidth_hz, observer_bandwidth_hz, speed_bandwidth_hz, position_bandwidth_hz;
    double margin_rad;         /* phase margin of every loop at the worst corner; 45 degrees */
    double load_inertia_kg_m2; /* the heaviest load that may come to the shaft */
    bool injection; /* full torque at standstill by injection; refused when it cannot be */
} cvk_gains_wish;

/* What the current loop is designed to do; the worst over the corners of the card's intervals. */
typedef struct cvk_loop_prediction {
    double bandwidth_hz;
    double rise_periods; /* from a step of the set-point to 63 % of it, transport included */
    double overshoot;    /* share of the step, with the card's values */
    double margin_rad;   /* phase margin, with the card's values */
    double worst_margin_rad, worst_overshoot;
} cvk_loop_prediction;

/* Speed or position loop; the worst over the intervals of inertia (the load with it) and flux
 * linkage, and over the observer's speeds. */
typedef struct cvk_motion_prediction {
    double bandwidth_rad_s; /* 0: the card has no inertia, nothing was set */
    double margin_rad, worst_margin_rad;
    double stiffness_nm_rad, damping_nms_rad; /* what the hand feels at the shaft */
} cvk_motion_prediction;

typedef struct cvk_gains_item {
    const cvk_parameter *parameter;
    char from[192];
} cvk_gains_item;

typedef struct cvk_gains {
    cvk_settings settings;
    unsigned items;
    cvk_gains_item item[CVK_GAINS_MOST]; /* what was set, in the order of the table */
    cvk_loop_prediction current;
    cvk_motion_prediction speed, position;
    double top_speed_rad_s;  /* electrical; at the linear range's end */
    double hides_a, first_a; /* d current that leaves nothing of the active flux, when it is within
                                the limit (else 0), and current of a first start */
    char missing[CVK_CARD_TEXT]; /* what the card lacks, or which wish cannot be kept and why */
} cvk_gains;

/* Settings for this motor on this stage. `base` has the limits and everything that gains do not
 * set; `wish` may be null. CVK_NOT_IN_LOG when the card lacks a value that is needed,
 * CVK_CONTRADICTION when a wish cannot be kept with the margin (see `missing`); without inertia
 * the speed loop stays as in `base`. */
cvk_status cvk_compute_gains(const cvk_card *card, const cvk_gains_stage *stage,
                             const cvk_settings *base, const cvk_gains_wish *wish,
                             cvk_gains *out) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
