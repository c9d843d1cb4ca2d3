/* SPDX-License-Identifier: Apache-2.0
 *
 * Prediction-error fit of the turning motor (Ljung, System Identification, 2nd ed., 1999, ch. 7).
 * Start values come from linear least squares at each whole delay; the filter's noises are those
 * with the smallest prediction error; then Levenberg-Marquardt with what is known before as prior.
 */
#include "turning_fit.h"

#include "edges.h"
#include "lane_fit.h"
#include "numeric.h"
#include "parallel.h"
#include "turning_start.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define N CVK_TM_COUNT
#define PRIORS (N + 4)
#define PI 3.14159265358979323846
#define MOST_BLOCKS 64u
#define MOST_ROWS 24576u
#define BLOCK_ROWS 2048u
#define SCOUT_ROWS 6144u
#define SCOUT_BLOCK_ROWS 768u
#define WARM_UP_ROWS 256u
#define SMALLEST_BLOCK_ROWS 128u
#define FEWEST_TURNS 2u
#define FEWEST_BLOCKS 5.0
#define INTEREST_STRIDE 4u
#define STEADY_SHARE 0.1
#define START_ROWS 40000u
#define SHOWN_TURNS 4.0       /* electrical, in a figure */
#define START_KNEE_SHARE 0.03 /* of the peak current */
#define MOST_STARTS 12
#define MOST_SETTLED 4
#define NIMBLE 10.0
#define GOOD_FIT 1.1      /* times the noise: then no other start is tried, */
#define HELD_DELAY 0.3    /* periods */
#define HELD_KNEE 0.3     /* of its natural logarithm */
#define FAIR_FIT 1.2      /* or not more than two */
#define MOST_SURPRISE 1.2 /* prediction error over that on the rows of the start */
#define FIRST_EVALUATIONS 20
#define SCOUT_EVALUATIONS 8
#define FULL_EVALUATIONS 7
#define MOST_ROUNDS 6      /* of fits and filter noises */
#define MOST_NOISE_STEPS 4 /* in one direction */
#define NOISE_STEP 3.2
#define LEAST_GAIN 0.999    /* in prediction error, for another noise */
#define LARGEST_MISFIT 2.0  /* prediction error over the noise of a sample, of a used result */
#define TYPICAL_DROP 0.15   /* across the inductance at the peak current, share of back-EMF */
#define TYPICAL_R_DROP 0.05 /* the same across the resistance */
#define LEAST_SHARE 0.3     /* of what is typical: below it least squares has found nothing */
#define KNEE_SHARE 0.02     /* as at standstill */
#define KNEE_SPREAD 1.5
#define OFFSET_SPREAD 0.02 /* of the peak current */
#define HARMONIC_SPREAD 0.02
/* Natural logarithm of Lq over Ld that motors have. */
#define SALIENCY_MEAN 0.2
#define SALIENCY_SPREAD 0.4
#define DROP_SPREAD 1.0 /* of the natural logarithm of TYPICAL_DROP */
/* What iron loss and cross-saturation, which are in no model, make of a value that only a turning
 * motor shows (bench_accuracy): relative deviations. */
#define FLOOR_R 0.01
#define FLOOR_LD 0.07
#define FLOOR_LQ 0.03
#define FLOOR_FLUX 0.0015
/* Limits of the search: a delay in periods, and Lq over Ld. */
#define SMALLEST_DELAY (-1.5)
#define LARGEST_DELAY 3.5
#define LEAST_RATIO 0.4
#define LARGEST_RATIO 10.0
/* A ratio of Lq to Ld beyond these is no motor, but a log that shows neither. */
#define SMALLEST_SALIENCY 0.9
#define LARGEST_SALIENCY 6.0
/* The q inductance is what a turning motor shows best: below this sharpness, a share of its value,
 * neither is believed. */
#define USEFUL_LQ 0.1
#define DELAY_FLOOR 0.004 /* as at standstill */
#define CURVE_EVALUATIONS 6
#define WHOLE_SPREAD 0.05 /* periods, of a delay about a whole number of them */
#define WHOLE_LOSS 1.03   /* in prediction error, at most */
#define FLAT_GAIN 0.99    /* in prediction error */
#define MOST_FITS (MOST_SETTLED + 4)
/* Of the inverter's voltage that is expected: less is not believed. */
#define LEAST_INVERTER_SHARE 0.3
#define SHAPE_DOUBT 0.12   /* of it, at currents like the knee's */
#define WIDE_KNEE 0.3      /* of the peak current */
#define WIDE_DROP 0.6      /* inverter's voltage over that of the resistance at the wide knee */
#define MODEL_DOUBT 1000.0 /* see lane_fit.h */
#define INDEPENDENT_SAMPLES 300.0 /* at most, in weighing curves by their likelihood */
#define LARGEST_COLOUR 1e4        /* prediction errors more alike than that say nothing */

