/* SPDX-License-Identifier: Apache-2.0
 *
 * Numbers kept within bounds, and modes put together by what they need.
 */
#ifndef CORVAK_CORE_BASE_ARITHMETIC_H
#define CORVAK_CORE_BASE_ARITHMETIC_H

#include "corvak/core/moment.h"

/* Within -limit .. limit. */
static inline float cvk_clamp(float x, float limit)
{
    return x > limit ? limit : (x < -limit ? -limit : x);
}

/* `from` moved to `to`, by `step` at most. */
static inline float cvk_toward(float from, float to, float step)
{
    const float way = to - from;
    return fabsf(way) <= step ? to : from + copysignf(step, way);
}

/* The mean of a vector that turns by `turned_rad` (up to a radian) from a to b. */
static inline cvk_ab cvk_mean_of_turning(cvk_ab a, cvk_ab b, float turned_rad)
{
    /* (a + b) / 2 tan(x/2) / (x/2) */
    const float half = 0.5f + (1.0f / 24.0f) * turned_rad * turned_rad;
    const cvk_ab mean = {half * (a.alpha + b.alpha), half * (a.beta + b.beta)};
    return mean;
}

/* Control calls in a time. */
static inline uint32_t cvk_ticks_of(float time_s, float period_s)
{
    return (uint32_t)(time_s / period_s + 0.5f);
}

/* The speed loop rules. */
static inline bool cvk_mode_by_speed(int32_t mode)
{
    return mode == CVK_MODE_SPEED || mode == CVK_MODE_STOP || mode == CVK_MODE_POSITION ||
           mode == CVK_MODE_BRAKE;
}

/* The currents stand in the rotor's frame: its angle is needed. */
static inline bool cvk_mode_by_angle(int32_t mode)
{
    return cvk_mode_by_speed(mode) || mode == CVK_MODE_CURRENT || mode == CVK_MODE_TORQUE;
}

#endif
