/* SPDX-License-Identifier: Apache-2.0
 *
 * What can be seen of single channels: gains against each other, and where one is clipped.
 */
#ifndef CORVAK_IDENT_LOG_CHANNELS_H
#define CORVAK_IDENT_LOG_CHANNELS_H

#include "corvak/ident/log.h"

/* Gains that make the sum of three columns, `first` and the two after it, constant: the smallest
 * principal axis (total least squares: all three are noisy alike). The common gain stays open; the
 * mean of the three is set to one. `rows` may be null: all. False when the columns do not show
 * them. */
bool cvk_channel_gains(const cvk_log *log, cvk_column first, const size_t *rows, size_t count,
                       double gain[3]);

/* A channel that stays at its lowest or highest value as it stays at no other. */
typedef struct cvk_clipping {
    bool low, high;
    double lowest, highest;
    size_t rows; /* at a clipped end */
} cvk_clipping;

cvk_clipping cvk_find_clipping(const cvk_log *log, cvk_column column);

static inline bool cvk_is_clipped(const cvk_clipping *c, double x)
{
    return (c->low && x == c->lowest) || (c->high && x == c->highest);
}

#endif
