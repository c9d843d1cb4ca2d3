/* SPDX-License-Identifier: Apache-2.0
 *
 * Output-error fit at standstill. Start values come from linear least squares at each plausible
 * whole delay; then Levenberg-Marquardt (MINPACK's lmder) on the simulated current. The shape of
 * the inverter's curve is unknown: several are fitted and averaged by their likelihood.
 * The covariance is the sandwich H^-1 S H^-1 with S summed over blocks of neighbouring rows, which
 * stays right when residuals are coloured (White, Econometrica 50(1), 1982; block sums after
 * Newey, West, Econometrica 55(3), 1987).
 */
#include "standstill.h"

#include "edges.h"
#include "lane_fit.h"
#include "numeric.h"
#include "parallel.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define PI 3.14159265358979323846
#define N CVK_SM_COUNT
#define MOST_ROWS 32768u /* of a longer log, evenly spread blocks are used */
#define BLOCK_ROWS 4096u
#define SCOUT_ROWS 8192u /* a first fit on fewer rows finds the neighbourhood quickly */
#define SCOUT_BLOCK_ROWS 1024u
#define WARM_UP_ROWS 512u /* simulated before a block so that its start is forgotten */
#define SMALLEST_BLOCK_ROWS 128u
#define MOST_BLOCKS 64u
#define START_ROWS 20000u    /* equations used for the start values */
#define SALIENCY_WEIGHT 0.01 /* against what the rows say of it */
#define KNEE_SHARE 0.02      /* knee current expected, share of the peak current */
#define KNEE_SPREAD 1.5      /* standard deviation of its logarithm */
/* Curves are weighed as if this many residuals were independent; one below the weight is left out.
 */
#define INDEPENDENT_SAMPLES 500.0
#define SMALLEST_WEIGHT 1e-2
#define LARGE_MISFIT 1.3 /* of the noise */
/* Evaluations of the misfit in one fit. A scout comes from far away; a full fit starts close by,
 * and only at a whole delay, where the misfit has a corner, would it need more for its last digits.
 */
#define SMALL_SALIENCY                                                                             \
    0.1                     /* (Lq - Ld) / (Lq + Ld) below which the axes' direction is tried out, \
                             */
#define SMALL_LOSS 0.01     /* of inductance at the peak current, below which that is idle */
#define TRIAL_SALIENCY 0.03 /* from this much */
#define DIRECTIONS 4
#define SCOUT_EVALUATIONS 30
#define OTHER_EVALUATIONS 10
#define TURN_EVALUATIONS 4
#define FULL_EVALUATIONS 15
#define QUICK_EVALUATIONS 4
#define PROFILE_EVALUATIONS 20
#define PROFILE_REACH 3.5 /* deviations to each side */
#define SURE_OF_NORTH 4.0 /* deviations of the slope that tells it */
#define EDGE_ROUNDS 3
#define ROWS_AFTER 6u       /* of a block: as far as a delay reaches */
#define LIKELIER 0.97       /* in residual */
#define EDGES_FIT 1.05      /* of the noise: they are found without a doubt */
#define SLOW_ROWS 64u       /* within which an injected current moves */
#define EXPECTED_MISFIT 2.0 /* of the noise: the residual of a model that fits */
#define HELD_SHARPLY 100.0
#define MEASURED_DEAD 1e-5 /* as CVK_AVERAGED_DEAD, of voltages measured row by row */
/* Periods. How the bus moves within a period is not in a log, and an edge with 0.1 % more voltage
 * looks like this much delay. */
#define DELAY_FLOOR 0.004

typedef struct block {
    cvk_span rows;
    size_t warm_up, first_residual;
} block;

typedef struct problem {
    const cvk_signals *s;
    block blocks[MOST_BLOCKS];
    size_t block_count, residual_rows;
    const cvk_legs *legs; /* of each row, where the edges are in the model; or null */
    int threads, curve, most_evaluations;
    double scale[N];
    double noise_a, knee_centre, largest_v;
    bool no_inverter;      /* voltages that show none of its own: measured at the terminals */
    double hold_ohm, hold; /* resistance held there, as sharply as one over `hold`; 0: free */
} problem;

static size_t kept_rows(const block *b)
{
    return b->rows.end - b->rows.begin - b->warm_up;
}

/* Whole spans when they have at most `most` rows; otherwise blocks, evenly spread. */
static void choose_blocks(problem *f, const cvk_span *spans, size_t count, size_t most,
                          size_t block_rows)
{
    size_t total = 0;
    f->block_count = f->residual_rows = 0;
    for (size_t n = 0; n < count; n++) {
        total += spans[n].end - spans[n].begin;
    }
    const size_t stride = total > most ? total / (most / block_rows) : 0;
    for (size_t n = 0; n < count; n++) {
        size_t begin = spans[n].begin;
        while (f->block_count < MOST_BLOCKS) {
            size_t end = spans[n].end, warm_up = begin > spans[n].begin ? WARM_UP_ROWS : 0;
            if (begin + warm_up + SMALLEST_BLOCK_ROWS >= end) {
                break; /* nothing would be left after the warm-up */
            }
            if (stride > 0 && end - begin > block_rows) {
                end = begin + block_rows;
            }
            block b = {{begin, end}, warm_up, 2u * f->residual_rows};
            f->blocks[f->block_count++] = b;
            f->residual_rows += kept_rows(&b);
            begin = stride > 0 ? begin + stride : spans[n].end;
        }
    }
}

