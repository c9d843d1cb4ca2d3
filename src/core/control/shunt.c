/* SPDX-License-Identifier: Apache-2.0
 *
 * Low-side shunts need their leg low for a while around the sample, so the three duties go down
 * together, which leaves the motor's voltage as it is while the lowest stays above zero.
 *
 * A single shunt in the bus shows the current of the leg that is high first while it alone is high,
 * and, negative, that of the leg that is low last. So in the first half of each period the legs
 * must rise one after the other, far enough apart for both readings: where the duties do not see to
 * that, the pulses are shifted, the first one forward and the last one back, which leaves each
 * leg's mean voltage as it is (asymmetric pulses: Blaabjerg, Pedersen, Jaeger, Thoegersen, "Single
 * current sensor technique in the DC link of three-phase PWM-VS inverters", IEEE Trans. Ind. Appl.
 * 33(5), 1997). Each reading is then carried on to the end of the period, where currents count.
 */
#include "shunt.h"

#include "base/arithmetic.h"
#include "inverter.h"

static float smaller(float a, float b)
{
    return a < b ? a : b;
}

static float larger(float a, float b)
{
    return a > b ? a : b;
}

static float unit(float x)
{
    return x > 0.0f ? (x < 1.0f ? x : 1.0f) : 0.0f;
}

/* All duties up or down together; where one comes to an end of its range, what that takes from the
 * motor's voltage is no longer made. */
static void move_duties(cvk_moment *now, float by)
{
    const float bus_v = now->bus_v;
    const cvk_abc before = now->duty;
    const cvk_abc d = {unit(before.a + by), unit(before.b + by), unit(before.c + by)};
    const cvk_ab lost_v = cvk_clarke(
        (cvk_abc){bus_v * (before.a - d.a), bus_v * (before.b - d.b), bus_v * (before.c - d.c)});
    now->duty = d;
    now->voltage_made_v.alpha -= lost_v.alpha;
    now->voltage_made_v.beta -= lost_v.beta;
}

void cvk_shunt_keep_windows(const cvk_setup *setup, cvk_moment *now)
{
    const cvk_abc d = now->duty;
    const float over = larger(d.a, larger(d.b, d.c)) - setup->most_duty;
    if (over > 0.0f) {
        move_duties(now, -over);
    }
}

/* ---- a single shunt -------------------------------------------------------------------------- */

enum { HIGH, MIDDLE, LOW };

/* The legs by when they rise; of two at once the earlier letter first. */
static void order_by(const float rise[3], int order[3])
{
    order[HIGH] = order[LOW] = 0;
    for (int n = 1; n < 3; n++) {
        order[HIGH] = rise[n] < rise[order[HIGH]] ? n : order[HIGH];
        order[LOW] = rise[n] >= rise[order[LOW]] ? n : order[LOW];
    }
    if (order[HIGH] == order[LOW]) { /* what is no number */
        order[HIGH] = 0;
        order[LOW] = 2;
    }
    order[MIDDLE] = 3 - order[HIGH] - order[LOW];
}

static void take(float out[3], cvk_abc x)
{
    out[0] = x.a;
    out[1] = x.b;
    out[2] = x.c;
}

/* How far all duties must move for the middle leg's pulse to be neither too long nor too short. */
static float common_move(float middle, float window)
{
    return middle > 1.0f - window ? 1.0f - window - middle
           : middle < window      ? window - middle
                                  : 0.0f;
}

void cvk_shunt_place(const cvk_setup *setup, cvk_moment *now)
{
    const float window = setup->shunt_window;
    float duty[3], rise[3], shift[3] = {0.0f, 0.0f, 0.0f};
    int leg[3];
    take(duty, now->duty);
    for (int n = 0; n < 3; n++) {
        rise[n] = -duty[n];
    }
    order_by(rise, leg);
    const float move = common_move(duty[leg[MIDDLE]], window);
    if (move != 0.0f) {
        move_duties(now, move);
        take(duty, now->duty);
    }
    for (int n = 0; n < 3; n++) {
        rise[n] = 0.5f * (1.0f - duty[n]);
    }
    const float middle = larger(rise[leg[MIDDLE]], window);
    shift[leg[HIGH]] = smaller(0.0f, middle - window - rise[leg[HIGH]]);
    shift[leg[MIDDLE]] = middle - rise[leg[MIDDLE]];
    shift[leg[LOW]] = larger(0.0f, middle + window - rise[leg[LOW]]);
    now->shift = (cvk_abc){shift[0], shift[1], shift[2]};
}

static cvk_pulses pulses_of(const cvk_moment *now)
{
    cvk_pulses p;
    float duty[3], shift[3];
    take(duty, now->duty);
    take(shift, now->shift);
    for (int n = 0; n < 3; n++) {
        p.rise[n] = 0.5f * (1.0f - duty[n]) + shift[n];
        p.fall[n] = p.rise[n] + duty[n];
    }
    return p;
}

