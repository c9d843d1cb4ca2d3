/* SPDX-License-Identifier: Apache-2.0
 *
 * Starting without a sensor. A current vector stands still, in two places, until the rotor has come
 * to it (align), turns faster and faster and takes the rotor along (turn), until the observer sees
 * the rotor turn with it and takes over (run): the same current, seen from another frame, so
 * nothing jumps. Slowing down, current is first moved onto the d axis (yield), then the vector is
 * imposed again, at the angle at which it stands. Through zero speed the vector goes on turning the
 * other way.
 *
 *     align -> turn <-> run <-> yield -> turn
 *
 * With a rotor sensor none of this is needed: its angle is used at any speed.
 */
#include "startup.h"

#include "bounds.h"
#include "protect.h"

#include <stddef.h>

#define TRUSTED 0.5f /* quality */
#define LOST 0.1f
#define FADE_S 0.1f       /* the d current of the start is gone after this time */
#define MOST_WAY_RAD 0.8f /* that the vector gives way */
#define STANDS_RAD_S 3.0f /* a stop is over below this electrical speed */

static const cvk_parameter rows[] = {
    CVK_ROW(start, current_a, "A", 0.0f, 1000.0f, 0.0f, true,
            "current of the vector that starts the rotor; 0: half of limit.current_a"),
    CVK_ROW(start, align_s, "s", 0.0f, 10.0f, 0.3f, true,
            "how long the vector stands still before it turns"),
    CVK_ROW(start, acceleration_rad_s2, "rad/s^2", 0.1f, 1e6f, 200.0f, true,
            "electrical acceleration of the vector"),
    CVK_ROW(start, damping_s, "s", 0.0f, 1.0f, 0.0f, true,
            "how far the vector gives way to a rotor that swings about it: rad per rad/s"),
    CVK_ROW(start, speed_rad_s, "rad/s", 1.0f, 20000.0f, 100.0f, true,
            "electrical speed at which the observer takes over"),
    CVK_ROW(start, patience_s, "s", 0.05f, 60.0f, 1.0f, true,
            "how long the observer is waited for at that speed, before the start has failed"),
};
const cvk_parameter_rows cvk_startup_rows = CVK_ROWS(rows);

static float wanted_speed(const cvk_moment *now)
{
    return now->request.mode == CVK_MODE_SPEED ? now->request.speed_rad_s : 0.0f;
}

static void enter(cvk_startup *s, cvk_moment *now, cvk_start_phase phase)
{
    now->start_phase = (int32_t)phase;
    s->ticks = s->agreed = s->lost = 0;
}

static void use(cvk_moment *now, cvk_angle_source source)
{
    now->angle_source = (int32_t)source;
    now->angle = now->source[source];
}

/* The observer trusts itself and turns the vector's way. That the rotor still swings about the
 * vector does not matter: its angle is what is seen. */
static bool agrees(const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_angle *seen = &now->source[CVK_ANGLE_FLUX];
    const float along = copysignf(seen->speed_rad_s, now->source[CVK_ANGLE_IMPOSED].speed_rad_s);
    return seen->quality > TRUSTED && along == seen->speed_rad_s &&
           fabsf(along) > setup->settings.observer.least_speed_rad_s;
}

/* The current as it flows, seen from another frame. */
static cvk_dq seen_from(const cvk_moment *now, cvk_angle_source source)
{
    return cvk_park(now->current_ab_a, cvk_rotation_of(now->source[source].angle_rad));
}

static void take_over(cvk_startup *s, const cvk_setup *setup, cvk_reference *reference,
                      cvk_moment *now)
{
    const cvk_dq i = seen_from(now, CVK_ANGLE_FLUX);
    enter(s, now, CVK_START_RUN);
    use(now, CVK_ANGLE_FLUX);
    now->start_d_a = i.d;
    cvk_reference_continue(reference, setup, i.q, now);
}

static void hand_back(cvk_startup *s, cvk_angles *angles, cvk_moment *now)
{
    const cvk_dq i = seen_from(now, CVK_ANGLE_FLUX);
    const cvk_angle seen = now->source[CVK_ANGLE_FLUX];
    angles->imposed =
        (cvk_imposed){cvk_wrap_angle(seen.angle_rad + cvk_angle_of(i.d, i.q)), seen.speed_rad_s};
    now->source[CVK_ANGLE_IMPOSED] =
        (cvk_angle){angles->imposed.angle_rad, seen.speed_rad_s, 1.0f, CVK_ANGLE_FINE};
    s->current_a = sqrtf(i.d * i.d + i.q * i.q);
    now->start_d_a = 0.0f;
    enter(s, now, CVK_START_TURN);
}

/* The vector stands a quarter turn back first, then comes to its place: a rotor that points the
 * other way feels no torque from one vector, but from two. */
static void align(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    const float share = (float)s->ticks / (float)(setup->start.align_ticks + 1u);
    const float way = share < 0.4f ? 0.0f : (share < 0.6f ? 5.0f * (share - 0.4f) : 1.0f);
    angles->imposed = (cvk_imposed){-0.5f * CVK_PI * (1.0f - way), 0.0f};
    now->source[CVK_ANGLE_IMPOSED].angle_rad = angles->imposed.angle_rad;
    if (share >= 0.99f && s->current_a >= setup->start.current_a) {
        enter(s, now, CVK_START_TURN);
    }
}

