/* SPDX-License-Identifier: Apache-2.0
 *
 * The filter's noises: how far currents, flux linkage, speed, acceleration and magnets stray from
 * the model in a row.
 */
#ifndef CORVAK_IDENT_TURNING_TURNING_NOISE_H
#define CORVAK_IDENT_TURNING_TURNING_NOISE_H

#include "turning_problem.h"

/* Modest ones, as a motor has them that is well known. */
cvk_tm_noise cvk_guess_noise(const cvk_turning_problem *f, const cvk_turns *turns,
                             const double p[CVK_TM_COUNT]);

/* Walk `f->noise` to the smallest prediction error, which they return (A): roughly, for another
 * round of fits, or from modest ones; and finely, once the motor is found. */
double cvk_tune_noise(cvk_turning_problem *f, const double p[CVK_TM_COUNT],
                      const cvk_tm_noise *modest);
double cvk_refine_noise(cvk_turning_problem *f, const double p[CVK_TM_COUNT]);

#endif