typedef struct problem {
    const cvk_signals *s;
    cvk_tm_block block[MOST_BLOCKS];
    size_t first_row[MOST_BLOCKS], first_residual[MOST_BLOCKS]; /* of each, in `gains` and out */
    size_t block_count, rows, residual_rows;
    int threads;
    int curve;
    bool thorough;              /* every start is to be tried; */
    bool exhausted;             /* it was */
    const cvk_signals *rippled; /* the log; */
    cvk_signals flat;           /* and the same with edges that know no ripple */
    cvk_tm_noise noise;
    double hold_delay, hold_knee; /* stay near those of the start, as sharply */
    double start[N];
    double centre[N];     /* of the prior */
    double whiten[N * N]; /* prior's lower factor: whiten * (p - centre) has unit deviation */
    double prior_sd;
    cvk_tm_gain *gains; /* of all blocks */
    double *errors;     /* prediction errors that came with them */
} problem;

/* ---- blocks --------------------------------------------------------------------------------- */

/* Turns first .. last-1. The filter finds its angle within a turn: that much is its warm-up. */
static void add_block(problem *f, const cvk_turns *turns, size_t first, size_t last)
{
    double c[3];
    const size_t begin = turns->begin[first], end = turns->end[last - 1];
    size_t known = first;
    while (known + 1 < last && turns->end[known] - begin < WARM_UP_ROWS) {
        known++;
    }
    const size_t warm_up = turns->end[known] - begin;
    if (end - begin < warm_up + SMALLEST_BLOCK_ROWS || cvk_currentless(f->s, begin, end)) {
        return;
    }
    cvk_fit_phase(turns->phase, begin, begin + warm_up, c);
    double half = 0.5 * ((double)warm_up - 1.0);
    f->first_row[f->block_count] = f->rows;
    f->first_residual[f->block_count] = 2u * f->residual_rows;
    f->block[f->block_count++] = (cvk_tm_block){
        .rows = {begin, end},
        .warm_up = warm_up,
        .theta_rad = c[0] - half * (c[1] - half * c[2]) - cvk_phase_lead(c[1] / f->s->period_s),
        .omega_rad_s = (c[1] - 2.0 * half * c[2]) / f->s->period_s};
    f->rows += end - begin;
    f->residual_rows += end - begin - warm_up;
}

static size_t turning_rows(const cvk_turns *turns)
{
    size_t total = 0;
    for (size_t n = 0; n < turns->count; n++) {
        total += turns->end[n] - turns->begin[n];
    }
    return total;
}

/* How much rows tell beside others: how the current's length varies, which tells resistance and
 * inductance apart from the back-EMF, and a little for any current. */
static double interest_of(const cvk_signals *s, cvk_span rows)
{
    double sum = 0.0, square = 0.0;
    for (size_t k = rows.begin; k < rows.end; k += INTEREST_STRIDE) {
        const double now = s->i_alpha[k] * s->i_alpha[k] + s->i_beta[k] * s->i_beta[k];
        sum += sqrt(now);
        square += now;
    }
    const double count = ceil((double)(rows.end - rows.begin) / INTEREST_STRIDE);
    return square / count - (1.0 - STEADY_SHARE) * (sum / count) * (sum / count);
}

/* The end of the block that begins with turn `first`: at least `block_rows` rows and FEWEST_TURNS
 * turns without a break, or all there are. */
static size_t end_of_block(const cvk_turns *turns, size_t first, size_t block_rows)
{
    size_t last = first + 1;
    while (
        last < turns->count && turns->joined[last] &&
        (last - first < FEWEST_TURNS || turns->end[last - 1] - turns->begin[first] < block_rows)) {
        last++;
    }
    return last;
}

/* Rows of a block, mean over the log. */
static double block_length(const cvk_turns *turns, size_t block_rows)
{
    double rows = 0.0, count = 0.0;
    for (size_t first = 0; first < turns->count;) {
        const size_t last = end_of_block(turns, first, block_rows);
        if (last - first >= FEWEST_TURNS) {
            rows += (double)(turns->end[last - 1] - turns->begin[first]);
            count += 1.0;
        }
        first = last;
    }
    return rows / fmax(count, 1.0);
}

/* About `most` rows: the log is cut into as many parts as there may be blocks, and of each part
 * the block that tells most is taken. */
static void choose_blocks(problem *f, const cvk_turns *turns, size_t most, size_t block_rows)
{
    const size_t total = turning_rows(turns);
    const double length = block_length(turns, block_rows);
    const size_t parts =
        total > most ? (size_t)fmax((double)most / length, FEWEST_BLOCKS) : MOST_BLOCKS;
    size_t passed = 0, part = 0, best_first = 0, best_last = 0;
    double best = -1.0;
    f->block_count = f->rows = f->residual_rows = 0;
    for (size_t first = 0; first < turns->count;) {
        const size_t last = end_of_block(turns, first, block_rows);
        const cvk_span rows = {turns->begin[first], turns->end[last - 1]};
        const size_t now = passed * parts / total;
        if (now > part && best >= 0.0) {
            add_block(f, turns, best_first, best_last);
            best = -1.0;
        }
        part = now;
        if (last - first >= FEWEST_TURNS && f->block_count < MOST_BLOCKS) {
            const double interest = interest_of(f->s, rows);
            if (interest > best) {
                best = interest;
                best_first = first;
                best_last = last;
            }
        }
        passed += rows.end - rows.begin;
        first = last;
    }
    if (best >= 0.0 && f->block_count < MOST_BLOCKS) {
        add_block(f, turns, best_first, best_last);
    }
}

