/* SPDX-License-Identifier: Apache-2.0
 *
 * The two steps of learning, each in a file of its own: learning_standstill.c, learning_turning.c.
 */
#ifndef CORVAK_IDENT_ESTIMATE_LEARNING_PARTS_H
#define CORVAK_IDENT_ESTIMATE_LEARNING_PARTS_H

#include "learning.h"

#include <math.h>

void cvk_learn_standstill(cvk_learning *learning, cvk_prepared *w,
                          const cvk_estimate_options *options, cvk_estimate *out);

/* All logs, after those of a motor that stands still. */
void cvk_learn_turning(cvk_learning *learning, cvk_prepared *logs, size_t count, int threads,
                       cvk_estimate *out);

/* Two voltage channels may differ in gain, which three would have shown. */
static inline void cvk_doubt_two_channels(const cvk_learning *l, const cvk_waveforms *s,
                                          cvk_belief *belief)
{
    for (int k = CVK_B_RESISTANCE; k <= CVK_B_FLUX && s->two_voltages; k++) {
        belief->cov[k * (CVK_B_COUNT + 1)] += pow(0.5 * l->channel_mismatch * belief->mean[k], 2.0);
    }
}

#endif
