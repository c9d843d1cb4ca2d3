/* SPDX-License-Identifier: Apache-2.0
 *
 * Output-error fit at standstill: Levenberg-Marquardt (MINPACK's lmder) on the simulated current.
 * The covariance is the sandwich H^-1 S H^-1 with S summed over blocks of neighbouring rows, which
 * stays right when residuals are coloured (White, Econometrica 50(1), 1982; block sums after
 * Newey, West, Econometrica 55(3), 1987).
 */
#include "standstill_problem.h"

#include "math/lane_fit.h"
#include "math/parallel.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define N CVK_SM_COUNT
#define MOST_ROWS 32768u /* of a longer log, evenly spread blocks are used */
#define BLOCK_ROWS 4096u
#define SCOUT_ROWS 8192u /* a first fit on fewer rows finds the neighbourhood quickly */
#define SCOUT_BLOCK_ROWS 1024u
#define WARM_UP_ROWS 512u /* simulated before a block so that its start is forgotten */
#define SMALLEST_BLOCK_ROWS 128u
#define KNEE_SPREAD 1.5 /* standard deviation of the knee's logarithm */
#define PRIORS 10
#define UNSEEN_SALIENCY 0.03
#define SATURATION_SPREAD 0.5 /* expected loss of inductance at the peak current, as a share */
#define UNBENT_SPREAD 0.002   /* while it is held near none */
#define SLOW_ROWS 64u         /* within which an injected current moves */
#define EXPECTED_MISFIT 1.1   /* of the noise: the residual of a model that fits */
#define OWN_WAY_DOUBT 0.03    /* of the inductances, and */
#define BEND_DOUBT 0.6        /* of what the bend takes at the peak: see add_inverter_doubt() */
#define SERIES_DOUBT 0.01     /* of the resistance, per share that an inductance loses */
#define ROWS_AFTER 6u         /* of a block: as far as a delay reaches */
#define MEASURED_DEAD 1e-5    /* as CVK_AVERAGED_DEAD, of voltages measured row by row */
/* Periods. How the bus moves within a period is not in a log, and an edge with 0.1 % more voltage
 * looks like this much delay. */
#define DELAY_FLOOR 0.004

static size_t kept_rows(const cvk_standstill_block *b)
{
    return b->rows.end - b->rows.begin - b->warm_up;
}

