/* SPDX-License-Identifier: Apache-2.0
 *
 * Where the standstill fit begins: linear least squares at each plausible whole delay.
 */
#include "standstill_problem.h"

#include "math/numeric.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define N CVK_SM_COUNT
#define START_ROWS 20000u    /* equations used for the start values */
#define SALIENCY_WEIGHT 0.01 /* against what the rows say of it */
#define KNEE_SHARE 0.02      /* knee current expected, share of the peak current */

/* Rms of the measurement noise from second differences of rows `apart`, robust against steps
 * (median). */
static double noise_at(const cvk_standstill_problem *f, size_t apart)
{
    const cvk_waveforms *s = f->s;
    double values[4001];
    size_t count = 0, stride = f->residual_rows / 2000u + 1u;
    for (size_t b = 0; b < f->block_count; b++) {
        const cvk_span rows = f->blocks[b].rows;
        for (size_t k = rows.begin + 2u * apart; k < rows.end && count < 4000u; k += stride) {
            const size_t m = k - apart, l = m - apart;
            values[count++] = fabs(s->i_alpha[k] - 2.0 * s->i_alpha[m] + s->i_alpha[l]);
            values[count++] = fabs(s->i_beta[k] - 2.0 * s->i_beta[m] + s->i_beta[l]);
        }
    }
    /* median of |x| is 0.6745 sigma; a second difference has variance 6 sigma^2 */
    return count > 0 ? cvk_median(values, count) / 0.6745 / sqrt(6.0) : INFINITY;
}

/* An injection of few periods is no noise: where it repeats, it is not in the difference. */
static double noise_of(const cvk_standstill_problem *f)
{
    static const size_t apart[] = {1, 2, 3, 4, 6, 8, 12, 16};
    double least = INFINITY;
    for (size_t n = 0; n < sizeof apart / sizeof apart[0]; n++) {
        least = fmin(least, noise_at(f, apart[n]));
    }
    return fmax(least, 1e-9);
}

/* Largest distance of the current from its mean over the blocks: offsets do not count. */
static double swing_of(const cvk_standstill_problem *f)
{
    const cvk_waveforms *s = f->s;
    double alpha = 0.0, beta = 0.0, rows = 0.0, largest = 0.0;
    for (size_t b = 0; b < f->block_count; b++) {
        for (size_t k = f->blocks[b].rows.begin; k < f->blocks[b].rows.end; k++) {
            alpha += s->i_alpha[k];
            beta += s->i_beta[k];
            rows += 1.0;
        }
    }
    for (size_t b = 0; b < f->block_count; b++) {
        for (size_t k = f->blocks[b].rows.begin; k < f->blocks[b].rows.end; k++) {
            double distance = hypot(s->i_alpha[k] - alpha / rows, s->i_beta[k] - beta / rows);
            largest = fmax(largest, distance);
        }
    }
    return largest;
}

enum { STEP = 3 }; /* rows over which a slope is taken */

/* Voltage that acted, current and direction of the inverter's voltage, means over STEP rows. */
static void means_of_rows(const cvk_waveforms *s, size_t k, double delay, double knee_a,
                          double v[2], double i[2], double u[2])
{
    const long whole = (long)floor(delay);
    const double rest = delay - (double)whole; /* of a period, in which the voltage before acts */
    v[0] = v[1] = i[0] = i[1] = u[0] = u[1] = 0.0;
    for (size_t j = k; j < k + STEP; j++) {
        double mid_alpha = 0.5 * (s->i_alpha[j] + s->i_alpha[j + 1]);
        double mid_beta = 0.5 * (s->i_beta[j] + s->i_beta[j + 1]), direction[2];
        cvk_curve_vector(mid_alpha, mid_beta, 1.0 / knee_a, CVK_CURVE_ROUND, direction);
        const size_t new = (size_t)((long)j - whole), old = new - (rest > 0.0);
        v[0] += (s->v_alpha[new] + rest * (s->v_alpha[old] - s->v_alpha[new])) / STEP;
        v[1] += (s->v_beta[new] + rest * (s->v_beta[old] - s->v_beta[new])) / STEP;
        i[0] += mid_alpha / STEP;
        i[1] += mid_beta / STEP;
        u[0] += direction[0] / STEP;
        u[1] += direction[1] / STEP;
    }
}

/* Linear least squares at a delay over steps of three periods (a longer step is less
 * disturbed by noise): v = R i + L di/dt + dead * direction. Returns the residual's square sum, or
 * infinity. Unknowns: R, L_mean, L_cos, L_sin, dead-time voltage. */
