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
#include "angle_fit.h"

#include "inverter_curve.h"
#include "numeric.h"
#include "turning.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define PI 3.14159265358979323846
#define STEP_RAD 0.6 /* electrical, of one equation */
#define LONGEST_STEP_S 0.02
#define MOST_EQUATIONS 16000u
#define FEW_EQUATIONS 1600u
#define SMALL_KNEE 0.02 /* of the peak current: the bends of the inverter's own voltage, */
#define LARGE_KNEE 0.15 /* of which a mixture is fitted */
#define DELAY_SD 0.02   /* rows, about the one of a grid that explains most */
#define CLEARLY_LESS 0.9
#define LEAST_COLOUR 1e-5
#define LATENCY_SD 3e-5  /* s, of a sensor, before the log is seen */
#define SLIP_SD 3e-5     /* share of lost counts */
#define EDGE_SD 0.2      /* rad, of a hall's place */
#define HARMONIC_SD 0.1  /* rad, electrical, of a sensor's error */
#define CURVE_BINS 72    /* of the error over a turn */
#define FEWEST_EDGES 3.0 /* either way */
#define EDGE_ROWS 3u     /* on either side of a hall's edge */
#define ROUNDS 3
#define WHOLE_WAY_RAD 9.0   /* from which on the mean of a voltage that turns is nothing */
#define LEAST_TURN_RAD 0.02 /* in a step that turns */
#define LEAST_CURRENT 0.3   /* of its peak, to show the vector's direction */

enum {
    X_RESISTANCE,
    X_INVERTER_SMALL,
    X_INVERTER_LARGE,
    X_MEAN_L,
    X_SALIENCY_RE,
    X_SALIENCY_IM,
    X_OFFSET_RE,
    X_OFFSET_IM,
    X_DELAY,
    X_FIFTH_RE, /* harmonics of the magnet's flux, shares of it times the flux */
    X_FIFTH_IM,
    X_SEVENTH_RE,
    X_SEVENTH_IM,
    X_FLUX,     /* CVK_AF_ELECTRICAL columns stand before it */
    X_FEATURES, /* flux times each wanted feature */
    X_MOST = X_FEATURES + CVK_AF_COUNT
};

_Static_assert((int)X_FLUX == CVK_AF_ELECTRICAL, "the columns that are not the magnet's");

cvk_status cvk_angle_data_make(cvk_angle_data *d, const cvk_signals *s)
{
    const size_t n = s->rows + 1;
    *d = (cvk_angle_data){.signals = s, .storage = malloc(4 * n * sizeof *d->storage)};
    if (d->storage == NULL) {
        return CVK_NO_MEMORY;
    }
    d->voltage = d->storage;
    d->current = d->storage + n;
    d->inverter[0] = d->storage + 2 * n;
    d->inverter[1] = d->storage + 3 * n;
    d->voltage[0] = d->current[0] = d->inverter[0][0] = d->inverter[1][0] = 0.0;
    d->current_flows = !s->open_circuit && !cvk_currentless(s, 0, s->rows);
    d->delay_rows = s->path == CVK_PATH_COMMANDED ? 1.0 : s->path == CVK_PATH_AVERAGED ? 0.0 : -0.5;
    const double knee[2] = {SMALL_KNEE * s->peak_current_a + 1e-9,
                            LARGE_KNEE * s->peak_current_a + 1e-9};
    for (size_t k = 0; k < s->rows; k++) {
        const size_t next = k + 1 < s->rows ? k + 1 : k;
        const double complex i =
            0.5 * (s->i_alpha[k] + s->i_alpha[next] + I * (s->i_beta[k] + s->i_beta[next]));
        d->voltage[k + 1] = d->voltage[k] + s->period_s * (s->v_alpha[k] + I * s->v_beta[k]);
        d->current[k + 1] = d->current[k] + s->period_s * i;
        for (int c = 0; c < 2; c++) {
            double u[2];
            cvk_curve_vector(creal(i), cimag(i), 1.0 / knee[c], CVK_CURVE_CHARGE, u);
            d->inverter[c][k + 1] =
                d->inverter[c][k] + s->period_s * s->bus_share[k] * (u[0] + I * u[1]);
        }
    }
    return CVK_OK;
}

void cvk_angle_data_free(cvk_angle_data *d)
{
    free(d->storage);
    d->storage = NULL;
}

/* ---- steps ---------------------------------------------------------------------------------- */

typedef struct step {
    size_t a, b;
    int block;
} step;

typedef struct steps {
    size_t count;
    step *list;
} steps;

static double angle_at(const cvk_angle_model *m, size_t k)
{
    return (double)(m->direction * m->ratio) * m->column->angle_rad[k];
}

