/* SPDX-License-Identifier: Apache-2.0
 *
 * The inverter's own voltage.
 */
#ifndef CORVAK_CORE_INVERTER_H
#define CORVAK_CORE_INVERTER_H

#include "setup.h"

/* What dead time and devices take from a phase at this current, V. */
static inline float cvk_inverter_own_v(const cvk_setup *setup, float current_a)
{
    const cvk_inverter_settings *s = &setup->settings.inverter;
    return s->voltage_v * current_a / (s->knee_a + fabsf(current_a));
}

#endif
