/* SPDX-License-Identifier: Apache-2.0
 *
 * Currents from shunts: what they need of the duties, and three currents from a single one.
 */
#ifndef CORVAK_CORE_CONTROL_SHUNT_H
#define CORVAK_CORE_CONTROL_SHUNT_H

#include "base/setup.h"

/* The pulses of one period, in shares of it. */
typedef struct cvk_pulses {
    float rise[3], fall[3];
} cvk_pulses;

typedef struct cvk_shunt {
    cvk_pulses acting; /* those of the period that begins; the readings show the one before */
} cvk_shunt;

/* Low-side shunts: the duties go down together until each leg is low long enough. */
void cvk_shunt_keep_windows(const cvk_setup *setup, cvk_moment *now);

/* A single shunt: duties and shifts at which both windows are long enough; what voltage that costs
 * is taken off `now->voltage_made_v`. */
void cvk_shunt_place(const cvk_setup *setup, cvk_moment *now);

/* The currents at the end of the period, from two legs seen within it. */
void cvk_shunt_read(cvk_shunt *shunt, const cvk_setup *setup, cvk_moment *now);

/* What the current moves by in `time_s` (s), in which the legs give `impulse_vs` (V s): its slope
 * without them is (- R i - j w psi) / L, known from the motor and the call before. None when the
 * motor's inductances are not known. */
cvk_ab cvk_moved_on(const cvk_setup *setup, const cvk_moment *now, cvk_ab i_ab, cvk_ab impulse_vs,
                    float time_s);

#endif