cvk_ab cvk_moved_on(const cvk_setup *setup, const cvk_moment *now, cvk_ab i_ab, cvk_ab impulse_vs,
                    float time_s)
{
    const cvk_motor_settings *m = &setup->settings.motor;
    if (!(m->inductance_d_h > 0.0f && m->inductance_q_h > 0.0f)) {
        return (cvk_ab){0.0f, 0.0f};
    }
    const float w = now->angle.speed_rad_s;
    const cvk_rotation frame = /* in the middle of that time */
        cvk_rotation_of(now->angle.angle_rad + w * (setup->period_s - 0.5f * time_s));
    const cvk_dq i = cvk_park(i_ab, frame), vs = cvk_park(impulse_vs, frame);
    const float R = m->resistance_ohm, l_d = m->inductance_d_h, l_q = m->inductance_q_h;
    /* in the rotor's frame, and the frame's own turning added */
    const float slope_d = (-R * i.d + w * l_q * i.q) / l_d - w * i.q;
    const float slope_q = (-R * i.q - w * (l_d * i.d + m->flux_linkage_wb)) / l_q + w * i.d;
    return cvk_park_inverse((cvk_dq){vs.d / l_d + time_s * slope_d, vs.q / l_q + time_s * slope_q},
                            frame);
}

/* For which share of the period a leg is high after `share` of it. While both its switches are off,
 * a current into the motor pulls it down and one out of it up. */
static float high_after(const cvk_setup *setup, const cvk_moment *now, const cvk_pulses *p, int leg,
                        float share, float current_a)
{
    const float dead = cvk_inverter_own_v(setup, current_a) / now->bus_v;
    const bool is_high = p->rise[leg] < share;
    const float changed = dead > 0.0f && is_high ? 0.0f : -dead;
    return larger(0.0f, p->fall[leg] - larger(p->rise[leg], share) + changed);
}

/* What the ripple's mean over the period is off from where it begins and ends, as a time in which
 * the leg would be high: a pulse that comes later lowers it. */
static float mean_ripple(const cvk_pulses *p, int leg)
{
    return 0.5f * (p->rise[leg] - p->fall[leg]) * (p->rise[leg] + p->fall[leg] - 1.0f);
}

/* From `share` of the period to its end: what the pulses and the motor's own voltages do to the
 * current; and from there to the ripple's mean, which is what moves the motor. */
static void carry_on(float i[3], int leg, const cvk_pulses *p, float share, const cvk_setup *setup,
                     const cvk_moment *now)
{
    float high[3], more[3], before[3];
    take(before, now->phase_a);
    for (int n = 0; n < 3; n++) {
        high[n] = high_after(setup, now, p, n, share, before[n]) + mean_ripple(p, n);
    }
    const float impulse_vs = now->bus_v * setup->period_s;
    const cvk_ab vs =
        cvk_clarke((cvk_abc){impulse_vs * high[0], impulse_vs * high[1], impulse_vs * high[2]});
    take(more, cvk_clarke_inverse(cvk_moved_on(setup, now, cvk_clarke(now->phase_a), vs,
                                               (1.0f - share) * setup->period_s)));
    i[leg] += more[leg];
}

/* Where nothing was seen: the currents before, turned on with the motor. */
static cvk_abc turned_on(const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_ab i = cvk_clarke(now->phase_a);
    const float by = cvk_clamp(now->angle.speed_rad_s * setup->period_s, 1.0f);
    return cvk_clarke_inverse(
        cvk_park_inverse((cvk_dq){i.alpha, i.beta}, cvk_small_rotation_of(by)));
}

void cvk_shunt_read(cvk_shunt *s, const cvk_setup *setup, cvk_moment *now)
{
    const cvk_pulses acted = s->acting;
    const float offset_a = now->offset_a.a; /* of the one amplifier */
    float i[3];
    int leg[3];
    s->acting = pulses_of(now);
    take(i, now->readings.current_a);
    order_by(acted.rise, leg);
    const int32_t needed = 1 << leg[HIGH] | 1 << leg[LOW];
    if ((now->readings.current_valid & needed) != needed) {
        now->phase_a = turned_on(setup, now);
        return;
    }
    i[leg[HIGH]] -= offset_a;
    i[leg[LOW]] += offset_a;
    if (now->bridge_on != 0) {
        carry_on(i, leg[HIGH], &acted, acted.rise[leg[MIDDLE]], setup, now);
        carry_on(i, leg[LOW], &acted, acted.rise[leg[LOW]], setup, now);
    }
    i[leg[MIDDLE]] = -i[leg[HIGH]] - i[leg[LOW]];
    now->phase_a = (cvk_abc){i[0], i[1], i[2]};
}
