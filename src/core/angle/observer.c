/* SPDX-License-Identifier: Apache-2.0
 *
 * What observers have in common: what they look at, and resistance and flux linkage that follow
 * what is seen.
 *
 * An error dR of the resistance makes the flux linkage longer by dR iq / w (integrate dR i in a
 * frame that turns with w), one of the magnets' flux linkage by itself, at any speed. So a misfit
 * of the length belongs to the one or the other by iq / w; each gets the share that its own doubt
 * makes of it (a least-squares step, normalised). Whichever it is, the misfit is gone, and with it
 * the angle error that holding the length at a wrong value would make.
 */
#include "angle_sources.h"

#include "base/arithmetic.h"

#include <stddef.h>
#include <string.h>

#define TERMINAL_DOUBT 0.3f /* of terminals against that of duties and currents */
#define SURE 0.8f           /* quality from which there is something to adapt to */
#define SURE_BY_START 0.6f  /* the same when the start is a witness */
#define FOLLOWS 0.5f        /* of the start, from which the rotor surely turns */
#define DOUBT_R_SHARE 0.15f /* as a resistance is known: a winding warms up */
#define DOUBT_FLUX_SHARE 0.1f
#define MOST_R_SHARE 0.6f /* that it may have gone away from the settings */
#define MOST_FLUX_SHARE 0.2f

#define NAME_OF(NAME, name, text) #name,
static const char *const kinds[] = {CVK_OBSERVER_LIST(NAME_OF) NULL};

/* The observers, in the order of their list. */
typedef struct observer {
    void (*step)(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);
    void (*seed)(cvk_angles *angles, const cvk_setup *setup, const cvk_tracked *at,
                 cvk_ab stator_wb);
    size_t at; /* of what it tracks, in cvk_observers */
} observer;

