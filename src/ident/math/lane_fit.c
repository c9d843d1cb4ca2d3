/* SPDX-License-Identifier: Apache-2.0
 *
 * Levenberg-Marquardt (MINPACK's lmder) over lanes.
 */
#include "lane_fit.h"

#include "numeric.h"
#include "parallel.h"
#include "wide.h"

#include <cminpack.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

_Static_assert(CVK_LANE_MOST <= CVK_NUMERIC_MOST, "numeric.h has no room for as many parameters");
#define MOST CVK_LANE_MOST
#define ROUNDING 1e-14 /* of a squared column: nothing is left of it */
#define FIRST_STEP 0.3 /* largest, relative to the parameters' size */

/* Columns of the derivatives and of the residuals themselves, and their number at most. */
#define WIDTH (MOST + 1)
#define CHUNK 256u /* rows whose columns stay in the first cache together */
#define SUMS 32
#define SHARES 16 /* of the data's rows, whose products are summed one by one */

/* A single lane costs nearly as much as several, and most steps are taken: so the derivatives are
 * found along with the residuals, and kept until they are asked for. The minimizer sees both
 * through the triangle R of [J e] = Q R: it asks for nothing but lengths and products of their
 * columns. */
typedef struct fit {
    const cvk_lane_problem *problem;
    size_t m;                       /* residuals of the data and of the priors */
    double *column[WIDTH];          /* derivatives, then the residuals of the set itself, */
    const double *start;            /* where the fit began */
    double at[MOST];                /* of this set, */
    double data[WIDTH * WIDTH];     /* products of those columns over the data's rows, */
    double prior[WIDTH * WIDTH];    /* over the priors' */
    double triangle[WIDTH * WIDTH]; /* R'R is their sum */
    bool fine, filled;              /* it could be simulated; it was tried */
} fit;

static void unscale(const cvk_lane_problem *f, const double *x, double p[MOST])
{
    for (int n = 0; n < f->count; n++) {
        p[n] = x[n] * f->scale[n];
    }
}

/* Products of all pairs of columns over rows begin .. end-1 are added to `out`. */
INLINED void add_products(int count, double *const column[], size_t begin, size_t end, double *out)
{
    for (int r = 0; r < count; r++) {
        for (int c = 0; c <= r; c++) {
            const double *a = column[r], *b = column[c];
            double sum[SUMS] = {0};
            size_t k = begin;
            for (; k + SUMS <= end; k += SUMS) {
                for (size_t n = 0; n < SUMS; n++) {
                    sum[n] += a[k + n] * b[k + n];
                }
            }
            for (; k < end; k++) {
                sum[0] += a[k] * b[k];
            }
            for (int n = 0; n < SUMS; n++) {
                out[r * WIDTH + c] += sum[n];
            }
        }
    }
}

/* Columns of neighbouring sets become derivatives, and products of all columns are summed. */
WIDE static void products(int count, double *const column[], const double per_step[], size_t begin,
                          size_t end, double *out)
{
    memset(out, 0, WIDTH * WIDTH * sizeof *out);
    for (size_t from = begin; from < end; from += CHUNK) {
        const size_t to = from + CHUNK < end ? from + CHUNK : end;
        const double *own = column[count - 1];
        for (int n = 0; n + 1 < count; n++) {
            double *there = column[n];
            for (size_t k = from; k < to; k++) {
                there[k] = (there[k] - own[k]) * per_step[n];
            }
        }
        add_products(count, column, from, to, out);
    }
}

/* The data's rows, share by share. */
typedef struct shares {
    const fit *f;
    const double *per_step;
    double product[SHARES][WIDTH * WIDTH];
} shares;

static bool products_of_share(void *context, size_t n)
{
    shares *all = context;
    const cvk_lane_problem *f = all->f->problem;
    products(f->count + 1, all->f->column, all->per_step, f->data * n / SHARES,
             f->data * (n + 1) / SHARES, all->product[n]);
    return true;
}

static void fill_upper(int count, double *out)
{
    for (int r = 0; r < count; r++) {
        for (int c = 0; c < r; c++) {
            out[c * WIDTH + r] = out[r * WIDTH + c];
        }
    }
}

