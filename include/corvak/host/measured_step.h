/* SPDX-License-Identifier: Apache-2.0
 *
 * Measured steps of a running controller's loops, over what is predicted for them.
 */
#ifndef CORVAK_HOST_MEASURED_STEP_H
#define CORVAK_HOST_MEASURED_STEP_H

#include "corvak/host/session.h"

#ifdef __cplusplus
extern "C" {
#endif

/* How a quantity went from one value to another. Times from the step on; NaN: it did not. */
typedef struct cvk_step_shape {
    double rise_s;     /* from 10 % to 90 % */
    double overshoot;  /* share of the step, beyond its end; 0: none */
    double settling_s; /* from then on within 5 % of the step around its end, or within four
                          times the ripple where that is more */
    double ripple;     /* rms about its mean, over the last third */
} cvk_step_shape;

/* `y` at evenly spaced times, the first one at the step; from and to as they were asked for. */
cvk_step_shape cvk_step_shape_of(const double *y, size_t count, double spacing_s, double from,
                                 double to);

typedef enum cvk_measured_step_kind {
    CVK_MEASURED_CURRENT_D,
    CVK_MEASURED_CURRENT_Q,
    CVK_MEASURED_SPEED
} cvk_measured_step_kind;

typedef struct cvk_measured_step {
    cvk_measured_step_kind kind;
    double spacing_s;
    double from, to;                                  /* A; or electrical rad/s */
    size_t rows;                                      /* from the step on */
    double *set, *measured, *predicted, *current_q_a; /* current_q_a: of a speed step; else null */
    unsigned repeats; /* the measured curve is the mean of so many */
    cvk_step_shape shape, predicted_shape;
    /* the current loop */
    double bandwidth_hz;
    /* the speed loop; all at the shaft */
    double stiffness_nm_rad, damping_nms_rad; /* what the hand feels: from gains in force */
    double inertia_kg_m2;                     /* behind the prediction; NaN: not known */
    bool inertia_measured;                    /* seen in this very step */
    bool limited;                             /* the torque current was at its limit for a while */
} cvk_measured_step;

/* Steps the set-point of the current by `step_a`, up and down several times, and takes the mean: of
 * the d current while the drive turns by speed or current, of the q current in current mode with
 * `axis_q`. Ends with the request as it was before. `request` is what rules. CVK_CONTRADICTION,
 * with the session's `text`, when the motor does not run so; the session's refusals. Free in any
 * case. */
cvk_status cvk_measure_current_step(cvk_session *session, const cvk_request *request, double step_a,
                                    bool axis_q, cvk_measured_step *out) CVK_MUST_CHECK;

/* Steps the speed by `step_rad_s` (electrical) and watches for `length_s`. `inertia_kg_m2` for the
 * prediction; NaN: it is taken from what the step shows. Ends at the speed of `request`, a
 * `length_s` later. */
cvk_status cvk_measure_speed_step(cvk_session *session, const cvk_request *request,
                                  double step_rad_s, double length_s, double inertia_kg_m2,
                                  cvk_measured_step *out) CVK_MUST_CHECK;

void cvk_measured_step_free(cvk_measured_step *step);

#ifdef __cplusplus
}
#endif
#endif
