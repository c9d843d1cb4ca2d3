/* SPDX-License-Identifier: Apache-2.0
 *
 * The loops outside the current's: speed by PI with conditional integration behind a profile, and
 * position by a gain in front of it. What the profile's acceleration takes is fed forward, so that
 * following and resisting a load are tuned apart. Then the limit of the current vector, in which
 * the d current goes first.
 */
#include "reference.h"

#include "base/arithmetic.h"

#include <stddef.h>

static const cvk_parameter rows[] = {
    CVK_ROW(speed, gain_a_s, "A s", 0.0f, 1000.0f, 0.0f, true,
            "speed loop: A per electrical rad/s"),
    CVK_ROW(speed, integral_gain_a, "A", 0.0f, 1e5f, 0.0f, true,
            "speed loop: A per electrical rad/s per s"),
    CVK_ROW(speed, current_a, "A", 0.0f, 1000.0f, 0.0f, true,
            "largest torque current of the speed loop; 0: 70 % of limit.current_a"),
    CVK_ROW(speed, acceleration_rad_s2, "rad/s^2", 0.0f, 1e7f, 0.0f, true,
            "slew of the speed set-point, electrical; 0: none"),
    CVK_ROW(speed, jerk_rad_s3, "rad/s^3", 0.0f, 1e10f, 0.0f, true,
            "slew of that acceleration; 0: none"),
    CVK_ROW(speed, feedforward_a_s2, "A s^2", 0.0f, 1000.0f, 0.0f, true,
            "current that an acceleration takes: A per electrical rad/s^2"),
};
const cvk_parameter_rows cvk_reference_rows = CVK_ROWS(rows);

/* The integral stops while the output is limited in the direction of the error. */
static float speed_control(cvk_reference *reference, const cvk_setup *setup, float error_rad_s,
                           float most_a, bool integrates)
{
    const cvk_speed_settings *s = &setup->settings.speed;
    const float limit_a = most_a < setup->speed_current_a ? most_a : setup->speed_current_a;
    const float ahead_a = s->feedforward_a_s2 * reference->motion.acceleration_rad_s2;
    const float wanted_a = s->gain_a_s * error_rad_s + reference->integral_a + ahead_a;
    const float given_a = cvk_clamp(wanted_a, limit_a);
    if (!integrates) {
        reference->integral_a = 0.0f;
    } else if (given_a == wanted_a || (wanted_a > 0.0f) != (error_rad_s > 0.0f)) {
        reference->integral_a = cvk_clamp(
            reference->integral_a + s->integral_gain_a * setup->period_s * error_rad_s, limit_a);
    }
    return given_a;
}

void cvk_reference_continue(cvk_reference *reference, const cvk_setup *setup, float current_q_a,
                            cvk_moment *now)
{
    now->speed_set_rad_s = now->angle.speed_rad_s;
    cvk_motion_lead_from(&reference->motion, now->angle.speed_rad_s);
    reference->integral_a = cvk_clamp(current_q_a, setup->speed_current_a);
    reference->running = true;
}

void cvk_reference_reseen(cvk_reference *reference, const cvk_setup *setup, float off_rad_s)
{
    reference->integral_a = cvk_clamp(
        reference->integral_a + setup->settings.speed.gain_a_s * off_rad_s, setup->speed_current_a);
}

/* While the observer gives the angle, the motor must not become slower than the observer can see:
 * there it waits until the start has taken over. Nor is it sped up to wait there. */
static float speed_wanted(const cvk_setup *setup, const cvk_moment *now)
{
    const float wanted = now->request.mode == CVK_MODE_SPEED ? now->request.speed_rad_s : 0.0f;
    const float yields = setup->start.yield_rad_s, led = fabsf(now->speed_set_rad_s);
    const float floor = copysignf(led < yields ? led : yields, now->angle.speed_rad_s);
    const bool too_slow = wanted * copysignf(1.0f, floor) < fabsf(floor);
    const bool bound = now->start_phase != CVK_START_IDLE && !cvk_sees_rest(setup);
    return bound && too_slow ? floor : wanted;
}

