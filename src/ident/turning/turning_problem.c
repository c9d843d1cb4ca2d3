/* SPDX-License-Identifier: Apache-2.0
 *
 * Prediction errors of the filter over all blocks, what is known before as prior, and
 * Levenberg-Marquardt on both.
 */
#include "turning_problem.h"

#include "corvak/core/units.h"

#include "model/edges.h"
#include "math/lane_fit.h"
#include "math/numeric.h"
#include "math/parallel.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define N CVK_TM_COUNT
_Static_assert(N <= CVK_LANE_MOST, "lane_fit.h has no room for as many parameters");
#define PRIORS (N + 9)
#define KNEE_SHARE 0.02 /* of the peak current, as at standstill */
#define KNEE_SPREAD 1.5
#define OFFSET_SPREAD 0.02 /* of the peak current */
#define HARMONIC_SPREAD 0.02
#define UNEQUAL_SPREAD 0.01
#define BUS_OHM 5e-3 /* of a bus capacitor */
#define PUSH_S 0.02
/* Natural logarithm of Lq over Ld that motors have. */
#define SALIENCY_MEAN 0.2
#define SALIENCY_SPREAD 0.4
#define DROP_SPREAD 1.0 /* of the natural logarithm of CVK_TURNING_DROP */
/* Limits of the search: a delay in periods, and Lq over Ld. */
#define SMALLEST_DELAY (-1.5)
#define LARGEST_DELAY 3.5
#define LEAST_RATIO 0.1
#define LARGEST_RATIO 20.0
#define UNPHYSICAL 10.0    /* times as far from the prior */
#define MODEL_DOUBT 2500.0 /* see lane_fit.h */
#define EVEN_TURN 0.2      /* by which the shaft may turn more or less within an electrical turn */
#define WHOLE_RATIO 0.05
#define MOST_TURNS 0.9
#define LEAST_FOLLOWED 0.7 /* of the blocks */
#define ROWS_AFTER 6u      /* of a block: as far as a delay reaches */

/* A light rotor: its fastest speed is reached within PUSH_S at the peak current. */
static double largest_push(const cvk_turning_problem *f)
{
    double omega = 0.0;
    for (size_t b = 0; b < f->blocks.count; b++) {
        omega = fmax(omega, fabs(f->blocks.block[b].omega_rad_s));
    }
    return omega / PUSH_S / f->s->peak_current_a;
}

/* What the rotor column moves in a turn; NaN where it has a hole. */
static double moved_in(const cvk_waveforms *s, const cvk_turns *turns, size_t n)
{
    return fabs(s->theta_m[turns->end[n] - 1] - s->theta_m[turns->begin[n]]);
}

/* The rotor column turns with the motor, a whole number of times slower; one that is stuck, geared
 * or another shaft's says nothing of its magnets. */
static bool shaft_seen(const cvk_waveforms *s, const cvk_turns *turns)
{
    double sum = 0.0, even = 0.0;
    if (s->theta_m == NULL) {
        return false;
    }
    for (size_t n = 0; n < turns->count; n++) {
        const double moved = moved_in(s, turns, n);
        sum += isfinite(moved) ? moved : 0.0;
    }
    const double mean = sum / (double)turns->count, ratio = 2.0 * CVK_PI_WIDE / mean;
    for (size_t n = 0; n < turns->count; n++) {
        even += fabs(moved_in(s, turns, n) - mean) < EVEN_TURN * mean ? 1.0 : 0.0;
    }
    return round(ratio) >= 1.0 && fabs(ratio - round(ratio)) < WHOLE_RATIO * ratio &&
           even > MOST_TURNS * (double)turns->count;
}

/* Cosine and sine of the rotor column; null without memory. */
static double *shaft_of(const cvk_waveforms *s)
{
    double *shaft = malloc((2u * s->rows + 1u) * sizeof *shaft);
    for (size_t k = 0; shaft != NULL && k < s->rows; k++) {
        const bool fine = isfinite(s->theta_m[k]);
        shaft[2 * k] = fine ? cos(s->theta_m[k]) : 0.0;
        shaft[2 * k + 1] = fine ? sin(s->theta_m[k]) : 0.0;
    }
    return shaft;
}

