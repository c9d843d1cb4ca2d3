/* SPDX-License-Identifier: Apache-2.0
 *
 * Over a step from row a to row b, with m = e^(j theta):
 *
 *     int v = R int i + U int u(i) + [L0 i + L2 m^2 conj(i) + flux m + fifth m^-5 + seventh m^7]
 *             from a to b
 *
 * With theta = theta0 + sum of f x a small correction, flux m becomes flux m0 (1 + j sum of f x).
 * Everything is a column of one least-squares problem; its covariance is that of the sums over
 * blocks of the way, which holds for whatever stays the same over a stretch (White, Econometrica
 * 50(1), 1982). The delay of the voltages is a column too: what the integral changes by when it is
 * moved.
 */
#include "angle_equation.h"

#include "corvak/core/units.h"

#include "math/numeric.h"

#include <math.h>
#include <string.h>

#define DELAY_SD 0.02   /* rows, about the one of a grid that explains most */
#define LATENCY_SD 3e-5 /* s, of a sensor, before the log is seen */
#define SLIP_SD 3e-5    /* share of lost counts */
#define HARMONIC_SD 0.1 /* rad, electrical, of a sensor's error */

_Static_assert((int)CVK_X_FLUX == CVK_AF_ELECTRICAL, "the columns that are not the magnet's");

static double complex fifth_power(double complex m)
{
    const double complex square = m * m;
    return square * square * m;
}

void cvk_angle_equation(const cvk_angle_problem *p, const cvk_angle_step *e,
                        double complex x[CVK_X_MOST], double complex *y)
{
    const cvk_angle_data *d = p->data;
    const cvk_waveforms *s = d->waveforms;
    const size_t a = e->a, b = e->b;
    const double rows = (double)(b - a), weight = 1.0 / sqrt(rows);
    const double from = cvk_own_to_field(p->model, a), to = cvk_own_to_field(p->model, b);
    const double omega = (to - from) / (rows * s->period_s);
    double fa[CVK_AF_COUNT], fb[CVK_AF_COUNT], more_a = 0.0, more_b = 0.0;
    cvk_angle_features(p->model, p->model->column->angle_rad[a], omega, fa);
    cvk_angle_features(p->model, p->model->column->angle_rad[b], omega, fb);
    for (int n = 0; n < CVK_AF_COUNT; n++) {
        more_a += p->around[n] * fa[n];
        more_b += p->around[n] * fb[n];
    }
    const double complex ma = cexp(I * (from + more_a)), mb = cexp(I * (to + more_b));
    const double complex ia = cvk_current_row(s, a), ib = cvk_current_row(s, b);
    *y = weight * (cvk_voltage_to(d, b, p->delay) - cvk_voltage_to(d, a, p->delay));
    for (int n = 0; n < p->count; n++) {
        x[n] = 0.0;
    }
    if (d->current_flows) {
        const double complex salient = mb * mb * conj(ib) - ma * ma * conj(ia);
        x[CVK_X_RESISTANCE] = weight * (d->current[b] - d->current[a]);
        x[CVK_X_INVERTER_SMALL] = weight * (d->inverter[0][b] - d->inverter[0][a]);
        x[CVK_X_INVERTER_LARGE] = weight * (d->inverter[1][b] - d->inverter[1][a]);
        x[CVK_X_MEAN_L] = weight * (ib - ia);
        x[CVK_X_SALIENCY_RE] = weight * salient;
        x[CVK_X_SALIENCY_IM] = weight * I * salient;
        /* later voltages are those before */
        x[CVK_X_DELAY] = weight * s->period_s *
                         (cvk_voltage_near(d, b, p->delay) - cvk_voltage_near(d, a, p->delay));
    }
    x[CVK_X_OFFSET_RE] = weight * rows * s->period_s;
    x[CVK_X_OFFSET_IM] = I * x[CVK_X_OFFSET_RE];
    const double complex fifth = conj(fifth_power(mb) - fifth_power(ma));
    const double complex seventh = fifth_power(mb) * mb * mb - fifth_power(ma) * ma * ma;
    x[CVK_X_FIFTH_RE] = weight * fifth;
    x[CVK_X_FIFTH_IM] = weight * I * fifth;
    x[CVK_X_SEVENTH_RE] = weight * seventh;
    x[CVK_X_SEVENTH_IM] = weight * I * seventh;
    x[CVK_X_FLUX] = weight * (mb - ma);
    for (int n = CVK_X_FEATURES; n < p->count; n++) {
        const int f = p->feature[n - CVK_X_FEATURES];
        x[n] = weight * I * (mb * fb[f] - ma * fa[f]);
    }
}

bool cvk_current_equation(const cvk_angle_problem *p, const cvk_angle_step *e,
                          double complex x[CVK_X_MOST], double complex *y)
{
    const cvk_waveforms *s = p->data->waveforms;
    const size_t k = (e->a + e->b) / 2u;
    const double complex i =
        (p->data->current[e->b] - p->data->current[e->a]) / ((double)(e->b - e->a) * s->period_s);
    const double from = cvk_own_to_field(p->model, e->a), to = cvk_own_to_field(p->model, e->b);
    const double own = p->model->column->angle_rad[k];
    const double omega = (to - from) / ((double)(e->b - e->a) * s->period_s);
    double f[CVK_AF_COUNT], now = cvk_own_to_field(p->model, k);
    if (cabs(i) < CVK_LEAST_CURRENT * s->peak_current_a || !isfinite(now) || to == from) {
        return false;
    }
    cvk_angle_features(p->model, own, omega, f);
    for (int n = 0; n < CVK_AF_COUNT; n++) {
        now += p->around[n] * f[n];
    }
    *y = remainder(carg(i) - now, 2.0 * CVK_PI_WIDE);
    for (int n = 0; n < p->count; n++) {
        x[n] = n < CVK_X_FEATURES ? 0.0 : f[p->feature[n - CVK_X_FEATURES]];
    }
    return true;
}

