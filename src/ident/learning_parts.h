/* SPDX-License-Identifier: Apache-2.0
 *
 * The two steps of learning, each in a file of its own: learning_standstill.c, learning_turning.c.
 */
#ifndef CORVAK_IDENT_LEARNING_PARTS_H
#define CORVAK_IDENT_LEARNING_PARTS_H

#include "learning.h"

void cvk_learn_standstill(cvk_learning *learning, cvk_prepared *w,
                          const cvk_estimate_options *options, cvk_estimate *out);

/* All logs, after those of a motor that stands still. */
void cvk_learn_turning(cvk_learning *learning, cvk_prepared *logs, size_t count, int threads,
                       cvk_estimate *out);

/* Two voltage channels may differ in gain, which three would have shown. */
void cvk_doubt_two_channels(const cvk_learning *learning, const cvk_signals *signals,
                            cvk_belief *belief);

#endif