/* ---- prior and start ------------------------------------------------------------------------ */

static bool set_prior(problem *f, const cvk_belief *belief)
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
    return cvk_whitening(N, cov, f->whiten);
}

/* Values at whole delay `delay`; what is known before is kept. The phase is too rough to show the
 * inductances: they start from what is typical. */
static bool start_values(const problem *f, const cvk_turns *turns, const cvk_belief *belief,
                         long delay, double p[N])
{
    const double peak = f->s->peak_current_a;
    const double knee_a = belief->knee_a > 0.0 ? belief->knee_a : START_KNEE_SHARE * peak;
    double x[CVK_START_COUNT] = {0};
    problem wide = *f;
    choose_blocks(&wide, turns, START_ROWS, SCOUT_BLOCK_ROWS);
    const cvk_start_rows rows = {f->s, wide.block, wide.block_count, f->curve};
    if (!cvk_turning_start(&rows, turns, delay, knee_a, x)) {
        return false;
    }
    const double flux = hypot(x[CVK_B_FLUX], x[CVK_START_ACROSS]);
    const double typical_r = TYPICAL_R_DROP * fabs(f->block[0].omega_rad_s) * flux / peak;
    memcpy(p, f->centre, N * sizeof *p);
    const struct {
        int b;
        double value;
    } found[] = {{CVK_B_RESISTANCE,
                  x[CVK_B_RESISTANCE] > LEAST_SHARE * typical_r ? x[CVK_B_RESISTANCE] : typical_r},
                 {CVK_B_L_D, TYPICAL_DROP * flux / peak},
                 {CVK_B_L_Q, TYPICAL_DROP * flux / peak},
                 {CVK_B_FLUX, flux}};
    for (size_t n = 0; n < sizeof found / sizeof found[0]; n++) {
        if (!cvk_belief_knows(belief, found[n].b, 0.3)) {
            p[found[n].b] = found[n].value;
        }
    }
    if (f->s->pwm_hz <= 0.0 && !cvk_belief_knows(belief, CVK_B_DELAY, 0.3)) {
        p[CVK_B_DELAY] = (double)delay + 0.05;
    }
    if (f->s->pwm_hz <= 0.0 && !(belief->knee_a > 0.0)) {
        const double typical_v = f->centre[CVK_B_DEAD_TIME];
        p[CVK_B_DEAD_TIME] =
            x[CVK_B_DEAD_TIME] > LEAST_SHARE * typical_v ? x[CVK_B_DEAD_TIME] : typical_v;
        p[CVK_TM_LOG_KNEE] = log(knee_a);
    }
    return true;
}

/* ---- the misfit ----------------------------------------------------------------------------- */

/* Parameter sets that are filtered over all blocks: some of them over one block at a time. */
typedef struct lane_set {
    const problem *f;
    int lanes;
    const double *const *p;
    double *const *out;
} lane_set;

static bool simulate_share(void *context, size_t turn)
{
    const lane_set *set = context;
    const problem *f = set->f;
    const size_t b = turn % f->block_count;
    const int first = CVK_TM_LANES * (int)(turn / f->block_count);
    const int lanes = set->lanes - first < CVK_TM_LANES ? set->lanes - first : CVK_TM_LANES;
    double *here[CVK_TM_LANES];
    for (int n = 0; n < lanes; n++) {
        here[n] = set->out[first + n] + f->first_residual[b];
    }
    return cvk_tm_filter(f->s, &f->block[b], f->curve, f->gains + f->first_row[b], lanes,
                         set->p + first, here);
}

static void prior_rows(const problem *f, const double p[N], double rows[PRIORS])
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
    rows[N + 1] = f->prior_sd * (drop - log(TYPICAL_DROP)) / DROP_SPREAD;
    /* far from the motor these two would bend to what the others should explain */
    const double hold = f->prior_sd * sqrt((double)f->residual_rows);
    rows[N + 2] = f->hold_delay * hold * (p[CVK_B_DELAY] - f->start[CVK_B_DELAY]);
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
    const problem *f = context;
    lane_set set = {f, lanes, p, out};
    for (int n = 0; n < lanes; n++) {
        if (!plausible(p[n])) {
            return false;
        }
    }
    const size_t shares = ((size_t)lanes + CVK_TM_LANES - 1u) / CVK_TM_LANES;
    if (!cvk_for_each(f->block_count * shares, f->threads, simulate_share, &set)) {
        return false;
    }
    for (int n = 0; n < lanes; n++) {
        prior_rows(f, p[n], out[n] + 2u * f->residual_rows);
    }
    return true;
}

/* The filter's gains for one parameter set. */
typedef struct gain_set {
    const problem *f;
    const double *p;
} gain_set;

static bool gains_of_block(void *context, size_t b)
{
    const gain_set *set = context;
    const problem *f = set->f;
    return cvk_tm_gains(f->s, &f->block[b], f->curve, &f->noise, set->p, f->gains + f->first_row[b],
                        f->errors + f->first_residual[b]);
}