static void turn(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                 cvk_reference *reference, cvk_moment *now)
{
    const float top = setup->settings.start.speed_rad_s, wanted = wanted_speed(now);
    const float goal = cvk_clamp(wanted, top);
    float *speed = &angles->imposed.speed_rad_s;
    *speed = cvk_toward(*speed, goal, setup->start.speed_step_rad_s);
    const bool waiting = fabsf(wanted) >= top && fabsf(*speed) >= 0.98f * top;
    if (waiting && agrees(setup, now)) {
        s->agreed++;
    } else {
        s->agreed -= s->agreed > 0u ? 1u : 0u;
    }
    s->lost = waiting ? s->lost + 1u : 0u;
    if (s->agreed >= setup->start.settle_ticks) {
        take_over(s, setup, reference, now);
    } else if (s->lost > setup->start.patience_ticks) {
        cvk_protect_raise(now, CVK_FAULT_START);
    }
}

/* The angle in use is without an idea, and has been too long. */
static bool angle_is_lost(cvk_startup *s, const cvk_setup *setup, const cvk_moment *now)
{
    s->lost = now->angle.quality < LOST ? s->lost + 1u : 0u;
    return s->lost > setup->start.lost_ticks;
}

/* The d current of the start fades; slow, it comes back. */
static void run(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    const float slow = setup->start.yield_rad_s;
    const float step_a = setup->start.current_a * setup->period_s / FADE_S;
    const bool slows = fabsf(now->speed_set_rad_s) < 1.01f * slow;
    const bool yields = slows && (now->start_phase == CVK_START_YIELD ||
                                  fabsf(now->angle.speed_rad_s) < 1.2f * slow);
    now->start_phase = yields ? CVK_START_YIELD : CVK_START_RUN;
    now->start_d_a = cvk_toward(now->start_d_a, yields ? setup->start.current_a : 0.0f, step_a);
    const bool lost = angle_is_lost(s, setup, now);
    if (yields && now->start_d_a >= setup->start.current_a) {
        hand_back(s, angles, now);
    } else if (lost) {
        cvk_protect_raise(now, CVK_FAULT_ANGLE);
    }
}

/* The vector gives way to the rotor's swing about it, as far as the observer sees that: like a
 * spring that gets a damper. */
static void damp(const cvk_setup *setup, cvk_moment *now)
{
    const cvk_angle *seen = &now->source[CVK_ANGLE_FLUX];
    const float swing = (seen->speed_rad_s - now->angle.speed_rad_s) * seen->quality;
    const float back = cvk_clamp(setup->settings.start.damping_s * swing, MOST_WAY_RAD);
    now->angle.angle_rad = cvk_wrap_angle(now->angle.angle_rad - back);
}

static void by_observer(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                        cvk_reference *reference, cvk_moment *now)
{
    if (now->start_phase == CVK_START_IDLE) {
        enter(s, now, CVK_START_ALIGN);
        angles->imposed = (cvk_imposed){0.0f, 0.0f};
        now->source[CVK_ANGLE_IMPOSED] = (cvk_angle){0.0f, 0.0f, 1.0f, CVK_ANGLE_FINE};
        s->current_a = 0.0f;
        now->start_d_a = 0.0f;
    }
    s->ticks++;
    if (now->start_phase == CVK_START_ALIGN) {
        align(s, setup, angles, now);
    } else if (now->start_phase == CVK_START_TURN) {
        turn(s, setup, angles, reference, now);
    } else {
        run(s, setup, angles, now);
    }
    if (now->start_phase == CVK_START_ALIGN || now->start_phase == CVK_START_TURN) {
        s->current_a =
            cvk_toward(s->current_a, setup->start.current_a, setup->start.current_step_a);
        use(now, CVK_ANGLE_IMPOSED);
        damp(setup, now);
        now->current_set_a = (cvk_dq){s->current_a, 0.0f};
    } else {
        use(now, CVK_ANGLE_FLUX);
    }
}

static void by_rotor_sensor(cvk_startup *s, const cvk_setup *setup, cvk_moment *now)
{
    use(now, CVK_ANGLE_ROTOR);
    if (angle_is_lost(s, setup, now)) {
        cvk_protect_raise(now, CVK_FAULT_ANGLE);
    }
}

/* A stop is over when the motor stands: then the mode is off, until something else is asked for. */
static void finish_stop(cvk_startup *s, cvk_moment *now)
{
    const bool by_vector = now->start_phase == CVK_START_TURN;
    const bool by_angle = now->angle_source == CVK_ANGLE_ROTOR;
    if (now->request.mode != CVK_MODE_STOP) {
        s->stopped = false;
    } else if ((by_vector || by_angle) && fabsf(now->angle.speed_rad_s) < STANDS_RAD_S) {
        s->stopped = true;
    }
    if (s->stopped) {
        now->request.mode = CVK_MODE_OFF;
    }
}

void cvk_startup_step(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                      cvk_reference *reference, cvk_moment *now)
{
    const int32_t mode = now->request.mode;
    const bool by_sensor = setup->settings.angle.source == CVK_BY_ROTOR_SENSOR;
    const bool turns = cvk_mode_by_angle(mode);
    if (mode == CVK_MODE_STOP && now->bridge_on == 0) { /* nothing turns under its power */
        s->stopped = true;
    }
    if (now->fault == CVK_FAULT_NONE && turns && !s->stopped) {
        if (by_sensor) {
            by_rotor_sensor(s, setup, now);
        } else {
            by_observer(s, setup, angles, reference, now);
        }
    }
    finish_stop(s, now);
    if (now->fault != CVK_FAULT_NONE || !turns || s->stopped || by_sensor) {
        now->start_phase = CVK_START_IDLE;
        now->start_d_a = 0.0f;
    }
    if (!turns) {
        s->lost = 0;
        angles->imposed.speed_rad_s = mode == CVK_MODE_IMPOSED ? now->request.speed_rad_s : 0.0f;
        use(now, mode == CVK_MODE_IMPOSED ? CVK_ANGLE_IMPOSED
                 : by_sensor              ? CVK_ANGLE_ROTOR
                                          : CVK_ANGLE_FLUX);
    }
}
