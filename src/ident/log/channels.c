/* SPDX-License-Identifier: Apache-2.0
 *
 * Single channels.
 */
#include "channels.h"

#include "math/numeric.h"

#include <math.h>

#define LEAST_SPREAD 1e-6      /* of the principal axes: columns along one direction only */
#define SPREAD_FOR_GAINS 100.0 /* below, gains cannot be told */
#define LONGEST_REST 8u        /* rows at an extreme, from which on a channel may be clipped */
#define CLIPPED_SHARE 0.002    /* of the rows, at least */
#define LEVELS 24              /* values at least, of a channel that moves */
#define REST_RATIO 3u          /* how much longer than at any other value */

static double finite_mean(const double *x, const size_t *rows, size_t count)
{
    double sum = 0.0, used = 0.0;
    for (size_t k = 0; k < count; k++) {
        double value = x[rows != NULL ? rows[k] : k];
        sum += isfinite(value) ? value : 0.0;
        used += isfinite(value) ? 1.0 : 0.0;
    }
    return used > 0.0 ? sum / used : 0.0;
}

/* Of a converter: the smallest change from one row to the next. */
static double smallest_step(const double *column, const size_t *rows, size_t count)
{
    double step = INFINITY;
    for (size_t k = 1; k < count; k++) {
        const double change =
            fabs(column[rows != NULL ? rows[k] : k] - column[rows != NULL ? rows[k - 1] : k - 1]);
        step = change > 0.0 && change < step ? change : step;
    }
    return step;
}

bool cvk_channel_gains(const cvk_log *log, cvk_column first, const size_t *rows, size_t count,
                       double gain[3])
{
    double cov[9] = {0}, values[3], mean[3], x[3];
    for (int c = 0; c < 3; c++) {
        mean[c] = finite_mean(log->column[(int)first + c], rows, count);
    }
    for (size_t k = 0; k < count; k++) {
        for (int c = 0; c < 3; c++) {
            x[c] = log->column[(int)first + c][rows != NULL ? rows[k] : k] - mean[c];
        }
        for (int c = 0; c < 9 && isfinite(x[0] + x[1] + x[2]); c++) {
            cov[c] += x[c / 3] * x[c % 3];
        }
    }
    const double step = smallest_step(log->column[first], rows, count);
    if (!cvk_eigen3(cov, values) || !(values[1] > SPREAD_FOR_GAINS * values[0]) ||
        !(values[1] > LEAST_SPREAD * values[2]) || !(values[1] > step * step * (double)count)) {
        return false; /* nothing there but a converter's steps, or along one direction only */
    }
    double sum = cov[0] + cov[3] + cov[6];
    for (int c = 0; c < 3; c++) {
        gain[c] = 3.0 * cov[3 * c] / sum;
    }
    return isfinite(gain[0] + gain[1] + gain[2]);
}

/* Longest rests at the lowest and at the highest value, and at any other. */
typedef struct rests {
    size_t low, high, between;
} rests;

static rests longest_rests(const double *x, size_t rows, double lowest, double highest)
{
    rests out = {0, 0, 0};
    size_t run = 0;
    for (size_t k = 0; k < rows; k++) {
        run = k > 0 && x[k] == x[k - 1] ? run + 1 : 1;
        size_t *place = x[k] == lowest ? &out.low : (x[k] == highest ? &out.high : &out.between);
        *place = run > *place ? run : *place;
    }
    return out;
}

/* A channel that shows only a few values, such as a bus that hardly moves: rests mean nothing. */
static bool few_levels(const double *x, size_t rows)
{
    double seen[LEVELS];
    size_t count = 0;
    const size_t stride = rows / 2000u + 1u;
    for (size_t k = 0; k < rows && count < LEVELS; k += stride) {
        size_t n = 0;
        while (n < count && seen[n] != x[k]) {
            n++;
        }
        if (n == count) {
            seen[count++] = x[k];
        }
    }
    return count < LEVELS;
}

cvk_clipping cvk_find_clipping(const cvk_log *log, cvk_column column)
{
    const double *x = log->column[column];
    cvk_clipping out = {.lowest = INFINITY, .highest = -INFINITY};
    size_t low = 0, high = 0;
    for (size_t k = 0; k < log->rows; k++) {
        out.lowest = x[k] < out.lowest ? x[k] : out.lowest;
        out.highest = x[k] > out.highest ? x[k] : out.highest;
    }
    for (size_t k = 0; k < log->rows; k++) {
        low += x[k] == out.lowest;
        high += x[k] == out.highest;
    }
    if (!(out.highest > out.lowest) || few_levels(x, log->rows)) {
        return out;
    }
    const rests r = longest_rests(x, log->rows, out.lowest, out.highest);
    const size_t few = (size_t)(CLIPPED_SHARE * (double)log->rows);
    out.low = r.low >= LONGEST_REST && r.low > REST_RATIO * r.between && low > few;
    out.high = r.high >= LONGEST_REST && r.high > REST_RATIO * r.between && high > few;
    out.rows = (out.low ? low : 0) + (out.high ? high : 0);
    return out;
}
