/* SPDX-License-Identifier: Apache-2.0
 *
 * The rig's random numbers: the same sequence on every machine.
 */
#ifndef CORVAK_RIG_RANDOM_H
#define CORVAK_RIG_RANDOM_H

#include "parts.h"

void cvk_rig_random_seed(cvk_rig_random *random, uint64_t seed);
double cvk_rig_random_even(cvk_rig_random *random);   /* -1 .. 1 */
double cvk_rig_random_normal(cvk_rig_random *random); /* mean 0, variance 1 */

#endif
