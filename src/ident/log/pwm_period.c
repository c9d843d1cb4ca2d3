/* SPDX-License-Identifier: Apache-2.0
 *
 * The voltages' autocorrelation (by FFT, Wiener-Khinchin) has its first high peak at the PWM
 * period; peaks many periods on sharpen it. The edges, folded into one period, leave two gaps
 * around the zero vectors: the wider one's middle is where currents cross their mean.
 */
#include "pwm_period.h"

#include "corvak/core/units.h"

#include <complex.h>
#include <kissfft/kiss_fftr.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

#define MOST_ROWS 65536u  /* looked at */
#define LOWEST_PWM_HZ 3e3 /* what switches more slowly is an injected voltage */
#define FEWEST_ROWS 3.9   /* in a period */
#define PLACED_SHARE 0.5  /* of the edges, that have a sample on the way */
#define GAP_PERIODS 500   /* looked at for where samples fall */
#define SAME_SENSE 0.75   /* of the edges: all terminals jump together only in a PWM */
#define FEWEST_PERIODS 6
#define LEVEL_SHARE 0.2    /* of the range: that near its ends or middle is on a level */
#define ON_LEVEL 0.85      /* of all rows, when the switching is visible */
#define PEAK_SHARE 0.8     /* of the correlation at no lag: the first that high is the period */
#define PART_SHARE 0.4     /* the same beside a peak that lies between rows */
#define ALIKE_EDGES 0.75   /* edges of all phases at once are an injected voltage, not a PWM */
#define CHUNK_PERIODS 32.0 /* over which the carrier's phase is taken */
#define FOLD 400           /* bins of a period */

static size_t voltage_columns(const cvk_log *log, const double *column[3])
{
    size_t count = 0;
    for (int c = CVK_COLUMN_VA; c <= CVK_COLUMN_VCA && count < 3; c++) {
        if (cvk_log_has(log, (cvk_column)c)) {
            column[count++] = log->column[c];
        }
    }
    return count;
}

static void range_of(const double *x, size_t rows, double *low, double *high)
{
    *low = INFINITY;
    *high = -INFINITY;
    for (size_t k = 0; k < rows; k++) {
        *low = x[k] < *low ? x[k] : *low;
        *high = x[k] > *high ? x[k] : *high;
    }
}

/* 0, 1 or 2: at the low end, in the middle, at the high end; -1 between them. */
static int level_of(double x, double low, double high)
{
    double share = (x - low) / (high - low);
    for (int n = 0; n < 3; n++) {
        if (fabs(share - 0.5 * n) < 0.5 * LEVEL_SHARE) {
            return n;
        }
    }
    return -1;
}

static bool jumps_between_levels(const double *x, size_t rows)
{
    double low, high;
    size_t on = 0, at[3] = {0};
    range_of(x, rows, &low, &high);
    for (size_t k = 0; k < rows && high - low > 1.0; k++) {
        int level = level_of(x[k], low, high);
        if (level >= 0) {
            at[level]++;
            on++;
        }
    }
    /* at least two levels are used, each more than now and then */
    size_t few = rows / 100;
    return (double)on > ON_LEVEL * (double)rows &&
           (at[0] > few) + (at[1] > few) + (at[2] > few) >= 2;
}

/* edge[k] of `x`: it crosses a quarter of its range between rows k - 1 and k. */
static void mark_edges(const double *x, size_t rows, unsigned char *edge, unsigned char bit)
{
    double low, high;
    range_of(x, rows, &low, &high);
    for (size_t k = 1; k < rows; k++) {
        edge[k] =
            (unsigned char)(edge[k] | (fabs(x[k] - x[k - 1]) > 0.25 * (high - low) ? bit : 0));
    }
}

/* Edges of a PWM: not always of all phases at once, or, when they are, all in the same sense, which
 * an injected voltage never is. */