static void all_products(fit *f, const double per_step[])
{
    const int count = f->problem->count + 1;
    shares all = {.f = f, .per_step = per_step};
    (void)cvk_for_each(SHARES, f->problem->threads, products_of_share, &all);
    memset(f->data, 0, sizeof f->data);
    for (int n = 0; n < SHARES; n++) {
        for (int k = 0; k < count * WIDTH; k++) {
            f->data[k] += all.product[n][k];
        }
    }
    products(count, f->column, per_step, f->problem->data, f->m, f->prior);
    fill_upper(count, f->data);
    fill_upper(count, f->prior);
}

/* No current has run away. */
static bool all_finite(int count, const double *products_of)
{
    double trace = 0.0;
    for (int n = 0; n < count; n++) {
        trace += products_of[n * WIDTH + n];
    }
    return isfinite(trace);
}

/* Cholesky; a column that depends on those before it leaves a row of zeros. */
static void set_triangle(int count, const double *data, const double *prior, double *out)
{
    for (int r = 0; r < count; r++) {
        for (int c = r; c < count; c++) {
            double sum = data[r * WIDTH + c] + prior[r * WIDTH + c];
            const double whole = sum;
            for (int k = 0; k < r; k++) {
                sum -= out[k * WIDTH + r] * out[k * WIDTH + c];
            }
            if (c == r) {
                out[r * WIDTH + r] = sum > ROUNDING * whole ? sqrt(sum) : 0.0;
            } else {
                const double pivot = out[r * WIDTH + r];
                out[r * WIDTH + c] = pivot > 0.0 ? sum / pivot : 0.0;
            }
        }
    }
}

/* Residuals at `x` and at its neighbours, one over a step away each. */
static bool simulate(const fit *f, const double *x, double per_step[MOST])
{
    const cvk_lane_problem *problem = f->problem;
    const int count = problem->count;
    double p[MOST + 1][MOST] = {{0.0}}, *out[MOST + 1];
    const double *lane[MOST + 1];
    memcpy(p[0], f->start, (size_t)(count + problem->held) * sizeof *p[0]);
    unscale(problem, x, p[0]);
    out[0] = f->column[count];
    lane[0] = p[0];
    for (int n = 0; n < count; n++) {
        double step = 1e-5;
        if (n == problem->delay) {
            double fraction = p[0][n] - floor(p[0][n]);
            step = (fraction < 0.5 ? 1e-3 : -1e-3) / problem->scale[n];
        }
        per_step[n] = 1.0 / step;
        memcpy(p[n + 1], p[0], sizeof p[0]);
        p[n + 1][n] += step * problem->scale[n];
        out[n + 1] = f->column[n];
        lane[n + 1] = p[n + 1];
    }
    return problem->simulate(problem->context, count + 1, lane, out);
}

static bool simulate_at(fit *f, const double *x)
{
    const size_t bytes = (size_t)f->problem->count * sizeof *x;
    const int count = f->problem->count + 1;
    double per_step[MOST];
    if (f->filled && memcmp(f->at, x, bytes) == 0) {
        return f->fine;
    }
    memcpy(f->at, x, bytes);
    f->filled = true;
    f->fine = simulate(f, x, per_step);
    if (f->fine) {
        all_products(f, per_step);
        f->fine = all_finite(count, f->data) && all_finite(count, f->prior);
    }
    if (f->fine) {
        set_triangle(count, f->data, f->prior, f->triangle);
    }
    return f->fine;
}

static int residuals(void *context, int m, int n, const double *x, double *fvec, double *fjac,
                     int ldfjac, int iflag)
{
    fit *f = context;
    const bool fine = simulate_at(f, x);
    if (iflag == 2) {
        for (int k = 0; k < m * n; k++) {
            fjac[k / m * ldfjac + k % m] = f->triangle[k % m * WIDTH + k / m];
        }
        return fine ? 0 : -1;
    }
    for (int k = 0; k < m; k++) {
        fvec[k] = fine ? f->triangle[k * WIDTH + n] : f->problem->hopeless * sqrt((double)f->m / m);
    }
    return 0;
}

