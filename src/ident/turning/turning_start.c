/* SPDX-License-Identifier: Apache-2.0
 *
 * The voltage equation integrated over a step of a few rows: the integral of the voltage is that of
 * R i + dead u(i), plus the change of L i and of the magnet's flux. Linear in all of them once the
 * rotor's angle is known, and the angle follows from them: so in turns.
 */
#include "turning_start.h"

#include "corvak/core/units.h"

#include "model/inverter_curve.h"
#include "math/numeric.h"

#include <complex.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

#define STEP_RAD 0.6 /* of a turn, and its limits in rows */
#define SHORTEST_STEP 2.0
#define LONGEST_STEP 24.0
#define MOST_RAD 1.5          /* in a row: a faster harmonic is not looked for */
#define HARMONIC_WEIGHT 0.003 /* of none, beside what each equation says */
#define SPAN_TURNS 2.0
#define ROUNDS 3

typedef struct stepping {
    const cvk_start_rows *rows;
    const double *phase;
    long delay;
    double knee_a;
} stepping;

static double complex current_at(const cvk_waveforms *s, size_t k)
{
    return s->i_alpha[k] + I * s->i_beta[k];
}

static double complex power(double complex x, int exponent)
{
    double complex result = 1.0;
    for (int n = 0; n < exponent; n++) {
        result *= x;
    }
    return result;
}

/* `angle` of the magnet at row k and at row k + step. */
static void step_equation(const stepping *g, size_t k, size_t step, const double angle[2],
                          double a[2 * CVK_START_COUNT], double b[2])
{
    const cvk_waveforms *s = g->rows->waveforms;
    const double complex from = cexp(I * angle[0]), to = cexp(I * angle[1]);
    const double complex i_from = current_at(s, k) * conj(from);
    const double complex i_to = current_at(s, k + step) * conj(to);
    double complex v = 0.0, x[CVK_START_COUNT] = {0};
    for (size_t j = k; j < k + step; j++) {
        const size_t source = (size_t)((long)j - g->delay);
        const double complex i = 0.5 * (current_at(s, j) + current_at(s, j + 1));
        double u[2];
        cvk_curve_vector(creal(i), cimag(i), 1.0 / g->knee_a, g->rows->curve, u);
        v += s->v_alpha[source] + I * s->v_beta[source];
        x[CVK_B_RESISTANCE] += s->period_s * i;
        x[CVK_B_DEAD_TIME] += s->period_s * s->bus_share[j] * (u[0] + I * u[1]);
    }
    x[CVK_B_L_D] = creal(i_to) * to - creal(i_from) * from;
    x[CVK_B_L_Q] = I * (cimag(i_to) * to - cimag(i_from) * from);
    x[CVK_B_FLUX] = to - from;
    x[CVK_START_ACROSS] = I * x[CVK_B_FLUX];
    x[CVK_START_STEADY_ALPHA] = s->period_s * (double)step;
    x[CVK_START_STEADY_BETA] = I * x[CVK_START_STEADY_ALPHA];
    if (7.0 * fabs(angle[1] - angle[0]) < MOST_RAD * (double)step) {
        x[CVK_START_FIFTH] = conj(power(to, 5) - power(from, 5));
        x[CVK_START_SEVENTH] = power(to, 7) - power(from, 7);
    }
    const double weight = 1.0 / sqrt((double)step);
    for (int n = 0; n < CVK_START_COUNT; n++) {
        a[n] = weight * creal(x[n]);
        a[CVK_START_COUNT + n] = weight * cimag(x[n]);
    }
    b[0] = weight * s->period_s * creal(v);
    b[1] = weight * s->period_s * cimag(v);
}