static double linear_start(const cvk_standstill_problem *f, double delay, double knee_a,
                           double x[5])
{
    enum { UNKNOWNS = 5 };
    const cvk_waveforms *s = f->s;
    size_t stride = f->residual_rows / START_ROWS + 1u;
    size_t most = 2u * (f->residual_rows / stride + f->block_count) + 2u;
    double slopes = 0.0;
    double *a = calloc(most * UNKNOWNS, sizeof *a), *b = calloc(most, sizeof *b);
    size_t m = 0;
    double result = INFINITY;
    for (size_t n = 0; a != NULL && b != NULL && n < f->block_count; n++) {
        cvk_span rows = f->blocks[n].rows;
        for (size_t k = rows.begin + 4; k + STEP + 2 < rows.end && m + 4 <= most; k += stride) {
            double v[2], i[2], u[2];
            means_of_rows(s, k, delay, knee_a, v, i, u);
            double slope_alpha = (s->i_alpha[k + STEP] - s->i_alpha[k]) / (STEP * s->period_s);
            double slope_beta = (s->i_beta[k + STEP] - s->i_beta[k]) / (STEP * s->period_s);
            const double rows2[2][UNKNOWNS] = {
                {i[0], slope_alpha, slope_alpha, slope_beta, u[0]},
                {i[1], slope_beta, -slope_beta, slope_alpha, u[1]},
            };
            memcpy(a + m * UNKNOWNS, rows2, sizeof rows2);
            b[m] = v[0];
            b[m + 1] = v[1];
            m += 2;
            slopes += slope_alpha * slope_alpha + slope_beta * slope_beta;
        }
    }
    for (size_t n = 2; a != NULL && b != NULL && n <= 3; n++) { /* unseen saliency is none */
        a[m * UNKNOWNS + n] = SALIENCY_WEIGHT * sqrt(slopes);
        b[m++] = 0.0;
    }
    if (m > UNKNOWNS && cvk_least_squares((int)m, UNKNOWNS, a, b)) {
        memcpy(x, b, UNKNOWNS * sizeof *x);
        result = 0.0; /* dgels leaves the residuals behind the solution */
        for (size_t k = UNKNOWNS; k < m; k++) {
            result += b[k] * b[k];
        }
    }
    free(a);
    free(b);
    return result;
}

/* The best of `count` delays from `first` on, a whole one apart. */
static bool start_values(const cvk_standstill_problem *f, double first, int count, double p[N])
{
    double best = INFINITY, knee_a = exp(f->knee_centre);
    memset(p, 0, N * sizeof *p);
    for (int n = 0; n < count; n++) {
        const double delay = first + n;
        double x[5] = {0};
        double misfit = linear_start(f, delay, knee_a, x);
        if (misfit < best && x[0] > 0.0 && x[1] > 0.0) {
            best = misfit;
            p[CVK_SM_RESISTANCE] = x[0];
            p[CVK_SM_L_MEAN] = x[1];
            p[CVK_SM_L_COS] = x[2];
            p[CVK_SM_L_SIN] = x[3];
            p[CVK_SM_DEAD_TIME] = fmax(x[4], 0.0);
            p[CVK_SM_DELAY] = delay + 0.05;
        }
    }
    double saliency = hypot(p[CVK_SM_L_COS], p[CVK_SM_L_SIN]);
    if (saliency > 0.7 * p[CVK_SM_L_MEAN]) { /* along one direction only, or mostly noise */
        p[CVK_SM_L_COS] *= 0.3 * p[CVK_SM_L_MEAN] / saliency;
        p[CVK_SM_L_SIN] *= 0.3 * p[CVK_SM_L_MEAN] / saliency;
    }
    p[CVK_SM_LOG_KNEE] = f->knee_centre;
    p[CVK_SM_OFFSET_ALPHA] = p[CVK_SM_OFFSET_BETA] = 0.0;
    return isfinite(best);
}

/* Start values and noise, from all rows that are used. */
bool cvk_standstill_start(cvk_standstill_problem *f, const cvk_span *spans, size_t count,
                          cvk_standstill_fit *from)
{
    *from = (cvk_standstill_fit){.curve = CVK_CURVE_ROUND};
    cvk_standstill_all_rows(f, spans, count);
    if (f->residual_rows < 200u) {
        return false;
    }
    f->noise_a = from->noise_a = noise_of(f);
    f->largest_v = cvk_standstill_largest_voltage(f);
    if (swing_of(f) < 10.0 * f->noise_a) {
        return false;
    }
    f->knee_centre = log(fmax(KNEE_SHARE * f->s->peak_current_a, 2.0 * f->noise_a));
    if (!start_values(f, -1.0, 5, from->p)) {
        return false;
    }
    cvk_standstill_scale(f, from->p);
    return true;
}

bool cvk_standstill_start_at(const cvk_standstill_problem *f, double delay,
                             cvk_standstill_fit *from)
{
    return start_values(f, delay, 1, from->p);
}
