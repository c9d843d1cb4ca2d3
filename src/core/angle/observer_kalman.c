/* SPDX-License-Identifier: Apache-2.0
 *
 * Kalman filter over flux linkage, angle and speed. The state is integrated exactly, in the
 * stationary frame; its errors are taken in the rotor's frame, where the measurement (the active
 * flux has the expected length and lies along the rotor) is the same at any angle, so that the
 * covariance only has to be turned with the frame: an invariant extended Kalman filter (Barrau,
 * Bonnabel, "The invariant extended Kalman filter as a stable observer", IEEE Trans. Autom. Control
 * 62(4), 2017). Errors: flux along d and q (share of the magnets'), angle, angle turned in a
 * sample. Noise of the measurement is the unit of all variances; two drifts set the bandwidths.
 */
#include "angle_sources.h"

#include "base/arithmetic.h"

#define PULL_PER_RAD 0.4f
#define UNKNOWN 400.0f /* variance of what is not known, in units of a measurement's */

/* `doubt`: share of what it would doubt if nothing were known. */
static cvk_kalman_observer begin(const cvk_setup *setup, const cvk_tracked *at, cvk_ab stator_wb,
                                 float doubt)
{
    const float turn = setup->observer.drift_speed_rad;
    return (cvk_kalman_observer){.at = *at,
                                 .stator_wb = stator_wb,
                                 .dd = doubt * UNKNOWN,
                                 .qq = doubt * UNKNOWN,
                                 .aa = doubt * UNKNOWN,
                                 .ss = doubt * UNKNOWN * turn};
}

/* The errors one sample on: the frame turns, the angle moves by the speed's error, and doubts grow.
 */
static void predict(cvk_kalman_observer *s, const cvk_setup *setup)
{
    const float turned = cvk_clamp(s->at.speed_rad_s * setup->period_s, 1.0f);
    const cvk_rotation back = cvk_rotation_back(cvk_small_rotation_of(turned));
    const float c = back.cosine, n = back.sine;
    const float da = s->da + s->ds, qa = s->qa + s->qs;
    const float dd = s->dd, dq = s->dq, qq = s->qq, ds = s->ds, qs = s->qs;
    const float pull = setup->observer.pull + PULL_PER_RAD * fabsf(turned);
    s->dd = c * c * dd - 2.0f * c * n * dq + n * n * qq + pull * pull;
    s->qq = n * n * dd + 2.0f * c * n * dq + c * c * qq + pull * pull;
    s->dq = c * n * (dd - qq) + (c * c - n * n) * dq;
    s->da = c * da - n * qa;
    s->qa = n * da + c * qa;
    s->ds = c * ds - n * qs;
    s->qs = n * ds + c * qs;
    s->aa += 2.0f * s->as + s->ss;
    s->as += s->ss;
    s->ss += setup->observer.drift_speed_rad * setup->observer.drift_speed_rad;
}

/* What a measurement leaves of the doubts: less its products with each of them, over its variance.
 */
static void learn(cvk_kalman_observer *s, float per, float d, float q, float a, float w)
{
    s->dd -= per * d * d;
    s->dq -= per * d * q;
    s->da -= per * d * a;
    s->ds -= per * d * w;
    s->qq -= per * q * q;
    s->qa -= per * q * a;
    s->qs -= per * q * w;
    s->aa -= per * a * a;
    s->as -= per * a * w;
    s->ss -= per * w * w;
}

/* The length says something of the flux along d. Corrections of d, q, angle, speed. */
static void take_length(cvk_kalman_observer *s, float residual, float x[4])
{
    const float per = 1.0f / (s->dd + 1.0f);
    const float d = s->dd, q = s->dq, a = s->da, w = s->ds;
    x[0] = per * d * residual;
    x[1] = per * q * residual;
    x[2] = per * a * residual;
    x[3] = per * w * residual;
    learn(s, per, d, q, a, w);
}

/* The direction, of the flux along q and the angle. */
static void take_direction(cvk_kalman_observer *s, float residual, float x[4])
{
    const float d = s->dq - s->da, q = s->qq - s->qa, a = s->qa - s->aa, w = s->qs - s->as;
    const float per = 1.0f / (q - a + 1.0f), left = per * (residual - (x[1] - x[2]));
    x[0] += d * left;
    x[1] += q * left;
    x[2] += a * left;
    x[3] += w * left;
    learn(s, per, d, q, a, w);
}

void cvk_kalman_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_kalman_observer *s = &angles->observers.kalman;
    const cvk_observed *o = &angles->observed;
    if (o->fresh) {
        const float l_q = setup->settings.motor.inductance_q_h;
        const cvk_ab stator = {l_q * o->current_a.alpha + o->flux_wb, l_q * o->current_a.beta};
        *s = begin(setup, &(cvk_tracked){.unknown_rad2 = CVK_ANYWHERE_RAD2}, stator, 1.0f);
    } else {
        s->stator_wb.alpha += o->step_wb.alpha;
        s->stator_wb.beta += o->step_wb.beta;
    }
    predict(s, setup);
    cvk_tracked_predict(&s->at, setup);
    const cvk_rotation frame = cvk_rotation_of(s->at.angle_rad);
    const cvk_ab active = cvk_active_flux(setup, s->stator_wb, o->current_a);
    const cvk_dq seen = cvk_park(active, frame);
    const float length = cvk_length_dq(seen);
    const float per_length = length > 1e-3f * o->flux_wb ? 1.0f / length : 0.0f;
    const float error = cvk_error_of(seen.d, seen.q * per_length);
    const float misfit =
        cvk_active_length(setup, o->flux_wb, cvk_park(o->current_a, frame).d) - length;
    float x[4];
    take_length(s, misfit / o->flux_wb, x);
    take_direction(s, -error, x);
    const cvk_ab moved = cvk_park_inverse((cvk_dq){o->flux_wb * x[0], o->flux_wb * x[1]}, frame);
    s->stator_wb.alpha += moved.alpha;
    s->stator_wb.beta += moved.beta;
    if (seen.d < CVK_FAR * length && fabsf(misfit) < 0.5f * o->flux_wb) {
        cvk_tracked_relocate(&s->at, setup, active);
    } else {
        s->at.angle_rad = cvk_wrap_angle(s->at.angle_rad + x[2]);
        s->at.speed_rad_s += x[3] / setup->period_s;
    }
    s->at.before_wb = active;
    cvk_tracked_tell(&s->at, setup, o, misfit, error * error, &now->source[CVK_ANGLE_KALMAN]);
}

void cvk_kalman_seed(cvk_angles *angles, const cvk_setup *setup, const cvk_tracked *at,
                     cvk_ab stator_wb)
{
    angles->observers.kalman = begin(setup, at, stator_wb, at->unknown_rad2 / CVK_ANYWHERE_RAD2);
}