static bool set_gains(const problem *f, const double p[N])
{
    gain_set set = {f, p};
    return cvk_for_each(f->block_count, f->threads, gains_of_block, &set);
}

/* Rms prediction error; infinity when the filter runs away. */
static double misfit(problem *f, const double p[N])
{
    double sum = 0.0;
    if (!set_gains(f, p)) {
        return INFINITY;
    }
    for (size_t k = 0; k < 2u * f->residual_rows; k++) {
        sum += f->errors[k] * f->errors[k];
    }
    return sqrt(sum / (2.0 * (double)f->residual_rows));
}

/* Multiplies a noise by `step` as long as that lessens the prediction error, which is returned. */
static double walk_noise(problem *f, const double p[N], double *noise, double step, double best)
{
    for (int times = 0; times < MOST_NOISE_STEPS; times++) {
        const double kept = *noise;
        *noise *= step;
        double now = misfit(f, p);
        if (!(now < LEAST_GAIN * best)) {
            *noise = kept;
            break;
        }
        best = now;
    }
    return best;
}

/* Smallest prediction error over the filter's three process noises, from the present ones on or
 * from `modest` ones, as a motor has them that is well known. */
static double tune_noise(problem *f, const double p[N], const cvk_tm_noise *modest)
{
    double *const noises[] = {&f->noise.speed_rad_s, &f->noise.magnet, &f->noise.flux_wb};
    const cvk_tm_noise present = f->noise;
    double best = misfit(f, p);
    f->noise = *modest;
    const double with_modest = misfit(f, p);
    if (with_modest < best) {
        best = with_modest;
    } else {
        f->noise = present;
    }
    for (size_t n = 0; n < sizeof noises / sizeof noises[0]; n++) {
        const double before = best;
        best = walk_noise(f, p, noises[n], NOISE_STEP, best);
        if (best == before) {
            best = walk_noise(f, p, noises[n], 1.0 / NOISE_STEP, best);
        }
    }
    return best;
}

static bool fit(problem *f, double p[N], int evaluations, cvk_turning_result *result)
{
    const double peak_a = f->s->peak_current_a;
    cvk_lane_problem lanes = {.count = N,
                              .delay = CVK_B_DELAY,
                              .data = 2u * f->residual_rows,
                              .priors = PRIORS,
                              .prior_sd = f->prior_sd,
                              .hopeless = 1e3 * peak_a,
                              .most_evaluations = evaluations,
                              .model_doubt = MODEL_DOUBT,
                              .context = f,
                              .simulate = simulate};
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
    };
    cvk_lane_result lane_result;
    memcpy(lanes.scale, scale, sizeof scale);
    if (!set_gains(f, p) || !cvk_lane_fit(&lanes, p, &lane_result)) {
        return false;
    }
    memcpy(result->p, p, sizeof result->p);
    memcpy(result->cov, lane_result.cov, sizeof result->cov);
    result->noise = f->noise;
    result->curve = f->curve;
    result->flat = f->s != f->rippled;
    result->residual_a = lane_result.residual;
    result->colour = lane_result.colour;
    return true;
}

/* Rms noise of a current sample: second differences in a frame that turns with the phase (median,
 * so that steps do not count). */
static double current_noise(const problem *f, const cvk_turns *turns)
{
    const cvk_signals *s = f->s;
    double values[4000];
    size_t count = 0, stride = f->residual_rows / 1500u + 1u;
    for (size_t b = 0; b < f->block_count; b++) {
        for (size_t k = f->block[b].rows.begin + 2; k < f->block[b].rows.end && count + 2 < 4000u;
             k += stride) {
            double complex turned[3];
            for (size_t j = 0; j < 3; j++) {
                turned[j] = (s->i_alpha[k - j] + I * s->i_beta[k - j]) *
                            cexp(I * (turns->phase[k - 1] - turns->phase[k - j]));
            }
            double complex second = turned[0] - 2.0 * turned[1] + turned[2];
            values[count++] = fabs(creal(second));
            values[count++] = fabs(cimag(second));
        }
    }
    /* median of |x| is 0.6745 sigma; a second difference has variance 6 sigma^2 */
    double noise = cvk_median(values, count) / 0.6745 / sqrt(6.0);
    return fmax(noise, 1e-4 * s->peak_current_a);
}

static void guess_noise(problem *f, const cvk_turns *turns, const double p[N])
{
    double omega = 0.0;
    for (size_t b = 0; b < f->block_count; b++) {
        omega = fmax(omega, fabs(f->block[b].omega_rad_s));
    }
    f->noise = (cvk_tm_noise){.current_a = current_noise(f, turns),
                              .flux_wb = 1e-3 * p[CVK_B_FLUX] * omega * f->s->period_s,
                              .speed_rad_s = 0.1 * omega * sqrt(f->s->period_s),
                              .magnet = 1e-3};
}

