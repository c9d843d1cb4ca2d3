/* SPDX-License-Identifier: Apache-2.0
 *
 * Motion profiles with limited acceleration and jerk, stepped from one period to the next: the
 * acceleration is what still can be taken back by the jerk until the speed is reached, the speed
 * what still can be braked until the place is reached. So the target may change at any instant. The
 * distance to stop from speed v is v^2 / (2 a) + v a / (2 j).
 */
#include "motion.h"

#include "base/arithmetic.h"

#include <stddef.h>

#define THERE_RAD 1e-3f /* electrical */

static const cvk_parameter rows[] = {
    CVK_ROW(position, gain_per_s, "1/s", 0.0f, 1e4f, 0.0f, true,
            "position loop: speed per position error; 0: not known"),
    CVK_ROW(position, speed_rad_s, "rad/s", 0.0f, 1e5f, 0.0f, true,
            "highest electrical speed of a positioning move; 0: not known"),
    CVK_ROW_YES_NO(position, spring, 0,
                   "whether the shaft is held as by a spring: the position acts on the current "
                   "without any integral"),
};
const cvk_parameter_rows cvk_motion_rows = CVK_ROWS(rows);

/* The same place with another name for its angle: the turns follow. */
static cvk_place named(int32_t turns, float angle_rad, float name_rad)
{
    const float over = (angle_rad - name_rad) * (1.0f / CVK_TWO_PI);
    return (cvk_place){turns + (int32_t)(over + (over < 0.0f ? -0.5f : 0.5f)), name_rad};
}

static cvk_place moved(cvk_place from, float by_rad)
{
    const float angle = from.angle_rad + by_rad;
    return named(from.turns, angle, cvk_wrap_angle(angle));
}

static float way_between(cvk_place from, cvk_place to)
{
    return CVK_TWO_PI * (float)(to.turns - from.turns) + (to.angle_rad - from.angle_rad);
}

void cvk_motion_turn_to(cvk_motion *m, const cvk_setup *setup, int32_t turns, cvk_moment *now)
{
    const int32_t p = setup->pole_pairs, over = turns % p;
    m->at.turns = turns;
    m->within = over + (over < 0 ? p : 0);
    now->position_turns = (turns - m->within) / p;
}

void cvk_motion_count(cvk_motion *m, const cvk_setup *setup, cvk_moment *now)
{
    const float step = now->angle.angle_rad - m->at.angle_rad;
    if (now->bridge_on == 0 && now->angle_source != CVK_ANGLE_ROTOR) {
        m->counting = false; /* nothing tells where the rotor goes */
        return;
    }
    if (m->counting && fabsf(step) > CVK_PI) { /* the shorter way leads over the end of a turn */
        cvk_motion_turn_to(m, setup, m->at.turns + (step < 0.0f ? 1 : -1), now);
    }
    m->counting = true; /* from the same turn on where it was lost */
    m->at.angle_rad = now->angle.angle_rad;
    now->position_mech_rad =
        (CVK_TWO_PI * (float)m->within + m->at.angle_rad) * setup->per_pole_pair;
}

void cvk_motion_lead_from(cvk_motion *m, float speed_rad_s)
{
    m->led_to = m->at;
    m->speed_rad_s = speed_rad_s;
    m->acceleration_rad_s2 = 0.0f;
    m->leading = true;
}

/* The speed moves by what acceleration and jerk allow. */
static void approach(cvk_motion *m, const cvk_setup *setup, float goal_rad_s)
{
    const float T = setup->period_s, a = setup->settings.speed.acceleration_rad_s2,
                j = setup->settings.speed.jerk_rad_s3, off = goal_rad_s - m->speed_rad_s;
    const float at_once = off / T, size = fabsf(off);
    float wanted = a > 0.0f ? cvk_clamp(at_once, a) : at_once;
    if (j > 0.0f) { /* it has to be taken back in time; half a step of it is on its way */
        const float half = 0.5f * j * T;
        const float most = sqrtf(2.0f * j * size + half * half) - half;
        wanted = cvk_clamp(wanted, most);
        wanted = cvk_toward(m->acceleration_rad_s2, wanted, j * T);
    }
    m->acceleration_rad_s2 = wanted;
    m->speed_rad_s += T * wanted;
}

float cvk_motion_to_speed(cvk_motion *m, const cvk_setup *setup, float speed_rad_s)
{
    const float a = setup->settings.speed.acceleration_rad_s2;
    if (a > 0.0f) {
        approach(m, setup, speed_rad_s);
    } else {
        m->speed_rad_s = speed_rad_s;
        m->acceleration_rad_s2 = 0.0f;
    }
    m->led_to = m->at;
    return m->speed_rad_s;
}

/* Electrical, of the request. */
static cvk_place place_asked(const cvk_setup *setup, const cvk_request *request)
{
    const int32_t p = setup->pole_pairs;
    const cvk_place whole = {request->position_turns * p, 0.0f};
    return moved(whole, request->position_mech_rad * (float)p);
}

/* The speed from which the rest of the way is still enough to stop. */
static float stopping_speed(const cvk_setup *setup, float way_rad)
{
    const cvk_speed_settings *s = &setup->settings.speed;
    const float a = s->acceleration_rad_s2, half = 0.5f * a * setup->period_s;
    const float lost = s->jerk_rad_s3 > 0.0f ? 0.5f * a * a / s->jerk_rad_s3 : 0.0f;
    return sqrtf(2.0f * a * way_rad + (lost + half) * (lost + half)) - lost - half;
}

/* The speed to go for when `way_rad` is left. What still pushes on has to be taken back first: it
 * adds speed and takes some of the way. */
static float able_speed(const cvk_motion *m, const cvk_setup *setup, float way_rad)
{
    const float j = setup->settings.speed.jerk_rad_s3, sign = copysignf(1.0f, way_rad);
    const float push = sign * m->acceleration_rad_s2, speed = sign * m->speed_rad_s;
    const float left = fabsf(way_rad);
    if (!(j > 0.0f) || push <= 0.0f) {
        return stopping_speed(setup, left);
    }
    const float time_s = push / j, more = 0.5f * push * time_s;
    const float gone = time_s * (speed + push * time_s * (1.0f / 3.0f));
    const float able = left > gone ? stopping_speed(setup, left - gone) - more : 0.0f;
    return able > 0.0f ? able : 0.0f;
}

float cvk_motion_to_place(cvk_motion *m, const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_position_settings *s = &setup->settings.position;
    const cvk_place goal = place_asked(setup, &now->request);
    const float way = way_between(m->led_to, goal), T = setup->period_s;
    const float able = able_speed(m, setup, way);
    approach(m, setup, copysignf(able < s->speed_rad_s ? able : s->speed_rad_s, way));
    if (fabsf(way) < THERE_RAD && fabsf(m->speed_rad_s) * T < THERE_RAD) {
        m->led_to = goal;
        m->speed_rad_s = m->acceleration_rad_s2 = 0.0f;
    } else {
        m->led_to = moved(m->led_to, T * m->speed_rad_s);
    }
    return m->speed_rad_s + s->gain_per_s * way_between(m->at, m->led_to);
}