static bool edges_of_a_bridge(const double *const column[3], const unsigned char *edge, size_t rows,
                              size_t columns)
{
    size_t all = 0, any = 0, same = 0;
    for (size_t k = 1; k + 1 < rows; k++) {
        int here = edge[k] | edge[k + 1], up = 0;
        any += edge[k] != 0;
        if (edge[k] == 0 || here != (1 << columns) - 1) {
            continue;
        }
        all++;
        for (size_t c = 0; c < columns; c++) {
            up += column[c][k + 1] > column[c][k - 1];
        }
        same += up == 0 || up == (int)columns;
    }
    return columns == 1 || (any > 0 && (double)all < ALIKE_EDGES * (double)any) ||
           (all > 0 && (double)same > SAME_SENSE * (double)all);
}

/* Autocorrelation of the sum of the columns' squares of deviations: r[0 .. size/2]. */
static bool correlate(const double *const column[3], size_t columns, size_t rows, float *r)
{
    size_t size = 1;
    while (size < 2 * rows) {
        size *= 2;
    }
    kiss_fftr_cfg forward = kiss_fftr_alloc((int)size, 0, NULL, NULL);
    kiss_fftr_cfg back = kiss_fftr_alloc((int)size, 1, NULL, NULL);
    float *x = calloc(size, sizeof *x);
    kiss_fft_cpx *spectrum = calloc(size / 2 + 1, sizeof *spectrum);
    float *power = calloc(size / 2 + 1, sizeof *power);
    bool fine = forward != NULL && back != NULL && x != NULL && spectrum != NULL && power != NULL;
    for (size_t c = 0; fine && c < columns; c++) {
        double mean = 0.0;
        for (size_t k = 0; k < rows; k++) {
            mean += column[c][k] / (double)rows;
        }
        memset(x, 0, size * sizeof *x);
        for (size_t k = 0; k < rows; k++) {
            x[k] = (float)(column[c][k] - mean);
        }
        kiss_fftr(forward, x, spectrum);
        for (size_t k = 0; k <= size / 2; k++) {
            power[k] += spectrum[k].r * spectrum[k].r + spectrum[k].i * spectrum[k].i;
        }
    }
    for (size_t k = 0; fine && k <= size / 2; k++) {
        spectrum[k].r = power[k];
        spectrum[k].i = 0.0f;
    }
    if (fine) {
        kiss_fftri(back, spectrum, x);
        for (size_t k = 0; k < rows; k++) { /* unbiased: fewer products at larger lags */
            r[k] = x[k] / (x[0] + 1e-30f) * (float)rows / (float)(rows - k);
        }
    }
    kiss_fftr_free(forward);
    kiss_fftr_free(back);
    free(x);
    free(spectrum);
    free(power);
    return fine;
}

/* Top of the peak around lag `k`, by a parabola. */
static double peak_at(const float *r, size_t k)
{
    double left = r[k - 1], right = r[k + 1], bend = left - 2.0 * r[k] + right;
    return (double)k + (bend < 0.0 ? 0.5 * (left - right) / bend : 0.0);
}

static size_t highest(const float *r, size_t from, size_t to)
{
    size_t best = from;
    for (size_t k = from; k <= to; k++) {
        best = r[k] > r[best] ? k : best;
    }
    return best;
}

/* A period that lies between rows has its first high peak at a multiple of itself: the half, third
 * or quarter of `period` when the correlation is high to both sides of it. */
static double part_of(const float *r, double period)
{
    for (int parts = 5; parts > 1; parts--) {
        const double part = period / parts;
        const size_t k = (size_t)part;
        if (part >= FEWEST_ROWS && r[k] > (float)PART_SHARE && r[k + 1] > (float)PART_SHARE) {
            return part;
        }
    }
    return period;
}

/* Lag of the first high peak, in rows; 0 for none. */
static double first_peak(const float *r, size_t rows)
{
    size_t k = 1;
    while (k < rows / 2 && r[k] > 0.5f) { /* off the peak at no lag */
        k++;
    }
    for (; k < rows / FEWEST_PERIODS; k++) {
        if (r[k] > (float)PEAK_SHARE && r[k] >= r[k - 1] && r[k] >= r[k + 1]) {
            return part_of(r, peak_at(r, k));
        }
    }
    return 0.0;
}