/* Fits and noises in turns, each with what the other found, until nothing gets better. */
static bool settle(problem *f, double p[N], int evaluations, const cvk_tm_noise *modest,
                   cvk_turning_result *result)
{
    double before = misfit(f, p);
    bool fine = false;
    for (int round = 0; isfinite(before) && round < MOST_ROUNDS; round++) {
        double trial[N];
        cvk_turning_result found;
        memcpy(trial, p, sizeof trial);
        f->prior_sd = before;
        f->hold_delay = round == 0 ? 1.0 / HELD_DELAY : 0.0;
        f->hold_knee = round == 0 ? 1.0 / HELD_KNEE : 0.0;
        memcpy(f->start, p, sizeof f->start);
        if (!fit(f, trial, round == 0 ? FIRST_EVALUATIONS : evaluations, &found)) {
            break;
        }
        if (fine && found.residual_a > result->residual_a) {
            break;
        }
        fine = true;
        *result = found;
        memcpy(p, trial, sizeof trial);
        double now = tune_noise(f, p, modest);
        if (now > 0.997 * before) {
            break;
        }
        before = now;
    }
    f->hold_delay = f->hold_knee = 0.0;
    if (fine) {
        f->noise = result->noise;
    }
    return fine;
}

/* The whole delay to start from: commanded voltages usually act a period later, measured ones at
 * once. The fit moves on from there. */
static long likely_delay(const problem *f, const cvk_belief *belief)
{
    const bool known = f->s->pwm_hz > 0.0 || cvk_belief_knows(belief, CVK_B_DELAY, 0.3);
    return known ? (long)floor(belief->mean[CVK_B_DELAY])
                 : (f->s->path == CVK_PATH_COMMANDED ? 1 : 0);
}

/* Where a search may begin. */
typedef struct start {
    double p[N], error_a; /* and how far the filter misses there */
    cvk_tm_noise noise;
    bool nimble, tried;
} start;

/* The filter is run with several inductances, each with a speed that changes slowly or fast. */
static int list_starts(problem *f, const cvk_turns *turns, const cvk_belief *belief,
                       start list[MOST_STARTS])
{
    static const double factors[] = {1.0, 0.5, 2.0, 0.25, 4.0, 0.125};
    const size_t factor_count = cvk_belief_knows(belief, CVK_B_L_Q, 0.3) ? 1 : 6;
    double p[N];
    int count = 0;
    if (!start_values(f, turns, belief, likely_delay(f, belief), p)) {
        return 0;
    }
    for (size_t n = 0; n < 2 * factor_count; n++) {
        start *now = &list[count++];
        *now = (start){.nimble = n % 2 == 1};
        memcpy(now->p, p, sizeof p);
        now->p[CVK_B_L_D] *= factors[n / 2];
        now->p[CVK_B_L_Q] *= factors[n / 2];
        guess_noise(f, turns, now->p);
        f->noise.speed_rad_s *= now->nimble ? NIMBLE : 1.0;
        now->noise = f->noise;
        now->error_a = misfit(f, now->p);
    }
    return count;
}

/* The best that has not been tried, of those whose speed changes fast or slowly; or null. */
static start *best_start(start *list, int count, bool nimble)
{
    start *best = NULL;
    for (int n = 0; n < count; n++) {
        if (!list[n].tried && list[n].nimble == nimble && isfinite(list[n].error_a) &&
            (best == NULL || list[n].error_a < best->error_a)) {
            best = &list[n];
        }
    }
    return best;
}

/* Fits on few rows from the likeliest starts on, of both kinds in turns, until one is good. Returns
 * how many. */
static int scout(problem *f, const cvk_turns *turns, const cvk_belief *belief,
                 cvk_turning_result fits[MOST_SETTLED])
{
    start list[MOST_STARTS];
    const int count = list_starts(f, turns, belief, list);
    const start *first[] = {best_start(list, count, false), best_start(list, count, true)};
    bool nimble = first[0] == NULL || (first[1] != NULL && first[1]->error_a < first[0]->error_a);
    double best_a = INFINITY;
    int settled = 0;
    for (int n = 0; n < MOST_SETTLED; n++, nimble = !nimble) {
        start *now = best_start(list, count, nimble);
        const double good = n == 0 ? GOOD_FIT : FAIR_FIT;
        if (now == NULL) {
            continue;
        }
        f->noise = now->noise;
        now->tried = true;
        if (settle(f, now->p, SCOUT_EVALUATIONS, &list[0].noise, &fits[settled])) {
            best_a = fmin(best_a, fits[settled++].residual_a);
        }
        if (!f->thorough && best_a < good * f->noise.current_a) {
            return settled;
        }
    }
    f->exhausted = true;
    return settled;
}