#define ROW_OF(NAME, name, text)                                                                   \
    {cvk_##name##_step, cvk_##name##_seed, offsetof(cvk_observers, name.at)},
static const observer observers[] = {CVK_OBSERVER_LIST(ROW_OF)};

#define FILTER_RATIO 4.0f    /* of the back-EMF's filter to the tracking filter */
#define QUALITY_RAD 0.5236f  /* spread of the error at the least speed: 30 degrees */
#define MOST_TURNED_RAD 2.5f /* in a control period, of an observer */
#define ADAPT_S 0.3f         /* in which a misfit is taken up */

static const cvk_parameter rows[] = {
    CVK_ROW_CHOICE(observer, kind, kinds, CVK_OBSERVER_KINDS - 1, 0,
                   "observer in use: of the flux linkage, of the back-EMF, or a Kalman filter"),
    CVK_ROW_YES_NO(observer, all, 0, "whether the other observers run beside it, to be compared"),
    CVK_ROW_YES_NO(observer, adapt, 1,
                   "whether resistance and flux linkage follow what the observer sees"),
    CVK_ROW(observer, bandwidth_rad_s, "rad/s", 0.1f, 5000.0f, 20.0f, true,
            "how fast the flux linkage's length is corrected, at least"),
    CVK_ROW(observer, tracking_bandwidth_rad_s, "rad/s", 1.0f, 20000.0f, 200.0f, true,
            "bandwidth of angle and speed"),
    CVK_ROW(observer, least_speed_rad_s, "rad/s", 0.0f, 20000.0f, 30.0f, true,
            "electrical speed at which errors of the voltage make 30 degrees of angle error"),
};
const cvk_parameter_rows cvk_observer_rows = CVK_ROWS(rows);

/* ---- what they look at ----------------------------------------------------------------------- */

static void restart(cvk_angles *angles, cvk_moment *now)
{
    memset(&angles->observers, 0, sizeof angles->observers);
    angles->observing = false;
    angles->observed.judge = true; /* that there is nothing to look at */
    for (int n = 0; n < CVK_OBSERVER_KINDS; n++) {
        now->source[cvk_observer_source(n)] = (cvk_angle){0.0f, 0.0f, 0.0f, CVK_ANGLE_OFF};
    }
}

static void observe(cvk_angles *angles, const cvk_setup *setup, const cvk_moment *now)
{
    cvk_observed *o = &angles->observed;
    const cvk_motor_settings *m = &setup->settings.motor;
    const float T = setup->period_s, R = m->resistance_ohm + angles->adaptation.resistance_ohm;
    o->fresh = !angles->observing;
    o->before_a = o->fresh ? now->current_ab_a : o->current_a;
    o->current_a = now->current_ab_a;
    o->flux_wb = m->flux_linkage_wb + angles->adaptation.flux_wb;
    const float turned = T * now->source[setup->observer.chosen].speed_rad_s;
    const cvk_ab i = cvk_mean_of_turning(o->before_a, o->current_a, turned);
    o->step_wb =
        (cvk_ab){T * (now->acted_v.alpha - R * i.alpha), T * (now->acted_v.beta - R * i.beta)};
    o->doubt_rad_s = setup->observer.doubt_rad_s * (now->bridge_on == 0 ? TERMINAL_DOUBT : 1.0f);
    o->judge = ++angles->judged_ticks >= CVK_JUDGE_TICKS;
    angles->judged_ticks = o->judge ? 0u : angles->judged_ticks;
    angles->observing = true;
}

/* ---- adaptation ------------------------------------------------------------------------------ */

static const cvk_tracked *tracked_by(const cvk_angles *angles, int32_t kind)
{
    const char *all = (const char *)&angles->observers;
    return (const cvk_tracked *)(const void *)(all + observers[kind].at);
}

static void adapt_resistance(cvk_angles *angles, const cvk_setup *setup, float off_ohm)
{
    const float most_ohm = MOST_R_SHARE * setup->settings.motor.resistance_ohm;
    cvk_adaptation *a = &angles->adaptation;
    a->resistance_ohm = cvk_clamp(a->resistance_ohm + off_ohm, most_ohm);
}

void cvk_observers_measure_resistance(cvk_angles *angles, const cvk_setup *setup, float off_ohm)
{
    if (setup->observer.adapting > 0.0f) {
        adapt_resistance(angles, setup, off_ohm);
    }
}

static void adapt(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    const cvk_motor_settings *m = &setup->settings.motor;
    const cvk_angle *seen = &now->source[setup->observer.chosen];
    cvk_adaptation *a = &angles->adaptation;
    /* a blocked rotor under a turning vector could be explained by a wrong resistance */
    const bool follows = now->start_phase == CVK_START_TURN && now->start_follow > FOLLOWS;
    const bool in_use = now->bridge_on != 0 && (now->angle_source != CVK_ANGLE_IMPOSED || follows);
    if (seen->quality > (follows ? SURE_BY_START : SURE) && setup->observer.adapting > 0.0f &&
        in_use) {
        const float misfit = tracked_by(angles, setup->settings.observer.kind)->misfit_wb;
        const float q_a = cvk_park(now->current_ab_a, cvk_rotation_of(seen->angle_rad)).q;
        const float per_ohm = q_a / seen->speed_rad_s;
        const float doubt_r = DOUBT_R_SHARE * m->resistance_ohm,
                    doubt_flux = DOUBT_FLUX_SHARE * m->flux_linkage_wb;
        const float by_r = doubt_r * doubt_r * per_ohm, by_flux = doubt_flux * doubt_flux;
        const float step = setup->observer.adapting * misfit / (by_r * per_ohm + by_flux);
        adapt_resistance(angles, setup, -step * by_r);
        a->flux_wb = cvk_clamp(a->flux_wb - step * by_flux, MOST_FLUX_SHARE * m->flux_linkage_wb);
    }
}

static void tell_adapted(const cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    const cvk_motor_settings *m = &setup->settings.motor;
    now->adapted_resistance_ohm = m->resistance_ohm + angles->adaptation.resistance_ohm;
    now->adapted_flux_wb = m->flux_linkage_wb + angles->adaptation.flux_wb;
}

/* ---- all of them ----------------------------------------------------------------------------- */

void cvk_observers_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    if (cvk_is_blind(now) || now->fault != CVK_FAULT_NONE ||
        !(setup->settings.motor.flux_linkage_wb > 0.0f)) {
        restart(angles, now);
        tell_adapted(angles, setup, now);
        return;
    }
    observe(angles, setup, now);
    if (setup->settings.observer.all == 0) {
        observers[setup->settings.observer.kind].step(angles, setup, now);
    } else {
        for (int n = 0; n < CVK_OBSERVER_KINDS; n++) {
            observers[n].step(angles, setup, now);
        }
    }
    if (angles->observed.judge) {
        adapt(angles, setup, now);
        tell_adapted(angles, setup, now);
    }
}