/* Follows the peaks to many periods, which divides the error of the period by as much. */
static double sharpened(const float *r, size_t rows, double period)
{
    for (double times = 2.0; times * period < 0.4 * (double)rows; times *= 2.0) {
        size_t guess = (size_t)(times * period + 0.5), reach = (size_t)(0.2 * period) + 1;
        if (guess + reach + 1 >= rows) {
            break;
        }
        size_t top = highest(r, guess - reach, guess + reach);
        if (r[top] < 0.5f) {
            break; /* the duties have changed too much by then */
        }
        period = peak_at(r, top) / times;
    }
    return period;
}

/* The carrier's phase (its first or second harmonic, whichever is stronger) in short chunks over
 * the whole stretch: how it walks is the error of the period, which matters where the sample rate
 * is nearly a multiple of the PWM's. */
static double followed(const double *const column[3], size_t columns, size_t rows, double period)
{
    const size_t chunk = (size_t)(CHUNK_PERIODS * period), chunks = rows / chunk;
    double low, high, x_sum = 0.0, y_sum = 0.0, xx = 0.0, xy = 0.0, last = 0.0, walked = 0.0;
    double complex first[2] = {0.0, 0.0};
    int harmonic = 1;
    range_of(column[0], rows, &low, &high);
    for (size_t m = 0; m < chunks; m++) {
        double complex z[2] = {0.0, 0.0};
        for (size_t k = m * chunk; k < (m + 1) * chunk; k++) {
            const double angle = 2.0 * CVK_PI_WIDE * fmod((double)k, period) / period;
            double sum = 0.0;
            for (size_t c = 0; c < columns; c++) {
                sum += fabs(column[c][k] - low);
            }
            z[0] += sum * cexp(-I * angle);
            z[1] += sum * cexp(-I * 2.0 * angle);
        }
        if (m == 0) {
            memcpy(first, z, sizeof first);
            harmonic = cabs(z[0]) > 0.5 * cabs(z[1]) ? 1 : 2;
        }
        const double now = carg(z[harmonic - 1] / first[harmonic - 1]);
        walked += m > 0 ? remainder(now - last, 2.0 * CVK_PI_WIDE) : 0.0;
        last = now;
        x_sum += (double)m;
        y_sum += walked;
        xx += (double)m * (double)m;
        xy += (double)m * walked;
    }
    const double n = (double)chunks, spread = n * xx - x_sum * x_sum;
    const double slope = chunks > 2 && spread > 0.0 ? (n * xy - x_sum * y_sum) / spread : 0.0;
    /* radians in a chunk, of that harmonic, are turns of the carrier; a lagging phase is a longer
     * period */
    return period / (1.0 + slope / (2.0 * CVK_PI_WIDE * harmonic * CHUNK_PERIODS));
}

/* The widest stretch of a period without edges. */
static void fold_edges(const unsigned char *edge, size_t rows, cvk_pwm *pwm)
{
    size_t in_bin[FOLD] = {0}, total = 0;
    for (size_t k = 1; k < rows; k++) {
        if (edge[k] != 0) {
            double phase = fmod((double)k - 0.5, pwm->period_rows) / pwm->period_rows;
            in_bin[(size_t)(phase * FOLD) % FOLD]++;
            total++;
        }
    }
    const size_t few = total / 2000; /* a stray edge or two do not close a gap */
    size_t best = 0, best_end = 0, run = 0;
    for (size_t k = 0; k < 2 * FOLD; k++) {
        run = in_bin[k % FOLD] <= few ? run + 1 : 0;
        if (run > best && run <= FOLD) {
            best = run;
            best_end = k;
        }
    }
    double middle = ((double)best_end + 1.0 - 0.5 * (double)best) / FOLD;
    pwm->centre_row = fmod(middle, 1.0) * pwm->period_rows;
    pwm->quiet_rows = 0.5 * (double)best / FOLD * pwm->period_rows;
}