/* Mean of several fits, weighted by likelihood, and how far they differ. */
static void weigh_fits(const problem *f, const cvk_turning_result fits[], int count,
                       const cvk_turning_result *best, double mean[N], double spread[N * N])
{
    double weight[MOST_FITS] = {0}, total = 0.0;
    const double samples =
        fmin(2.0 * (double)f->residual_rows / fmax(best->colour, 1.0), INDEPENDENT_SAMPLES);
    memset(mean, 0, N * sizeof *mean);
    memset(spread, 0, N * N * sizeof *spread);
    for (int k = 0; k < count; k++) {
        double ratio = fits[k].residual_a / best->residual_a;
        weight[k] = exp(-0.5 * samples * (ratio * ratio - 1.0));
        total += weight[k];
    }
    for (int e = 0; e < count * N; e++) {
        mean[e % N] += weight[e / N] / total * fits[e / N].p[e % N];
    }
    for (int k = 0; k < count; k++) {
        for (int e = 0; e < N * N; e++) {
            spread[e] += weight[k] / total * (fits[k].p[e / N] - mean[e / N]) *
                         (fits[k].p[e % N] - mean[e % N]);
        }
    }
}

/* At small currents a wide knee looks like resistance. */
static void widen_knee(const problem *f, double p[N])
{
    const double knee_a = WIDE_KNEE * f->s->peak_current_a, r = p[CVK_B_RESISTANCE];
    p[CVK_B_DEAD_TIME] = fmax(p[CVK_B_DEAD_TIME], WIDE_DROP * r * knee_a);
    p[CVK_B_RESISTANCE] = fmax(r - 0.5 * p[CVK_B_DEAD_TIME] / knee_a, 0.3 * r);
    p[CVK_TM_LOG_KNEE] = log(knee_a);
}

static int best_of(const cvk_turning_result fits[], int count)
{
    int best = 0;
    for (int n = 1; n < count; n++) {
        best = fits[n].residual_a < fits[best].residual_a ? n : best;
    }
    return best;
}

/* An inverter by its means, as simulations have it: only where that is clearly the better one. */
static void try_flat_edges(problem *f, cvk_turning_result *best, double spread[N * N])
{
    cvk_turning_result trial = *best;
    f->curve = best->curve;
    f->noise = best->noise;
    f->s = &f->flat;
    if (fit(f, trial.p, CURVE_EVALUATIONS, &trial) &&
        trial.residual_a < FLAT_GAIN * best->residual_a) {
        *best = trial;
        memset(spread, 0, N * N * sizeof *spread);
    }
    f->s = best->flat ? &f->flat : f->rippled;
}

/* The inverter's curve is not known unless a standstill log has shown it, and at small currents
 * much else is open: other curves are tried from the best fit's values. Leaves the likeliest of all
 * in `best`, and in `spread` by how much explanations that are about as likely differ. */
static void weigh_explanations(problem *f, const cvk_belief *belief,
                               cvk_turning_result fits[MOST_FITS], int count,
                               cvk_turning_result *best, double spread[N * N])
{
    static const int curves[] = {CVK_CURVE_CHARGE, CVK_CURVE_SOFT, CVK_CURVE_ROUND,
                                 CVK_CURVE_CLIPPED};
    const int from = best_of(fits, count);
    double mean[N];
    f->noise = fits[from].noise;
    for (int n = 0; n < MOST_FITS - MOST_SETTLED && !(belief->knee_a > 0.0); n++) {
        fits[count] = fits[from];
        f->curve = curves[n];
        if (curves[n] == CVK_CURVE_CHARGE) {
            widen_knee(f, fits[count].p);
        }
        count += fit(f, fits[count].p, CURVE_EVALUATIONS, &fits[count]);
    }
    *best = fits[best_of(fits, count)];
    weigh_fits(f, fits, count, best, mean, spread);
    if (f->rippled->edge_wb != NULL) {
        try_flat_edges(f, best, spread);
    }
    f->curve = best->curve;
    f->noise = best->noise;
}

/* Voltages that are off by a steady amount look like a drop across R or L, or like back-EMF: most
 * of all where the motor turns slowest. */
static void add_voltage_doubt(const problem *f, cvk_belief *belief)
{
    double omega = INFINITY;
    for (size_t b = 0; b < f->block_count; b++) {
        omega = fmin(omega, fabs(f->block[b].omega_rad_s));
    }
    const double doubt_v = 2.0 * f->s->voltage_doubt_v, peak_a = f->s->peak_current_a;
    const double doubt[] = {[CVK_B_RESISTANCE] = doubt_v / peak_a,
                            [CVK_B_L_D] = doubt_v / (omega * peak_a),
                            [CVK_B_L_Q] = doubt_v / (omega * peak_a),
                            [CVK_B_FLUX] = doubt_v / omega};
    for (int k = 0; k <= CVK_B_FLUX; k++) {
        belief->cov[k * (CVK_B_COUNT + 1)] += doubt[k] * doubt[k];
    }
}

/* Mean square current of the fitted rows. */
static double square_current(const problem *f)
{
    double square = 0.0, rows = 0.0;
    for (size_t b = 0; b < f->block_count; b++) {
        for (size_t k = f->block[b].rows.begin; k < f->block[b].rows.end; k++) {
            square += f->s->i_alpha[k] * f->s->i_alpha[k] + f->s->i_beta[k] * f->s->i_beta[k];
            rows += 1.0;
        }
    }
    return square / rows;
}

/* Every inverter has a voltage of its own. Where the fit does not find it, the currents have been
 * so small that it looked like resistance; where it does, the shape of its curve around the knee is
 * still a guess. */
