/* SPDX-License-Identifier: Apache-2.0
 *
 * Flux-linkage-based current control. With T the period, w the speed, J(x) a rotation by x,
 * k the present sample, u the voltage acting from k to k+1 and e the unknown voltage, both in the
 * rotor frame of k:
 *
 *     psi(k+1) = J(-wT) [ psi(k) + T (u - R i(k) + e) ]                         predict
 *     T u' = J(wT) [ psi(k+1) + alpha (psi_set - psi(k+1)) ] - psi(k+1) + T (R i - e)   command
 *
 * where u', in the rotor frame of k+1, acts from k+1 to k+2.
 */
#include "corvak/core/current_control.h"

#include "base/arithmetic.h"
#include "base/setup.h"

#include <stddef.h>

#define SIXTH_RATIO 0.1f    /* as CVK_LEARNING_RATIO, of the harmonics */
#define MOST_SIXTH_RAD 0.2f /* per sample: beyond it they are left alone */

static const cvk_parameter rows[] = {
    CVK_ROW(current, bandwidth_hz, "Hz", 1.0f, 12500.0f, 500.0f, true,
            "bandwidth of the current loop; at most 1/16 of the control rate"),
    CVK_ROW_YES_NO(current, harmonics, 0,
                   "whether the fifth and seventh harmonic of the currents are rejected"),
};
const cvk_parameter_rows cvk_current_rows = CVK_ROWS(rows);

