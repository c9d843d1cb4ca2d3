/* SPDX-License-Identifier: Apache-2.0
 *
 * The speed loop: PI with conditional integration, behind a set-point with limited slew; and the
 * limit of the current vector, in which the d current goes first.
 */
#include "reference.h"

#include "bounds.h"

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
};
const cvk_parameter_rows cvk_reference_rows = CVK_ROWS(rows);

/* The integral stops while the output is limited in the direction of the error. */
static float speed_control(cvk_reference *reference, const cvk_setup *setup, float error_rad_s)
{
    const cvk_speed_settings *s = &setup->settings.speed;
    const float limit_a = setup->speed_current_a;
    const float wanted_a = s->gain_a_s * error_rad_s + reference->integral_a;
    const float given_a = cvk_clamp(wanted_a, limit_a);
    if (given_a == wanted_a || (wanted_a > 0.0f) != (error_rad_s > 0.0f)) {
        reference->integral_a = cvk_clamp(
            reference->integral_a + s->integral_gain_a * setup->period_s * error_rad_s, limit_a);
    }
    return given_a;
}

void cvk_reference_continue(cvk_reference *reference, const cvk_setup *setup, float current_q_a,
                            cvk_moment *now)
{
    now->speed_set_rad_s = now->angle.speed_rad_s;
    reference->integral_a = cvk_clamp(current_q_a, setup->speed_current_a);
    reference->running = true;
}

/* While the observer gives the angle, the motor must not become slower than the observer can see:
 * there it waits until the start has taken over. */
static float speed_wanted(const cvk_setup *setup, const cvk_moment *now)
{
    const float wanted = now->request.mode == CVK_MODE_SPEED ? now->request.speed_rad_s : 0.0f;
    const float floor = copysignf(setup->start.yield_rad_s, now->angle.speed_rad_s);
    const bool too_slow = wanted * copysignf(1.0f, floor) < setup->start.yield_rad_s;
    return now->start_phase != CVK_START_IDLE && too_slow ? floor : wanted;
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

void cvk_reference_step(cvk_reference *reference, const cvk_setup *setup, cvk_moment *now)
{
    const bool by_speed = cvk_mode_by_speed(now->request.mode);
    const bool given = now->start_phase > CVK_START_IDLE && now->start_phase < CVK_START_RUN;
    if (!by_speed || given) {
        reference->integral_a = 0.0f;
        reference->running = false;
        now->speed_set_rad_s = given ? now->angle.speed_rad_s : 0.0f;
    }
    if (!given) { /* else the start has set it */
        now->current_set_a =
            (cvk_dq){now->request.current_a.d + now->start_d_a, now->request.current_a.q};
    }
    if (by_speed && !given) {
        if (!reference->running) {
            cvk_reference_continue(reference, setup, 0.0f, now);
        }
        const float wanted = speed_wanted(setup, now), slew = setup->speed_slew_rad_s;
        now->speed_set_rad_s =
            slew > 0.0f ? cvk_toward(now->speed_set_rad_s, wanted, slew) : wanted;
        now->current_set_a.q =
            speed_control(reference, setup, now->speed_set_rad_s - now->angle.speed_rad_s);
    }
    now->current_set_a = within(now->current_set_a, &setup->bounds);
}
