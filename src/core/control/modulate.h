/* SPDX-License-Identifier: Apache-2.0
 *
 * From a voltage to duties, and what these really make.
 */
#ifndef CORVAK_CORE_CONTROL_MODULATE_H
#define CORVAK_CORE_CONTROL_MODULATE_H

#include "base/setup.h"

void cvk_modulate_step(const cvk_setup *setup, cvk_moment *now);

#endif
