/* SPDX-License-Identifier: Apache-2.0
 *
 * The fit by the back-EMF: the delay first, roughly; then all features at once, twice.
 */
#include "angle_equation.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define CLEARLY_LESS 0.9 /* of what is left, for another delay than the usual one */
#define LEAST_COLOUR 1e-5
#define ROUNDS 3
#define FAST_SHARE                                                                                 \
    0.3 /* of the mean speed: a slow rotor moves as it likes between halls' edges                  \
         */

static void accumulate(const cvk_angle_problem *p, const cvk_angle_steps *all, cvk_sums *s)
{
    double complex x[CVK_X_MOST], y;
    memset(s, 0, sizeof *s);
    for (size_t k = 0; k < all->count; k++) {
        cvk_angle_equation(p, &all->list[k], x, &y);
        cvk_add_equation(s, p->count, x, y);
    }
}

static void residual_covariance(const cvk_angle_problem *p, const cvk_angle_steps *all,
                                const double *solution, const double *inverse, double *cov)
{
    const int n = p->count;
    double sum[CVK_AF_BLOCKS][CVK_X_MOST] = {{0}};
    double complex x[CVK_X_MOST], y;
    for (size_t k = 0; k < all->count; k++) {
        cvk_angle_equation(p, &all->list[k], x, &y);
        for (int c = 0; c < n; c++) {
            y -= solution[c] * x[c];
        }
        for (int c = 0; c < n; c++) {
            sum[all->list[k].block][c] += creal(x[c]) * creal(y) + cimag(x[c]) * cimag(y);
        }
    }
    cvk_block_covariance(sum, n, inverse, cov);
}

static bool solve_problem(const cvk_angle_problem *p, const cvk_angle_steps *all, double flux,
                          cvk_angle_solution *out)
{
    static const double none[CVK_X_MOST] = {0.0};
    double precision[CVK_X_MOST], expected[CVK_X_MOST];
    cvk_sums s;
    accumulate(p, all, &s);
    if (s.count < 2u * (size_t)p->count ||
        !cvk_solve_sums(&s, p->count, none, none, out->x, out->inverse)) {
        return false;
    }
    out->variance = p->colour * cvk_squares_left(&s, p->count, out->x) / (double)(2 * s.count);
    cvk_angle_priors(p, out->variance, flux, precision, expected);
    const bool fine = cvk_solve_sums(&s, p->count, precision, expected, out->x, out->inverse);
    out->left = cvk_squares_left(&s, p->count, out->x);
    return fine;
}

/* Where the flux lies, by its parts along and across. Returns what is left. */
static double rough_round(cvk_angle_problem *p, const cvk_angle_steps *all)
{
    cvk_angle_solution s;
    if (!solve_problem(p, all, 0.0, &s)) {
        return INFINITY;
    }
    p->around[CVK_AF_OFFSET] = remainder(
        p->around[CVK_AF_OFFSET] + atan2(s.x[CVK_X_FEATURES], s.x[CVK_X_FLUX]), 2.0 * CVK_PI_WIDE);
    if (p->count > CVK_X_FEATURES + 1 && hypot(s.x[CVK_X_FEATURES], s.x[CVK_X_FLUX]) > 0.0) {
        p->around[CVK_AF_LATENCY] +=
            s.x[CVK_X_FEATURES + 1] / hypot(s.x[CVK_X_FEATURES], s.x[CVK_X_FLUX]);
    }
    return s.left;
}

/* The delay is the usual one, unless another explains clearly more. */
static void rough_fit(cvk_angle_problem *p, const cvk_angle_steps *all)
{
    static const double others[] = {0.0, -1.0, -0.5, 0.5, 1.0};
    const double usual = p->data->delay_rows;
    cvk_angle_problem best = *p;
    double least = INFINITY;
    for (size_t n = 0; n < (p->data->current_flows ? 5u : 1u); n++) {
        cvk_angle_problem now = *p;
        double left = INFINITY;
        now.delay = usual + others[n];
        for (int round = 0; round < ROUNDS; round++) {
            left = rough_round(&now, all);
        }
        if (left < (n > 0 ? CLEARLY_LESS : 1.0) * least) {
            least = left;
            best = now;
        }
    }
    *p = best;
}

/* Noise of the current at the end of a step is that at the beginning of the next with the other
 * sign: over many steps it cancels, and the log tells much more than white noise would let it. */
static double colour_of(const cvk_angle_problem *p, const cvk_angle_solution *s, const double *cov)
{
    const int at = CVK_X_FEATURES * p->count + CVK_X_FEATURES;
    const double white = s->variance * s->inverse[at];
    return white > 0.0 ? fmin(fmax(cov[at] / white, LEAST_COLOUR), 1.0) : 1.0;
}