cvk_status cvk_current_control_prepare(cvk_current_constants *constants,
                                       const cvk_current_control_config *config, cvk_refusal *why)
{
    static const cvk_range ranges[] = {
        {"period_s", offsetof(cvk_current_control_config, period_s), 5e-6f, 1e-3f},
        {"resistance_ohm", offsetof(cvk_current_control_config, resistance_ohm), 0.0f, 100.0f},
        {"inductance_d_h", offsetof(cvk_current_control_config, inductance_d_h), 1e-7f, 1.0f},
        {"inductance_q_h", offsetof(cvk_current_control_config, inductance_q_h), 1e-7f, 1.0f},
        {"flux_linkage_wb", offsetof(cvk_current_control_config, flux_linkage_wb), 0.0f, 10.0f},
    };
    if (constants == NULL || config == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_status status = cvk_check_ranges(config, ranges, sizeof ranges / sizeof ranges[0], why);
    if (status == CVK_OK) {
        status = cvk_check_range("bandwidth_hz", config->bandwidth_hz, 1.0f,
                                 0.0625f / config->period_s, why);
    }
    if (status != CVK_OK) {
        return status;
    }
    float alpha = 1.0f - expf(-CVK_TWO_PI * config->bandwidth_hz * config->period_s);
    *constants = (cvk_current_constants){
        .period_s = config->period_s,
        .rate_hz = 1.0f / config->period_s,
        .resistance_ohm = config->resistance_ohm,
        .inductance_d_h = config->inductance_d_h,
        .inductance_q_h = config->inductance_q_h,
        .flux_linkage_wb = config->flux_linkage_wb,
        .alpha = alpha,
        .learning = CVK_LEARNING_RATIO * alpha,
        .learning_sixth = config->harmonics ? SIXTH_RATIO * alpha : 0.0f,
    };
    return CVK_OK;
}

void cvk_current_control_restart(cvk_current_control *control)
{
    *control = (cvk_current_control){.primed = false};
}

/* J(angle) x */
static cvk_dq turn(cvk_dq x, cvk_rotation angle)
{
    return (cvk_dq){angle.cosine * x.d - angle.sine * x.q, angle.sine * x.d + angle.cosine * x.q};
}

void cvk_current_control_reframe(cvk_current_control *control, const cvk_current_constants *c,
                                 float turned_rad, float speed_before_rad_s, float speed_rad_s)
{
    const cvk_rotation back = cvk_rotation_back(cvk_rotation_of(cvk_wrap_angle(turned_rad)));
    const cvk_dq e = control->disturbance_v;
    const cvk_dq emf_v = {-e.d, speed_before_rad_s * c->flux_linkage_wb - e.q};
    const cvk_dq seen = turn(emf_v, back);
    *control = (cvk_current_control){
        .disturbance_v = {-seen.d, speed_rad_s * c->flux_linkage_wb - seen.q}};
}

static cvk_dq flux_of(const cvk_current_constants *c, cvk_dq current_a)
{
    return (cvk_dq){c->inductance_d_h * current_a.d + c->flux_linkage_wb,
                    c->inductance_q_h * current_a.q};
}

/* The turning parts of the disturbance, learned from the error of the last prediction and turned on
 * to this period; their sum now, and in the period to come. */
static void turning_parts(cvk_current_control *control, const cvk_current_constants *c,
                          cvk_dq error_v, float step_rad, cvk_rotation step, cvk_dq *now,
                          cvk_dq *coming)
{
    *now = *coming = (cvk_dq){0.0f, 0.0f};
    if (!(c->learning_sixth > 0.0f) || fabsf(step_rad) > MOST_SIXTH_RAD) {
        return;
    }
    const cvk_rotation third = cvk_rotation_then(cvk_rotation_then(step, step), step);
    const cvk_rotation on = cvk_rotation_then(third, third), back = cvk_rotation_back(on);
    cvk_dq *f = &control->forward_v, *b = &control->backward_v;
    const float l = c->learning_sixth;
    *f = turn((cvk_dq){f->d + l * error_v.d, f->q + l * error_v.q}, on);
    *b = turn((cvk_dq){b->d + l * error_v.d, b->q + l * error_v.q}, back);
    const cvk_dq f_next = turn(*f, on), b_next = turn(*b, back);
    *now = (cvk_dq){f->d + b->d, f->q + b->q};
    *coming = (cvk_dq){f_next.d + b_next.d, f_next.q + b_next.q};
}

cvk_ab cvk_current_control_step(cvk_current_control *control, const cvk_current_constants *c,
                                cvk_dq setpoint_a, cvk_ab current_a, cvk_ab acting_v,
                                cvk_rotation frame, float speed_rad_s)
{
    const float T = c->period_s, step_rad = cvk_clamp(speed_rad_s * T, 1.0f);
    const cvk_rotation step = cvk_small_rotation_of(step_rad);
    const cvk_dq i = cvk_park(current_a, frame);
    const cvk_dq u = cvk_park(acting_v, frame);
    const cvk_dq psi = flux_of(c, i);
    const cvk_dq psi_set = flux_of(c, setpoint_a);
    cvk_dq *e = &control->disturbance_v, error_v = {0.0f, 0.0f}, sixth_now, sixth_next;

    if (control->primed) {
        error_v =
            (cvk_dq){(psi.d - control->predicted_wb.d) / T, (psi.q - control->predicted_wb.q) / T};
        e->d += c->learning * error_v.d;
        e->q += c->learning * error_v.q;
    }
    turning_parts(control, c, error_v, step_rad, step, &sixth_now, &sixth_next);
    const float R = c->resistance_ohm;
    const cvk_dq steady_v = {e->d - R * i.d, e->q - R * i.q};
    const cvk_dq moved = {psi.d + T * (u.d + steady_v.d + sixth_now.d),
                          psi.q + T * (u.q + steady_v.q + sixth_now.q)};
    const cvk_dq psi_next = turn(moved, cvk_rotation_back(step));
    const cvk_dq psi_goal = {psi_next.d + c->alpha * (psi_set.d - psi_next.d),
                             psi_next.q + c->alpha * (psi_set.q - psi_next.q)};
    const cvk_dq goal_now = turn(psi_goal, step);
    const cvk_dq u_next = {(goal_now.d - psi_next.d) * c->rate_hz - steady_v.d - sixth_next.d,
                           (goal_now.q - psi_next.q) * c->rate_hz - steady_v.q - sixth_next.q};

    control->predicted_wb = psi_next;
    control->primed = true;
    return cvk_park_inverse(u_next, cvk_rotation_then(frame, step));
}