void cvk_observers_hand_over(cvk_angles *to, const cvk_angles *from)
{
    to->observed = from->observed;
    to->adaptation = from->adaptation;
    to->observers = from->observers;
    to->judged_ticks = from->judged_ticks;
    to->observing = from->observing;
}

void cvk_observers_step_aside(cvk_angles *twin, const cvk_setup *setup, cvk_moment *now,
                              cvk_angle *seen)
{
    cvk_angle kept[CVK_ANGLE_SOURCES];
    const float ohm = now->adapted_resistance_ohm, flux_wb = now->adapted_flux_wb;
    for (int n = 0; n < CVK_ANGLE_SOURCES; n++) {
        kept[n] = now->source[n];
    }
    now->source[setup->observer.chosen] = *seen;
    cvk_observers_step(twin, setup, now);
    *seen = now->source[setup->observer.chosen];
    for (int n = 0; n < CVK_ANGLE_SOURCES; n++) {
        now->source[n] = kept[n];
    }
    now->adapted_resistance_ohm = ohm;
    now->adapted_flux_wb = flux_wb;
}

/* The stator's flux linkage with the rotor at this angle. */
static cvk_ab stator_at(const cvk_angles *angles, const cvk_setup *setup, const cvk_moment *now,
                        float angle_rad)
{
    const cvk_motor_settings *m = &setup->settings.motor;
    const float flux_wb = m->flux_linkage_wb + angles->adaptation.flux_wb;
    const cvk_rotation frame = cvk_rotation_of(angle_rad);
    const cvk_dq i = cvk_park(now->current_ab_a, frame);
    return cvk_park_inverse((cvk_dq){flux_wb + m->inductance_d_h * i.d, m->inductance_q_h * i.q},
                            frame);
}

void cvk_observers_seed(cvk_angles *angles, const cvk_setup *setup, const cvk_moment *now,
                        float angle_rad, float speed_rad_s, float variance_rad2)
{
    const cvk_ab stator = stator_at(angles, setup, now, angle_rad);
    const cvk_tracked at = {
        .angle_rad = angle_rad, .speed_rad_s = speed_rad_s, .unknown_rad2 = variance_rad2};
    for (int n = 0; n < CVK_OBSERVER_KINDS; n++) {
        observers[n].seed(angles, setup, &at, stator);
    }
    angles->observed.current_a = now->current_ab_a;
    angles->observing = true;
}

void cvk_observers_prepare(cvk_setup *setup)
{
    const cvk_observer_settings *s = &setup->settings.observer;
    cvk_observer_constants *c = &setup->observer;
    const float T = setup->period_s, turn = s->tracking_bandwidth_rad_s * T;
    c->chosen = cvk_observer_source(s->kind);
    c->pull = 1.0f - expf(-s->bandwidth_rad_s * T);
    c->filter = 1.0f - expf(-FILTER_RATIO * turn);
    c->most_rad_s = MOST_TURNED_RAD / T;
    c->pace_per_rad_s = 1.0f / s->tracking_bandwidth_rad_s;
    c->pace_least = CVK_LEAST_PACE;
    c->drift_speed_rad = turn * turn;
    c->doubt_rad_s = QUALITY_RAD * s->least_speed_rad_s;
    c->adapting = s->adapt != 0 ? (float)CVK_JUDGE_TICKS * T / ADAPT_S : 0.0f;
    cvk_tracking_gains(s->tracking_bandwidth_rad_s, T, &c->gain_angle, &c->gain_speed);
}
