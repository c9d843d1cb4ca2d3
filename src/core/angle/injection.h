/* SPDX-License-Identifier: Apache-2.0
 *
 * The angle of a salient motor by injection: a source like the others, and a voltage on top of the
 * current control's.
 */
#ifndef CORVAK_CORE_ANGLE_INJECTION_H
#define CORVAK_CORE_ANGLE_INJECTION_H

#include "angle_sources.h"

/* The rotor is here, or (not known) its axis is, either way round. */
void cvk_injection_seed(cvk_injection *s, float angle_rad, float speed_rad_s, bool known);

/* Writes the source, and the current without what the injection makes of it. */
void cvk_injection_step(cvk_injection *s, const cvk_setup *setup, cvk_moment *now);

/* To be added to the voltage of this call. */
cvk_ab cvk_injection_voltage(cvk_injection *s, const cvk_setup *setup);

#endif
