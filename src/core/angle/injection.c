/* SPDX-License-Identifier: Apache-2.0
 *
 * The angle of a salient motor at any speed, standstill included: a voltage along the estimated d
 * axis changes its sign with every control period, and the currents swing with it (square-wave
 * injection at half the control rate: Yoon, Sul, Morimoto, Ide, "High-bandwidth sensorless
 * algorithm for AC machines based on square-wave-type voltage injection", IEEE Trans. Ind. Appl.
 * 47(3), 2011). With x the error of the angle, in a period of length T
 *
 *     swing d = V T [(1/Ld + 1/Lq) / 2 + (1/Ld - 1/Lq) / 2 cos 2x]
 *     swing q = V T  (1/Ld - 1/Lq) / 2 sin 2x
 *
 * The second difference of the currents leaves the swing alone, whatever slope they have. It does
 * not tell north from south: seek.c does. Now and then the voltage lies along q for some periods:
 * the two swings' ratio is the saliency at the present current.
 */
#include "injection.h"

#include <stddef.h>

#define SETTLE_TICKS 4u    /* until a new injection shows in second differences */
#define SWING_SHARE 0.02f  /* by which its mean follows in a sample */
#define ERROR_SHARE 0.005f /* the same of the error that is judged */
#define ON_BELOW 1.25f     /* times injection.leave_rad_s */
#define OFF_ABOVE 1.5f
#define LEAST_SWING 0.5f /* of the expected one; less or more: no motor, or another */
#define MOST_SWING 2.0f
#define MOST_ERROR_RAD 0.5f
#define ACROSS_EVERY 256u /* periods, of which the first so many have the voltage along q: */
#define ACROSS_TICKS 8u
#define ACROSS_LATE 2u       /* so long until it shows in the currents */
#define ACROSS_SHARE 0.02f   /* by which its mean follows in a sample */
#define LEAST_SALIENCY 1.08f /* below it the axis is not to be seen */
#define MOST_TURNED_RAD 0.5f /* in a period */
#define SURE 0.8f

#define SEEK_S 0.03f /* each step of the search for the axis */
#define SEEK_BANDWIDTH_RAD_S 150.0f

static const cvk_parameter rows[] = {
    CVK_ROW(injection, voltage_v, "V", 0.0f, 100.0f, 0.0f, false,
            "voltage that changes its sign with every control period; 0: no injection"),
    CVK_ROW(injection, bandwidth_rad_s, "rad/s", 1.0f, 2000.0f, 60.0f, true,
            "bandwidth of angle and speed by injection"),
    CVK_ROW(injection, leave_rad_s, "rad/s", 1.0f, 20000.0f, 100.0f, true,
            "electrical speed above which the observer takes over"),
    CVK_ROW(injection, pulse_s, "s", 0.0005f, 0.1f, 0.02f, true,
            "length of each of the two d currents that tell north from south"),
    CVK_ROW(injection, cross_rad_a, "rad/A", -1.0f, 1.0f, 0.0f, true,
            "angle by which a q current turns the axis that is seen (cross-saturation)"),
};
const cvk_parameter_rows cvk_injection_rows = CVK_ROWS(rows);

void cvk_injection_seed(cvk_injection *s, float angle_rad, float speed_rad_s, bool known)
{
    s->at = (cvk_tracked){.angle_rad = angle_rad, .speed_rad_s = speed_rad_s};
    s->known = known;
    s->across_a = 0.0f;
    s->error_rad = s->error_square_rad2 = 0.0f;
}

/* Where it is wanted: while it seeks, and at low speed afterwards. */
static bool wanted(const cvk_injection *s, const cvk_setup *setup, const cvk_moment *now)
{
    const float most =
        (s->ticks > 0u ? OFF_ABOVE : ON_BELOW) * setup->settings.injection.leave_rad_s;
    return now->bridge_on != 0 && now->fault == CVK_FAULT_NONE &&
           (now->start_phase == CVK_START_SEEK ||
            (now->start_phase >= CVK_START_RUN && fabsf(now->angle.speed_rad_s) < most));
}

static uint32_t phase_of(const cvk_injection *s)
{
    return s->ticks % ACROSS_EVERY;
}