/* The d current goes first. */
static cvk_dq within(cvk_dq i, const cvk_bounds *bounds)
{
    if (i.d * i.d + i.q * i.q <= bounds->current_square_a2) {
        return i;
    }
    const float d = cvk_clamp(i.d, bounds->current_a);
    return (cvk_dq){d, cvk_clamp(i.q, sqrtf(bounds->current_square_a2 - d * d))};
}

/* The speed to be held now. */
static float speed_led(cvk_reference *reference, const cvk_setup *setup, const cvk_moment *now)
{
    cvk_motion *m = &reference->motion;
    if (now->request.mode == CVK_MODE_BRAKE) {
        cvk_motion_lead_from(m, 0.0f);
        return 0.0f;
    }
    return now->request.mode == CVK_MODE_POSITION
               ? cvk_motion_to_place(m, setup, now)
               : cvk_motion_to_speed(m, setup, speed_wanted(setup, now));
}

/* The vector of a start is imposed: it follows a position by itself, all else waits. */
static void wait_for_start(cvk_reference *reference, const cvk_setup *setup, cvk_moment *now)
{
    reference->integral_a = 0.0f;
    reference->running = false;
    if (now->request.mode != CVK_MODE_POSITION) {
        reference->motion.leading = false;
        now->speed_set_rad_s = now->angle.speed_rad_s;
    } else {
        if (!reference->motion.leading) {
            cvk_motion_lead_from(&reference->motion, now->angle.speed_rad_s);
        }
        now->speed_set_rad_s = cvk_motion_to_place(&reference->motion, setup, now);
    }
}

static float q_of_request(const cvk_setup *setup, const cvk_moment *now)
{
    return now->request.mode == CVK_MODE_TORQUE ? cvk_torque_q(setup, now->request.torque_nm)
                                                : now->request.current_a.q;
}

/* The d current that belongs to it, and both within the limit of the current. In current mode and
 * under a vector that is imposed both are as they are asked for. */
static void set_currents(const cvk_reference *reference, const cvk_setup *setup, float q_a,
                         float most_a, cvk_moment *now)
{
    const bool as_asked =
        now->request.mode == CVK_MODE_CURRENT || now->request.mode == CVK_MODE_IMPOSED;
    now->current_set_a = as_asked ? (cvk_dq){now->request.current_a.d + now->start_d_a, q_a}
                                  : (cvk_dq){cvk_torque_d(&reference->torque, setup, now, q_a),
                                             cvk_clamp(q_a, most_a)};
}

void cvk_reference_step(cvk_reference *reference, const cvk_setup *setup, cvk_moment *now)
{
    cvk_motion_count(&reference->motion, setup, now);
    const float most_a = cvk_torque_step(&reference->torque, setup, now);
    if (now->start_phase > CVK_START_IDLE && now->start_phase < CVK_START_RUN) {
        wait_for_start(reference, setup, now);
    } else if (!cvk_mode_by_speed(now->request.mode)) {
        reference->integral_a = 0.0f;
        reference->running = reference->motion.leading = false;
        now->speed_set_rad_s = 0.0f;
        set_currents(reference, setup, q_of_request(setup, now), most_a, now);
    } else {
        if (!reference->running) {
            cvk_reference_continue(reference, setup, 0.0f, now);
        }
        const bool spring =
            now->request.mode == CVK_MODE_POSITION && setup->settings.position.spring != 0;
        now->speed_set_rad_s = speed_led(reference, setup, now);
        const float off = now->speed_set_rad_s - now->angle.speed_rad_s;
        set_currents(reference, setup, speed_control(reference, setup, off, most_a, !spring),
                     most_a, now);
    }
    now->current_set_a = within(now->current_set_a, &setup->bounds);
}