/* Rms of the measurement noise from second differences, robust against steps (median). */
static double noise_of(const problem *f)
{
    const cvk_signals *s = f->s;
    double values[4001];
    size_t count = 0, stride = f->residual_rows / 2000u + 1u;
    for (size_t b = 0; b < f->block_count; b++) {
        for (size_t k = f->blocks[b].rows.begin + 2; k < f->blocks[b].rows.end && count < 4000u;
             k += stride) {
            values[count++] = fabs(s->i_alpha[k] - 2.0 * s->i_alpha[k - 1] + s->i_alpha[k - 2]);
            values[count++] = fabs(s->i_beta[k] - 2.0 * s->i_beta[k - 1] + s->i_beta[k - 2]);
        }
    }
    /* median of |x| is 0.6745 sigma; a second difference has variance 6 sigma^2 */
    return fmax(cvk_median(values, count) / 0.6745 / sqrt(6.0), 1e-9);
}

static double largest_voltage(const problem *f)
{
    double largest = 1e-3;
    for (size_t b = 0; b < f->block_count; b++) {
        for (size_t k = f->blocks[b].rows.begin; k < f->blocks[b].rows.end; k++) {
            largest = fmax(largest, hypot(f->s->v_alpha[k], f->s->v_beta[k]));
        }
    }
    return largest;
}