static int ascending(const void *a, const void *b)
{
    double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

static double largest_gap(double period_rows)
{
    double place[GAP_PERIODS], gap = 0.0;
    for (int n = 0; n < GAP_PERIODS; n++) {
        double at = n * period_rows;
        place[n] = at - floor(at);
    }
    qsort(place, GAP_PERIODS, sizeof place[0], ascending);
    for (int n = 1; n < GAP_PERIODS; n++) {
        gap = fmax(gap, place[n] - place[n - 1]);
    }
    return fmax(gap, place[0] + 1.0 - place[GAP_PERIODS - 1]);
}

/* Rows before the first gap in time. */
static size_t even_rows(const cvk_log *log, double period_s)
{
    const double *t = log->column[CVK_COLUMN_T];
    size_t rows = 1;
    while (rows < log->rows && t[rows] - t[rows - 1] < 1.5 * period_s) {
        rows++;
    }
    return rows;
}

/* The columns to look at; 0 when one of them does not jump between levels. */
static size_t jumping_columns(const cvk_log *log, size_t rows, const double *column[3])
{
    const size_t columns = voltage_columns(log, column);
    for (size_t c = 0; c < columns; c++) {
        for (size_t k = 0; k < rows; k++) {
            if (!isfinite(column[c][k])) {
                return 0;
            }
        }
        if (!jumps_between_levels(column[c], rows)) {
            return 0;
        }
    }
    return columns;
}

/* Samples between the levels, for each change of level: a scope that takes means over its sample
 * interval, or edges slower than that, place every edge. */
static bool edges_are_placed(const double *x, size_t rows)
{
    double low, high;
    size_t between = 0, changes = 0, middle = 0;
    int last = -1;
    range_of(x, rows, &low, &high);
    for (size_t k = 0; k < rows; k++) {
        middle += level_of(x[k], low, high) == 1;
    }
    const bool three = middle > rows / 10u; /* a line's voltage rests in the middle as well */
    for (size_t k = 0; k < rows; k++) {
        const int any = level_of(x[k], low, high), level = any == 1 && !three ? -1 : any;
        between += level < 0;
        changes += level >= 0 && last >= 0 && level != last;
        last = level >= 0 ? level : last;
    }
    return (double)between > PLACED_SHARE * (double)changes;
}

static void fill_pwm(cvk_pwm *pwm, const float *r, const unsigned char *edge,
                     const double *const column[3], size_t columns, size_t rows, size_t all_rows,
                     double period)
{
    double low, high;
    pwm->found = true;
    pwm->period_rows = followed(column, columns, all_rows, sharpened(r, rows, period));
    pwm->gap_rows = largest_gap(pwm->period_rows);
    fold_edges(edge, rows, pwm);
    range_of(column[0], rows, &low, &high);
    pwm->step_v = high - low;
    pwm->placed = edges_are_placed(column[0], rows);
}

cvk_pwm cvk_find_pwm(const cvk_log *log, double period_s)
{
    cvk_pwm pwm = {.switching = false};
    const double *column[3];
    const size_t rows = log->rows < MOST_ROWS ? log->rows : MOST_ROWS;
    const size_t columns = rows < 64 ? 0 : jumping_columns(log, rows, column);
    if (columns == 0) {
        return pwm;
    }
    unsigned char *edge = calloc(rows, 1);
    float *r = calloc(rows, sizeof *r);
    if (edge != NULL && r != NULL) {
        for (size_t c = 0; c < columns; c++) {
            mark_edges(column[c], rows, edge, (unsigned char)(1u << c));
        }
        pwm.switching = edges_of_a_bridge(column, edge, rows, columns);
        if (pwm.switching && correlate(column, columns, rows, r)) {
            double period = first_peak(r, rows);
            if (period >= FEWEST_ROWS && 1.0 / (period * period_s) >= LOWEST_PWM_HZ) {
                fill_pwm(&pwm, r, edge, column, columns, rows, even_rows(log, period_s), period);
            }
        }
    }
    free(edge);
    free(r);
    return pwm;
}

bool cvk_place_pwm(const cvk_log *log, size_t begin, size_t end, cvk_pwm *pwm)
{
    const double *column[3];
    const size_t columns = voltage_columns(log, column);
    const size_t rows = end - begin < MOST_ROWS ? end - begin : MOST_ROWS;
    unsigned char *edge = calloc(rows, 1);
    for (size_t c = 0; edge != NULL && c < columns; c++) {
        mark_edges(column[c] + begin, rows, edge, (unsigned char)(1u << c));
    }
    if (edge != NULL) {
        fold_edges(edge, rows, pwm);
    }
    free(edge);
    return edge != NULL;
}