bool cvk_turning_open(cvk_turning_problem *f, const cvk_waveforms *waveforms,
                      const cvk_turns *turns, int threads)
{
    const size_t rows = cvk_turning_rows(turns);
    const bool seen = shaft_seen(waveforms, turns);
    *f = (cvk_turning_problem){.s = &f->rippled,
                               .rippled = *waveforms,
                               .threads = threads,
                               .errors = malloc((2u * rows + 1u) * sizeof *f->errors),
                               .gains = malloc((rows + 1u) * sizeof *f->gains)};
    for (int n = 0; n < 2; n++) {
        f->clean[n] = malloc((waveforms->rows + 1u) * sizeof *f->clean[n]);
    }
    f->rippled.shaft = seen ? shaft_of(waveforms) : NULL;
    f->flat = f->rippled;
    f->flat.legs = NULL;
    return f->errors != NULL && f->gains != NULL && f->clean[0] != NULL && f->clean[1] != NULL &&
           (!seen || f->rippled.shaft != NULL);
}

void cvk_turning_close(cvk_turning_problem *f)
{
    free(f->rippled.shaft);
    free(f->clean[0]);
    free(f->clean[1]);
    free(f->gains);
    free(f->errors);
}

bool cvk_turning_prior(cvk_turning_problem *f, const cvk_belief *belief)
{
    const double peak_a = f->s->peak_current_a;
    double cov[N * N] = {0};
    for (int r = 0; r < CVK_B_COUNT; r++) {
        f->centre[r] = belief->mean[r];
        for (int c = 0; c < CVK_B_COUNT; c++) {
            cov[r * N + c] = belief->cov[r * CVK_B_COUNT + c];
        }
    }
    f->centre[CVK_TM_LOG_KNEE] = log(belief->knee_a > 0.0 ? belief->knee_a : KNEE_SHARE * peak_a);
    cov[CVK_TM_LOG_KNEE * (N + 1)] = belief->knee_a > 0.0 ? 0.05 * 0.05 : KNEE_SPREAD * KNEE_SPREAD;
    f->centre[CVK_TM_FIFTH] = f->centre[CVK_TM_SEVENTH] = 0.0;
    cov[CVK_TM_FIFTH * (N + 1)] = cov[CVK_TM_SEVENTH * (N + 1)] = HARMONIC_SPREAD * HARMONIC_SPREAD;
    f->centre[CVK_TM_OFFSET_ALPHA] = f->centre[CVK_TM_OFFSET_BETA] = 0.0;
    cov[CVK_TM_OFFSET_ALPHA * (N + 1)] = cov[CVK_TM_OFFSET_BETA * (N + 1)] =
        pow(OFFSET_SPREAD * peak_a, 2.0);
    f->centre[CVK_TM_BUS] = 0.0;
    cov[CVK_TM_BUS * (N + 1)] = BUS_OHM * BUS_OHM;
    f->centre[CVK_TM_LATE] = f->s->late_s;
    cov[CVK_TM_LATE * (N + 1)] =
        pow(f->s->late_unknown ? CVK_LATE_DOUBT_S : CVK_STATED_LATE_DOUBT_S, 2.0);
    for (int k = CVK_TM_UNEQUAL; k < CVK_TM_BUS; k++) {
        f->centre[k] = 0.0;
        cov[k * (N + 1)] = UNEQUAL_SPREAD * UNEQUAL_SPREAD;
    }
    f->centre[CVK_TM_PUSH] = 0.0;
    cov[CVK_TM_PUSH * (N + 1)] = pow(largest_push(f), 2.0);
    return cvk_whitening(N, cov, f->whiten);
}

/* Parameter sets that are filtered over all blocks: some of them over one block at a time. */
typedef struct lane_set {
    const cvk_turning_problem *f;
    int lanes;
    const double *const *p;
    double *const *out;
} lane_set;

