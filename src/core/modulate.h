/* SPDX-License-Identifier: Apache-2.0
 *
 * From a voltage to duties, and what these really make.
 */
#ifndef CORVAK_CORE_MODULATE_H
#define CORVAK_CORE_MODULATE_H

#include "setup.h"

void cvk_modulate_step(const cvk_setup *setup, cvk_moment *now);

#endif
