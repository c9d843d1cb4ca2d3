/* SPDX-License-Identifier: Apache-2.0
 *
 * How warm the winding is, by its resistance.
 */
#ifndef CORVAK_CORE_CONTROL_WINDING_H
#define CORVAK_CORE_CONTROL_WINDING_H

#include "base/setup.h"

typedef struct cvk_winding {
    float power, square_a2; /* means of voltage times current, and of its square */
    float seconds;          /* over which they were taken, up to enough */
} cvk_winding;

/* At standstill under current: `now->winding_ohm` and `now->winding_warmer_k`; else they stay. */
void cvk_winding_step(cvk_winding *winding, const cvk_setup *setup, cvk_moment *now);

#endif