static void add_inverter_doubt(const problem *f, const cvk_turning_result *result,
                               cvk_belief *belief)
{
    const double expected_v = f->centre[CVK_B_DEAD_TIME], found_v = result->p[CVK_B_DEAD_TIME];
    const double deviation_v = sqrt(result->cov[CVK_B_DEAD_TIME * (N + 1)]);
    const double square = square_current(f), knee_a = exp(result->p[CVK_TM_LOG_KNEE]);
    double doubt_v = SHAPE_DOUBT * fabs(found_v) * fmin(1.0, knee_a / sqrt(square));
    if (belief->knee_a > 0.0) {
        return;
    }
    if (f->s->path == CVK_PATH_COMMANDED &&
        found_v < fmax(3.0 * deviation_v, LEAST_INVERTER_SHARE * expected_v)) {
        doubt_v = 2.0 * expected_v;
    }
    belief->cov[CVK_B_RESISTANCE * (CVK_B_COUNT + 1)] += doubt_v * doubt_v / square;
}

static void to_belief(const problem *f, const cvk_turning_result *result, cvk_belief *belief)
{
    bool known_before[CVK_B_L_Q + 1];
    for (int k = 0; k <= CVK_B_L_Q; k++) {
        known_before[k] = cvk_belief_knows(belief, k, 0.01);
    }
    for (int r = 0; r < CVK_B_COUNT; r++) {
        belief->mean[r] = result->p[r];
        for (int c = 0; c < CVK_B_COUNT; c++) {
            belief->cov[r * CVK_B_COUNT + c] = result->cov[r * N + c];
        }
    }
    belief->cov[CVK_B_DELAY * (CVK_B_COUNT + 1)] += DELAY_FLOOR * DELAY_FLOOR;
    const double floors[] = {
        [CVK_B_RESISTANCE] = FLOOR_R, [CVK_B_L_D] = FLOOR_LD, [CVK_B_L_Q] = FLOOR_LQ};
    belief->cov[CVK_B_FLUX * (CVK_B_COUNT + 1)] += pow(FLOOR_FLUX * belief->mean[CVK_B_FLUX], 2.0);
    for (int k = 0; k <= CVK_B_L_Q; k++) { /* not of what a standstill log has shown better */
        if (!known_before[k]) {
            belief->cov[k * (CVK_B_COUNT + 1)] += pow(floors[k] * belief->mean[k], 2.0);
        }
    }
    add_voltage_doubt(f, belief);
    add_inverter_doubt(f, result, belief);
    const double saliency = belief->mean[CVK_B_L_Q] / belief->mean[CVK_B_L_D];
    const bool shown = saliency > SMALLEST_SALIENCY && saliency < LARGEST_SALIENCY &&
                       cvk_belief_knows(belief, CVK_B_L_Q, USEFUL_LQ);
    for (int k = CVK_B_L_D; k <= CVK_B_L_Q; k++) {
        if (!shown) {
            belief->cov[k * (CVK_B_COUNT + 1)] += pow(belief->mean[k], 2.0);
        }
    }
    belief->dof = fmin(belief->dof, CVK_LANE_DOF);
    if (!(belief->knee_a > 0.0)) {
        belief->knee_a = exp(result->p[CVK_TM_LOG_KNEE]);
        belief->curve = f->curve;
    }
    belief->flat = result->flat;
}

/* Duties act a whole number of periods late: of the two nearest the one that fits better is taken
 * for true, unless it fits clearly worse than what was found. */
static void settle_delay(problem *f, cvk_turning_result *best)
{
    const double below = floor(best->p[CVK_B_DELAY]);
    cvk_turning_result trial[2];
    double error_a[2];
    f->noise = best->noise;
    f->curve = best->curve;
    f->prior_sd = best->residual_a;
    f->hold_delay = 1.0 / WHOLE_SPREAD;
    for (int n = 0; n < 2; n++) {
        trial[n] = *best;
        f->start[CVK_B_DELAY] = below + n;
        trial[n].p[CVK_B_DELAY] = f->start[CVK_B_DELAY] + 0.01;
        error_a[n] =
            fit(f, trial[n].p, SCOUT_EVALUATIONS, &trial[n]) ? trial[n].residual_a : INFINITY;
    }
    const int chosen = error_a[1] < error_a[0];
    if (error_a[chosen] < WHOLE_LOSS * best->residual_a) {
        f->start[CVK_B_DELAY] = below + chosen;
        *best = trial[chosen];
    } else {
        f->hold_delay = 0.0;
    }
}

/* Noise of the current, and what edges that lie between a scope's rows add in a period. */
static double expected_misfit(const problem *f, const cvk_turning_result *result)
{
    const double step_a = f->s->edge_noise_v * f->s->period_s / result->p[CVK_B_L_D];
    return hypot(f->noise.current_a, step_a);
}