/* Largest distance of the current from its mean over the blocks: offsets do not count. */
static double swing_of(const problem *f)
{
    const cvk_signals *s = f->s;
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

/* Linear least squares at a whole delay over steps of three periods (a longer step is less
 * disturbed by noise): v = R i + L di/dt + dead * direction. Returns the residual's square sum, or
 * infinity. Unknowns: R, L_mean, L_cos, L_sin, dead-time voltage. */
static double linear_start(const problem *f, long delay, double knee_a, double x[5])
{
    enum { STEP = 3, UNKNOWNS = 5 };
    const cvk_signals *s = f->s;
    size_t stride = f->residual_rows / START_ROWS + 1u;
    size_t most = 2u * (f->residual_rows / stride + f->block_count) + 2u;
    double slopes = 0.0;
    double *a = calloc(most * UNKNOWNS, sizeof *a), *b = calloc(most, sizeof *b);
    size_t m = 0;
    double result = INFINITY;
    for (size_t n = 0; a != NULL && b != NULL && n < f->block_count; n++) {
        cvk_span rows = f->blocks[n].rows;
        for (size_t k = rows.begin + 4; k + STEP + 2 < rows.end && m + 4 <= most; k += stride) {
            double v[2] = {0}, i[2] = {0}, u[2] = {0};
            for (size_t j = k; j < k + STEP; j++) {
                double mid_alpha = 0.5 * (s->i_alpha[j] + s->i_alpha[j + 1]);
                double mid_beta = 0.5 * (s->i_beta[j] + s->i_beta[j + 1]), direction[2];
                cvk_curve_vector(mid_alpha, mid_beta, 1.0 / knee_a, CVK_CURVE_ROUND, direction);
                v[0] += s->v_alpha[(size_t)((long)j - delay)] / STEP;
                v[1] += s->v_beta[(size_t)((long)j - delay)] / STEP;
                i[0] += mid_alpha / STEP;
                i[1] += mid_beta / STEP;
                u[0] += direction[0] / STEP;
                u[1] += direction[1] / STEP;
            }
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

static bool start_values(const problem *f, double p[N])
{
    double best = INFINITY, knee_a = exp(f->knee_centre);
    memset(p, 0, N * sizeof *p);
    for (long delay = -1; delay <= 3; delay++) {
        double x[5] = {0};
        double misfit = linear_start(f, delay, knee_a, x);
        if (misfit < best && x[0] > 0.0 && x[1] > 0.0) {
            best = misfit;
            p[CVK_SM_RESISTANCE] = x[0];
            p[CVK_SM_L_MEAN] = x[1];
            p[CVK_SM_L_COS] = x[2];
            p[CVK_SM_L_SIN] = x[3];
            p[CVK_SM_DEAD_TIME] = fmax(x[4], 0.0);
            p[CVK_SM_DELAY] = (double)delay + 0.05;
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

/* Weak priors keep what a log does not show from wandering off: one row each. */
enum { PRIORS = 10 };
#define UNSEEN_SALIENCY 0.03
#define SATURATION_SPREAD 0.5 /* expected loss of inductance at the peak current, as a share */

static void prior_rows(const problem *f, const double p[N], double rows[PRIORS])
{
    rows[0] = f->noise_a * (p[CVK_SM_LOG_KNEE] - f->knee_centre) / KNEE_SPREAD;
    /* two terminals show one direction: what is across it must not grow without bound */
    const double spread = f->s->terminals[0] != '\0' ? UNSEEN_SALIENCY : 1.0;
    rows[1] = f->noise_a * p[CVK_SM_L_COS] / p[CVK_SM_L_MEAN] / spread;
    rows[2] = f->noise_a * p[CVK_SM_L_SIN] / p[CVK_SM_L_MEAN] / spread;
    const double peak_a = f->s->peak_current_a, weight = f->noise_a * peak_a / SATURATION_SPREAD;
    rows[3] = weight * peak_a * p[CVK_SM_SQUARE_X];
    rows[4] = weight * peak_a * p[CVK_SM_SQUARE_Y];
    rows[5] = weight * p[CVK_SM_LINEAR_Y];
    rows[9] = weight * p[CVK_SM_CROSS];
    const bool averaged = f->s->path == CVK_PATH_AVERAGED;
    const double known = averaged || f->no_inverter ? f->noise_a : 0.0;
    rows[6] = (averaged ? f->noise_a : 0.0) * p[CVK_SM_DELAY] / CVK_AVERAGED_DELAY;
    rows[8] = f->hold > 0.0 ? f->noise_a * (p[CVK_SM_RESISTANCE] - f->hold_ohm) * f->hold : 0.0;
    rows[7] = known * p[CVK_SM_DEAD_TIME] /
              ((averaged ? CVK_AVERAGED_DEAD : MEASURED_DEAD) * f->largest_v);
}

/* Parameter sets that are simulated together, block by block. */
typedef struct lane_set {
    const problem *f;
    int lanes;
    const double *const *p;
    double *const *out;
} lane_set;

static bool simulate_block(void *context, size_t b)
{
    const lane_set *set = context;
    const problem *f = set->f;
    const block *here = &f->blocks[b];
    double *out[CVK_SM_LANES];
    for (int n = 0; n < set->lanes; n++) {
        out[n] = set->out[n] + here->first_residual;
    }
    return cvk_sm_simulate(f->s, f->legs, here->rows, here->warm_up, f->curve, set->lanes, set->p,
                           out);
}

/* Simulates `lanes` parameter sets over all blocks; lane n's residuals start at out[n]. */
static bool simulate(const void *context, int lanes, const double *const p[], double *const out[])
{
    const problem *f = context;
    lane_set set = {f, lanes, p, out};
    if (!cvk_for_each(f->block_count, f->threads, simulate_block, &set)) {
        return false;
    }
    for (int n = 0; n < lanes; n++) {
        prior_rows(f, p[n], out[n] + 2u * f->residual_rows);
    }
    return true;
}

/* Voltages that are off by a constant at each level: as much of the resistance, and the same share
 * of the inductances. */
static void add_voltage_doubt(const problem *f, cvk_standstill_fit *fit)
{
    const double doubt_v = f->s->voltage_doubt_v;
    const double resistance = doubt_v / f->s->peak_current_a;
    const double inductance = doubt_v / f->largest_v * fit->p[CVK_SM_L_MEAN];
    fit->cov[CVK_SM_RESISTANCE * (N + 1)] += resistance * resistance;
    for (int n = CVK_SM_L_MEAN; n <= CVK_SM_L_SIN; n++) {
        fit->cov[n * (N + 1)] += inductance * inductance;
    }
}

/* Rms of what moves within SLOW_ROWS rows: the injected current. */
static double moving_current(const problem *f)
{
    const cvk_signals *s = f->s;
    double square = 0.0, rows = 0.0;
    for (size_t b = 0; b < f->block_count; b++) {
        const cvk_span span = f->blocks[b].rows;
        for (size_t k = span.begin; k + SLOW_ROWS <= span.end; k += SLOW_ROWS) {
            double sum[2] = {0.0, 0.0}, own = 0.0;
            for (size_t j = k; j < k + SLOW_ROWS; j++) {
                sum[0] += s->i_alpha[j];
                sum[1] += s->i_beta[j];
                own += s->i_alpha[j] * s->i_alpha[j] + s->i_beta[j] * s->i_beta[j];
            }
            square += own - (sum[0] * sum[0] + sum[1] * sum[1]) / SLOW_ROWS;
            rows += SLOW_ROWS;
        }
    }
    return rows > 0.0 ? sqrt(square / rows) : 0.0;
}

/* What the model leaves unexplained beyond the noise, such as noise of measured voltages, which a
 * small winding integrates, may have bent the parameters by about its share of the currents. */
static void add_misfit_doubt(const problem *f, cvk_standstill_fit *fit)
{
    const double expected_a = EXPECTED_MISFIT * f->noise_a;
    if (fit->residual_a < expected_a) {
        return;
    }
    const double excess_a = sqrt(fit->residual_a * fit->residual_a - expected_a * expected_a);
    const double r = excess_a / f->s->peak_current_a * fit->p[CVK_SM_RESISTANCE];
    const double l = 0.25 * excess_a / fmax(moving_current(f), excess_a) * fit->p[CVK_SM_L_MEAN];
    fit->cov[CVK_SM_RESISTANCE * (N + 1)] += r * r;
    for (int n = CVK_SM_L_MEAN; n <= CVK_SM_L_SIN; n++) {
        fit->cov[n * (N + 1)] += l * l;
    }
}

static bool fit_curve(problem *f, int curve, cvk_standstill_fit *fit)
{
    cvk_lane_problem lanes = {.count = N,
                              .delay = CVK_SM_DELAY,
                              .data = 2u * f->residual_rows,
                              .priors = PRIORS,
                              .prior_sd = f->noise_a,
                              .hopeless = 1e3 * f->s->peak_current_a,
                              .most_evaluations = f->most_evaluations,
                              .threads = f->threads,
                              .context = f,
                              .simulate = simulate};
    cvk_lane_result result;
    memcpy(lanes.scale, f->scale, sizeof f->scale);
    f->curve = fit->curve = curve;
    if (!cvk_lane_fit(&lanes, fit->p, &result)) {
        return false;
    }
    memcpy(fit->cov, result.cov, sizeof fit->cov);
    memcpy(fit->bound, result.bound, sizeof fit->bound);
    fit->rows = f->residual_rows;
    add_voltage_doubt(f, fit);
    fit->cov[CVK_SM_DELAY * (N + 1)] += DELAY_FLOOR * DELAY_FLOOR;
    fit->residual_a = result.residual;
    add_misfit_doubt(f, fit);
    fit->converged = result.converged;
    fit->widened = result.widened[CVK_SM_RESISTANCE];
    fit->dof = CVK_LANE_DOF;
    return true;
}

/* How much a fit counts beside the best one: its likelihood, residuals taken for as coloured as
 * they often are. */
static double weight_of(const cvk_standstill_fit *fit, const cvk_standstill_fit *best,
                        double samples)
{
    double ratio = fit->residual_a / best->residual_a;
    return exp(-0.5 * fmin(samples, INDEPENDENT_SAMPLES) * (ratio * ratio - 1.0));
}

static const cvk_standstill_fit *best_of(const cvk_standstill_fit fits[], int count)
{
    int best = 0;
    for (int k = 1; k < count; k++) {
        best = fits[k].residual_a < fits[best].residual_a ? k : best;
    }
    return &fits[best];
}

/* Average of the curves' fits, weighted by likelihood; their spread adds to the covariance. */
static void average_curves(const problem *f, const cvk_standstill_fit fits[], int count,
                           cvk_standstill_fit *out)
{
    double weight[CVK_CURVES], total = 0.0;
    const cvk_standstill_fit *best = best_of(fits, count);
    for (int k = 0; k < count; k++) {
        weight[k] = weight_of(&fits[k], best, 2.0 * (double)f->residual_rows);
        total += weight[k];
    }
    *out = *best;
    memset(out->p, 0, sizeof out->p);
    memset(out->cov, 0, sizeof out->cov);
    for (int k = 0; k < count; k++) {
        for (int n = 0; n < N; n++) {
            out->p[n] += weight[k] / total * fits[k].p[n];
        }
    }
    for (int k = 0; k < count; k++) {
        for (int e = 0; e < N * N; e++) {
            double spread = (fits[k].p[e / N] - out->p[e / N]) * (fits[k].p[e % N] - out->p[e % N]);
            out->cov[e] += weight[k] / total * (fits[k].cov[e] + spread);
        }
    }
}

static void set_scale(problem *f, const double p[N])
{
    double peak_a = f->s->peak_current_a;
    const double scale[N] = {
        [CVK_SM_RESISTANCE] = p[CVK_SM_RESISTANCE],
        [CVK_SM_L_MEAN] = p[CVK_SM_L_MEAN],
        [CVK_SM_L_COS] = p[CVK_SM_L_MEAN],
        [CVK_SM_L_SIN] = p[CVK_SM_L_MEAN],
        [CVK_SM_DEAD_TIME] = fmax(p[CVK_SM_DEAD_TIME], 0.01 * p[CVK_SM_RESISTANCE] * peak_a),
        [CVK_SM_LOG_KNEE] = 1.0,
        [CVK_SM_DELAY] = 1.0,
        [CVK_SM_OFFSET_ALPHA] = 0.01 * peak_a,
        [CVK_SM_OFFSET_BETA] = 0.01 * peak_a,
        [CVK_SM_SQUARE_X] = 0.1 / (peak_a * peak_a),
        [CVK_SM_SQUARE_Y] = 0.1 / (peak_a * peak_a),
        [CVK_SM_LINEAR_Y] = 0.1 / peak_a,
        [CVK_SM_CROSS] = 0.1 / peak_a,
    };
    memcpy(f->scale, scale, sizeof scale);
}

/* Axes that saturate unlike each other have a direction although their inductances at small current
 * may be alike: then no small step finds it, and a few directions are tried. */
static void turn_axes(problem *f, cvk_standstill_fit *fit)
{
    const cvk_standstill_fit found = *fit;
    const double mean = found.p[CVK_SM_L_MEAN], square = pow(f->s->peak_current_a, 2.0);
    const double loss = square * hypot(found.p[CVK_SM_SQUARE_X], found.p[CVK_SM_SQUARE_Y]);
    if (hypot(found.p[CVK_SM_L_COS], found.p[CVK_SM_L_SIN]) > SMALL_SALIENCY * mean ||
        loss < SMALL_LOSS) {
        return;
    }
    cvk_standstill_fit best = {.residual_a = INFINITY};
    f->most_evaluations = TURN_EVALUATIONS;
    for (int n = 0; n < DIRECTIONS; n++) {
        const double angle = 2.0 * PI * n / DIRECTIONS;
        cvk_standstill_fit trial = found;
        trial.p[CVK_SM_L_COS] = TRIAL_SALIENCY * mean * cos(angle);
        trial.p[CVK_SM_L_SIN] = TRIAL_SALIENCY * mean * sin(angle);
        if (fit_curve(f, found.curve, &trial) && trial.residual_a < best.residual_a) {
            best = trial;
        }
    }
    f->most_evaluations = SCOUT_EVALUATIONS;
    if (isfinite(best.residual_a) && fit_curve(f, found.curve, &best) &&
        best.residual_a < fit->residual_a) {
        *fit = best;
    }
}

/* A knee that has run off to nothing takes the inverter's voltage with it and does not come back: a
 * fit that misses by more than the noise is begun again from wider knees. */
static void try_wider_knees(problem *f, const cvk_standstill_fit *start, cvk_standstill_fit *fit)
{
    static const double factors[] = {3.0, 10.0};
    for (size_t n = 0; n < sizeof factors / sizeof factors[0]; n++) {
        cvk_standstill_fit trial = *start;
        trial.p[CVK_SM_LOG_KNEE] += log(factors[n]);
        if (fit->residual_a > LARGE_MISFIT * f->noise_a && fit_curve(f, fit->curve, &trial) &&
            trial.residual_a < fit->residual_a) {
            *fit = trial;
        }
    }
}

/* Start values and noise, from all rows that are used. */
static bool start(problem *f, const cvk_span *spans, size_t count, cvk_standstill_fit *from)
{
    *from = (cvk_standstill_fit){.curve = CVK_CURVE_ROUND};
    choose_blocks(f, spans, count, MOST_ROWS, BLOCK_ROWS);
    if (f->residual_rows < 200u) {
        return false;
    }
    f->noise_a = from->noise_a = noise_of(f);
    f->largest_v = largest_voltage(f);
    if (swing_of(f) < 10.0 * f->noise_a) {
        return false;
    }
    f->knee_centre = log(fmax(KNEE_SHARE * f->s->peak_current_a, 2.0 * f->noise_a));
    if (!start_values(f, from->p)) {
        return false;
    }
    set_scale(f, from->p);
    return true;
}

/* A quick fit of one curve on few rows. */
static bool scout_first(problem *f, const cvk_standstill_fit *from, cvk_standstill_fit *fit)
{
    *fit = *from;
    f->most_evaluations = SCOUT_EVALUATIONS;
    if (!fit_curve(f, CVK_CURVE_ROUND, fit)) {
        return false;
    }
    try_wider_knees(f, from, fit);
    return true;
}

/* And of the others, from the best so far on, or from `from` when there is none. Returns how many
 * there are now. */
static int scout_others(problem *f, const cvk_standstill_fit *from, int good,
                        cvk_standstill_fit fits[CVK_CURVES])
{
    static const int others[] = {CVK_CURVE_TANH, CVK_CURVE_CLIPPED, CVK_CURVE_ARC, CVK_CURVE_CHARGE,
                                 CVK_CURVE_SOFT};
    for (size_t k = 0; k < sizeof others / sizeof others[0]; k++) {
        fits[good] = good > 0 ? *best_of(fits, good) : *from;
        f->most_evaluations = good > 0 ? OTHER_EVALUATIONS : SCOUT_EVALUATIONS;
        good += fit_curve(f, others[k], &fits[good]);
    }
    return good;
}

/* The full fit, only for curves that may count: begun with the best, and left early when it falls
 * behind. Returns how many. */
static int fit_likely_curves(problem *f, cvk_standstill_fit scouts[CVK_CURVES], int scouted,
                             double samples, cvk_standstill_fit fits[CVK_CURVES])
{
    const int first = (int)(best_of(scouts, scouted) - scouts);
    const cvk_standstill_fit best = scouts[first];
    int good = 0;
    scouts[first] = scouts[0];
    scouts[0] = best;
    for (int k = 0; k < scouted; k++) {
        /* one that does not fit on all rows says nothing about the others */
        if (good > 0 && weight_of(&scouts[k], &best, samples) < SMALLEST_WEIGHT) {
            continue;
        }
        fits[good] = scouts[k];
        f->most_evaluations = good > 0 ? QUICK_EVALUATIONS : FULL_EVALUATIONS;
        bool fine = fit_curve(f, scouts[k].curve, &fits[good]);
        if (good > 0 && fine && !fits[good].converged) {
            f->most_evaluations = FULL_EVALUATIONS;
            fine = weight_of(&fits[good], best_of(fits, good), samples) > SMALLEST_WEIGHT &&
                   fit_curve(f, scouts[k].curve, &fits[good]);
        }
        good += fine;
    }
    return good;
}

/* Fits on few rows, flat or at the edges. */
typedef struct family {
    const cvk_legs *legs;
    cvk_standstill_fit fits[CVK_CURVES];
    int count;
} family;

static const cvk_standstill_fit *best_in(const family *of)
{
    return best_of(of->fits, of->count);
}

/* Duties of an inverter, row by row. */
static bool shows_edges(const problem *f)
{
    return f->s->legs != NULL && !f->no_inverter && cvk_row_each_period(f->s);
}

static cvk_loss loss_of(const cvk_standstill_fit *fit)
{
    return (cvk_loss){.dead_time_voltage_v = fit->p[CVK_SM_DEAD_TIME],
                      .knee_a = exp(fit->p[CVK_SM_LOG_KNEE]),
                      .curve = fit->curve,
                      .per_h = 1.0 / fit->p[CVK_SM_L_MEAN],
                      .delay = lround(fit->p[CVK_SM_DELAY])};
}

/* A block's currents as a fit expects them, without offsets: in those there is less noise. */
static bool clean_block(const problem *f, const block *b, const cvk_standstill_fit *fit,
                        double *alpha, double *beta)
{
    const cvk_signals *s = f->s;
    const cvk_span rows = {b->rows.begin,
                           b->rows.end + ROWS_AFTER < s->rows ? b->rows.end + ROWS_AFTER : s->rows};
    double *residual = malloc(2u * (rows.end - rows.begin) * sizeof *residual);
    const double *lane = fit->p;
    const bool fine =
        residual != NULL && cvk_sm_simulate(s, f->legs, rows, 0, fit->curve, 1, &lane, &residual);
    for (size_t k = rows.begin; fine && k < rows.end; k++) {
        const size_t at = 2u * (k - rows.begin);
        alpha[k] = s->i_alpha[k] - residual[at] - fit->p[CVK_SM_OFFSET_ALPHA];
        beta[k] = s->i_beta[k] - residual[at + 1] - fit->p[CVK_SM_OFFSET_BETA];
    }
    free(residual);
    return fine;
}

/* The edges of all blocks by a fit. */
static bool find_edges(const problem *f, const cvk_standstill_fit *fit)
{
    const cvk_loss loss = loss_of(fit);
    double *currents = malloc(2u * f->s->rows * sizeof *currents);
    cvk_signals clean = *f->s;
    clean.i_alpha = currents;
    clean.i_beta = currents + f->s->rows;
    bool fine = currents != NULL;
    for (size_t b = 0; b < f->block_count && fine; b++) {
        fine = clean_block(f, &f->blocks[b], fit, clean.i_alpha, clean.i_beta);
        if (fine) {
            cvk_find_edges(&clean, f->blocks[b].rows, &loss);
        }
    }
    free(currents);
    return fine;
}

/* From a flat fit: the inverter's voltage at the edges, which the ripple moves.
 */
static void scout_edges(problem *f, const cvk_standstill_fit *flat, family *edged)
{
    /* a current that moves the leg's charge is likeliest, and taken unless another is clearly so */
    static const int curves[] = {CVK_CURVE_CHARGE, CVK_CURVE_ROUND, CVK_CURVE_TANH, CVK_CURVE_ARC};
    cvk_standstill_fit likely = *flat;
    edged->count = 0;
    bool fine = shows_edges(f);
    for (int round = 0; round < EDGE_ROUNDS && fine; round++) { /* what is found moves them */
        fine = find_edges(f, &likely);
        edged->legs = f->legs = f->s->legs;
        f->most_evaluations = OTHER_EVALUATIONS;
        fine = fine && fit_curve(f, CVK_CURVE_CHARGE, &likely);
        if (fine && round == 0) {
            turn_axes(f, &likely);
        }
    }
    for (size_t k = 0; fine && k < sizeof curves / sizeof curves[0]; k++) {
        edged->fits[edged->count] = edged->count > 0 ? *best_in(edged) : likely;
        f->most_evaluations = edged->count > 0 ? OTHER_EVALUATIONS : SCOUT_EVALUATIONS;
        edged->count += fit_curve(f, curves[k], &edged->fits[edged->count]);
    }
    if (edged->count > 0 && best_in(edged)->residual_a > LIKELIER * edged->fits[0].residual_a) {
        edged->count = 1;
    }
    f->legs = NULL;
}

/* The flat family, of which the first member may have been found. */
static int scout_flat(problem *f, const cvk_standstill_fit *from, family *flat)
{
    if (flat->count > 0) {
        turn_axes(f, &flat->fits[0]);
    }
    if (f->no_inverter) { /* then there is no curve to choose */
        return fit_curve(f, CVK_CURVE_ROUND, &flat->fits[0]);
    }
    return scout_others(f, from, flat->count, flat->fits);
}

/* Both families of fits on few rows. Other curves are not tried where one at the edges fits. */
static bool scout(problem *f, const cvk_span *spans, size_t count, double worst_ratio, family *flat,
                  family *edged)
{
    cvk_standstill_fit from;
    flat->count = edged->count = 0;
    flat->legs = NULL;
    if (!start(f, spans, count, &from)) {
        return false;
    }
    choose_blocks(f, spans, count, SCOUT_ROWS, SCOUT_BLOCK_ROWS);
    if (scout_first(f, &from, &flat->fits[0])) {
        cvk_standstill_fit *first = &flat->fits[0];
        flat->count = 1;
        if (first->residual_a > worst_ratio * f->noise_a) {
            return false;
        }
        f->no_inverter =
            f->s->path == CVK_PATH_AVERAGED ||
            (f->s->path == CVK_PATH_MEASURED && first->p[CVK_SM_DEAD_TIME] < CVK_SMALLEST_OWN_V);
        scout_edges(f, first, edged);
    }
    if (edged->count == 0 || best_in(edged)->residual_a > EDGES_FIT * f->noise_a ||
        best_in(edged)->residual_a > best_in(flat)->residual_a) {
        flat->count = scout_flat(f, &from, flat);
    }
    if (flat->count > 0 && edged->count == 0) {
        scout_edges(f, best_in(flat), edged);
    }
    return flat->count > 0 && best_in(flat)->residual_a <= worst_ratio * f->noise_a;
}

/* The full fit from the scouts on, averaged. */
static bool fit_fully(problem *f, const cvk_span *spans, size_t count, family *of, double samples,
                      cvk_standstill_fit *fit)
{
    cvk_standstill_fit fits[CVK_CURVES];
    f->legs = of->legs;
    choose_blocks(f, spans, count, MOST_ROWS, BLOCK_ROWS);
    if (f->legs != NULL && !find_edges(f, best_in(of))) {
        return false;
    }
    const int good = of->count > 0 ? fit_likely_curves(f, of->fits, of->count, samples, fits) : 0;
    if (good > 0) {
        average_curves(f, fits, good, fit);
        fit->at_edges = f->legs != NULL;
    }
    return good > 0;
}

/* At the edges, or flat where few rows clearly show that better. */
cvk_status cvk_standstill_fit_spans(const cvk_signals *signals, const cvk_span *spans, size_t count,
                                    int threads, double worst_ratio, cvk_standstill_fit *fit)
{
    problem f = {.s = signals, .threads = threads};
    family flat, edged;
    if (!scout(&f, spans, count, worst_ratio, &flat, &edged)) {
        return CVK_NOT_IN_LOG;
    }
    const double samples = 2.0 * (double)f.residual_rows;
    if (edged.count > 0 && LIKELIER * best_in(&edged)->residual_a < best_in(&flat)->residual_a &&
        fit_fully(&f, spans, count, &edged, samples, fit)) {
        return CVK_OK;
    }
    return fit_fully(&f, spans, count, &flat, samples, fit) ? CVK_OK : CVK_NOT_IN_LOG;
}

void cvk_standstill_belief(const cvk_standstill_fit *fit, const cvk_belief *start,
                           cvk_belief *belief)
{
    const double *p = fit->p;
    double saliency = hypot(p[CVK_SM_L_COS], p[CVK_SM_L_SIN]);
    double c = saliency > 0.0 ? p[CVK_SM_L_COS] / saliency : 1.0;
    double s = saliency > 0.0 ? p[CVK_SM_L_SIN] / saliency : 0.0;
    /* d(parameter)/d(fitted parameter) */
    double map[CVK_B_COUNT][N] = {{0}};
    map[CVK_B_RESISTANCE][CVK_SM_RESISTANCE] = 1.0;
    map[CVK_B_L_D][CVK_SM_L_MEAN] = map[CVK_B_L_Q][CVK_SM_L_MEAN] = 1.0;
    map[CVK_B_L_D][CVK_SM_L_COS] = -c;
    map[CVK_B_L_D][CVK_SM_L_SIN] = -s;
    map[CVK_B_L_Q][CVK_SM_L_COS] = c;
    map[CVK_B_L_Q][CVK_SM_L_SIN] = s;
    map[CVK_B_DEAD_TIME][CVK_SM_DEAD_TIME] = 1.0;
    map[CVK_B_DELAY][CVK_SM_DELAY] = 1.0;
    map[CVK_B_LINEAR_D][CVK_SM_LINEAR_Y] = p[CVK_SM_LINEAR_Y] < 0.0 ? -1.0 : 1.0;
    map[CVK_B_SQUARE_D][CVK_SM_SQUARE_Y] = 1.0;
    map[CVK_B_SQUARE_Q][CVK_SM_SQUARE_X] = 1.0;

    *belief = *start;
    belief->mean[CVK_B_RESISTANCE] = p[CVK_SM_RESISTANCE];
    belief->mean[CVK_B_L_D] = p[CVK_SM_L_MEAN] - saliency;
    belief->mean[CVK_B_L_Q] = p[CVK_SM_L_MEAN] + saliency;
    belief->mean[CVK_B_DEAD_TIME] = p[CVK_SM_DEAD_TIME];
    belief->mean[CVK_B_DELAY] = p[CVK_SM_DELAY];
    /* Which way along the axis the magnet points is not seen, but it saturates its own way: there
     * the inductance falls. */
    belief->mean[CVK_B_LINEAR_D] = fabs(p[CVK_SM_LINEAR_Y]);
    belief->mean[CVK_B_SQUARE_D] = p[CVK_SM_SQUARE_Y];
    belief->mean[CVK_B_SQUARE_Q] = p[CVK_SM_SQUARE_X];
    for (int r = 0; r < CVK_B_COUNT; r++) {
        for (int q = 0; q < CVK_B_COUNT; q++) {
            if (r == CVK_B_FLUX || q == CVK_B_FLUX) {
                continue;
            }
            double sum = 0.0;
            for (int e = 0; e < N * N; e++) {
                sum += map[r][e / N] * fit->cov[e] * map[q][e % N];
            }
            belief->cov[r * CVK_B_COUNT + q] = sum;
        }
    }
    belief->dof = fit->dof;
    belief->knee_a = exp(p[CVK_SM_LOG_KNEE]);
    belief->curve = fit->curve;
}

bool cvk_standstill_cross(const cvk_standstill_fit *fit, double *value, double *variance)
{
    const double magnet = fit->p[CVK_SM_LINEAR_Y];
    *value = copysign(1.0, magnet) * fit->p[CVK_SM_CROSS];
    *variance = fit->cov[CVK_SM_CROSS * (N + 1)];
    return fabs(magnet) > SURE_OF_NORTH * sqrt(fit->cov[CVK_SM_LINEAR_Y * (N + 1)]);
}

/* With the resistance held at values around that of `best`. */
static void profile_of(problem *f, cvk_standstill_fit best, cvk_curve *curve)
{
    enum { EACH_SIDE = 8 };
    if (!fit_curve(f, best.curve, &best)) {
        return;
    }
    const double deviation = sqrt(best.cov[CVK_SM_RESISTANCE]);
    const double least = best.residual_a * best.residual_a;
    f->hold = HELD_SHARPLY / deviation;
    curve->points = 2 * EACH_SIDE + 1;
    for (int side = -1; side <= 1; side += 2) { /* outwards, each from the one before */
        cvk_standstill_fit held = best;
        for (int n = 0; n <= EACH_SIDE; n++) {
            const int at = EACH_SIDE + side * n;
            const double off = side * PROFILE_REACH * n / EACH_SIDE;
            for (int k = 0; k < N && n > 0; k++) { /* where the others go with it, to first order */
                held.p[k] += side * PROFILE_REACH / EACH_SIDE *
                             best.cov[k * N + CVK_SM_RESISTANCE] / deviation;
            }
            f->hold_ohm = best.p[CVK_SM_RESISTANCE] + off * deviation;
            if (n > 0 && !fit_curve(f, best.curve, &held)) {
                curve->points = 0;
                return;
            }
            const double worse = held.residual_a * held.residual_a / least - 1.0;
            curve->x[at] = f->hold_ohm;
            curve->y[at] = 2.0 * (double)f->residual_rows * worse / best.widened;
            curve->fit[at] = off * off;
        }
    }
}

void cvk_standstill_profile(const cvk_signals *signals, const cvk_span *spans, size_t count,
                            const cvk_standstill_fit *fit, cvk_curve *curve)
{
    problem f = {.s = signals,
                 .legs = fit->at_edges ? signals->legs : NULL,
                 .noise_a = fit->noise_a,
                 .most_evaluations = PROFILE_EVALUATIONS};
    curve->points = 0;
    choose_blocks(&f, spans, count, SCOUT_ROWS, SCOUT_BLOCK_ROWS);
    f.largest_v = largest_voltage(&f);
    f.knee_centre = fit->p[CVK_SM_LOG_KNEE];
    set_scale(&f, fit->p);
    if (!fit->at_edges || find_edges(&f, fit)) {
        profile_of(&f, *fit, curve);
    }
}

/* The longest span's last part: a few periods of the injected current, measured and fitted, along
 * the direction in which it moves most. */
static void step_curve(const cvk_signals *s, cvk_span span, const cvk_standstill_fit *fit,
                       cvk_curve *curve)
{
    size_t length = span.end - span.begin, shown = 80;
    size_t keep = length > 8192u ? 8192u : length;
    cvk_span rows = {span.end - keep, span.end};
    double *residual = malloc(2u * keep * sizeof *residual);
    const double *lane = fit->p;
    if (residual != NULL && keep > 2u * shown &&
        cvk_sm_simulate(s, fit->at_edges ? s->legs : NULL, rows, 0, fit->curve, 1, &lane,
                        &residual)) {
        /* the stretch with the largest movement */
        size_t best = rows.begin + shown;
        double best_travel = -1.0;
        for (size_t k = rows.begin + shown; k + shown < rows.end; k += shown / 2u) {
            double travel = 0.0;
            for (size_t j = k; j < k + shown; j++) {
                travel += hypot(s->i_alpha[j + 1] - s->i_alpha[j], s->i_beta[j + 1] - s->i_beta[j]);
            }
            if (travel > best_travel) {
                best_travel = travel;
                best = k;
            }
        }
        double reach_alpha = 0.0, reach_beta = 0.0;
        for (size_t j = best; j < best + shown; j++) {
            double sign = s->i_alpha[j] >= 0.0 ? 1.0 : -1.0;
            reach_alpha += fabs(s->i_alpha[j]);
            reach_beta += sign * s->i_beta[j];
        }
        double length_a = hypot(reach_alpha, reach_beta);
        double ca = length_a > 0.0 ? reach_alpha / length_a : 1.0;
        double cb = length_a > 0.0 ? reach_beta / length_a : 0.0;
        curve->points = shown;
        for (size_t j = 0; j < shown; j++) {
            size_t row = best + j, at = 2u * (row - rows.begin);
            double ia = s->i_alpha[row] - fit->p[CVK_SM_OFFSET_ALPHA];
            double ib = s->i_beta[row] - fit->p[CVK_SM_OFFSET_BETA];
            curve->x[j] = (double)j * s->period_s;
            curve->y[j] = ca * ia + cb * ib;
            curve->fit[j] = curve->y[j] - ca * residual[at] - cb * residual[at + 1];
        }
    }
    free(residual);
}

/* Where voltage and current have stood still for a while: one point each. */
static void line_curve(const cvk_signals *s, cvk_span span, const cvk_standstill_fit *fit,
                       cvk_curve *curve)
{
    const size_t hold = 100, settle = 200;
    size_t still = 0, since = span.begin;
    for (size_t k = span.begin + 1; k < span.end && curve->points < CVK_CURVE_POINTS; k++) {
        double moved = hypot(s->v_alpha[k] - s->v_alpha[since], s->v_beta[k] - s->v_beta[since]);
        double length = hypot(s->v_alpha[k], s->v_beta[k]);
        still = moved < 0.015 * length ? still + 1 : 0;
        since = still == 0 ? k : since;
        if (still < settle + hold) {
            continue;
        }
        double i[2] = {0}, v[2] = {0};
        for (size_t j = k - hold + 1; j <= k; j++) {
            i[0] += (s->i_alpha[j] - fit->p[CVK_SM_OFFSET_ALPHA]) / (double)hold;
            i[1] += (s->i_beta[j] - fit->p[CVK_SM_OFFSET_BETA]) / (double)hold;
            v[0] += s->v_alpha[j] / (double)hold;
            v[1] += s->v_beta[j] / (double)hold;
        }
        double reach = hypot(i[0], i[1]), sign = i[0] + 0.5 * i[1] >= 0.0 ? 1.0 : -1.0;
        if (reach > 10.0 * fit->noise_a) {
            size_t at = curve->points++;
            curve->x[at] = sign * reach;
            curve->y[at] = sign * (v[0] * i[0] + v[1] * i[1]) / reach;
            curve->fit[at] = sign * reach * fit->p[CVK_SM_RESISTANCE];
        }
        still = 0;
        since = k;
    }
}

/* The misfit at the end of the span, and its autocorrelation. */
static void residual_curves(const cvk_signals *s, cvk_span span, const cvk_standstill_fit *fit,
                            cvk_curve *trace, cvk_curve *correlation)
{
    enum { ROWS = 4096, LAGS = 60 };
    const size_t rows = span.end - span.begin < ROWS ? span.end - span.begin : ROWS;
    const cvk_span part = {span.end - rows, span.end};
    const double *lane = fit->p;
    double *residual = malloc(2u * rows * sizeof *residual), square = 0.0;
    if (residual == NULL || rows < 4u * LAGS ||
        !cvk_sm_simulate(s, fit->at_edges ? s->legs : NULL, part, 0, fit->curve, 1, &lane,
                         &residual)) {
        free(residual);
        return;
    }
    for (size_t k = 0; k < 2u * rows; k++) {
        square += residual[k] * residual[k];
    }
    const size_t stride = rows / CVK_CURVE_POINTS + 1u;
    trace->points = correlation->points = 0;
    for (size_t k = 0; k < rows; k += stride) {
        trace->x[trace->points] = (double)(part.begin + k) * s->period_s;
        trace->y[trace->points] = residual[2u * k];
        trace->fit[trace->points++] = 1.96 * fit->noise_a;
    }
    for (size_t lag = 0; lag <= LAGS; lag++) {
        double sum = 0.0;
        for (size_t k = 2u * lag; k < 2u * rows; k++) { /* alpha with alpha, beta with beta */
            sum += residual[k] * residual[k - 2u * lag];
        }
        correlation->x[lag] = (double)lag;
        correlation->y[lag] = sum / square;
        correlation->fit[lag] = 1.96 / sqrt(2.0 * (double)rows);
        correlation->points++;
    }
    free(residual);
}

void cvk_standstill_curves(const cvk_signals *signals, const cvk_span *spans, size_t count,
                           const cvk_standstill_fit *fit, cvk_estimate *out)
{
    out->step.points = out->line.points = 0;
    out->line_knee_a = exp(fit->p[CVK_SM_LOG_KNEE]);
    out->line_curve = fit->curve;
    if (fit->at_edges) {
        const cvk_loss loss = loss_of(fit);
        cvk_find_edges(signals, (cvk_span){0, signals->rows}, &loss);
    }
    for (size_t n = 0; n < count; n++) {
        line_curve(signals, spans[n], fit, &out->line);
        step_curve(signals, spans[n], fit, &out->step);
        residual_curves(signals, spans[n], fit, &out->residual, &out->correlation);
    }
}
