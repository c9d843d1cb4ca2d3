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
#include "angle_sources.h"

/* The pull acts per radian turned as well: at least so much of the error in a radian. */
#define PULL_PER_RAD 0.6f

/* Nothing known yet: the rotor is taken to point along alpha. */
static void begin(cvk_flux_observer *s, const cvk_setup *setup, const cvk_observed *o)
{
    const float l_q = setup->settings.motor.inductance_q_h;
    *s = (cvk_flux_observer){
        .at = {.unknown_rad2 = CVK_ANYWHERE_RAD2},
        .stator_wb = {l_q * o->current_a.alpha + o->flux_wb, l_q * o->current_a.beta}};
}

void cvk_flux_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_flux_observer *s = &angles->observers.flux;
    const cvk_observed *o = &angles->observed;
    const cvk_motor_settings *m = &setup->settings.motor;
    if (o->fresh) {
        begin(s, setup, o);
    } else {
        s->stator_wb.alpha += o->step_wb.alpha;
        s->stator_wb.beta += o->step_wb.beta;
    }
    cvk_tracked_predict(&s->at, setup);
    const cvk_rotation frame = cvk_rotation_of(s->at.angle_rad);
    const cvk_ab active = cvk_active_flux(setup, s->stator_wb, o->current_a);
    const cvk_dq seen = cvk_park(active, frame);
    const float length = cvk_length_dq(seen);
    const float per_length = length > 1e-3f * o->flux_wb ? 1.0f / length : 0.0f;
    const cvk_ab along = {per_length * active.alpha, per_length * active.beta};
    const cvk_dq i = cvk_park(o->current_a, (cvk_rotation){along.alpha, along.beta});
    const float misfit = cvk_active_length(setup, o->flux_wb, i.d) - length;
    const float turned = fabsf(s->at.speed_rad_s) * setup->period_s;
    /* down the misfit's slope: with saliency the length that is due changes across as well */
    const float across =
        cvk_clamp((m->inductance_d_h - m->inductance_q_h) * i.q * per_length, 1.0f);
    const float scale =
        (setup->observer.pull + PULL_PER_RAD * turned) * misfit / (1.0f + across * across);
    s->stator_wb.alpha += scale * (along.alpha + across * along.beta);
    s->stator_wb.beta += scale * (along.beta - across * along.alpha);
    const float error = cvk_error_of(seen.d, seen.q * per_length);
    if (seen.d < CVK_FAR * length && fabsf(misfit) < 0.5f * o->flux_wb) {
        cvk_tracked_relocate(&s->at, setup, active);
    } else {
        cvk_tracked_correct(&s->at, setup, error, cvk_pace_of(setup, s->at.speed_rad_s));
    }
    s->at.before_wb = active;
    cvk_tracked_tell(&s->at, setup, o, misfit, error * error, &now->source[CVK_ANGLE_FLUX]);
}

void cvk_flux_seed(cvk_angles *angles, const cvk_setup *setup, const cvk_tracked *at,
                   cvk_ab stator_wb)
{
    (void)setup;
    angles->observers.flux = (cvk_flux_observer){.at = *at, .stator_wb = stator_wb};
}