/* Rows of a step from `a` on: some part of a turn, or as long as allowed. */
static size_t length_at(const cvk_angle_model *m, size_t a, size_t end, size_t longest)
{
    const double from = angle_at(m, a);
    size_t n = 2;
    while (n < longest && a + n < end && fabs(angle_at(m, a + n) - from) < STEP_RAD) {
        n += 1 + n / 4;
    }
    return n < longest ? n : longest;
}

/* Steps over all pieces, at most about `most`, in blocks of equal numbers. */
static bool make_steps(const cvk_angle_data *d, const cvk_angle_model *m, size_t most, steps *out)
{
    const cvk_signals *s = d->signals;
    const size_t longest = (size_t)fmax(4.0, LONGEST_STEP_S / s->period_s);
    const size_t margin = 4;
    const size_t stride = s->rows / most;
    *out = (steps){.list = malloc((s->rows + 1) * sizeof *out->list)};
    if (out->list == NULL) {
        return false;
    }
    for (size_t p = 0; p < s->pieces; p++) {
        const cvk_span piece = s->piece[p];
        for (size_t a = piece.begin + margin; a + margin + 2 < piece.end;) {
            const size_t n = length_at(m, a, piece.end - margin, longest), b = a + n;
            if (b + margin < piece.end && isfinite(angle_at(m, a)) && isfinite(angle_at(m, b)) &&
                fabs(angle_at(m, b) - angle_at(m, a)) < 3.0) {
                out->list[out->count++] = (step){a, b, 0};
            }
            a += n > stride ? n : stride;
        }
    }
    for (size_t k = 0; k < out->count; k++) {
        out->list[k].block = (int)(k * CVK_AF_BLOCKS / out->count);
    }
    return true;
}

/* ---- one equation --------------------------------------------------------------------------- */

/* The voltage's integral up to a row that may lie between two, `delay` rows before. */
static double complex voltage_to(const cvk_angle_data *d, size_t row, double delay)
{
    const double at = (double)row - delay;
    const size_t below = at > 0.0 ? (size_t)at : 0;
    const size_t last = d->signals->rows;
    if (below >= last) {
        return d->voltage[last];
    }
    const double share = at - (double)below;
    return d->voltage[below] + share * (d->voltage[below + 1] - d->voltage[below]);
}

static double complex voltage_near(const cvk_angle_data *d, size_t row, double delay)
{
    const double at = (double)row - delay;
    const size_t last = d->signals->rows - 1;
    const size_t k = at > 0.0 ? (size_t)at : 0;
    return d->signals->v_alpha[k < last ? k : last] + I * d->signals->v_beta[k < last ? k : last];
}

static double complex current_at(const cvk_signals *s, size_t k)
{
    return s->i_alpha[k] + I * s->i_beta[k];
}

/* How much of each hall edge's error is in the angle between two edges. */
static void hats_of(double own_rad, double omega, double f[CVK_AF_COUNT])
{
    const double place = own_rad / (PI / 3.0) - 0.5;
    const double below = floor(place), share = place - below;
    const int edge = (int)(below - 6.0 * floor(below / 6.0));
    double *hats = f + (omega >= 0.0 ? CVK_AF_EDGES_UP : CVK_AF_EDGES_DOWN);
    hats[edge] += 1.0 - share;
    hats[(edge + 1) % 6] += share;
}

/* `omega` is that of the field; halls count it their own way. */
static void features_of(const cvk_angle_model *m, double own_rad, double omega,
                        double f[CVK_AF_COUNT])
{
    memset(f, 0, CVK_AF_COUNT * sizeof *f);
    f[CVK_AF_OFFSET] = 1.0;
    f[CVK_AF_LATENCY] = omega;
    f[CVK_AF_WAY] = omega > 0.0 ? 1.0 : (omega < 0.0 ? -1.0 : 0.0);
    f[CVK_AF_SLIP] = (double)(m->direction * m->ratio) * (own_rad - m->column->first_rad);
    f[CVK_AF_COSINE_1] = cos(own_rad);
    f[CVK_AF_SINE_1] = sin(own_rad);
    f[CVK_AF_COSINE_2] = cos(2.0 * own_rad);
    f[CVK_AF_SINE_2] = sin(2.0 * own_rad);
    if (m->column->kind == CVK_SENSES_HALL) {
        hats_of(own_rad, m->direction * omega, f);
    }
}

typedef struct problem {
    const cvk_angle_data *data;
    const cvk_angle_model *model;
    int count;                   /* columns */
    int feature[CVK_AF_COUNT];   /* of column X_FEATURES + n */
    double around[CVK_AF_COUNT]; /* the features' values so far */
    double delay;
    double colour; /* of what is left: variance of its sums over that of white noise */
} problem;