static bool simulate_share(void *context, size_t turn)
{
    const lane_set *set = context;
    const cvk_turning_problem *f = set->f;
    const size_t b = turn % f->blocks.count;
    const int first = CVK_TM_LANES * (int)(turn / f->blocks.count);
    const int lanes = set->lanes - first < CVK_TM_LANES ? set->lanes - first : CVK_TM_LANES;
    double *here[CVK_TM_LANES];
    for (int n = 0; n < lanes; n++) {
        here[n] = set->out[first + n] + f->blocks.first_residual[b];
    }
    return cvk_tm_filter(f->s, &f->blocks.block[b], f->curve, f->gains + f->blocks.first_row[b],
                         lanes, set->p + first, here);
}

static void prior_rows(const cvk_turning_problem *f, const double p[N], double rows[PRIORS])
{
    for (int r = 0; r < N; r++) {
        double sum = 0.0;
        for (int c = 0; c <= r; c++) {
            sum += f->whiten[r * N + c] * (p[c] - f->centre[c]);
        }
        rows[r] = f->prior_sd * sum;
    }
    double saliency = log(p[CVK_B_L_Q] / p[CVK_B_L_D]);
    double drop = log(p[CVK_B_L_Q] * f->s->peak_current_a / p[CVK_B_FLUX]);
    rows[N] = f->prior_sd * (saliency - SALIENCY_MEAN) / SALIENCY_SPREAD;
    rows[N + 1] = f->prior_sd * (drop - log(CVK_TURNING_DROP)) / DROP_SPREAD;
    /* far from the motor these two would bend to what the others should explain */
    const double hold = f->prior_sd * sqrt((double)f->blocks.residual_rows);
    rows[N + 2] = f->hold_delay * hold * (p[CVK_B_DELAY] - f->start[CVK_B_DELAY]);
    for (int k = 0; k < 3; k++) { /* more current never makes more inductance */
        const int of = CVK_B_LINEAR_D + k;
        rows[N + 4 + k] = f->prior_sd * UNPHYSICAL * f->whiten[of * (N + 1)] * fmin(p[of], 0.0);
    }
    rows[N + 7] =
        f->prior_sd * UNPHYSICAL * f->whiten[CVK_TM_BUS * (N + 1)] * fmin(p[CVK_TM_BUS], 0.0);
    rows[N + 8] =
        f->prior_sd * UNPHYSICAL * f->whiten[CVK_TM_LATE * (N + 1)] * fmin(p[CVK_TM_LATE], 0.0);
    rows[N + 3] = f->hold_knee * hold * (p[CVK_TM_LOG_KNEE] - f->start[CVK_TM_LOG_KNEE]);
}

/* A fit that leaves this has lost the motor. */
static bool plausible(const double p[N])
{
    const double saliency = p[CVK_B_L_Q] / p[CVK_B_L_D];
    return p[CVK_B_DELAY] > SMALLEST_DELAY && p[CVK_B_DELAY] < LARGEST_DELAY &&
           saliency > LEAST_RATIO && saliency < LARGEST_RATIO;
}

static bool simulate(const void *context, int lanes, const double *const p[], double *const out[])
{
    const cvk_turning_problem *f = context;
    lane_set set = {f, lanes, p, out};
    for (int n = 0; n < lanes; n++) {
        if (!plausible(p[n])) {
            return false;
        }
    }
    const size_t shares = ((size_t)lanes + CVK_TM_LANES - 1u) / CVK_TM_LANES;
    if (!cvk_for_each(f->blocks.count * shares, f->threads, simulate_share, &set)) {
        return false;
    }
    for (int n = 0; n < lanes; n++) {
        prior_rows(f, p[n], out[n] + 2u * f->blocks.residual_rows);
    }
    return true;
}

/* The filter's gains for one parameter set. */
typedef struct gain_set {
    const cvk_turning_problem *f;
    const double *p;
} gain_set;

static bool gains_of_block(void *context, size_t b)
{
    const gain_set *set = context;
    const cvk_turning_problem *f = set->f;
    return cvk_tm_gains(f->s, &f->blocks.block[b], f->curve, &f->noise, set->p,
                        f->gains + f->blocks.first_row[b], f->errors + f->blocks.first_residual[b]);
}

static bool set_gains(const cvk_turning_problem *f, const double p[N])
{
    gain_set set = {f, p};
    return cvk_for_each(f->blocks.count, f->threads, gains_of_block, &set);
}