/* ---- least squares -------------------------------------------------------------------------- */

void cvk_add_equation(cvk_sums *s, int n, const double complex *x, double complex y)
{
    for (int r = 0; r < n; r++) {
        const double re = creal(x[r]), im = cimag(x[r]);
        for (int c = 0; c <= r; c++) {
            s->h[r * n + c] += re * creal(x[c]) + im * cimag(x[c]);
        }
        s->g[r] += re * creal(y) + im * cimag(y);
    }
    s->yy += creal(y) * creal(y) + cimag(y) * cimag(y);
    s->count++;
}

bool cvk_solve_sums(const cvk_sums *s, int n, const double *precision, const double *expected,
                    double *x, double *inverse)
{
    double unit[CVK_X_MOST];
    for (int r = 0; r < n; r++) {
        const double diagonal = s->h[r * n + r] + precision[r];
        unit[r] = diagonal > 0.0 ? sqrt(diagonal) : 1.0;
    }
    for (int r = 0; r < n; r++) {
        for (int c = 0; c <= r; c++) {
            double h = s->h[r * n + c] + (r == c ? precision[r] : 0.0);
            h = h / (unit[r] * unit[c]);
            inverse[r * n + c] = inverse[c * n + r] = r == c ? (h > 0.0 ? h : 1.0) + 1e-9 : h;
        }
    }
    if (!cvk_invert_spd(n, inverse)) {
        return false;
    }
    for (int r = 0; r < n; r++) {
        x[r] = 0.0;
        for (int c = 0; c < n; c++) {
            inverse[r * n + c] /= unit[r] * unit[c];
            x[r] += inverse[r * n + c] * (s->g[c] + precision[c] * expected[c]);
        }
    }
    return true;
}

double cvk_squares_left(const cvk_sums *s, int n, const double *x)
{
    double fitted = 0.0;
    for (int r = 0; r < n; r++) {
        fitted += x[r] * s->g[r];
    }
    return fmax(s->yy - fitted, 0.0);
}

static double prior_sd(int feature)
{
    return feature == CVK_AF_OFFSET     ? INFINITY
           : feature == CVK_AF_LATENCY  ? LATENCY_SD
           : feature == CVK_AF_SLIP     ? SLIP_SD
           : feature >= CVK_AF_EDGES_UP ? CVK_HALL_EDGE_SD
                                        : HARMONIC_SD;
}

void cvk_angle_priors(const cvk_angle_problem *p, double variance, double flux, double *precision,
                      double *expected)
{
    memset(precision, 0, CVK_X_MOST * sizeof *precision);
    memset(expected, 0, CVK_X_MOST * sizeof *expected);
    precision[CVK_X_DELAY] = variance / (DELAY_SD * DELAY_SD);
    expected[CVK_X_DELAY] = 0.0;
    for (int n = CVK_X_FEATURES; n < p->count; n++) {
        const int feature = p->feature[n - CVK_X_FEATURES];
        const double sd = prior_sd(feature) * flux;
        precision[n] = sd > 0.0 && isfinite(sd) ? variance / (sd * sd) : 0.0;
        expected[n] = -p->around[feature] * flux;
    }
}

void cvk_want_features(cvk_angle_problem *p, unsigned features)
{
    p->count = CVK_X_FEATURES;
    for (int f = 0; f < CVK_AF_COUNT; f++) {
        if ((features >> f & 1u) != 0u) {
            p->feature[p->count - CVK_X_FEATURES] = f;
            p->count++;
        }
    }
}

void cvk_block_covariance(double sum[CVK_AF_BLOCKS][CVK_X_MOST], int n, const double *inverse,
                          double *cov)
{
    memset(cov, 0, (size_t)(n * n) * sizeof *cov);
    for (int b = 0; b < CVK_AF_BLOCKS; b++) {
        double moved[CVK_X_MOST];
        for (int r = 0; r < n; r++) {
            moved[r] = 0.0;
            for (int c = 0; c < n; c++) {
                moved[r] += inverse[r * n + c] * sum[b][c];
            }
        }
        for (int r = 0; r < n; r++) {
            for (int c = 0; c < n; c++) {
                cov[r * n + c] += moved[r] * moved[c] * CVK_AF_BLOCKS / (CVK_AF_BLOCKS - 1.0);
            }
        }
    }
}

void cvk_take_angle_fit(const cvk_angle_problem *p, const cvk_angle_solution *s, const double *cov,
                        cvk_angle_fit *fit)
{
    const int n = p->count;
    const double flux = s->x[CVK_X_FLUX];
    memcpy(fit->value, p->around, sizeof fit->value);
    memcpy(fit->electrical, s->x, sizeof fit->electrical);
    for (int r = CVK_X_FEATURES; r < n; r++) {
        fit->value[p->feature[r - CVK_X_FEATURES]] += s->x[r] / flux;
        for (int c = CVK_X_FEATURES; c < n; c++) {
            fit->cov[p->feature[r - CVK_X_FEATURES] * CVK_AF_COUNT +
                     p->feature[c - CVK_X_FEATURES]] = cov[r * n + c] / (flux * flux);
        }
    }
    fit->size = flux;
    fit->size_deviation = sqrt(cov[CVK_X_FLUX * n + CVK_X_FLUX]);
    fit->delay_rows = p->delay + s->x[CVK_X_DELAY];
    fit->delay_deviation = sqrt(cov[CVK_X_DELAY * n + CVK_X_DELAY]);
    fit->dof = CVK_AF_BLOCKS / 2.0;
    fit->fine = true;
}