static double complex fifth_power(double complex m)
{
    const double complex square = m * m;
    return square * square * m;
}

static void equation(const problem *p, const step *e, double complex x[X_MOST], double complex *y)
{
    const cvk_angle_data *d = p->data;
    const cvk_signals *s = d->signals;
    const size_t a = e->a, b = e->b;
    const double rows = (double)(b - a), weight = 1.0 / sqrt(rows);
    const double from = angle_at(p->model, a), to = angle_at(p->model, b);
    const double omega = (to - from) / (rows * s->period_s);
    double fa[CVK_AF_COUNT], fb[CVK_AF_COUNT], more_a = 0.0, more_b = 0.0;
    features_of(p->model, p->model->column->angle_rad[a], omega, fa);
    features_of(p->model, p->model->column->angle_rad[b], omega, fb);
    for (int n = 0; n < CVK_AF_COUNT; n++) {
        more_a += p->around[n] * fa[n];
        more_b += p->around[n] * fb[n];
    }
    const double complex ma = cexp(I * (from + more_a)), mb = cexp(I * (to + more_b));
    const double complex ia = current_at(s, a), ib = current_at(s, b);
    *y = weight * (voltage_to(d, b, p->delay) - voltage_to(d, a, p->delay));
    for (int n = 0; n < p->count; n++) {
        x[n] = 0.0;
    }
    if (d->current_flows) {
        const double complex salient = mb * mb * conj(ib) - ma * ma * conj(ia);
        x[X_RESISTANCE] = weight * (d->current[b] - d->current[a]);
        x[X_INVERTER_SMALL] = weight * (d->inverter[0][b] - d->inverter[0][a]);
        x[X_INVERTER_LARGE] = weight * (d->inverter[1][b] - d->inverter[1][a]);
        x[X_MEAN_L] = weight * (ib - ia);
        x[X_SALIENCY_RE] = weight * salient;
        x[X_SALIENCY_IM] = weight * I * salient;
        /* later voltages are those before */
        x[X_DELAY] =
            weight * s->period_s * (voltage_near(d, b, p->delay) - voltage_near(d, a, p->delay));
    }
    x[X_OFFSET_RE] = weight * rows * s->period_s;
    x[X_OFFSET_IM] = I * x[X_OFFSET_RE];
    const double complex fifth = conj(fifth_power(mb) - fifth_power(ma));
    const double complex seventh = fifth_power(mb) * mb * mb - fifth_power(ma) * ma * ma;
    x[X_FIFTH_RE] = weight * fifth;
    x[X_FIFTH_IM] = weight * I * fifth;
    x[X_SEVENTH_RE] = weight * seventh;
    x[X_SEVENTH_IM] = weight * I * seventh;
    x[X_FLUX] = weight * (mb - ma);
    for (int n = X_FEATURES; n < p->count; n++) {
        const int f = p->feature[n - X_FEATURES];
        x[n] = weight * I * (mb * fb[f] - ma * fa[f]);
    }
}

/* ---- least squares -------------------------------------------------------------------------- */

typedef struct sums {
    double h[X_MOST * X_MOST], g[X_MOST], yy;
    size_t count;
} sums;

static void add_equation(sums *s, int n, const double complex *x, double complex y)
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

/* Solves with prior precisions added about `expected`, in units in which the diagonal is one.
 * `inverse` gets the inverse. False when it is singular. */
