/* SPDX-License-Identifier: Apache-2.0
 *
 * Levenberg-Marquardt (MINPACK's lmder) over lanes.
 */
#include "lane_fit.h"

#include "numeric.h"

#include <cminpack.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

#define MOST CVK_LANE_MOST
#define FIRST_STEP 0.3 /* largest, relative to the parameters' size */

/* A single lane costs nearly as much as several, and most steps are taken: so the derivatives are
 * found along with the residuals, and kept until they are asked for. */
typedef struct fit {
    const cvk_lane_problem *problem;
    double *middle;    /* residuals of the set itself, */
    double *jacobian;  /* and the derivatives there, */
    double at[MOST];   /* of this set */
    bool fine, filled; /* it could be simulated; it was tried */
} fit;

static void unscale(const cvk_lane_problem *f, const double *x, double p[MOST])
{
    for (int n = 0; n < f->count; n++) {
        p[n] = x[n] * f->scale[n];
    }
}

static bool derivatives(const fit *f, const double *x, size_t m)
{
    const cvk_lane_problem *problem = f->problem;
    double *jacobian = f->jacobian;
    double p[MOST + 1][MOST], step[MOST], *out[MOST + 1];
    const double *lane[MOST + 1];
    unscale(problem, x, p[0]);
    out[0] = f->middle;
    lane[0] = p[0];
    for (int n = 0; n < problem->count; n++) {
        step[n] = 1e-5;
        if (n == problem->delay) {
            double fraction = p[0][n] - floor(p[0][n]);
            step[n] = (fraction < 0.5 ? 1e-3 : -1e-3) / problem->scale[n];
        }
        memcpy(p[n + 1], p[0], sizeof p[0]);
        p[n + 1][n] += step[n] * problem->scale[n];
        out[n + 1] = jacobian + (size_t)n * m;
        lane[n + 1] = p[n + 1];
    }
    if (!problem->simulate(problem->context, problem->count + 1, lane, out)) {
        return false;
    }
    for (int n = 0; n < problem->count; n++) {
        for (size_t k = 0; k < m; k++) {
            jacobian[(size_t)n * m + k] = (jacobian[(size_t)n * m + k] - out[0][k]) / step[n];
        }
    }
    return true;
}

static bool simulate_at(fit *f, const double *x, size_t m)
{
    const size_t bytes = (size_t)f->problem->count * sizeof *x;
    if (!f->filled || memcmp(f->at, x, bytes) != 0) {
        memcpy(f->at, x, bytes);
        f->filled = true;
        f->fine = derivatives(f, x, m);
    }
    return f->fine;
}

static int residuals(void *context, int m, int n, const double *x, double *fvec, double *fjac,
                     int ldfjac, int iflag)
{
    fit *f = context;
    (void)ldfjac;
    const bool fine = simulate_at(f, x, (size_t)m);
    if (iflag == 2) {
        if (fine) {
            memcpy(fjac, f->jacobian, (size_t)m * (size_t)n * sizeof *fjac);
        }
        return fine ? 0 : -1;
    }
    for (int k = 0; k < m; k++) {
        fvec[k] = fine ? f->middle[k] : f->problem->hopeless;
    }
    return 0;
}

/* h += J'J over residuals begin .. end-1, n parameters. */
static void add_information(const double *jacobian, size_t m, int n, size_t begin, size_t end,
                            double *h)
{
    for (int r = 0; r < n; r++) {
        const double *jr = jacobian + (size_t)r * m;
        for (int c = 0; c <= r; c++) {
            const double *jc = jacobian + (size_t)c * m;
            double dot = 0.0;
            for (size_t k = begin; k < end; k++) {
                dot += jr[k] * jc[k];
            }
            h[r * n + c] += dot;
            if (c < r) {
                h[c * n + r] += dot;
            }
        }
    }
}