/* Of a block and a few rows after it; what was measured where the filter is not sure yet. */
static void clean_block(const cvk_turning_problem *f, size_t b, const double p[N], bool tracked)
{
    const cvk_waveforms *s = &f->rippled;
    const cvk_tm_block *block = &f->blocks.block[b];
    const size_t first = block->rows.begin + block->warm_up;
    const double *errors = f->errors + f->blocks.first_residual[b], none[2] = {0.0, 0.0};
    for (size_t k = block->rows.begin; k < block->rows.end + ROWS_AFTER && k < s->rows; k++) {
        const bool known = tracked && k >= first && k < block->rows.end;
        const double *error = known ? errors + 2 * (k - first) : none;
        f->clean[0][k] = s->i_alpha[k] - error[0] - p[CVK_TM_OFFSET_ALPHA];
        f->clean[1][k] = s->i_beta[k] - error[1] - p[CVK_TM_OFFSET_BETA];
    }
}

/* Edges of all blocks, from currents without noise. */
typedef struct edge_set {
    const cvk_turning_problem *f;
    cvk_waveforms clean;
    cvk_loss loss;
} edge_set;

static bool edges_of_block(void *context, size_t b)
{
    const edge_set *set = context;
    cvk_find_edges(&set->clean, set->f->blocks.block[b].rows, &set->loss);
    return true;
}

void cvk_turning_edges(cvk_turning_problem *f, const double p[N])
{
    const bool tracked = set_gains(f, p);
    edge_set set = {.f = f,
                    .clean = f->rippled,
                    .loss = {.dead_time_voltage_v = p[CVK_B_DEAD_TIME],
                             .knee_a = exp(p[CVK_TM_LOG_KNEE]),
                             .curve = f->curve,
                             .per_h = 0.5 / p[CVK_B_L_D] + 0.5 / p[CVK_B_L_Q],
                             .delay = lround(p[CVK_B_DELAY])}};
    set.clean.i_alpha = f->clean[0];
    set.clean.i_beta = f->clean[1];
    for (size_t b = 0; b < f->blocks.count; b++) {
        clean_block(f, b, p, tracked);
    }
    (void)cvk_for_each(f->blocks.count, f->threads, edges_of_block, &set);
}

/* Several sets, block by block. */
typedef struct comparison {
    const cvk_turning_problem *f;
    int lanes;
    const double *const *p;
    const cvk_tm_noise *noise;
    double (*squares)[CVK_TM_LANES]; /* of each block */
} comparison;

static bool compare_block(void *context, size_t b)
{
    const comparison *c = context;
    cvk_tm_compare(c->f->s, &c->f->blocks.block[b], c->f->curve, c->lanes, c->p, c->noise,
                   c->squares[b]);
    return true;
}

static void compare_lanes(const cvk_turning_problem *f, int lanes, const double *const p[],
                          const cvk_tm_noise noise[], double error_a[])
{
    double squares[CVK_TURNING_MOST_BLOCKS][CVK_TM_LANES];
    comparison c = {f, lanes, p, noise, squares};
    (void)cvk_for_each(f->blocks.count, f->threads, compare_block, &c);
    for (int n = 0; n < lanes; n++) {
        double sum = 0.0;
        for (size_t b = 0; b < f->blocks.count; b++) {
            sum += squares[b][n];
        }
        error_a[n] = sqrt(sum / (2.0 * (double)f->blocks.residual_rows));
    }
}

/* Which blocks the filter follows. */
typedef struct following {
    gain_set set;
    bool followed[CVK_TURNING_MOST_BLOCKS];
} following;

static bool try_block(void *context, size_t b)
{
    following *f = context;
    f->followed[b] = gains_of_block(&f->set, b);
    return true;
}

void cvk_turning_compare(const cvk_turning_problem *f, int count, const double *const p[],
                         const cvk_tm_noise noise[], double error_a[])
{
    for (int n = 0; n < count; n += CVK_TM_LANES) {
        const int lanes = count - n < CVK_TM_LANES ? count - n : CVK_TM_LANES;
        compare_lanes(f, lanes, p + n, noise + n, error_a + n);
    }
}