static bool solve(const sums *s, int n, const double *precision, const double *expected, double *x,
                  double *inverse)
{
    double unit[X_MOST];
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

static double squares_left(const sums *s, int n, const double *x)
{
    double fitted = 0.0;
    for (int r = 0; r < n; r++) {
        fitted += x[r] * s->g[r];
    }
    return fmax(s->yy - fitted, 0.0);
}

static void accumulate(const problem *p, const steps *all, sums *s)
{
    double complex x[X_MOST], y;
    memset(s, 0, sizeof *s);
    for (size_t k = 0; k < all->count; k++) {
        equation(p, &all->list[k], x, &y);
        add_equation(s, p->count, x, y);
    }
}

static double prior_sd(int feature)
{
    return feature == CVK_AF_OFFSET     ? INFINITY
           : feature == CVK_AF_LATENCY  ? LATENCY_SD
           : feature == CVK_AF_SLIP     ? SLIP_SD
           : feature >= CVK_AF_EDGES_UP ? EDGE_SD
                                        : HARMONIC_SD;
}

/* What is known before of the columns: `variance` is that of an equation. */
static void priors_of(const problem *p, double variance, double flux, double *precision,
                      double *expected)
{
    memset(precision, 0, X_MOST * sizeof *precision);
    memset(expected, 0, X_MOST * sizeof *expected);
    precision[X_DELAY] = variance / (DELAY_SD * DELAY_SD);
    expected[X_DELAY] = 0.0;
    for (int n = X_FEATURES; n < p->count; n++) {
        const int feature = p->feature[n - X_FEATURES];
        const double sd = prior_sd(feature) * flux;
        precision[n] = sd > 0.0 && isfinite(sd) ? variance / (sd * sd) : 0.0;
        expected[n] = -p->around[feature] * flux;
    }
}

static void want(problem *p, unsigned features)
{
    p->count = X_FEATURES;
    for (int f = 0; f < CVK_AF_COUNT; f++) {
        if ((features >> f & 1u) != 0u) {
            p->feature[p->count - X_FEATURES] = f;
            p->count++;
        }
    }
}

/* Each block moves the solution by inverse times its sum. */
static void covariance_of_blocks(double sum[CVK_AF_BLOCKS][X_MOST], int n, const double *inverse,
                                 double *cov)
{
    memset(cov, 0, (size_t)(n * n) * sizeof *cov);
    for (int b = 0; b < CVK_AF_BLOCKS; b++) {
        double moved[X_MOST];
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

static void block_covariance(const problem *p, const steps *all, const double *solution,
                             const double *inverse, double *cov)
{
    const int n = p->count;
    double sum[CVK_AF_BLOCKS][X_MOST] = {{0}};
    double complex x[X_MOST], y;
    for (size_t k = 0; k < all->count; k++) {
        equation(p, &all->list[k], x, &y);
        for (int c = 0; c < n; c++) {
            y -= solution[c] * x[c];
        }
        for (int c = 0; c < n; c++) {
            sum[all->list[k].block][c] += creal(x[c]) * creal(y) + cimag(x[c]) * cimag(y);
        }
    }
    covariance_of_blocks(sum, n, inverse, cov);
}

/* ---- by the back-EMF ------------------------------------------------------------------------ */

typedef struct solution {
    double x[X_MOST], inverse[X_MOST * X_MOST], left, variance;
} solution;

static bool solve_problem(const problem *p, const steps *all, double flux, solution *out)
{
    static const double none[X_MOST] = {0.0};
    double precision[X_MOST], expected[X_MOST];
    sums s;
    accumulate(p, all, &s);
    if (s.count < 2u * (size_t)p->count || !solve(&s, p->count, none, none, out->x, out->inverse)) {
        return false;
    }
    out->variance = p->colour * squares_left(&s, p->count, out->x) / (double)(2 * s.count);
    priors_of(p, out->variance, flux, precision, expected);
    const bool fine = solve(&s, p->count, precision, expected, out->x, out->inverse);
    out->left = squares_left(&s, p->count, out->x);
    return fine;
}

/* Where the flux lies, by its parts along and across. Returns what is left. */
static double rough_round(problem *p, const steps *all)
{
    solution s;
    if (!solve_problem(p, all, 0.0, &s)) {
        return INFINITY;
    }
    p->around[CVK_AF_OFFSET] =
        remainder(p->around[CVK_AF_OFFSET] + atan2(s.x[X_FEATURES], s.x[X_FLUX]), 2.0 * PI);
    if (p->count > X_FEATURES + 1 && hypot(s.x[X_FEATURES], s.x[X_FLUX]) > 0.0) {
        p->around[CVK_AF_LATENCY] += s.x[X_FEATURES + 1] / hypot(s.x[X_FEATURES], s.x[X_FLUX]);
    }
    return s.left;
}

/* The delay is the usual one, unless another explains clearly more. */
static void rough_fit(problem *p, const steps *all)
{
    static const double others[] = {0.0, -1.0, -0.5, 0.5, 1.0};
    const double usual = p->data->delay_rows;
    problem best = *p;
    double least = INFINITY;
    for (size_t n = 0; n < (p->data->current_flows ? 5u : 1u); n++) {
        problem now = *p;
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

static void take_fit(const problem *p, const solution *s, const double *cov, cvk_angle_fit *fit)
{
    const int n = p->count;
    const double flux = s->x[X_FLUX];
    memcpy(fit->value, p->around, sizeof fit->value);
    memcpy(fit->electrical, s->x, sizeof fit->electrical);
    for (int r = X_FEATURES; r < n; r++) {
        fit->value[p->feature[r - X_FEATURES]] += s->x[r] / flux;
        for (int c = X_FEATURES; c < n; c++) {
            fit->cov[p->feature[r - X_FEATURES] * CVK_AF_COUNT + p->feature[c - X_FEATURES]] =
                cov[r * n + c] / (flux * flux);
        }
    }
    fit->size = flux;
    fit->size_deviation = sqrt(cov[X_FLUX * n + X_FLUX]);
    fit->delay_rows = p->delay + s->x[X_DELAY];
    fit->delay_deviation = sqrt(cov[X_DELAY * n + X_DELAY]);
    fit->dof = CVK_AF_BLOCKS / 2.0;
    fit->fine = true;
}

/* Noise of the current at the end of a step is that at the beginning of the next with the other
 * sign: over many steps it cancels, and the log tells much more than white noise would let it. */
static double colour_of(const problem *p, const solution *s, const double *cov)
{
    const int at = X_FEATURES * p->count + X_FEATURES;
    const double white = s->variance * s->inverse[at];
    return white > 0.0 ? fmin(fmax(cov[at] / white, LEAST_COLOUR), 1.0) : 1.0;
}

/* The prior's part of the covariance: what the log leaves open, the prior does not settle. */
static void add_prior_doubt(const problem *p, const solution *s, double flux, double *cov)
{
    double precision[X_MOST], expected[X_MOST];
    const int n = p->count;
    priors_of(p, s->variance, flux, precision, expected);
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

cvk_status cvk_angle_by_back_emf(const cvk_angle_data *d, const cvk_angle_model *m,
                                 cvk_angle_fit *fit)
{
    problem p = {.data = d, .model = m, .colour = 1.0};
    steps few, all;
    memset(fit, 0, sizeof *fit);
    if (!make_steps(d, m, FEW_EQUATIONS, &few)) {
        return CVK_NO_MEMORY;
    }
    if (!make_steps(d, m, MOST_EQUATIONS, &all)) {
        free(few.list);
        return CVK_NO_MEMORY;
    }
    /* with the latency, which else would pass for a delay of the voltages */
    want(&p, 1u << CVK_AF_OFFSET | 1u << CVK_AF_LATENCY);
    rough_fit(&p, &few);
    want(&p, 1u << CVK_AF_OFFSET);
    p.around[CVK_AF_LATENCY] = 0.0;
    solution s;
    double cov[X_MOST * X_MOST];
    bool fine = solve_problem(&p, &all, 0.0, &s) && s.x[X_FLUX] > 0.0;
    if (fine) {
        block_covariance(&p, &all, s.x, s.inverse, cov);
        p.colour = colour_of(&p, &s, cov);
    }
    want(&p, m->wanted);
    for (int round = 0; fine && round < ROUNDS - 1; round++) {
        const double flux = s.x[X_FLUX];
        fine = solve_problem(&p, &all, flux, &s) && s.x[X_FLUX] > 0.0;
        if (fine && round + 1 < ROUNDS - 1) {
            for (int n = X_FEATURES; n < p.count; n++) {
                p.around[p.feature[n - X_FEATURES]] += s.x[n] / s.x[X_FLUX];
            }
        }
    }
    if (fine) {
        block_covariance(&p, &all, s.x, s.inverse, cov);
        add_prior_doubt(&p, &s, s.x[X_FLUX], cov);
        take_fit(&p, &s, cov, fit);
    }
    free(few.list);
    free(all.list);
    return CVK_OK;
}

/* ---- by the current vector ------------------------------------------------------------------ */

/* One equation a step: the current's direction at its middle, against the angle so far. */
static bool current_equation(const problem *p, const step *e, double complex x[X_MOST],
                             double complex *y)
{
    const cvk_signals *s = p->data->signals;
    const size_t k = (e->a + e->b) / 2u;
    const double complex i =
        (p->data->current[e->b] - p->data->current[e->a]) / ((double)(e->b - e->a) * s->period_s);
    const double from = angle_at(p->model, e->a), to = angle_at(p->model, e->b);
    const double own = p->model->column->angle_rad[k];
    const double omega = (to - from) / ((double)(e->b - e->a) * s->period_s);
    double f[CVK_AF_COUNT], now = angle_at(p->model, k);
    if (cabs(i) < LEAST_CURRENT * s->peak_current_a || !isfinite(now) || to == from) {
        return false;
    }
    features_of(p->model, own, omega, f);
    for (int n = 0; n < CVK_AF_COUNT; n++) {
        now += p->around[n] * f[n];
    }
    *y = remainder(carg(i) - now, 2.0 * PI);
    for (int n = 0; n < p->count; n++) {
        x[n] = n < X_FEATURES ? 0.0 : f[p->feature[n - X_FEATURES]];
    }
    return true;
}

/* Mean direction of the current against the sensor's angle, and how alike it is: 0 .. 1. */
static double complex mean_direction(const problem *p, const steps *all, int way)
{
    double complex sum = 0.0, x[X_MOST], y;
    double count = 0.0;
    for (size_t k = 0; k < all->count; k++) {
        const step *e = &all->list[k];
        const double turned = angle_at(p->model, e->b) - angle_at(p->model, e->a);
        if (turned * way > 0.0 && current_equation(p, e, x, &y)) {
            sum += cexp(I * creal(y));
            count += 1.0;
        }
    }
    return count > 0.0 ? sum / count : 0.0;
}

/* The fit's covariance from the residuals of current equations, by blocks. */
static void current_covariance(const problem *p, const steps *all, const solution *s, double *cov)
{
    const int n = p->count;
    double block[CVK_AF_BLOCKS][X_MOST] = {{0}};
    double complex x[X_MOST], y;
    for (size_t k = 0; k < all->count; k++) {
        if (!current_equation(p, &all->list[k], x, &y)) {
            continue;
        }
        for (int c = 0; c < n; c++) {
            y -= s->x[c] * x[c];
        }
        for (int c = 0; c < n; c++) {
            block[all->list[k].block][c] += creal(x[c]) * creal(y);
        }
    }
    covariance_of_blocks(block, n, s->inverse, cov);
}

/* How much the vector's length wanders while the rotor turns. */
static double wander_of(const cvk_angle_data *d, const steps *all, const cvk_angle_model *m)
{
    double sum = 0.0, square = 0.0, count = 0.0;
    for (size_t k = 0; k < all->count; k++) {
        const step *e = &all->list[k];
        if (fabs(angle_at(m, e->b) - angle_at(m, e->a)) > LEAST_TURN_RAD) {
            const double a = cabs(d->current[e->b] - d->current[e->a]) /
                             ((double)(e->b - e->a) * d->signals->period_s);
            sum += a;
            square += a * a;
            count += 1.0;
        }
    }
    return sqrt(fmax(square * count / (sum * sum) - 1.0, 0.0));
}

/* Halls are looked at where they change: between, nobody knows how the rotor moved. */
typedef struct at_edge {
    double off;  /* current's direction less the edge's place */
    double way;  /* of the field */
    int feature; /* CVK_AF_EDGES_.. */
} at_edge;

static bool look_at_edge(const cvk_angle_data *d, const cvk_angle_model *m, const cvk_hall_edge *e,
                         at_edge *out)
{
    const size_t k = (size_t)fmax(e->row, 0.0);
    if (k < EDGE_ROWS || k + EDGE_ROWS + 1u >= d->signals->rows) {
        return false;
    }
    const double complex i = (d->current[k + EDGE_ROWS + 1u] - d->current[k - EDGE_ROWS]) /
                             ((2.0 * EDGE_ROWS + 1.0) * d->signals->period_s);
    *out = (at_edge){carg(i) - m->direction * cvk_hall_edge_angle(e->edge),
                     (double)(m->direction * e->way),
                     (e->way > 0 ? CVK_AF_EDGES_UP : CVK_AF_EDGES_DOWN) + e->edge};
    return cabs(i) > LEAST_CURRENT * d->signals->peak_current_a;
}

/* Means over all edges, either way; then each edge's own. */
static void halls_by_current(const cvk_angle_data *d, const cvk_angle_model *m, cvk_angle_fit *fit)
{
    const cvk_sensor_column *c = m->column;
    double complex along[2] = {0.0, 0.0};
    double count[2] = {0.0, 0.0}, square[2] = {0.0, 0.0};
    double n[CVK_AF_COUNT] = {0}, sum[CVK_AF_COUNT] = {0}, sum2[CVK_AF_COUNT] = {0};
    at_edge e;
    for (size_t k = 0; k < c->edges; k++) {
        if (look_at_edge(d, m, &c->edge[k], &e)) {
            along[e.way < 0.0] += cexp(I * e.off);
            count[e.way < 0.0] += 1.0;
        }
    }
    if (count[0] < FEWEST_EDGES || count[1] < FEWEST_EDGES) {
        return;
    }
    const double up = carg(along[0]), lag = 0.5 * remainder(up - carg(along[1]), 2.0 * PI);
    fit->value[CVK_AF_OFFSET] = up - lag;
    fit->value[CVK_AF_WAY] = lag;
    for (size_t k = 0; k < c->edges; k++) {
        if (look_at_edge(d, m, &c->edge[k], &e)) {
            const double off = remainder(e.off - (up - lag) - e.way * lag, 2.0 * PI);
            square[e.way < 0.0] += off * off;
            n[e.feature] += 1.0;
            sum[e.feature] += off;
            sum2[e.feature] += off * off;
        }
    }
    for (int f = CVK_AF_EDGES_UP; f < CVK_AF_COUNT; f++) {
        const double mean = n[f] > 0.0 ? sum[f] / n[f] : 0.0;
        fit->value[f] = mean;
        fit->cov[f * CVK_AF_COUNT + f] =
            n[f] > 1.0 ? fmax(sum2[f] / n[f] - mean * mean, 0.0) / (n[f] - 1.0) : EDGE_SD * EDGE_SD;
    }
    const double variance =
        0.25 * (square[0] / count[0] / count[0] + square[1] / count[1] / count[1]);
    fit->cov[CVK_AF_OFFSET * CVK_AF_COUNT + CVK_AF_OFFSET] = variance;
    fit->cov[CVK_AF_WAY * CVK_AF_COUNT + CVK_AF_WAY] = variance;
    fit->size = 0.5 * (cabs(along[0]) / count[0] + cabs(along[1]) / count[1]);
    fit->dof = fmin(count[0], count[1]);
    fit->fine = true;
}

cvk_status cvk_angle_by_current(const cvk_angle_data *d, const cvk_angle_model *m,
                                cvk_angle_fit *fit)
{
    static const double none[X_MOST] = {0.0};
    problem p = {.data = d, .model = m};
    steps all;
    sums sum;
    memset(fit, 0, sizeof *fit);
    memset(&sum, 0, sizeof sum);
    if (!make_steps(d, m, MOST_EQUATIONS, &all)) {
        return CVK_NO_MEMORY;
    }
    fit->wander = wander_of(d, &all, m);
    if (m->column->kind == CVK_SENSES_HALL) {
        halls_by_current(d, m, fit);
        free(all.list);
        return CVK_OK;
    }
    want(&p, m->wanted | 1u << CVK_AF_OFFSET | 1u << CVK_AF_WAY);
    const double complex up = mean_direction(&p, &all, 1), down = mean_direction(&p, &all, -1);
    if (cabs(up) > 0.0 && cabs(down) > 0.0) {
        double cov[X_MOST * X_MOST], precision[X_MOST], expected[X_MOST];
        double complex x[X_MOST], y;
        solution s = {.left = 0.0};
        p.around[CVK_AF_OFFSET] = carg(up / cabs(up) + down / cabs(down));
        for (size_t k = 0; k < all.count; k++) {
            if (current_equation(&p, &all.list[k], x, &y)) {
                add_equation(&sum, p.count, x, y);
            }
        }
        if (sum.count > 4u * (size_t)p.count && solve(&sum, p.count, none, none, s.x, s.inverse)) {
            s.variance = squares_left(&sum, p.count, s.x) / (double)sum.count;
            priors_of(&p, s.variance, 1.0, precision, expected);
            (void)solve(&sum, p.count, precision, expected, s.x, s.inverse);
            current_covariance(&p, &all, &s, cov);
            s.x[X_FLUX] = 1.0;
            take_fit(&p, &s, cov, fit);
            fit->size = 0.5 * (cabs(up) + cabs(down));
            fit->size_deviation = 0.0;
        }
    }
    free(all.list);
    return CVK_OK;
}

/* ---- likeness ------------------------------------------------------------------------------- */

typedef struct vector_sum {
    double complex along;
    double size;
} vector_sum;

static void add_vector(vector_sum *sum, double complex vector)
{
    sum->along += vector;
    sum->size += cabs(vector);
}

static double likeness_of(const vector_sum *sum)
{
    return sum->size > 0.0 ? cabs(sum->along) / sum->size : NAN;
}

cvk_status cvk_angle_likeness_of(const cvk_angle_data *d, const cvk_angle_model *m, int blocks,
                                 cvk_angle_likeness *out)
{
    vector_sum v[CVK_AF_BLOCKS] = {{0.0, 0.0}}, i[CVK_AF_BLOCKS] = {{0.0, 0.0}};
    steps all;
    *out = (cvk_angle_likeness){.blocks = blocks};
    if (!make_steps(d, m, FEW_EQUATIONS, &all)) {
        return CVK_NO_MEMORY;
    }
    size_t moving = 0, seen = 0;
    double complex middle = 0.0; /* a constant voltage is an error of the channels */
    double turned_rad = 0.0, length_s = 0.0;
    for (size_t k = 0; k < all.count; k++) {
        const step *e = &all.list[k];
        const double turned = fabs(angle_at(m, e->b) - angle_at(m, e->a));
        if (turned > LEAST_TURN_RAD) {
            moving++;
            turned_rad += turned;
            length_s += (double)(e->b - e->a) * d->signals->period_s;
            middle += voltage_to(d, e->b, d->delay_rows) - voltage_to(d, e->a, d->delay_rows);
        }
    }
    middle = turned_rad > WHOLE_WAY_RAD ? middle / length_s : 0.0;
    for (size_t k = 0; k < all.count; k++) {
        const step *e = &all.list[k];
        const double turned = angle_at(m, e->b) - angle_at(m, e->a);
        if (!(fabs(turned) > LEAST_TURN_RAD)) {
            continue;
        }
        const int b = (int)(seen++ * (size_t)blocks / (moving > 0 ? moving : 1u));
        const double complex back = cexp(-I * 0.5 * (angle_at(m, e->a) + angle_at(m, e->b)));
        const double complex volt_s = voltage_to(d, e->b, d->delay_rows) -
                                      voltage_to(d, e->a, d->delay_rows) -
                                      middle * (double)(e->b - e->a) * d->signals->period_s;
        add_vector(&v[b], copysign(1.0, turned) * volt_s * back);
        if (d->current_flows) {
            add_vector(&i[b], (d->current[e->b] - d->current[e->a]) * back);
        }
        out->turns[b] += fabs(turned) / (2.0 * PI);
    }
    free(all.list);
    for (int b = 0; b < blocks; b++) {
        out->voltage[b] = likeness_of(&v[b]);
        out->current[b] = likeness_of(&i[b]);
        out->mean += fmax(fmax(out->voltage[b], out->current[b]), 0.0) / blocks;
    }
    return CVK_OK;
}

/* ---- the error over a turn ------------------------------------------------------------------- */

typedef struct error_bins {
    double complex sum[CURVE_BINS];
} error_bins;

/* A vector whose angle is how far the true one is ahead of the model at a step, weighed by what it
 * tells; 0 for nothing. */
static double complex ahead_at(const problem *p, const step *e, const cvk_angle_fit *fit,
                               bool by_current)
{
    double complex x[X_MOST], y;
    if (by_current) {
        return current_equation(p, e, x, &y) ? cexp(I * creal(y)) : 0.0;
    }
    equation(p, e, x, &y);
    for (int n = 0; n < X_FLUX; n++) {
        y -= fit->electrical[n] * x[n];
    }
    return y * conj(x[X_FLUX]);
}

static void fill_bins(const problem *p, const steps *all, const cvk_angle_fit *fit, bool by_current,
                      error_bins *bins)
{
    memset(bins, 0, sizeof *bins);
    for (size_t k = 0; k < all->count; k++) {
        const step *e = &all->list[k];
        const double own = p->model->column->angle_rad[(e->a + e->b) / 2u] / (2.0 * PI);
        const int bin = (int)((own - floor(own)) * CURVE_BINS) % CURVE_BINS;
        bins->sum[bin] += ahead_at(p, e, fit, by_current);
    }
}

cvk_status cvk_angle_error_curve(const cvk_angle_data *d, const cvk_angle_model *m,
                                 const cvk_angle_fit *fit, bool by_current, cvk_error_curve *curve)
{
    problem p = {.data = d, .model = m, .delay = fit->delay_rows};
    error_bins before, after;
    steps all;
    if (!make_steps(d, m, MOST_EQUATIONS, &all)) {
        return CVK_NO_MEMORY;
    }
    want(&p, 0u);
    const bool halls = m->column->kind == CVK_SENSES_HALL;
    double mean = 0.0;
    for (int n = 0; n < 2 * CVK_HALL_EDGES && halls; n++) {
        mean += fit->value[CVK_AF_EDGES_UP + n] / (2.0 * CVK_HALL_EDGES);
    }
    for (int n = 0; n < CVK_AF_COSINE_1; n++) {
        p.around[n] = fit->value[n];
    }
    p.around[CVK_AF_OFFSET] += mean;
    fill_bins(&p, &all, fit, by_current, &before);
    memcpy(p.around, fit->value, sizeof p.around);
    fill_bins(&p, &all, fit, by_current, &after);
    free(all.list);
    curve->points = 0;
    for (int n = 0; n < CURVE_BINS; n++) {
        if (cabs(before.sum[n]) > 0.0 && cabs(after.sum[n]) > 0.0) {
            curve->sensor_rad[curve->points] = (n + 0.5) * 2.0 * PI / CURVE_BINS;
            curve->before_rad[curve->points] = carg(before.sum[n]);
            curve->after_rad[curve->points++] = carg(after.sum[n]);
        }
    }
    return CVK_OK;
}
