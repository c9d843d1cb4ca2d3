/* SPDX-License-Identifier: Apache-2.0
 *
 * Estimation from the driven, turning motor: maximum likelihood of the current predicted by the
 * filter in turning_model.h. Needs no rotor sensor and no special excitation.
 */
#ifndef CORVAK_IDENT_TURNING_TURNING_FIT_H
#define CORVAK_IDENT_TURNING_TURNING_FIT_H

#include "turns.h"
#include "turning_problem.h"

/* Fits the turning stretches with current. `belief` is what is known before and, on success, after.
 * `shown` (may be null) gets a few turns for a figure. CVK_NOT_IN_LOG when there are too few such
 * rows or no parameter set follows them. */
cvk_status cvk_turning_fit(const cvk_waveforms *waveforms, const cvk_turns *turns, int threads,
                           cvk_belief *belief, cvk_turning_result *result, cvk_curve *shown);

#endif