/* The swing at this sample comes from a voltage along q. */
static bool swings_across(const cvk_injection *s)
{
    return s->ticks >= ACROSS_EVERY && phase_of(s) - ACROSS_LATE < ACROSS_TICKS;
}

/* Its second difference still holds one swing of the other axis. */
static bool between_axes(const cvk_injection *s)
{
    const uint32_t since = phase_of(s) - ACROSS_LATE;
    return s->ticks >= ACROSS_EVERY && (since == 0u || since == ACROSS_TICKS);
}

static float saliency_of(const cvk_injection *s)
{
    return s->across_a > 0.0f && s->swing_a.d > 0.0f ? s->swing_a.d / s->across_a : 0.0f;
}

static void tell(const cvk_injection *s, const cvk_setup *setup, float saliency, cvk_angle *out,
                 cvk_dq base_a)
{
    const bool salient = saliency <= 0.0f || saliency > LEAST_SALIENCY;
    const float expected = setup->injection.swing_a;
    const bool swings =
        s->swing_a.d > LEAST_SWING * expected && s->swing_a.d < MOST_SWING * expected;
    out->angle_rad =
        cvk_wrap_angle(s->at.angle_rad - setup->settings.injection.cross_rad_a * base_a.q);
    out->speed_rad_s = s->at.speed_rad_s;
    out->quality =
        swings && salient && s->known ? cvk_quality_of(4.0f * s->error_square_rad2) : 0.0f;
    out->reason = !swings               ? CVK_ANGLE_NO_MATCH
                  : !salient            ? CVK_ANGLE_NO_SALIENCY
                  : out->quality < 0.5f ? CVK_ANGLE_NOT_SETTLED
                                        : CVK_ANGLE_FINE;
}

/* It waits with the observer's angle. */
static void follow(cvk_injection *s, const cvk_setup *setup, cvk_moment *now)
{
    const cvk_angle *seen = &now->source[setup->observer.chosen];
    s->ticks = 0;
    s->swing_a = (cvk_dq){0.0f, 0.0f};
    s->across_a = now->saliency = 0.0f;
    if (now->start_phase >= CVK_START_RUN) {
        cvk_injection_seed(s, seen->angle_rad, seen->speed_rad_s, seen->quality > SURE);
    }
    now->source[CVK_ANGLE_INJECTION] =
        (cvk_angle){s->at.angle_rad, s->at.speed_rad_s, 0.0f, CVK_ANGLE_OFF};
}

/* Half the second difference of the current, up to this sample. */
static cvk_ab bend_of(cvk_injection *s, cvk_ab i)
{
    const cvk_ab change = {i.alpha - s->before_a.alpha, i.beta - s->before_a.beta};
    const cvk_ab bend = {0.5f * (change.alpha - s->change_a.alpha),
                         0.5f * (change.beta - s->change_a.beta)};
    s->before_a = i;
    s->change_a = change;
    return bend;
}

/* The swing in the frame of the angle, and what it says of the angle. While the axis is sought the
 * rotor rests. */
static void take_swing(cvk_injection *s, const cvk_setup *setup, cvk_dq swing, bool seeks)
{
    const cvk_injection_constants *c = &setup->injection;
    const float error = cvk_clamp(c->rad_per_a * swing.q, MOST_ERROR_RAD);
    s->swing_a.d += SWING_SHARE * (swing.d - s->swing_a.d);
    s->swing_a.q += SWING_SHARE * (swing.q - s->swing_a.q);
    s->last_swing_d_a = swing.d;
    s->at.angle_rad += (seeks ? c->seek_gain : c->gain_angle) * error;
    s->at.speed_rad_s += (seeks ? 0.0f : c->gain_speed) * error;
    s->error_rad += ERROR_SHARE * (error - s->error_rad);
    s->error_square_rad2 += ERROR_SHARE * (s->error_rad * s->error_rad - s->error_square_rad2);
}

/* The swing along q, with the voltage there. */
static void take_across(cvk_injection *s, float swing_a)
{
    s->across_a += (s->across_a > 0.0f ? ACROSS_SHARE : 1.0f) * (swing_a - s->across_a);
}

