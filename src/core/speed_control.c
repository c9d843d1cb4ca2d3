/* SPDX-License-Identifier: Apache-2.0
 *
 * PI speed control with conditional integration.
 */
#include "corvak/core/speed_control.h"

float cvk_speed_control_step(cvk_speed_control *control, float setpoint_rad_s, float speed_rad_s)
{
    float error = setpoint_rad_s - speed_rad_s;
    float wanted = control->gain_a_s * error + control->integral_a;
    float limit = control->limit_a;
    float given = wanted > limit ? limit : (wanted < -limit ? -limit : wanted);
    bool driven_further_out = (wanted > limit && error > 0.0f) || (wanted < -limit && error < 0.0f);
    if (!driven_further_out) {
        control->integral_a += control->integral_gain_a * control->period_s * error;
    }
    return given;
}
