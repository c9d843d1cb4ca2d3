/* SPDX-License-Identifier: Apache-2.0
 *
 * Catching a rotor that may turn, either way, before any current is driven.
 *
 * With the terminals measured the back-EMF is seen while the bridge is off: how fast its vector
 * turns, and which way, gives the speed; it leads the rotor by a quarter. Its length must fit the
 * speed. Without them the winding is shorted by the bridge for one period: the current is then what
 * the back-EMF drives through the inductance. If it is small after a period, the rotor is slow
 * enough for the current loop to hold the current at zero, and the back-EMF shows in the loop's
 * voltage. If not, a second pulse some periods later tells how far the rotor has turned. In a
 * shorted winding (R neglected) the stator flux linkage stays, so with x the angle turned in a
 * pulse
 *
 *     Ld id = flux (cos x - 1),   Lq iq = -flux sin x
 *
 * in the rotor's frame at the end of the pulse, which gives its size and its sign.
 */
#include "startup.h"

#include "base/arithmetic.h"

#define ARC_RAD 2.0944f /* that the back-EMF must turn: harmonics average out */
#define ARC_S 0.4f      /* within this time; else the rotor stands */
#define GLANCE_S 0.01f  /* without a back-EMF worth looking at it stands */
#define LONGEST_S 0.6f  /* with one, nothing is found after so long */
#define QUIET_S 1e-3f   /* filter of a back-EMF that is seen through the current loop */
#define LEAST_FIT 0.7f  /* of its length to flux linkage times speed */
#define MOST_FIT 1.4f
#define PULSE_SHARE 0.04f /* of limit.current_a, at which a pulse ends */
#define SHORT_TICKS 3u    /* a longer pulse is no pulse: the rotor is slow */
#define GAP_TICKS 4u      /* between two pulses, at least: the current dies out */
#define GAP_RAD                                                                                    \
    1.8f                 /* that the rotor turns from pulse to pulse: far for harmonics of the     \
                            magnets not to count, near for its sign to be seen */
#define SEEN_SHARE 0.3f  /* of the back-EMF at observer.least_speed_rad_s */
#define UNLIKE 6e-3f     /* of the bus, that terminals at rest may read unlike */
#define FAST_ENOUGH 1.7f /* times observer.least_speed_rad_s */

enum stage { LISTEN = 0, FIRST, GAP, SECOND, FOUND };

bool cvk_catch_listens(const cvk_catch *c)
{
    return c->stage == LISTEN;
}

static void go_to(cvk_catch *c, enum stage stage)
{
    c->stage = (int32_t)stage;
    c->ticks = 0;
}

void cvk_catch_begin(cvk_catch *c, cvk_moment *now)
{
    const bool blind = cvk_is_blind(now);
    *c = (cvk_catch){.stage = blind ? FIRST : LISTEN};
    now->bridge_waits = now->bridge_on == 0 && !blind ? 1 : 0;
}

cvk_ab cvk_catch_emf(const cvk_setup *setup, const cvk_moment *now, float angle_rad,
                     float speed_rad_s)
{
    const float T = setup->period_s;
    const cvk_rotation frame = cvk_rotation_of(cvk_wrap_angle(angle_rad + 1.5f * T * speed_rad_s));
    const float half = 0.5f * cvk_clamp(T * speed_rad_s, 1.0f);
    const float chord = 1.0f - half * half * (1.0f / 6.0f);
    return cvk_park_inverse((cvk_dq){0.0f, chord * speed_rad_s * now->adapted_flux_wb}, frame);
}

/* ---- the back-EMF turns ---------------------------------------------------------------------- */

/* Angle and speed from an arc of the back-EMF; false when its length does not fit. */
static bool take_arc(cvk_catch *c, const cvk_setup *setup, const cvk_moment *now, float length_v,
                     float late_s)
{
    const float speed = c->arc_rad / ((float)(c->arc - 1u) * setup->period_s);
    const float fit = length_v / (fabsf(speed) * now->adapted_flux_wb);
    /* where it points now, by the mean over the arc */
    const float ahead = 0.5f * (float)(c->arc - 1u) * setup->period_s * speed;
    const float points = c->before_rad - c->arc_rad + c->sum_rad / (float)c->arc + ahead;
    c->speed_rad_s = speed;
    c->angle_rad = cvk_wrap_angle(points + late_s * speed - copysignf(0.5f * CVK_PI, speed));
    const bool fits = fit > LEAST_FIT && fit < MOST_FIT;
    c->speed_rad_s = fits ? speed : 0.0f; /* no voltage is made of a speed that is none */
    return fits;
}

static cvk_catch_answer what_it_is(const cvk_catch *c, const cvk_setup *setup)
{
    const float least = setup->settings.observer.least_speed_rad_s;
    return fabsf(c->speed_rad_s) > FAST_ENOUGH * least ? CVK_CATCH_TURNS : CVK_CATCH_SLOW;
}

static void restart_arc(cvk_catch *c)
{
    c->arc_rad = c->sum_rad = 0.0f;
    c->arc = 0;
}

