/* SPDX-License-Identifier: Apache-2.0
 *
 * From a log and what is known before to the parameter set that explains its turning rows best.
 */
#ifndef CORVAK_IDENT_TURNING_TURNING_SEARCH_H
#define CORVAK_IDENT_TURNING_TURNING_SEARCH_H

#include "turning_problem.h"

/* A first fit on few rows finds the neighbourhood quickly. */
#define CVK_SCOUT_ROWS 6144u
#define CVK_SCOUT_BLOCK_ROWS 768u

/* The prior must be set. The problem keeps the blocks, the curve and the noises of the result; its
 * covariance holds by how much other explanations differ. False when nothing follows the rows. */
bool cvk_turning_search(cvk_turning_problem *f, const cvk_turns *turns, const cvk_belief *belief,
                        cvk_turning_result *result);

#endif
