/* SPDX-License-Identifier: Apache-2.0
 *
 * What the controller's loops do around a motor: phase margins and bandwidths from their exact
 * discrete equations (docs/theory.md section 11).
 */
#ifndef CORVAK_HOST_LOOP_MARGIN_H
#define CORVAK_HOST_LOOP_MARGIN_H

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

/* ---- current: the loop that settings make of a motor whose inductance is `ratio` times what they
 * say ---- */

/* Its answer to a unit step of the set-point: response[0] is the current at the sample that first
 * knows of the step, then one value each control period. */
void cvk_current_loop_step(double bandwidth_hz, double period_s, double ratio, double *response,
                           size_t count);

/* Phase margin (rad) and overshoot of a step. */
void cvk_current_loop_analysis(double bandwidth_hz, double period_s, double ratio,
                               double *margin_rad, double *overshoot);

/* ---- speed and position: around the current loop, on a shaft of pure inertia, with angle and
 * speed as the tracking filter gives them ---- */

typedef struct cvk_motion_loop {
    double period_s;
    double current_bandwidth_hz;
    double tracking_rad_s; /* both poles of the tracking filter */
    double reach;          /* electrical acceleration per A of torque current, rad/s^2; above 0 */
    double gain_a_s;       /* A per electrical rad/s */
    double integral_gain_a;
    double gain_per_s; /* position loop */
} cvk_motion_loop;

typedef struct cvk_loop_margin {
    double margin_rad;      /* the least, where the loop's gain is one; pi when it never is, below
                               0 when the loop is unstable */
    double crossover_rad_s; /* there; 0 when it never is */
} cvk_loop_margin;

cvk_loop_margin cvk_speed_loop_margin(const cvk_motion_loop *loop);

/* Of the position loop around the closed speed loop. */
cvk_loop_margin cvk_position_loop_margin(const cvk_motion_loop *loop);

#ifdef __cplusplus
}
#endif
#endif