static cvk_catch_answer listen(cvk_catch *c, const cvk_setup *setup, const cvk_angles *angles,
                               const cvk_moment *now)
{
    const float least = setup->settings.observer.least_speed_rad_s, T = setup->period_s;
    const bool clean = now->bridge_on == 0; /* else through the current loop */
    const float share = clean ? 1.0f : T / QUIET_S, late_s = clean ? 0.5f * T : QUIET_S;
    const cvk_ab emf = cvk_emf_seen(angles, setup);
    c->emf_v.alpha += share * (emf.alpha - c->emf_v.alpha);
    c->emf_v.beta += share * (emf.beta - c->emf_v.beta);
    const float length = cvk_length(c->emf_v);
    const float points = cvk_angle_of(c->emf_v.alpha, c->emf_v.beta);
    const float low_v = SEEN_SHARE * least * now->adapted_flux_wb, unlike_v = UNLIKE * now->bus_v;
    const bool seen = length > (low_v > unlike_v ? low_v : unlike_v);
    c->arc_rad += c->arc > 0u ? cvk_wrap_angle(points - c->before_rad) : 0.0f;
    c->sum_rad += c->arc_rad;
    c->before_rad = points;
    c->arc += seen ? 1u : 0u;
    if (!seen) {
        restart_arc(c);
        return c->ticks > cvk_ticks_of(GLANCE_S, T) ? CVK_CATCH_STANDS : CVK_CATCH_LOOKING;
    }
    if (c->arc > 4u && fabsf(c->arc_rad) > ARC_RAD) {
        if (take_arc(c, setup, now, length, late_s)) {
            if (!clean) {
                return what_it_is(c, setup);
            }
            go_to(c, FOUND); /* the duties of this call become those of the bridge in the next */
            return CVK_CATCH_LOOKING;
        }
        restart_arc(c);
    }
    return c->arc > cvk_ticks_of(ARC_S, T) || c->ticks > cvk_ticks_of(LONGEST_S, T)
               ? CVK_CATCH_STANDS
               : CVK_CATCH_LOOKING;
}

/* ---- two pulses ------------------------------------------------------------------------------ */

/* How far the rotor turned during a pulse, in size, from its current. */
static float turned_in_pulse(const cvk_setup *setup, const cvk_moment *now, float current_a)
{
    const float l_q = setup->settings.motor.inductance_q_h;
    return cvk_clamp(l_q * current_a / now->adapted_flux_wb, 1.0f);
}

/* The two pulses' currents, a known time apart: the turn between them is known up to whole turns,
 * and its speed roughly, but for the sign. */
static void find(cvk_catch *c, const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_ab i = now->current_ab_a;
    const float T = setup->period_s, between_s = (float)(c->pulse + c->gap) * T;
    const float length_a = cvk_length(i);
    const float rough = turned_in_pulse(setup, now, length_a) / ((float)c->pulse * T);
    const float points = cvk_angle_of(i.alpha, i.beta);
    const float turned = cvk_wrap_angle(points - c->first_rad);
    float best = 1e9f;
    c->speed_rad_s = 0.0f;
    for (int way = -1; way <= 1; way += 2) {
        const float expected = (float)way * rough * between_s;
        const float off = cvk_wrap_angle(turned - expected);
        if (fabsf(off) < best) {
            best = fabsf(off);
            c->speed_rad_s = (expected + off) / between_s;
        }
    }
    /* the current trails the rotor by a quarter, and by half of what turned in the pulse */
    const float half = 0.5f * (float)c->pulse * T * c->speed_rad_s;
    c->angle_rad = cvk_wrap_angle(points + half + copysignf(0.5f * CVK_PI, c->speed_rad_s));
}

static uint32_t gap_of(const cvk_catch *c, const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_ab i = now->current_ab_a;
    const float length_a = cvk_length(i);
    const float each = turned_in_pulse(setup, now, length_a) / (float)c->pulse;
    const uint32_t calls = (uint32_t)(GAP_RAD / (each + 1e-4f));
    return calls > GAP_TICKS + c->pulse ? calls - c->pulse : GAP_TICKS;
}

static bool pulse_is_over(cvk_catch *c, const cvk_setup *setup, cvk_moment *now)
{
    const cvk_ab i = now->current_ab_a;
    const float limit_a = PULSE_SHARE * setup->bounds.current_a;
    const bool first = c->stage == FIRST;
    return first ? i.alpha * i.alpha + i.beta * i.beta > limit_a * limit_a : c->ticks >= c->pulse;
}

static cvk_catch_answer probe(cvk_catch *c, const cvk_setup *setup, cvk_moment *now)
{
    const bool shorted = c->stage == FIRST || c->stage == SECOND;
    if (shorted && c->ticks > 0u && pulse_is_over(c, setup, now)) {
        if (c->stage == FIRST) {
            c->pulse = c->ticks;
            c->first_rad = cvk_angle_of(now->current_ab_a.alpha, now->current_ab_a.beta);
            c->gap = gap_of(c, setup, now);
            go_to(c, GAP);
        } else {
            find(c, setup, now);
            go_to(c, FOUND);
        }
    } else if (c->stage == FIRST && c->ticks > SHORT_TICKS) {
        go_to(c, LISTEN); /* slow: from here on the current is held at zero */
    } else if (c->stage == GAP && c->ticks >= c->gap) {
        go_to(c, SECOND);
    } else if (c->stage == FOUND) {
        c->angle_rad = cvk_wrap_angle(c->angle_rad + setup->period_s * c->speed_rad_s);
    }
    now->bridge_waits = c->stage == GAP || c->stage == FOUND ? 1 : 0;
    return c->stage == FOUND && c->ticks > 0u ? what_it_is(c, setup) : CVK_CATCH_LOOKING;
}

cvk_catch_answer cvk_catch_step(cvk_catch *c, const cvk_setup *setup, const cvk_angles *angles,
                                cvk_moment *now)
{
    cvk_catch_answer answer;
    if (c->stage == LISTEN) {
        answer = listen(c, setup, angles, now);
    } else {
        answer = probe(c, setup, now);
    }
    c->ticks++;
    return answer;
}