/* S = sum over blocks of (J'e)(J'e)'. */
static void block_scores(const double *jacobian, const double *e, size_t m, size_t data, int n,
                         double *score)
{
    for (int b = 0; b < CVK_LANE_BLOCKS; b++) {
        size_t begin = data * (size_t)b / CVK_LANE_BLOCKS;
        size_t end = data * (size_t)(b + 1) / CVK_LANE_BLOCKS;
        double sum[MOST] = {0};
        for (int r = 0; r < n; r++) {
            const double *jr = jacobian + (size_t)r * m;
            for (size_t k = begin; k < end; k++) {
                sum[r] += jr[k] * e[k];
            }
        }
        for (int k = 0; k < n * n; k++) {
            score[k] += sum[k / n] * sum[k % n];
        }
    }
}

static bool covariance(const cvk_lane_problem *f, size_t m, const double *jacobian, const double *e,
                       cvk_lane_result *result)
{
    const int n = f->count;
    const double correction = CVK_LANE_BLOCKS / (CVK_LANE_BLOCKS - 1.0);
    double h[MOST * MOST] = {0}, middle[MOST * MOST] = {0}, prior[MOST * MOST] = {0};
    double square_sum = 0.0;
    for (size_t k = 0; k < f->data; k++) {
        square_sum += e[k] * e[k];
    }
    result->residual = sqrt(square_sum / (double)f->data);
    add_information(jacobian, m, n, 0, f->data, h);
    add_information(jacobian, m, n, f->data, m, prior);
    block_scores(jacobian, e, m, f->data, n, middle);
    double white[MOST * MOST];
    for (int k = 0; k < n * n; k++) {
        double held = f->prior_sd * f->prior_sd * prior[k];
        white[k] = result->residual * result->residual * h[k] + held;
        middle[k] = correction * middle[k] + held;
        h[k] += prior[k];
    }
    /* a parameter that the log does not show at all still needs an invertible matrix */
    for (int k = 0; k < n; k++) {
        h[k * n + k] += 1e-12 * (double)m * result->residual * result->residual + 1e-30;
    }
    if (!cvk_invert_spd(n, h)) {
        return false;
    }
    double plain[MOST * MOST];
    cvk_sandwich(n, h, middle, result->cov);
    cvk_sandwich(n, h, white, plain);
    result->colour = 0.0;
    for (int k = 0; k < n; k++) {
        double ratio = plain[k * n + k] / result->cov[k * n + k];
        double grow = ratio > 1.0 ? sqrt(ratio) : 1.0;
        result->colour += 1.0 / (ratio * n);
        result->widened[k] = fmax(1.0, 1.0 / ratio);
        for (int c = 0; c < n; c++) {
            result->cov[k * n + c] *= grow;
            result->cov[c * n + k] *= grow;
        }
    }
    for (int k = 0; k < n * n && f->model_doubt > 0.0; k++) {
        result->cov[k] += plain[k] * (double)f->data / f->model_doubt;
    }
    for (int k = 0; k < n * n; k++) {
        result->cov[k] *= f->scale[k / n] * f->scale[k % n];
    }
    return true;
}

bool cvk_lane_fit(const cvk_lane_problem *problem, double *p, cvk_lane_result *result)
{
    const int n = problem->count;
    const size_t m = problem->data + (size_t)problem->priors;
    double *work = malloc((3u + 2u * (size_t)n) * m * sizeof *work);
    if (work == NULL) {
        return false;
    }
    fit f = {.problem = problem, .middle = work + 2u * m, .jacobian = work + (3u + (size_t)n) * m};
    double *fvec = work, *wa4 = work + m, *fjac = work + 3u * m, x[MOST], diag[MOST], qtf[MOST];
    double wa1[MOST], wa2[MOST], wa3[MOST];
    int ipvt[MOST], info = 0, nfev = 0, njev = 0;
    for (int k = 0; k < n; k++) {
        x[k] = p[k] / problem->scale[k];
    }
    info = lmder(residuals, &f, (int)m, n, x, fvec, fjac, (int)m, 1e-5, 1e-5, 0.0,
                 problem->most_evaluations, diag, 1, FIRST_STEP, 0, &nfev, &njev, ipvt, qtf, wa1,
                 wa2, wa3, wa4);
    bool fine =
        info >= 1 && simulate_at(&f, x, m) && covariance(problem, m, f.jacobian, fvec, result);
    result->converged = info <= 4; /* MINPACK's codes of success; 5: evaluations are used up */
    unscale(problem, x, p);
    free(work);
    return fine;
}
