/* SPDX-License-Identifier: Apache-2.0
 *
 * What each PWM frequency costs on this motor and stage, and which is the best and the poorest.
 * Equations: docs/theory.md section 11.
 */
#ifndef CORVAK_HOST_PWM_ADVICE_H
#define CORVAK_HOST_PWM_ADVICE_H

#include "corvak/host/gains.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_PWM_MOST 9

/* What the frequencies are judged by. */
typedef enum cvk_pwm_cost {
    CVK_PWM_RIPPLE = 0, /* largest ripple of a phase current, peak to peak, share of the limit */
    CVK_PWM_CAPACITOR,  /* ripple of the bus voltage by the capacitor, peak to peak, share of it */
    CVK_PWM_ANGLE,      /* electrical angle turned in a control period at top speed, rad */
    CVK_PWM_DEAD_TIME,  /* share of the bus that dead times take */
    CVK_PWM_SWITCHING,  /* switching loss over conduction loss, at the limit */
    CVK_PWM_BLOCKED,    /* current gained before the control reacts, share of the way to the trip */
    CVK_PWM_COSTS
} cvk_pwm_cost;

typedef struct cvk_pwm_stage {
    double pwm_hz, updates_per_period; /* as it is */
    double bus_v, dead_time_s, capacitor_f, switch_resistance_ohm;
    double edge_s; /* a node takes that long to go across: losses */
} cvk_pwm_stage;

typedef struct cvk_pwm_row {
    double pwm_hz;
    double cost[CVK_PWM_COSTS];
    double capacitor_a;  /* rms, in the bus capacitor at the current limit: at any frequency */
    double bandwidth_hz; /* of the fastest current loop */
    cvk_pwm_cost worst;  /* the cost that is nearest to, or most beyond, its usual limit */
    double worst_ratio;  /* of it to that limit: above 1 is too much */
} cvk_pwm_row;

typedef struct cvk_pwm_advice {
    size_t count;
    cvk_pwm_row row[CVK_PWM_MOST];
    size_t best, poorest; /* rows, by their worst cost */
    size_t present;       /* the row of the frequency as it is */
} cvk_pwm_advice;

/* From gains that were computed (motor, limits, top speed). */
void cvk_advise_pwm(const cvk_gains *gains, const cvk_pwm_stage *stage, cvk_pwm_advice *out);

/* The usual limit of a cost, and a name for it. */
double cvk_pwm_limit(cvk_pwm_cost cost);
const char *cvk_pwm_cost_text(cvk_pwm_cost cost);

#ifdef __cplusplus
}
#endif
#endif