/* S = sum over blocks of (J'e)(J'e)'. */
static void block_scores(const fit *f, double *score)
{
    const int n = f->problem->count;
    const size_t data = f->problem->data;
    for (int b = 0; b < CVK_LANE_BLOCKS; b++) {
        size_t begin = data * (size_t)b / CVK_LANE_BLOCKS;
        size_t end = data * (size_t)(b + 1) / CVK_LANE_BLOCKS;
        double sum[MOST] = {0};
        for (int r = 0; r < n; r++) {
            for (size_t k = begin; k < end; k++) {
                sum[r] += f->column[r][k] * f->column[n][k];
            }
        }
        for (int k = 0; k < n * n; k++) {
            score[k] += sum[k / n] * sum[k % n];
        }
    }
}

static bool covariance(const fit *at, cvk_lane_result *result)
{
    const cvk_lane_problem *f = at->problem;
    const int n = f->count;
    const double correction = CVK_LANE_BLOCKS / (CVK_LANE_BLOCKS - 1.0);
    double h[MOST * MOST] = {0}, middle[MOST * MOST] = {0}, white[MOST * MOST] = {0};
    result->residual = sqrt(at->data[n * WIDTH + n] / (double)f->data);
    block_scores(at, middle);
    for (int k = 0; k < n * n; k++) {
        const double data = at->data[k / n * WIDTH + k % n];
        const double prior = at->prior[k / n * WIDTH + k % n];
        const double held = f->prior_sd * f->prior_sd * prior;
        white[k] = result->residual * result->residual * data + held;
        middle[k] = correction * middle[k] + held;
        h[k] = data + prior;
    }
    /* a parameter that the log does not show at all still needs an invertible matrix */
    for (int k = 0; k < n; k++) {
        h[k * n + k] += 1e-12 * (double)at->m * result->residual * result->residual + 1e-30;
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
        result->colour += 1.0 / (ratio * n);
        result->widened[k] = fmax(1.0, 1.0 / ratio);
        cvk_widen(n, result->cov, k, ratio > 1.0 ? sqrt(ratio) : 1.0);
    }
    for (int k = 0; k < n * n && f->model_doubt > 0.0; k++) {
        result->cov[k] += plain[k] * (double)f->data / f->model_doubt;
    }
    for (int k = 0; k < n * n; k++) {
        result->bound[k] = plain[k] * f->scale[k / n] * f->scale[k % n];
        result->cov[k] *= f->scale[k / n] * f->scale[k % n];
    }
    return true;
}

bool cvk_lane_fit(const cvk_lane_problem *problem, double *p, cvk_lane_result *result)
{
    const int n = problem->count, rows = n + 1;
    const size_t m = problem->data + (size_t)problem->priors;
    double *work = malloc((size_t)rows * m * sizeof *work);
    if (work == NULL) {
        return false;
    }
    fit f = {.problem = problem, .m = m, .start = p};
    double x[MOST], diag[MOST], qtf[MOST], fvec[WIDTH], fjac[WIDTH * MOST];
    double wa1[MOST], wa2[MOST], wa3[MOST], wa4[WIDTH];
    int ipvt[MOST], nfev = 0, njev = 0;
    for (int k = 0; k < rows; k++) {
        f.column[k] = work + (size_t)k * m;
    }
    for (int k = 0; k < n; k++) {
        x[k] = p[k] / problem->scale[k];
    }
    const int info = lmder(residuals, &f, rows, n, x, fvec, fjac, rows, 1e-5, 1e-5, 0.0,
                           problem->most_evaluations, diag, 1, FIRST_STEP, 0, &nfev, &njev, ipvt,
                           qtf, wa1, wa2, wa3, wa4);
    const bool fine = info >= 1 && simulate_at(&f, x) && covariance(&f, result);
    result->converged = info <= 4; /* MINPACK's codes of success; 5: evaluations are used up */
    unscale(problem, x, p);
    free(work);
    return fine;
}
