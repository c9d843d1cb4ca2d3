/* SPDX-License-Identifier: Apache-2.0
 *
 * Faults: the bridge is off in the call that sees one, and the first cause is kept.
 */
#ifndef CORVAK_CORE_CONTROL_PROTECT_H
#define CORVAK_CORE_CONTROL_PROTECT_H

#include "base/setup.h"

cvk_bounds cvk_bounds_of(const cvk_settings *settings);

/* Both hold. */
cvk_bounds cvk_bounds_tighter(cvk_bounds a, cvk_bounds b);

/* Looks at what was measured; `clear` ends the fault of before. */
void cvk_protect_step(const cvk_setup *setup, bool clear, cvk_moment *now);

/* Raises a fault, unless there is one already. */
void cvk_protect_raise(cvk_moment *now, cvk_fault fault);

#endif