/* The current without half of the swing, whose sign up to this sample is that of this call. */
static cvk_ab base_of(const cvk_injection *s, cvk_ab i, cvk_rotation frame)
{
    const float half = 0.5f * s->sign;
    const cvk_dq swing = swings_across(s) ? (cvk_dq){s->swing_a.q, s->across_a} : s->swing_a;
    const cvk_ab swung = cvk_park_inverse((cvk_dq){half * swing.d, half * swing.q}, frame);
    return (cvk_ab){i.alpha - swung.alpha, i.beta - swung.beta};
}

void cvk_injection_step(cvk_injection *s, const cvk_setup *setup, cvk_moment *now)
{
    if (!(setup->injection.swing_a > 0.0f)) {
        return;
    }
    const cvk_ab bend = bend_of(s, now->current_ab_a);
    s->sign = s->sign > 0.0f ? -1.0f : 1.0f;
    if (!wanted(s, setup, now)) {
        follow(s, setup, now);
        return;
    }
    if (s->ticks++ == 0u) {
        s->swing_a = (cvk_dq){setup->injection.swing_a, 0.0f};
    }
    const cvk_rotation frame = cvk_rotation_of(s->at.angle_rad);
    s->at.speed_rad_s = cvk_clamp(s->at.speed_rad_s, MOST_TURNED_RAD / setup->period_s);
    const float turned = s->at.speed_rad_s * setup->period_s;
    const cvk_dq seen = cvk_park(bend, frame);
    const cvk_dq swing = {s->sign * seen.d, s->sign * seen.q};
    if (s->ticks > SETTLE_TICKS && !between_axes(s)) {
        if (swings_across(s)) {
            take_across(s, swing.q);
        } else {
            take_swing(s, setup, swing, now->start_phase == CVK_START_SEEK);
        }
    }
    now->saliency = saliency_of(s);
    s->at.angle_rad = cvk_wrap_angle(s->at.angle_rad + turned);
    now->base_ab_a = base_of(s, now->current_ab_a, frame);
    tell(s, setup, now->saliency, &now->source[CVK_ANGLE_INJECTION],
         cvk_park(now->base_ab_a, frame));
}

cvk_ab cvk_injection_voltage(cvk_injection *s, const cvk_setup *setup)
{
    if (s->ticks == 0u) {
        return (cvk_ab){0.0f, 0.0f};
    }
    const float ahead = cvk_clamp(1.5f * setup->period_s * s->at.speed_rad_s, 1.0f);
    const float v = s->sign * setup->settings.injection.voltage_v;
    const bool across = s->ticks >= ACROSS_EVERY && phase_of(s) < ACROSS_TICKS;
    return cvk_park_inverse(across ? (cvk_dq){0.0f, v} : (cvk_dq){v, 0.0f},
                            cvk_rotation_of(s->at.angle_rad + ahead));
}

void cvk_injection_prepare(cvk_setup *setup)
{
    const cvk_injection_settings *s = &setup->settings.injection;
    const cvk_motor_settings *m = &setup->settings.motor;
    cvk_injection_constants *c = &setup->injection;
    const float T = setup->period_s, volts = s->voltage_v * T;
    if (!(volts > 0.0f && m->inductance_d_h > 0.0f && m->inductance_q_h > 0.0f)) {
        return;
    }
    const float per_d = 1.0f / m->inductance_d_h, per_q = 1.0f / m->inductance_q_h;
    float unused;
    c->swing_a = 0.5f * volts * (per_d + per_q);
    c->rad_per_a = 1.0f / (volts * (per_d - per_q));
    cvk_tracking_gains(s->bandwidth_rad_s, T, &c->gain_angle, &c->gain_speed);
    cvk_tracking_gains(SEEK_BANDWIDTH_RAD_S, T, &c->seek_gain, &unused);
    setup->at_rest = CVK_ANGLE_INJECTION;
    setup->leave_rest_rad_s = s->leave_rad_s;
    setup->start.seek_ticks = cvk_ticks_of(SEEK_S, T);
    setup->start.pulse_ticks = cvk_ticks_of(s->pulse_s, T);
}
