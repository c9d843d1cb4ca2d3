/* SPDX-License-Identifier: Apache-2.0
 *
 * Angle sources. The tracking filter is the discrete alpha-beta filter with both error poles at
 * r = exp(-2 pi f T): gain_angle = 1 - r^2, gain_speed = (1 - r)^2 / T.
 */
#include "corvak/core/angle.h"

#include <stddef.h>

cvk_status cvk_angle_sensor_init(cvk_angle_sensor *sensor, const cvk_angle_sensor_config *config,
                                 cvk_refusal *why)
{
    static const cvk_range ranges[] = {
        {"period_s", offsetof(cvk_angle_sensor_config, period_s), 5e-6f, 1e-3f},
        {"pole_pairs", offsetof(cvk_angle_sensor_config, pole_pairs), 1.0f, 100.0f},
        {"direction", offsetof(cvk_angle_sensor_config, direction), -1.0f, 1.0f},
        {"offset_rad", offsetof(cvk_angle_sensor_config, offset_rad), -7.0f, 7.0f},
    };
    if (sensor == NULL || config == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_status status = cvk_check_ranges(config, ranges, sizeof ranges / sizeof ranges[0], why);
    if (status == CVK_OK) {
        status = cvk_check_range("bandwidth_hz", config->bandwidth_hz, 1.0f,
                                 0.05f / config->period_s, why);
    }
    if (status != CVK_OK) {
        return status;
    }
    float r = expf(-CVK_TWO_PI * config->bandwidth_hz * config->period_s);
    *sensor = (cvk_angle_sensor){
        .period_s = config->period_s,
        .ratio = config->direction < 0.0f ? -config->pole_pairs : config->pole_pairs,
        .offset_rad = config->offset_rad,
        .gain_angle = 1.0f - r * r,
        .gain_speed = (1.0f - r) * (1.0f - r) / config->period_s,
    };
    return CVK_OK;
}

cvk_angle cvk_angle_sensor_step(cvk_angle_sensor *sensor, float sensor_mech_rad)
{
    float measured = cvk_wrap_angle(sensor->ratio * sensor_mech_rad + sensor->offset_rad);
    if (!sensor->primed) {
        sensor->now = (cvk_angle){measured, 0.0f};
        sensor->primed = true;
        return sensor->now;
    }
    cvk_angle *now = &sensor->now;
    float predicted = now->angle_rad + now->speed_rad_s * sensor->period_s;
    float error = cvk_wrap_angle(measured - predicted);
    now->angle_rad = cvk_wrap_angle(predicted + sensor->gain_angle * error);
    now->speed_rad_s += sensor->gain_speed * error;
    return *now;
}

cvk_angle cvk_angle_impose(cvk_angle now, float speed_rad_s, float period_s)
{
    cvk_angle next = {cvk_wrap_angle(now.angle_rad + speed_rad_s * period_s), speed_rad_s};
    return next;
}