/* Some turns of the first block that the fit has used, for a figure. */
static void show(const problem *f, const cvk_turning_result *result, cvk_curve *shown)
{
    const cvk_tm_block *block = &f->block[0];
    const double turn_rows = 2.0 * PI / fabs(block->omega_rad_s) / f->s->period_s;
    const size_t stride = (size_t)(SHOWN_TURNS * turn_rows / CVK_CURVE_POINTS) + 1u;
    const size_t most = (size_t)(SHOWN_TURNS * turn_rows),
                 from = block->rows.begin + block->warm_up;
    shown->points = 0;
    if (!cvk_tm_gains(f->s, block, f->curve, &f->noise, result->p, f->gains, f->errors)) {
        return;
    }
    for (size_t n = 0; from + n < block->rows.end && n < most && shown->points < CVK_CURVE_POINTS;
         n += stride) {
        const size_t point = shown->points++;
        shown->x[point] = (double)(from + n) * f->s->period_s;
        shown->y[point] = f->s->i_alpha[from + n];
        shown->fit[point] = shown->y[point] - f->errors[2u * n];
    }
}

/* A fit on few rows, then on many. `surprise`: how much worse it follows those that are new to it.
 */
static bool fit_once(problem *f, const cvk_turns *turns, const cvk_belief *belief, bool thorough,
                     cvk_turning_result *result, double *surprise)
{
    double spread[N * N] = {0};
    cvk_turning_result fits[MOST_FITS];
    f->s = f->rippled;
    f->curve = belief->knee_a > 0.0 ? belief->curve : CVK_CURVE_CHARGE;
    f->thorough = thorough;
    f->exhausted = false;
    cvk_find_edges(f->rippled, f->centre[CVK_B_DEAD_TIME], exp(f->centre[CVK_TM_LOG_KNEE]),
                   f->curve, likely_delay(f, belief));
    choose_blocks(f, turns, SCOUT_ROWS, SCOUT_BLOCK_ROWS);
    const int settled = scout(f, turns, belief, fits);
    if (settled == 0) {
        return false;
    }
    if (f->s->path == CVK_PATH_COMMANDED && !cvk_belief_knows(belief, CVK_B_DELAY, 0.1)) {
        settle_delay(f, &fits[best_of(fits, settled)]);
    }
    weigh_explanations(f, belief, fits, settled, result, spread);
    const double scouted_a = result->residual_a;
    cvk_find_edges(f->rippled, result->p[CVK_B_DEAD_TIME], exp(result->p[CVK_TM_LOG_KNEE]),
                   f->curve, lround(result->p[CVK_B_DELAY]));
    choose_blocks(f, turns, MOST_ROWS, BLOCK_ROWS);
    f->prior_sd = scouted_a;
    bool fine = fit(f, result->p, FULL_EVALUATIONS, result);
    *surprise = result->residual_a / scouted_a;
    if (fine) { /* what is known before weighs more when the errors are alike over many rows */
        f->prior_sd = result->residual_a * sqrt(fmin(result->colour, LARGEST_COLOUR));
        fine = fit(f, result->p, FULL_EVALUATIONS, result) &&
               result->residual_a < LARGEST_MISFIT * expected_misfit(f, result);
    }
    for (int e = 0; fine && e < N * N; e++) {
        result->cov[e] += spread[e];
    }
    return fine;
}

/* A start that looks good on few rows may be a wrong one: the others are tried when it fails, or
 * does not follow the rest. */
static bool search(problem *f, const cvk_turns *turns, const cvk_belief *belief,
                   cvk_turning_result *result)
{
    double surprise = INFINITY, again = INFINITY;
    const bool fine = fit_once(f, turns, belief, false, result, &surprise);
    if (f->exhausted || (fine && surprise < MOST_SURPRISE)) {
        return fine;
    }
    cvk_turning_result second;
    const bool better = fit_once(f, turns, belief, true, &second, &again) &&
                        (!fine || second.residual_a < result->residual_a);
    if (better) {
        *result = second;
    }
    f->s = result->flat ? &f->flat : f->rippled;
    f->curve = result->curve;
    f->noise = result->noise;
    return fine || better;
}

cvk_status cvk_turning_fit(const cvk_signals *signals, const cvk_turns *turns, int threads,
                           cvk_belief *belief, cvk_turning_result *result, cvk_curve *shown)
{
    problem f = {.s = signals, .rippled = signals, .flat = *signals, .threads = threads};
    f.flat.edge_wb = NULL;
    choose_blocks(&f, turns, SCOUT_ROWS, SCOUT_BLOCK_ROWS);
    if (f.residual_rows < SMALLEST_BLOCK_ROWS || !set_prior(&f, belief)) {
        return CVK_NOT_IN_LOG;
    }
    f.errors = malloc(2u * turning_rows(turns) * sizeof *f.errors);
    f.gains = malloc(turning_rows(turns) * sizeof *f.gains);
    if (f.errors == NULL || f.gains == NULL) {
        free(f.errors);
        free(f.gains);
        return CVK_NO_MEMORY;
    }
    bool fine = search(&f, turns, belief, result);
    if (fine && shown != NULL) {
        show(&f, result, shown);
    }
    free(f.gains);
    free(f.errors);
    if (!fine) {
        return CVK_NOT_IN_LOG;
    }
    to_belief(&f, result, belief);
    return CVK_OK;
}