/* Rms of what moves within SLOW_ROWS rows: the injected current. */
static double moving_current(const cvk_standstill_problem *f)
{
    const cvk_waveforms *s = f->s;
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

/* Whole spans when they have at most `most` rows; otherwise blocks, evenly spread. */
static void choose_blocks(cvk_standstill_problem *f, const cvk_span *spans, size_t count,
                          size_t most, size_t block_rows)
{
    size_t total = 0;
    f->block_count = f->residual_rows = 0;
    for (size_t n = 0; n < count; n++) {
        total += spans[n].end - spans[n].begin;
    }
    const size_t stride = total > most ? total / (most / block_rows) : 0;
    for (size_t n = 0; n < count; n++) {
        size_t begin = spans[n].begin;
        while (f->block_count < CVK_STANDSTILL_BLOCKS) {
            size_t end = spans[n].end, warm_up = begin > spans[n].begin ? WARM_UP_ROWS : 0;
            if (begin + warm_up + SMALLEST_BLOCK_ROWS >= end) {
                break; /* nothing would be left after the warm-up */
            }
            if (stride > 0 && end - begin > block_rows) {
                end = begin + block_rows;
            }
            cvk_standstill_block b = {{begin, end}, warm_up, 2u * f->residual_rows};
            f->blocks[f->block_count++] = b;
            f->residual_rows += kept_rows(&b);
            begin = stride > 0 ? begin + stride : spans[n].end;
        }
    }
    f->moving_a = moving_current(f);
}

void cvk_standstill_all_rows(cvk_standstill_problem *f, const cvk_span *spans, size_t count)
{
    choose_blocks(f, spans, count, MOST_ROWS, BLOCK_ROWS);
}

void cvk_standstill_few_rows(cvk_standstill_problem *f, const cvk_span *spans, size_t count)
{
    choose_blocks(f, spans, count, SCOUT_ROWS, SCOUT_BLOCK_ROWS);
}

double cvk_standstill_largest_voltage(const cvk_standstill_problem *f)
{
    double largest = 1e-3;
    for (size_t b = 0; b < f->block_count; b++) {
        largest = fmax(largest, cvk_largest_voltage(f->s, f->blocks[b].rows));
    }
    return largest;
}

void cvk_standstill_scale(cvk_standstill_problem *f, const double p[N])
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

/* Weak priors keep what a log does not show from wandering off: one row each. */
static void prior_rows(const cvk_standstill_problem *f, const double p[N], double rows[PRIORS])
{
    rows[0] = f->noise_a * (p[CVK_SM_LOG_KNEE] - f->knee_centre) / KNEE_SPREAD;
    /* two terminals show one direction: what is across it must not grow without bound */
    const double spread = f->s->terminals[0] != '\0' ? UNSEEN_SALIENCY : 1.0;
    rows[1] = f->noise_a * p[CVK_SM_L_COS] / p[CVK_SM_L_MEAN] / spread;
    rows[2] = f->noise_a * p[CVK_SM_L_SIN] / p[CVK_SM_L_MEAN] / spread;
    const double peak_a = f->s->peak_current_a;
    const double weight = f->noise_a * peak_a / (f->unbent ? UNBENT_SPREAD : SATURATION_SPREAD);
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
    const cvk_standstill_problem *f;
    int lanes;
    const double *const *p;
    double *const *out;
} lane_set;

static bool simulate_block(void *context, size_t b)
{
    const lane_set *set = context;
    const cvk_standstill_problem *f = set->f;
    const cvk_standstill_block *here = &f->blocks[b];
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
    const cvk_standstill_problem *f = context;
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
static void add_voltage_doubt(const cvk_standstill_problem *f, cvk_standstill_fit *fit)
{
    const double doubt_v = f->s->voltage_doubt_v;
    const double resistance = doubt_v / f->s->peak_current_a;
    const double inductance = doubt_v / f->largest_v * fit->p[CVK_SM_L_MEAN];
    fit->cov[CVK_SM_RESISTANCE * (N + 1)] += resistance * resistance;
    for (int n = CVK_SM_L_MEAN; n <= CVK_SM_L_SIN; n++) {
        fit->cov[n * (N + 1)] += inductance * inductance;
    }
}

/* What the model leaves unexplained beyond the noise, such as noise of measured voltages, which a
 * small winding integrates, may have bent the parameters by about its share of the currents. */
static void add_misfit_doubt(const cvk_standstill_problem *f, cvk_standstill_fit *fit)
{
    const double expected_a = EXPECTED_MISFIT * f->noise_a;
    if (fit->residual_a < expected_a) {
        return;
    }
    const double excess_a = sqrt(fit->residual_a * fit->residual_a - expected_a * expected_a);
    const double r = excess_a / f->s->peak_current_a * fit->p[CVK_SM_RESISTANCE];
    const double l = 0.5 * excess_a / fmax(f->moving_a, excess_a) * fit->p[CVK_SM_L_MEAN];
    fit->cov[CVK_SM_RESISTANCE * (N + 1)] += r * r;
    for (int n = CVK_SM_L_MEAN; n <= CVK_SM_L_SIN; n++) {
        fit->cov[n * (N + 1)] += l * l;
    }
}

/* Within a period the inverter's own voltage moves the current by `way` times what is injected:
 * where that is no small part, the current stops at zero in the dead times, in which no curve of a
 * mean current follows it. And where the voltage still bends at the peak current, another curve
 * leaves another resistance. */
static void add_inverter_doubt(const cvk_standstill_problem *f, cvk_standstill_fit *fit)
{
    const double l_h = fit->p[CVK_SM_L_MEAN], own_v = fabs(fit->p[CVK_SM_DEAD_TIME]);
    const double way = own_v * f->s->period_s / l_h / fmax(f->moving_a, f->noise_a);
    const double doubt_h = OWN_WAY_DOUBT * way * (1.0 + way * way) * l_h;
    for (int n = CVK_SM_L_MEAN; n <= CVK_SM_L_SIN; n++) {
        fit->cov[n * (N + 1)] += doubt_h * doubt_h;
    }
    for (int n = CVK_SM_SQUARE_X; n <= CVK_SM_SQUARE_Y; n++) { /* what small currents show of L */
        const double doubt = doubt_h / l_h / (f->s->peak_current_a * f->s->peak_current_a);
        fit->cov[n * (N + 1)] += doubt * doubt;
    }
    const double peak_a = f->s->peak_current_a, bend = fit->knee_a / peak_a;
    const double doubt_ohm = BEND_DOUBT * own_v * fmin(bend, 1.0) / peak_a;
    fit->cov[CVK_SM_RESISTANCE * (N + 1)] += doubt_ohm * doubt_ohm;
}

/* A series of two terms follows what a current loses of an inductance only so far; an injection on
 * top of a level is rectified by the rest, which looks like resistance. */
static void add_series_doubt(const cvk_standstill_problem *f, cvk_standstill_fit *fit)
{
    const double peak_a = f->s->peak_current_a;
    const double loss =
        peak_a * (peak_a * fmax(fabs(fit->p[CVK_SM_SQUARE_X]), fabs(fit->p[CVK_SM_SQUARE_Y])) +
                  fabs(fit->p[CVK_SM_LINEAR_Y]));
    const double doubt_ohm = SERIES_DOUBT * fmin(loss, 1.0) * fit->p[CVK_SM_RESISTANCE];
    fit->cov[CVK_SM_RESISTANCE * (N + 1)] += doubt_ohm * doubt_ohm;
}

bool cvk_standstill_fit_curve(cvk_standstill_problem *f, int curve, cvk_standstill_fit *fit)
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
    fit->knee_a = cvk_sm_knee_a(fit->p, f->legs != NULL ? f->s->period_s : 0.0);
    memcpy(fit->bound, result.bound, sizeof fit->bound);
    fit->rows = f->residual_rows;
    add_voltage_doubt(f, fit);
    fit->cov[CVK_SM_DELAY * (N + 1)] += DELAY_FLOOR * DELAY_FLOOR;
    fit->residual_a = result.residual;
    add_misfit_doubt(f, fit);
    add_inverter_doubt(f, fit);
    add_series_doubt(f, fit);
    fit->converged = result.converged;
    fit->widened = result.widened[CVK_SM_RESISTANCE];
    fit->dof = CVK_LANE_DOF;
    return true;
}

cvk_loss cvk_standstill_loss(const cvk_standstill_fit *fit)
{
    return (cvk_loss){.dead_time_voltage_v = fit->p[CVK_SM_DEAD_TIME],
                      .knee_a = fit->knee_a,
                      .curve = fit->curve,
                      .per_h = 1.0 / fit->p[CVK_SM_L_MEAN],
                      .delay = lround(fit->p[CVK_SM_DELAY])};
}

/* A block's currents as a fit expects them, without offsets: in those there is less noise. */
static bool clean_block(const cvk_standstill_problem *f, const cvk_standstill_block *b,
                        const cvk_standstill_fit *fit, double *alpha, double *beta)
{
    const cvk_waveforms *s = f->s;
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
bool cvk_standstill_edges(const cvk_standstill_problem *f, const cvk_standstill_fit *fit)
{
    const cvk_loss loss = cvk_standstill_loss(fit);
    double *currents = malloc(2u * f->s->rows * sizeof *currents);
    cvk_waveforms clean = *f->s;
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