/* Equations of a few turns, each over STEP_RAD. Returns how many rows of `a` it filled. */
static size_t span_equations(const stepping *g, cvk_span rows, double *a, double *b)
{
    const double half = 0.5 * ((double)(rows.end - rows.begin) - 1.0);
    double c[3];
    cvk_fit_phase(g->phase, rows.begin, rows.end, c);
    const double wanted = round(STEP_RAD / fabs(c[1]));
    const size_t step = (size_t)fmin(fmax(wanted, SHORTEST_STEP), LONGEST_STEP);
    const double lead = cvk_phase_lead(c[1] / g->rows->waveforms->period_s);
    size_t m = 0;
    for (size_t k = rows.begin + 4; k + step + 2 < rows.end; k += (step + 1) / 2) {
        double angle[2];
        for (size_t e = 0; e < 2; e++) {
            double x = (double)(k + e * step - rows.begin) - half;
            angle[e] = c[0] + x * (c[1] + x * c[2]) - lead;
        }
        step_equation(g, k, step, angle, a + m * CVK_START_COUNT, b + m);
        m += 2;
    }
    return m;
}

/* A block in spans of about SPAN_TURNS, over which a parabola is a fair phase. */
static size_t block_equations(const stepping *g, cvk_span rows, double *a, double *b)
{
    const double turns = fabs(g->phase[rows.end - 1] - g->phase[rows.begin]) / (2.0 * CVK_PI_WIDE);
    const size_t spans = (size_t)(turns / SPAN_TURNS) + 1u, length = rows.end - rows.begin;
    size_t m = 0;
    for (size_t n = 0; n < spans; n++) {
        const cvk_span span = {rows.begin + length * n / spans,
                               rows.begin + length * (n + 1) / spans};
        m += span_equations(g, span, a + m * CVK_START_COUNT, b + m);
    }
    return m;
}

static bool linear_start(const stepping *g, double x[CVK_START_COUNT])
{
    const cvk_start_rows *r = g->rows;
    size_t most = 4, m = 0;
    for (size_t n = 0; n < r->block_count; n++) {
        most += 2u * (r->block[n].rows.end - r->block[n].rows.begin);
    }
    double *a = calloc(most * CVK_START_COUNT, sizeof *a), *b = calloc(most, sizeof *b);
    for (size_t n = 0; a != NULL && b != NULL && n < r->block_count; n++) {
        m += block_equations(g, r->block[n].rows, a + m * CVK_START_COUNT, b + m);
    }
    for (int n = CVK_START_FIFTH; a != NULL && b != NULL && n <= CVK_START_SEVENTH; n++, m++) {
        a[m * CVK_START_COUNT + (size_t)n] = HARMONIC_WEIGHT * sqrt((double)m);
        b[m] = 0.0;
    }
    const bool fine = m > CVK_START_COUNT && cvk_least_squares((int)m, CVK_START_COUNT, a, b);
    if (fine) {
        memcpy(x, b, CVK_START_COUNT * sizeof *x);
    }
    free(a);
    free(b);
    return fine;
}

bool cvk_turning_start(const cvk_start_rows *rows, const cvk_turns *turns, long delay,
                       double knee_a, double x[CVK_START_COUNT])
{
    const cvk_waveforms *s = rows->waveforms;
    cvk_belief found = {.knee_a = knee_a, .curve = rows->curve};
    double *phase = malloc(s->rows * sizeof *phase);
    if (phase == NULL) {
        return false;
    }
    memcpy(phase, turns->phase, s->rows * sizeof *phase);
    const stepping g = {rows, phase, delay, knee_a};
    bool fine = linear_start(&g, x);
    for (int round = 1; fine && round < ROUNDS; round++) {
        found.mean[CVK_B_RESISTANCE] = fmax(x[CVK_B_RESISTANCE], 0.0);
        found.mean[CVK_B_L_Q] = fmax(x[CVK_B_L_Q], 0.0);
        found.mean[CVK_B_DEAD_TIME] = fmax(x[CVK_B_DEAD_TIME], 0.0);
        found.mean[CVK_B_DELAY] = (double)delay;
        for (size_t n = 0; n < rows->block_count; n++) {
            cvk_refine_phase_of(rows->block[n].rows, s, &found, phase);
        }
        fine = linear_start(&g, x);
    }
    free(phase);
    return fine;
}