bool cvk_turning_drop_lost(cvk_turning_problem *f, const double p[N])
{
    following tried = {.set = {f, p}};
    cvk_turning_blocks kept = {.count = 0};
    (void)cvk_for_each(f->blocks.count, f->threads, try_block, &tried);
    for (size_t b = 0; b < f->blocks.count; b++) {
        if (tried.followed[b]) {
            cvk_add_block(&kept, &f->blocks.block[b]);
        }
    }
    const bool fine = (double)kept.count >= LEAST_FOLLOWED * (double)f->blocks.count;
    f->blocks = kept;
    return fine;
}

/* From `count` rows and columns to N; what the log does not show keeps its prior. */
static void widen(const cvk_turning_problem *f, int count, const double *from, double to[N * N])
{
    memset(to, 0, N * N * sizeof *to);
    for (int k = 0; k < count * count; k++) {
        to[k / count * N + k % count] = from[k];
    }
    for (int k = count; k < N; k++) {
        to[k * (N + 1)] = 1.0 / (f->whiten[k * (N + 1)] * f->whiten[k * (N + 1)]);
    }
}

/* How much each parameter is moved by, at first. */
static void set_scale(const cvk_turning_problem *f, const double p[N], double out[N])
{
    const double peak_a = f->s->peak_current_a;
    const double scale[N] = {
        [CVK_B_RESISTANCE] = p[CVK_B_RESISTANCE],
        [CVK_B_L_D] = p[CVK_B_L_D],
        [CVK_B_L_Q] = p[CVK_B_L_Q],
        [CVK_B_FLUX] = p[CVK_B_FLUX],
        [CVK_B_DEAD_TIME] = fmax(p[CVK_B_DEAD_TIME], 0.01 * p[CVK_B_RESISTANCE] * peak_a),
        [CVK_B_DELAY] = 1.0,
        [CVK_TM_LOG_KNEE] = 1.0,
        [CVK_TM_OFFSET_ALPHA] = 0.01 * peak_a,
        [CVK_TM_OFFSET_BETA] = 0.01 * peak_a,
        [CVK_B_LINEAR_D] = 0.1 / peak_a,
        [CVK_B_SQUARE_D] = 0.1 / (peak_a * peak_a),
        [CVK_B_SQUARE_Q] = 0.1 / (peak_a * peak_a),
        [CVK_TM_FIFTH] = 0.01,
        [CVK_TM_SEVENTH] = 0.01,
        [CVK_TM_PUSH] = 0.1 * largest_push(f),
        [CVK_TM_UNEQUAL] = 0.01,
        [CVK_TM_UNEQUAL + 1] = 0.01,
        [CVK_TM_UNEQUAL + 2] = 0.01,
        [CVK_TM_UNEQUAL + 3] = 0.01,
        [CVK_TM_BUS] = BUS_OHM,
        [CVK_TM_LATE] = CVK_LATE_DOUBT_S,
    };
    memcpy(out, scale, sizeof scale);
}

bool cvk_turning_fit_from(cvk_turning_problem *f, double p[N], int evaluations,
                          cvk_turning_result *result)
{
    const double peak_a = f->s->peak_current_a;
    const int count = f->hold_others ? CVK_TM_UNEQUAL : (f->hold_late ? CVK_TM_LATE : N);
    cvk_lane_problem lanes = {.count = count,
                              .held = N - count,
                              .delay = CVK_B_DELAY,
                              .data = 2u * f->blocks.residual_rows,
                              .priors = PRIORS,
                              .prior_sd = f->prior_sd,
                              .hopeless = 1e3 * peak_a,
                              .most_evaluations = evaluations,
                              .threads = f->threads,
                              .model_doubt = MODEL_DOUBT,
                              .context = f,
                              .simulate = simulate};
    cvk_lane_result lane_result;
    set_scale(f, p, lanes.scale);
    if (!set_gains(f, p) || !cvk_lane_fit(&lanes, p, &lane_result)) {
        return false;
    }
    memcpy(result->p, p, sizeof result->p);
    widen(f, count, lane_result.cov, result->cov);
    widen(f, count, lane_result.bound, result->bound);
    result->noise = f->noise;
    result->curve = f->curve;
    result->flat = f->s != &f->rippled;
    result->residual_a = lane_result.residual;
    result->colour = lane_result.colour;
    return true;
}