/* The prior's part of the covariance: what the log leaves open, the prior does not settle. */
static void add_prior_doubt(const cvk_angle_problem *p, const cvk_angle_solution *s, double flux,
                            double *cov)
{
    double precision[CVK_X_MOST], expected[CVK_X_MOST];
    const int n = p->count;
    cvk_angle_priors(p, s->variance, flux, precision, expected);
    for (int k = 0; k < n; k++) {
        if (!(precision[k] > 0.0) || !(s->variance > 0.0)) {
            continue;
        }
        for (int r = 0; r < n; r++) {
            for (int c = 0; c < n; c++) {
                cov[r * n + c] += s->inverse[r * n + k] * s->inverse[c * n + k] * precision[k] *
                                  precision[k] * (s->variance / precision[k]);
            }
        }
    }
}

/* Mean back-EMF against what the current takes across winding and inverter. */
static double emf_share(const cvk_angle_problem *p, const cvk_angle_steps *all,
                        const cvk_angle_solution *s)
{
    const cvk_angle_data *d = p->data;
    double turned = 0.0, drop = 0.0;
    for (size_t k = 0; k < all->count; k++) {
        const cvk_angle_step *e = &all->list[k];
        turned += fabs(cvk_own_to_field(p->model, e->b) - cvk_own_to_field(p->model, e->a));
        /* together: at an even current nobody tells one from the other */
        drop += cabs(s->x[CVK_X_RESISTANCE] * (d->current[e->b] - d->current[e->a]) +
                     s->x[CVK_X_INVERTER_SMALL] * (d->inverter[0][e->b] - d->inverter[0][e->a]) +
                     s->x[CVK_X_INVERTER_LARGE] * (d->inverter[1][e->b] - d->inverter[1][e->a]));
    }
    const double emf = s->x[CVK_X_FLUX] * turned;
    return emf / (emf + drop);
}

static double speed_in(const cvk_angle_model *m, const cvk_angle_step *e)
{
    return fabs(cvk_own_to_field(m, e->b) - cvk_own_to_field(m, e->a)) / (double)(e->b - e->a);
}

/* Leaves the steps in which the rotor is fast, against the mean speed over the way: where nothing
 * is faster than the rest, all of them. */
static void keep_fast_steps(const cvk_angle_model *m, cvk_angle_steps *all)
{
    double way = 0.0, way_by_speed = 0.0;
    for (size_t k = 0; k < all->count; k++) {
        const cvk_angle_step *e = &all->list[k];
        const double turned = speed_in(m, e) * (double)(e->b - e->a);
        way += turned;
        way_by_speed += turned * speed_in(m, e);
    }
    const double least = way > 0.0 ? FAST_SHARE * way_by_speed / way : 0.0;
    size_t kept = 0;
    for (size_t k = 0; k < all->count; k++) {
        if (speed_in(m, &all->list[k]) >= least) {
            all->list[kept++] = all->list[k];
        }
    }
    all->count = kept;
}

cvk_status cvk_angle_by_back_emf(const cvk_angle_data *d, const cvk_angle_model *m,
                                 cvk_angle_fit *fit)
{
    cvk_angle_problem p = {.data = d, .model = m, .colour = 1.0};
    cvk_angle_steps few, all;
    memset(fit, 0, sizeof *fit);
    if (!cvk_make_angle_steps(d, m, CVK_FEW_ANGLE_STEPS, &few)) {
        return CVK_NO_MEMORY;
    }
    if (!cvk_make_angle_steps(d, m, CVK_MOST_ANGLE_STEPS, &all)) {
        free(few.list);
        return CVK_NO_MEMORY;
    }
    if (m->column->kind == CVK_ROTOR_HALLS) {
        keep_fast_steps(m, &few);
        keep_fast_steps(m, &all);
    }
    /* with the latency, which else would pass for a delay of the voltages */
    cvk_want_features(&p, 1u << CVK_AF_OFFSET | 1u << CVK_AF_LATENCY);
    rough_fit(&p, &few);
    cvk_want_features(&p, 1u << CVK_AF_OFFSET);
    p.around[CVK_AF_LATENCY] = 0.0;
    cvk_angle_solution s;
    double cov[CVK_X_MOST * CVK_X_MOST];
    bool fine = solve_problem(&p, &all, 0.0, &s) && s.x[CVK_X_FLUX] > 0.0;
    if (fine) {
        residual_covariance(&p, &all, s.x, s.inverse, cov);
        p.colour = colour_of(&p, &s, cov);
    }
    cvk_want_features(&p, m->wanted);
    for (int round = 0; fine && round < ROUNDS - 1; round++) {
        const double flux = s.x[CVK_X_FLUX];
        fine = solve_problem(&p, &all, flux, &s) && s.x[CVK_X_FLUX] > 0.0;
        if (fine && round + 1 < ROUNDS - 1) {
            for (int n = CVK_X_FEATURES; n < p.count; n++) {
                p.around[p.feature[n - CVK_X_FEATURES]] += s.x[n] / s.x[CVK_X_FLUX];
            }
        }
    }
    if (fine) {
        residual_covariance(&p, &all, s.x, s.inverse, cov);
        add_prior_doubt(&p, &s, s.x[CVK_X_FLUX], cov);
        cvk_take_angle_fit(&p, &s, cov, fit);
        fit->emf_share = emf_share(&p, &all, &s);
    }
    free(few.list);
    free(all.list);
    return CVK_OK;
}
