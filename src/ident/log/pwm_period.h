/* SPDX-License-Identifier: Apache-2.0
 *
 * Finding the PWM in voltages that a scope has recorded with the switching visible.
 */
#ifndef CORVAK_IDENT_LOG_PWM_PERIOD_H
#define CORVAK_IDENT_LOG_PWM_PERIOD_H

#include "corvak/ident/log.h"

typedef struct cvk_pwm {
    bool switching;     /* the voltages jump as a bridge makes them jump */
    bool found;         /* and the period is known: the rest is filled */
    double period_rows; /* rows in one PWM period */
    double centre_row;  /* middle of a zero vector: no phase switches near it */
    double quiet_rows;  /* to either side of it */
    double step_v;      /* by which the voltages jump */
    /* Samples fall into each period at other places than into the one before, unless the sample
     * rate is a multiple of the PWM's: largest gap between those places over many periods, in rows,
     * at most 1. Within it an edge cannot be placed. */
    double gap_rows;
    bool placed; /* samples on the edges' way tell where these are: within a tenth of a row */
} cvk_pwm;

/* Looks for a PWM of at least 3 kHz with at least 4 rows in a period. */
cvk_pwm cvk_find_pwm(const cvk_log *log, double period_s);

/* Places the centre of the zero vector anew, in rows from `begin`: in a stretch behind a gap. False
 * without memory. */
bool cvk_place_pwm(const cvk_log *log, size_t begin, size_t end, cvk_pwm *pwm);

#endif
