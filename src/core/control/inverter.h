/* SPDX-License-Identifier: Apache-2.0
 *
 * The inverter's own voltage.
 */
#ifndef CORVAK_CORE_CONTROL_INVERTER_H
#define CORVAK_CORE_CONTROL_INVERTER_H

#include "base/setup.h"

/* What dead time and devices take from a phase at this current, V. Below the knee the current does
 * not get the leg's node across within the dead time. */
static inline float cvk_inverter_own_v(const cvk_setup *setup, float current_a)
{
    const cvk_inverter_settings *s = &setup->settings.inverter;
    const float size = fabsf(current_a);
    const float share = size < s->knee_a ? 0.5f * size / s->knee_a : 1.0f - 0.5f * s->knee_a / size;
    return copysignf(s->voltage_v * share, current_a);
}

#endif
