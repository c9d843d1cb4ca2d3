/* SPDX-License-Identifier: Apache-2.0
 *
 * The log is cut into as many parts as there may be blocks; of each part the block is taken in
 * which the current varies most, so that slow and fast, light and heavy stretches all have a say.
 */
#include "turning_blocks.h"

#include <math.h>

#define WARM_UP_ROWS 256u
#define FEWEST_TURNS 2u /* of a block: the first is the filter's to find its angle in */
#define FEWEST_BLOCKS 4.0
#define INTEREST_STRIDE 4u
#define STEADY_SHARE 0.1 /* what a current that does not vary counts beside one that does */

void cvk_add_block(cvk_turning_blocks *b, const cvk_tm_block *block)
{
    const size_t rows = block->rows.end - block->rows.begin;
    b->first_row[b->count] = b->rows;
    b->first_residual[b->count] = 2u * b->residual_rows;
    b->block[b->count++] = *block;
    b->rows += rows;
    b->residual_rows += rows - block->warm_up;
}

/* Turns first .. last-1. The filter finds its angle within a turn: that much is its warm-up. */
static void add_turns(cvk_turning_blocks *b, const cvk_waveforms *s, const cvk_turns *turns,
                      size_t first, size_t last)
{
    double c[3];
    const size_t begin = turns->begin[first], end = turns->end[last - 1];
    size_t known = first;
    while (known + 1 < last && turns->end[known] - begin < WARM_UP_ROWS) {
        known++;
    }
    const size_t warm_up = turns->end[known] - begin;
    if (end - begin < warm_up + CVK_TURNING_SMALLEST_BLOCK_ROWS || cvk_currentless(s, begin, end)) {
        return;
    }
    cvk_fit_phase(turns->phase, begin, begin + warm_up, c);
    double half = 0.5 * ((double)warm_up - 1.0);
    const cvk_tm_block block = {.rows = {begin, end},
                                .warm_up = warm_up,
                                .theta_rad = c[0] - half * (c[1] - half * c[2]) -
                                             cvk_phase_lead(c[1] / s->period_s),
                                .omega_rad_s = (c[1] - 2.0 * half * c[2]) / s->period_s};
    cvk_add_block(b, &block);
}

size_t cvk_turning_rows(const cvk_turns *turns)
{
    size_t total = 0;
    for (size_t n = 0; n < turns->count; n++) {
        total += turns->end[n] - turns->begin[n];
    }
    return total;
}

/* How much rows tell beside others: how the current's length varies, which tells resistance and
 * inductance apart from the back-EMF, and a little for any current. */
static double interest_of(const cvk_waveforms *s, cvk_span rows)
{
    double sum = 0.0, square = 0.0;
    for (size_t k = rows.begin; k < rows.end; k += INTEREST_STRIDE) {
        const double now = s->i_alpha[k] * s->i_alpha[k] + s->i_beta[k] * s->i_beta[k];
        sum += sqrt(now);
        square += now;
    }
    const double count = ceil((double)(rows.end - rows.begin) / INTEREST_STRIDE);
    return square / count - (1.0 - STEADY_SHARE) * (sum / count) * (sum / count);
}

/* The end of the block that begins with turn `first`: at least `block_rows` rows and FEWEST_TURNS
 * turns without a break, or all there are. */
static size_t end_of_block(const cvk_turns *turns, size_t first, size_t block_rows)
{
    size_t last = first + 1;
    while (
        last < turns->count && turns->joined[last] &&
        (last - first < FEWEST_TURNS || turns->end[last - 1] - turns->begin[first] < block_rows)) {
        last++;
    }
    return last;
}

/* Rows of a block, mean over the log. */
static double block_length(const cvk_turns *turns, size_t block_rows)
{
    double rows = 0.0, count = 0.0;
    for (size_t first = 0; first < turns->count;) {
        const size_t last = end_of_block(turns, first, block_rows);
        if (last - first >= FEWEST_TURNS) {
            rows += (double)(turns->end[last - 1] - turns->begin[first]);
            count += 1.0;
        }
        first = last;
    }
    return rows / fmax(count, 1.0);
}

void cvk_choose_blocks(cvk_turning_blocks *b, const cvk_waveforms *s, const cvk_turns *turns,
                       size_t most, size_t block_rows)
{
    const size_t total = cvk_turning_rows(turns);
    const double length = block_length(turns, block_rows);
    const size_t parts = total > most
                             ? (size_t)fmax((double)most / fmax(length, 1.0), FEWEST_BLOCKS)
                             : CVK_TURNING_MOST_BLOCKS;
    size_t passed = 0, part = 0, best_first = 0, best_last = 0;
    double best = -1.0;
    b->count = b->rows = b->residual_rows = 0;
    for (size_t first = 0; first < turns->count;) {
        const size_t last = end_of_block(turns, first, block_rows);
        const cvk_span rows = {turns->begin[first], turns->end[last - 1]};
        const size_t now = passed * parts / total;
        if (now > part && best >= 0.0) {
            add_turns(b, s, turns, best_first, best_last);
            best = -1.0;
        }
        part = now;
        if (last - first >= FEWEST_TURNS && b->count < CVK_TURNING_MOST_BLOCKS) {
            /* one that takes the place of several others has to tell as much */
            const double length_rows = (double)(rows.end - rows.begin);
            const double interest =
                interest_of(s, rows) / fmax(1.0, length_rows * FEWEST_BLOCKS / (double)most);
            if (interest > best) {
                best = interest;
                best_first = first;
                best_last = last;
            }
        }
        passed += rows.end - rows.begin;
        first = last;
    }
    if (best >= 0.0 && b->count < CVK_TURNING_MOST_BLOCKS) {
        add_turns(b, s, turns, best_first, best_last);
    }
}
