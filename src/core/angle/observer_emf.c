/* SPDX-License-Identifier: Apache-2.0
 *
 * Observer of the extended back-EMF (Chen, Tomita, Doki, Okuma, "An extended electromotive force
 * model for sensorless control of interior permanent-magnet synchronous motors", IEEE Trans. Ind.
 * Electron. 50(2), 2003). From sample to sample the active flux moves by the integral of v - R i
 * less Lq times the current's step: exactly the chord of the arc that the rotor has turned. In a
 * frame at the middle of that arc it lies across the rotor. A filter in that frame takes the noise
 * off, a tracking filter turns the frame until nothing lies along it. Unlike the flux observer it
 * keeps nothing of what was before its filter; and it needs speed: harmonics of the magnets count n
 * times as much in a voltage as in a flux linkage, so the filters are no faster than the rotor
 * turns.
 */
#include "angle_sources.h"

void cvk_emf_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_emf_observer *s = &angles->observers.emf;
    const cvk_observed *o = &angles->observed;
    const float T = setup->period_s, rate = 1.0f / T;
    if (o->fresh) {
        *s = (cvk_emf_observer){.at = {.unknown_rad2 = CVK_ANYWHERE_RAD2}};
    }
    const float half = 0.5f * s->at.speed_rad_s * T;
    const cvk_rotation middle = cvk_rotation_of(s->at.angle_rad + half);
    cvk_tracked_predict(&s->at, setup);
    const cvk_ab chord = cvk_chord_seen(o, setup);
    const cvk_dq seen = cvk_park(chord, middle);
    const float speed_seen = (fabsf(s->emf_v.d) + fabsf(s->emf_v.q)) / o->flux_wb;
    const float slow =
        (speed_seen + setup->settings.observer.least_speed_rad_s) * setup->observer.pace_per_rad_s;
    const float pace = slow < 1.0f ? slow : 1.0f, share = pace * setup->observer.filter;
    const cvk_dq off = {rate * seen.d - s->emf_v.d, rate * seen.q - s->emf_v.q};
    s->emf_v.d += share * off.d;
    s->emf_v.q += share * off.q;
    const float way = copysignf(1.0f, s->at.speed_rad_s);
    const float length = cvk_length_dq(s->emf_v);
    const float per_length = length > 0.0f ? 1.0f / length : 0.0f;
    const float error = cvk_error_of(way * s->emf_v.q, -way * s->emf_v.d * per_length);
    /* a chord is shorter than its arc */
    const float speed = fabsf(s->at.speed_rad_s) * (1.0f - half * half * (1.0f / 6.0f)) + 1e-3f;
    const float d_a = cvk_park(o->current_a, middle).d;
    const float misfit = cvk_active_length(setup, o->flux_wb, d_a) - length / speed;
    if (way * s->emf_v.q < CVK_FAR * length && o->judge) {
        cvk_tracked_relocate_by_chord(&s->at, setup, chord, o->flux_wb);
    } else {
        cvk_tracked_correct(&s->at, setup, error, pace);
    }
    s->at.before_wb = chord;
    /* what is left of the noise behind the filter */
    const float rough = 0.5f * share * (off.d * off.d + off.q * off.q) * per_length * per_length;
    cvk_tracked_tell(&s->at, setup, o, misfit, error * error + rough, &now->source[CVK_ANGLE_EMF]);
}

void cvk_emf_seed(cvk_angles *angles, const cvk_setup *setup, const cvk_tracked *at,
                  cvk_ab stator_wb)
{
    const float flux_wb = setup->settings.motor.flux_linkage_wb + angles->adaptation.flux_wb;
    (void)stator_wb;
    angles->observers.emf =
        (cvk_emf_observer){.at = *at, .emf_v = {0.0f, at->speed_rad_s * flux_wb}};
}
