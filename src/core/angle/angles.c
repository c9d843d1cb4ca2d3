/* SPDX-License-Identifier: Apache-2.0
 *
 * The list of angle sources, and the imposed angle.
 */
#include "injection.h"

#include <stddef.h>

static const char *const choices[] = {"rotor_sensor", "observer", NULL};

static const cvk_parameter rows[] = {
    CVK_ROW_CHOICE(angle, source, choices, 1, 0, "what gives the rotor's angle"),
};
const cvk_parameter_rows cvk_angle_rows = CVK_ROWS(rows);

void cvk_imposed_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_imposed *s = &angles->imposed;
    if (s->speed_rad_s == 0.0f && now->source[CVK_ANGLE_IMPOSED].speed_rad_s == 0.0f) {
        return; /* it stands */
    }
    s->angle_rad = cvk_wrap_angle(s->angle_rad + s->speed_rad_s * setup->period_s);
    now->source[CVK_ANGLE_IMPOSED] =
        (cvk_angle){s->angle_rad, s->speed_rad_s, 1.0f, CVK_ANGLE_FINE};
}

void cvk_angles_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_imposed_step(angles, setup, now);
    cvk_rotor_step(angles, setup, now);
    cvk_observers_step(angles, setup, now);
    cvk_injection_step(&angles->injection, setup, now);
}

void cvk_angles_add_voltage(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    angles->added_v = cvk_injection_voltage(&angles->injection, setup);
    now->voltage_set_v.alpha += angles->added_v.alpha;
    now->voltage_set_v.beta += angles->added_v.beta;
}

void cvk_angles_seed_at_rest(cvk_angles *angles, float angle_rad, float speed_rad_s)
{
    cvk_injection_seed(&angles->injection, angle_rad, speed_rad_s, true);
}
