/* SPDX-License-Identifier: Apache-2.0
 *
 * Where the electrical angle comes from: imposed by the program (open loop), or read from a rotor
 * sensor. Both give the angle at the sample instant and its speed.
 */
#ifndef CORVAK_CORE_ANGLE_H
#define CORVAK_CORE_ANGLE_H

#include "corvak/core/frames.h"
#include "corvak/core/status.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_angle {
    float angle_rad;   /* electrical, -pi .. pi */
    float speed_rad_s; /* electrical */
} cvk_angle;

typedef struct cvk_angle_sensor_config {
    float period_s;     /* control period: 5e-6 .. 1e-3 */
    float pole_pairs;   /* 1 .. 100 */
    float direction;    /* +1 when the sensor counts the way the field turns, else -1 */
    float offset_rad;   /* electrical angle at sensor angle zero: -7 .. 7 */
    float bandwidth_hz; /* of the tracking filter: 1 .. 1/20 of the control rate */
} cvk_angle_sensor_config;

/* A second-order tracking filter (both poles at the bandwidth) on the electrical angle of a rotor
 * sensor: quantisation and noise do not reach the speed, and a constant speed leaves no lag. */
typedef struct cvk_angle_sensor {
    float period_s, ratio, offset_rad; /* ratio: electrical angle over sensor angle, signed */
    float gain_angle, gain_speed;
    cvk_angle now;
    bool primed;
} cvk_angle_sensor;

cvk_status cvk_angle_sensor_init(cvk_angle_sensor *sensor, const cvk_angle_sensor_config *config,
                                 cvk_refusal *why) CVK_MUST_CHECK;

/* One reading of the sensor (rad, mechanical, any number of turns), one control period on. */
cvk_angle cvk_angle_sensor_step(cvk_angle_sensor *sensor, float sensor_mech_rad);

/* An imposed angle: moves on by one period at `speed_rad_s`. */
cvk_angle cvk_angle_impose(cvk_angle now, float speed_rad_s, float period_s);

#ifdef __cplusplus
}
#endif
#endif
