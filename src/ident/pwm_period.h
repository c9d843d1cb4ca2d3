/* SPDX-License-Identifier: Apache-2.0
 *
 * Finding the PWM in voltages that a scope has recorded with the switching visible.
 */
#ifndef CORVAK_IDENT_PWM_PERIOD_H
#define CORVAK_IDENT_PWM_PERIOD_H

#include "corvak/ident/log.h"

typedef struct cvk_pwm {
    double period_rows; /* rows in one PWM period */
    double centre_row;  /* middle of a zero vector: no phase switches near it */
    double quiet_rows;  /* to either side of it */
    double step_v;      /* by which the voltages jump */
} cvk_pwm;

/* True when the voltages jump between a few levels at a regular rate of at least 3 kHz, with at
 * least 8 rows in a period. */
bool cvk_find_pwm(const cvk_log *log, double period_s, cvk_pwm *pwm);

#endif
