/* SPDX-License-Identifier: Apache-2.0
 *
 * Flux observer. In the stationary frame the stator flux linkage is the integral of v - R i
 * (v is what the duties make: the inverter's own voltage is compensated there), and the active flux
 * psi - Lq i points along the rotor with the length flux + (Ld - Lq) id, whatever the saliency
 * (Boldea, Paicu, Andreescu, "Active flux concept for motion-sensorless unified AC drives", IEEE
 * Trans. Power Electron. 23(5), 2008). Its length is pulled to that value, which takes the drift
 * out of the integral (Lee, Hong, Nam, Ortega, Praly, Astolfi, "Sensorless control of surface-mount
 * permanent-magnet synchronous motors based on a nonlinear observer", IEEE Trans. Power Electron.
 * 25(2), 2010). A tracking filter gives angle and speed.
 */
#include "angles.h"

#include <stddef.h>

/* The pull acts per radian turned as well: at least so much of the error in a radian. */
#define PULL_PER_RAD 0.6f
/* Mean misdirection (rad) and misfit of the length (share) at which nothing is known any more. */
#define LOST_RAD 0.5f
#define LOST_SHARE 0.5f
#define WATCH 0.02f /* share by which those means follow in one sample */

static const cvk_parameter rows[] = {
    CVK_ROW(observer, bandwidth_rad_s, "rad/s", 0.1f, 5000.0f, 20.0f, true,
            "flux observer: how fast the flux linkage's length is corrected, at least"),
    CVK_ROW(observer, tracking_bandwidth_rad_s, "rad/s", 1.0f, 20000.0f, 200.0f, true,
            "bandwidth of the tracking filter behind the observer"),
    CVK_ROW(observer, least_speed_rad_s, "rad/s", 0.0f, 20000.0f, 30.0f, true,
            "electrical speed below which the observer's angle is not trusted"),
};
const cvk_parameter_rows cvk_flux_rows = CVK_ROWS(rows);

/* The stator's flux linkage from the sample before to this one. */
static void integrate(cvk_flux_observer *s, const cvk_setup *setup, const cvk_moment *now)
{
    const float R = setup->settings.motor.resistance_ohm, T = setup->period_s;
    const cvk_ab i = {0.5f * (s->current_a.alpha + now->current_ab_a.alpha),
                      0.5f * (s->current_a.beta + now->current_ab_a.beta)};
    s->stator_wb.alpha += T * (now->acted_v.alpha - R * i.alpha);
    s->stator_wb.beta += T * (now->acted_v.beta - R * i.beta);
    s->current_a = now->current_ab_a;
}

/* Falls as the filter has to turn back more and more, or the length does not fit; and below the
 * least speed with the speed. */
static void judge(cvk_flux_observer *s, const cvk_setup *setup, float error_rad, float misfit,
                  cvk_angle *out)
{
    const float speed = fabsf(s->speed_rad_s) * setup->flux.per_least_speed;
    s->misdirection += WATCH * (fabsf(error_rad) - s->misdirection);
    s->misfit += WATCH * (misfit - s->misfit);
    const float turned = s->misdirection * (1.0f / LOST_RAD);
    const float stretched = fabsf(s->misfit) * (1.0f / LOST_SHARE);
    const float fit = 1.0f - (turned > stretched ? turned : stretched);
    out->quality = fit <= 0.0f ? 0.0f : (speed < 1.0f ? fit * speed : fit);
    out->reason = speed < 1.0f ? CVK_ANGLE_TOO_SLOW
                  : fit < 0.5f ? CVK_ANGLE_NO_MATCH
                               : CVK_ANGLE_FINE;
}

void cvk_flux_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_flux_observer *s = &angles->flux;
    const cvk_motor_settings *motor = &setup->settings.motor;
    cvk_angle *out = &now->source[CVK_ANGLE_FLUX];
    const float flux = motor->flux_linkage_wb, l_q = motor->inductance_q_h;
    if (!(flux > 0.0f) || now->bridge_on == 0 || now->fault != CVK_FAULT_NONE) {
        *s = (cvk_flux_observer){.primed = false};
        *out = (cvk_angle){0.0f, 0.0f, 0.0f, CVK_ANGLE_OFF};
        return;
    }
    if (!s->primed) {
        *s = (cvk_flux_observer){
            .current_a = now->current_ab_a,
            .stator_wb = {l_q * now->current_ab_a.alpha + flux, l_q * now->current_ab_a.beta},
            .misfit = LOST_SHARE,
            .primed = true};
    }
    integrate(s, setup, now);
    s->angle_rad = cvk_wrap_angle(s->angle_rad + s->speed_rad_s * setup->period_s);
    const cvk_rotation frame = cvk_rotation_of(s->angle_rad);
    const cvk_ab active = {s->stator_wb.alpha - l_q * now->current_ab_a.alpha,
                           s->stator_wb.beta - l_q * now->current_ab_a.beta};
    const cvk_dq seen = cvk_park(active, frame), i = cvk_park(now->current_ab_a, frame);
    const float length = sqrtf(seen.d * seen.d + seen.q * seen.q);
    const float per_length = length > 1e-3f * flux ? 1.0f / length : 0.0f;
    const float misfit = flux + (motor->inductance_d_h - l_q) * i.d - length;
    const float turned = fabsf(s->speed_rad_s) * setup->period_s;
    const float scale = (setup->flux.pull + PULL_PER_RAD * turned) * misfit * per_length;
    s->stator_wb.alpha += scale * active.alpha;
    s->stator_wb.beta += scale * active.beta;
    /* the sine stands for the angle, and a right angle for anything beyond */
    const float sine = seen.q * per_length;
    const float error = seen.d >= 0.0f ? sine : copysignf(1.0f, sine);
    s->angle_rad = cvk_wrap_angle(s->angle_rad + setup->flux.gain_angle * error);
    s->speed_rad_s += setup->flux.gain_speed * error;
    judge(s, setup, error, misfit * setup->flux.per_flux, out);
    out->angle_rad = s->angle_rad;
    out->speed_rad_s = s->speed_rad_s;
}
