/* SPDX-License-Identifier: Apache-2.0
 *
 * A plain PI speed loop, enough to hold the plateaus of a spin: speed in, torque current out.
 */
#ifndef CORVAK_CORE_SPEED_CONTROL_H
#define CORVAK_CORE_SPEED_CONTROL_H

#include "corvak/core/status.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_speed_control {
    float period_s;
    float gain_a_s;        /* A per rad/s (electrical) */
    float integral_gain_a; /* A per rad/s per s */
    float limit_a;         /* largest |current| that it asks for */
    float integral_a;
} cvk_speed_control;

/* One step; the integral stops while the output is limited in the direction of the error. */
float cvk_speed_control_step(cvk_speed_control *control, float setpoint_rad_s, float speed_rad_s);

#ifdef __cplusplus
}
#endif
#endif
