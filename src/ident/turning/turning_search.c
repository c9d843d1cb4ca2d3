/* SPDX-License-Identifier: Apache-2.0
 *
 * Start values come from linear least squares at the likely delay; the filter is run with several
 * inductances from there, and fits begin where it misses least. Fits and the filter's noises take
 * turns. Then other explanations of the same rows: delays, curves of the inverter, no ripple.
 */
#include "turning_search.h"

#include "model/edges.h"
#include "turning_noise.h"
#include "turning_start.h"

#include <math.h>
#include <string.h>

#define N CVK_TM_COUNT
#define MOST_ROWS 24576u
#define BLOCK_ROWS 2048u
#define START_ROWS 40000u
#define START_KNEE_SHARE 0.03 /* of the peak current */
#define MOST_STARTS 64
#define OTHER_DELAY 1.1 /* by so much the usual delay may miss more */
#define MOST_SETTLED 4
#define NIMBLE 10.0
#define GOOD_FIT 1.1      /* times the noise: then no other start is tried, */
#define NEAR_FIT 1.15     /* times another fit */
#define FAIR_FIT 1.2      /* or not more than two */
#define HELD_DELAY 0.3    /* periods */
#define HELD_KNEE 0.3     /* of its natural logarithm */
#define MOST_SURPRISE 1.2 /* prediction error over that on the rows of the start */
#define FIRST_EVALUATIONS 20
#define SCOUT_EVALUATIONS 8
#define FULL_EVALUATIONS 7
#define FAR_OFF 1.3          /* times the noise, after a first round */
#define MOST_ROUNDS 6        /* of fits and filter noises */
#define LEAST_PROGRESS 0.997 /* in prediction error, for another round */
#define LARGEST_MISFIT 3.0   /* of a used result */
#define TYPICAL_R_DROP 0.05  /* as CVK_TURNING_DROP, across the resistance */
#define LARGE_HARMONIC 0.05
#define LARGE_OFFSET 0.1 /* of the peak current */
#define LEAST_SHARE 0.3  /* of what is typical: below it least squares has found nothing */
#define CURVE_EVALUATIONS 3
#define EDGE_ROUNDS 2
#define LIKELIER 0.99     /* in prediction error: then another curve is taken */
#define WHOLE_SPREAD 0.05 /* periods, of a delay about a whole number of them */
#define WHOLE_LOSS 1.03   /* in prediction error, at most */
#define USUAL_LOSS 1.01   /* at most, for the usual one */
#define FLAT_GAIN 0.99    /* in prediction error */
#define MOST_CURVES 4
#define MOST_FITS (MOST_SETTLED + 2 + MOST_CURVES)
#define WIDE_KNEE 0.3 /* of the peak current */
#define WIDE_DROP 0.6 /* inverter's voltage over that of the resistance at the wide knee */
#define INDEPENDENT_SAMPLES 300.0             /* at most, in weighing curves by their likelihood */
#define LATE_KNOWN_S (0.5 * CVK_LATE_DOUBT_S) /* deviation, of an age that a log shows */
#define LARGEST_COLOUR 1e4 /* prediction errors more alike than that say nothing */

/* Values at whole delay `delay`; what is known before is kept. The phase is too rough to show the
 * inductances: they start from what is typical. */
static bool start_values(const cvk_turning_problem *f, const cvk_turns *turns,
                         const cvk_belief *belief, long delay, double p[N])
{
    const double peak = f->s->peak_current_a;
    const double knee_a = belief->knee_a > 0.0 ? belief->knee_a : START_KNEE_SHARE * peak;
    double x[CVK_START_COUNT] = {0};
    cvk_turning_blocks wide;
    cvk_choose_blocks(&wide, f->s, turns, START_ROWS, CVK_SCOUT_BLOCK_ROWS);
    const cvk_start_rows rows = {f->s, wide.block, wide.count, f->curve};
    if (!cvk_turning_start(&rows, turns, delay, knee_a, x)) {
        return false;
    }
    const double flux = hypot(x[CVK_B_FLUX], x[CVK_START_ACROSS]);
    const double typical_r = TYPICAL_R_DROP * fabs(f->blocks.block[0].omega_rad_s) * flux / peak;
    memcpy(p, f->centre, N * sizeof *p);
    const struct {
        int b;
        double value;
    } found[] = {{CVK_B_RESISTANCE,
                  x[CVK_B_RESISTANCE] > LEAST_SHARE * typical_r ? x[CVK_B_RESISTANCE] : typical_r},
                 {CVK_B_L_D, CVK_TURNING_DROP * flux / peak},
                 {CVK_B_L_Q, CVK_TURNING_DROP * flux / peak},
                 {CVK_B_FLUX, flux}};
    for (size_t n = 0; n < sizeof found / sizeof found[0]; n++) {
        if (!cvk_belief_knows(belief, found[n].b, 0.3)) {
            p[found[n].b] = found[n].value;
        }
    }
    p[CVK_TM_FIFTH] = fmin(fmax(x[CVK_START_FIFTH] / flux, -LARGE_HARMONIC), LARGE_HARMONIC);
    p[CVK_TM_SEVENTH] = fmin(fmax(x[CVK_START_SEVENTH] / flux, -LARGE_HARMONIC), LARGE_HARMONIC);
    const double most_a = LARGE_OFFSET * peak;
    const double alpha_a = -x[CVK_START_STEADY_ALPHA] / p[CVK_B_RESISTANCE];
    const double beta_a = -x[CVK_START_STEADY_BETA] / p[CVK_B_RESISTANCE];
    p[CVK_TM_OFFSET_ALPHA] = fmin(fmax(alpha_a, -most_a), most_a);
    p[CVK_TM_OFFSET_BETA] = fmin(fmax(beta_a, -most_a), most_a);
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

static double misfit(const cvk_turning_problem *f, const double p[N])
{
    double error_a;
    cvk_turning_compare(f, 1, &p, &f->noise, &error_a);
    return error_a;
}

/* A search on its way. */
typedef struct attempt {
    cvk_turning_result fit; /* of the last round; before the first only its `p` counts */
    cvk_tm_noise noise;     /* for the next one, */
    double error_a;         /* and how far the filter misses with them */
    int rounds;
    bool stuck; /* no more to be had */
} attempt;

static void begin(cvk_turning_problem *f, const double p[N], const cvk_tm_noise *noise, attempt *a)
{
    a->noise = a->fit.noise = f->noise = *noise;
    a->rounds = 0;
    memcpy(a->fit.p, p, sizeof a->fit.p);
    a->error_a = misfit(f, p);
    a->stuck = !isfinite(a->error_a);
}

/* A fit, then noises that suit it. Delay and knee bend to what the others should explain while
 * those are far off: `hold` keeps them. */
static void next_round(cvk_turning_problem *f, bool hold, const cvk_tm_noise *modest, attempt *a)
{
    cvk_turning_result found;
    double p[N];
    memcpy(p, a->fit.p, sizeof p);
    memcpy(f->start, p, sizeof f->start);
    f->noise = a->noise;
    f->prior_sd = a->error_a;
    f->hold_delay = hold ? 1.0 / HELD_DELAY : 0.0;
    f->hold_knee = hold ? 1.0 / HELD_KNEE : 0.0;
    a->stuck = a->stuck ||
               !cvk_turning_fit_from(f, p, a->rounds == 0 ? FIRST_EVALUATIONS : SCOUT_EVALUATIONS,
                                     &found) ||
               (a->rounds > 0 && found.residual_a > a->fit.residual_a);
    f->hold_delay = f->hold_knee = 0.0;
    if (a->stuck) {
        return;
    }
    a->fit = found;
    const double now_a = cvk_tune_noise(f, p, modest);
    a->noise = f->noise;
    a->stuck = ++a->rounds >= MOST_ROUNDS || now_a > LEAST_PROGRESS * a->error_a;
    a->error_a = now_a;
}

/* Fits and noises in turns, each with what the other found, until nothing gets better. */
static bool settle(cvk_turning_problem *f, bool hold, const cvk_tm_noise *modest, attempt *a)
{
    while (!a->stuck) {
        next_round(f, hold && a->rounds == 0, modest, a);
    }
    f->noise = a->fit.noise;
    return a->rounds > 0;
}

static bool delay_known(const cvk_turning_problem *f, const cvk_belief *belief)
{
    return f->s->pwm_hz > 0.0 || cvk_belief_knows(belief, CVK_B_DELAY, 0.3);
}

/* The whole delay to start from: commanded voltages usually act a period later, measured ones at
 * once. */
static long likely_delay(const cvk_turning_problem *f, const cvk_belief *belief)
{
    return delay_known(f, belief) ? (long)floor(belief->mean[CVK_B_DELAY])
                                  : (f->s->path == CVK_PATH_COMMANDED ? 1 : 0);
}

/* From there to the one that is next likely. */
static double other_delay(const cvk_turning_problem *f)
{
    return f->s->path == CVK_PATH_COMMANDED ? -1.0 : 1.0;
}

/* Where a search may begin. */
typedef struct start {
    double p[N], error_a; /* and how far the filter misses there */
    cvk_tm_noise noise;
    bool nimble, tried;
} start;

/* How far the filter misses at each of the starts, which have the same whole delay. */
static void compare_starts(const cvk_turning_problem *f, start list[], int count)
{
    const double *p[MOST_STARTS];
    cvk_tm_noise noise[MOST_STARTS];
    double error_a[MOST_STARTS];
    for (int n = 0; n < count; n++) {
        p[n] = list[n].p;
        noise[n] = list[n].noise;
    }
    cvk_turning_compare(f, count, p, noise, error_a);
    for (int n = 0; n < count; n++) {
        list[n].error_a = error_a[n];
    }
}

/* Several inductances, each with and without the harmonics that were found, with a speed that
 * changes slowly or fast, and where the delay is not known with two of them. Returns how many. */
static int list_starts(const cvk_turning_problem *f, const cvk_turns *turns,
                       const cvk_belief *belief, start list[MOST_STARTS])
{
    static const double factors[] = {1.0, 0.5, 2.0, 0.25, 4.0, 1.0 / 8, 1.0 / 16, 1.0 / 32};
    const int of_delay = cvk_belief_knows(belief, CVK_B_L_Q, 0.3) ? 4 : MOST_STARTS / 2;
    const int count = delay_known(f, belief) ? of_delay : 2 * of_delay;
    double p[N];
    if (!start_values(f, turns, belief, likely_delay(f, belief), p)) {
        return 0;
    }
    const cvk_tm_noise modest = cvk_guess_noise(f, turns, p);
    for (int n = 0; n < count; n++) {
        start *now = &list[n];
        *now = (start){.noise = modest, .nimble = n % 2 == 1};
        memcpy(now->p, p, sizeof p);
        if (n % 4 >= 2) {
            now->p[CVK_TM_FIFTH] = now->p[CVK_TM_SEVENTH] = 0.0;
        }
        now->p[CVK_B_L_D] *= factors[n % of_delay / 4];
        now->p[CVK_B_L_Q] *= factors[n % of_delay / 4];
        now->p[CVK_B_DELAY] += n < of_delay ? 0.0 : other_delay(f);
        now->noise.speed_rad_s *= now->nimble ? NIMBLE : 1.0;
    }
    for (int n = 0; n < count; n += of_delay) {
        compare_starts(f, list + n, of_delay);
    }
    for (int n = of_delay; n < count; n++) {
        list[n].error_a *= OTHER_DELAY;
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

/* Noises that had to explain a bad start may have stayed too large: once more from where that led,
 * with those of a motor that is well known. */
static void settle_again(cvk_turning_problem *f, const start *from, const cvk_tm_noise *modest,
                         cvk_turning_result *result)
{
    static const int kept[] = {CVK_B_DELAY, CVK_TM_LOG_KNEE, CVK_B_DEAD_TIME};
    const cvk_turning_result first = *result;
    for (int hold = 0; hold < 2; hold++) {
        attempt second;
        double p[N];
        memcpy(p, first.p, sizeof p);
        for (size_t n = 0; hold && n < sizeof kept / sizeof kept[0]; n++) {
            p[kept[n]] = from->p[kept[n]];
        }
        begin(f, p, modest, &second);
        if (settle(f, hold, modest, &second) && second.fit.residual_a < result->residual_a) {
            *result = second.fit;
        }
    }
}

/* Noises of a motor that is well known, or not much more. */
static bool is_modest(const cvk_turning_result *result, const cvk_tm_noise *modest)
{
    return result->noise.magnet < NIMBLE * modest->magnet &&
           result->noise.flux_wb < NIMBLE * NIMBLE * modest->flux_wb;
}

/* With large noises the filter follows any motor: such a fit counts only where none with modest
 * ones comes near it. Returns how many stay. */
static int keep_modest(cvk_turning_result fits[], int count, const cvk_tm_noise *modest)
{
    double best_a = INFINITY;
    int kept = 0;
    for (int n = 0; n < count; n++) {
        best_a = is_modest(&fits[n], modest) ? fmin(best_a, fits[n].residual_a) : best_a;
    }
    for (int n = 0; n < count; n++) {
        if (is_modest(&fits[n], modest) || !(best_a < NEAR_FIT * fits[n].residual_a)) {
            fits[kept++] = fits[n];
        }
    }
    return kept;
}

/* The likeliest starts of both kinds in turns. Returns how many. */
static int order_starts(start list[], int count, start *order[MOST_SETTLED])
{
    const start *first[] = {best_start(list, count, false), best_start(list, count, true)};
    bool nimble = first[0] == NULL || (first[1] != NULL && first[1]->error_a < first[0]->error_a);
    int ordered = 0;
    for (int n = 0; n < MOST_SETTLED; n++, nimble = !nimble) {
        start *now = best_start(list, count, nimble);
        if (now != NULL) {
            now->tried = true;
            order[ordered++] = now;
        }
    }
    return ordered;
}

/* The attempt that is to go on next: of those not done the one that misses least. */
static int next_attempt(const attempt tries[], int count, const bool done[])
{
    int best = -1;
    for (int n = 0; n < count; n++) {
        if (!done[n] && (best < 0 || tries[n].error_a < tries[best].error_a)) {
            best = n;
        }
    }
    return best;
}

/* Fits on few rows from the likeliest starts on, until one is good, unless `thorough`: one that is
 * far off after its first round waits until the others have begun. Returns how many. */
static int scout(cvk_turning_problem *f, const cvk_turns *turns, const cvk_belief *belief,
                 bool thorough, bool *exhausted, cvk_turning_result fits[MOST_SETTLED])
{
    start list[MOST_STARTS] = {{.tried = false}}, *order[MOST_SETTLED];
    attempt tries[MOST_SETTLED];
    bool done[MOST_SETTLED] = {false};
    const int listed = list_starts(f, turns, belief, list);
    const int count = order_starts(list, listed, order);
    const cvk_tm_noise *modest = &list[0].noise;
    double best_a = INFINITY;
    int begun = 0, settled = 0, finished = 0;
    while (finished < count) {
        int now = next_attempt(tries, begun, done);
        while (begun < count && (now < 0 || tries[now].error_a > FAR_OFF * modest->current_a)) {
            begin(f, order[begun]->p, &order[begun]->noise, &tries[begun]);
            next_round(f, true, modest, &tries[begun]);
            now = next_attempt(tries, ++begun, done);
        }
        const double good = finished++ == 0 ? GOOD_FIT : FAIR_FIT;
        done[now] = true;
        if (settle(f, true, modest, &tries[now])) {
            cvk_turning_result *fit = &fits[settled++];
            *fit = tries[now].fit;
            if (!is_modest(fit, modest) || fit->residual_a > GOOD_FIT * modest->current_a) {
                settle_again(f, order[now], modest, fit);
            }
            best_a = is_modest(fit, modest) ? fmin(best_a, fit->residual_a) : best_a;
        }
        if (!thorough && best_a < good * modest->current_a) {
            return keep_modest(fits, settled, modest);
        }
    }
    *exhausted = true;
    return keep_modest(fits, settled, modest);
}

/* Mean of several fits, weighted by likelihood, and how far they differ. */
static void weigh_fits(const cvk_turning_problem *f, const cvk_turning_result fits[], int count,
                       const cvk_turning_result *best, double mean[N], double spread[N * N])
{
    double weight[MOST_FITS] = {0}, total = 0.0;
    const double samples =
        fmin(2.0 * (double)f->blocks.residual_rows / fmax(best->colour, 1.0), INDEPENDENT_SAMPLES);
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
static void widen_knee(const cvk_turning_problem *f, double p[N])
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
static void try_flat_edges(cvk_turning_problem *f, cvk_turning_result *best, double spread[N * N])
{
    cvk_turning_result trial = *best;
    f->curve = best->curve;
    f->noise = best->noise;
    f->s = &f->flat;
    if (cvk_turning_fit_from(f, trial.p, CURVE_EVALUATIONS, &trial) &&
        trial.residual_a < FLAT_GAIN * best->residual_a) {
        *best = trial;
        memset(spread, 0, N * N * sizeof *spread);
    }
    f->s = best->flat ? &f->flat : &f->rippled;
}

/* Edges by the fit, and the fit by them. */
static void find_best_edges(cvk_turning_problem *f, cvk_turning_result *fit)
{
    f->curve = fit->curve;
    for (int round = 0; round < EDGE_ROUNDS && f->rippled.legs != NULL; round++) {
        cvk_turning_result trial = *fit;
        cvk_turning_edges(f, trial.p);
        if (cvk_turning_fit_from(f, trial.p, CURVE_EVALUATIONS, &trial)) {
            *fit = trial;
        }
    }
}

/* The inverter's curve is not known unless a standstill log has shown it, and at small currents
 * much else is open: other curves are tried from the best fit's values. Leaves the likeliest of all
 * in `best`, and in `spread` by how much explanations that are about as likely differ. */
static void weigh_explanations(cvk_turning_problem *f, const cvk_belief *belief,
                               cvk_turning_result fits[MOST_FITS], int count,
                               cvk_turning_result *best, double spread[N * N])
{
    static const int curves[] = {CVK_CURVE_CHARGE, CVK_CURVE_SOFT, CVK_CURVE_ROUND,
                                 CVK_CURVE_CLIPPED};
    double mean[N];
    *best = fits[best_of(fits, count)];
    f->noise = best->noise;
    if (sqrt(best->cov[CVK_TM_LATE * (N + 1)]) > LATE_KNOWN_S) {
        f->hold_late = true; /* it would bend to what nothing explains */
        best->p[CVK_TM_LATE] = f->centre[CVK_TM_LATE];
    }
    find_best_edges(f, best);
    f->hold_others = true;
    fits[0] = *best; /* the others were found with other edges */
    count = 1;
    for (int n = 0; n < MOST_CURVES && !(belief->knee_a > 0.0); n++) {
        fits[count] = fits[0];
        f->curve = curves[n];
        if (curves[n] == CVK_CURVE_CHARGE) {
            widen_knee(f, fits[count].p);
        }
        count += cvk_turning_fit_from(f, fits[count].p, CURVE_EVALUATIONS, &fits[count]);
    }
    if (fits[best_of(fits, count)].residual_a < LIKELIER * best->residual_a) {
        *best = fits[best_of(fits, count)];
    }
    weigh_fits(f, fits, count, best, mean, spread);
    if (f->rippled.legs != NULL) {
        try_flat_edges(f, best, spread);
    }
    f->hold_others = false;
    f->curve = best->curve;
    f->noise = best->noise;
}

/* Duties act a whole number of periods late: of the two nearest the usual one is taken, or the
 * other where that fits better, unless both fit clearly worse than the best fit. They join the
 * fits, whose new number is returned. */
static int settle_delay(cvk_turning_problem *f, cvk_turning_result fits[MOST_FITS], int count,
                        double usual)
{
    const cvk_turning_result best = fits[best_of(fits, count)];
    const double below = floor(best.p[CVK_B_DELAY]);
    double least_a = WHOLE_LOSS * best.residual_a;
    double chosen = NAN;
    /* the usual one first: if that is as good as the best, none beats it */
    const bool above = below + 1.0 == usual;
    const double order[] = {above ? below + 1.0 : below, above ? below : below + 1.0};
    f->noise = best.noise;
    f->curve = best.curve;
    f->prior_sd = best.residual_a;
    f->hold_delay = 1.0 / WHOLE_SPREAD;
    for (int n = 0; n < 2 && !(chosen == usual && least_a < best.residual_a); n++) {
        cvk_turning_result trial = best;
        f->start[CVK_B_DELAY] = order[n];
        trial.p[CVK_B_DELAY] = f->start[CVK_B_DELAY] + 0.01;
        if (!cvk_turning_fit_from(f, trial.p, SCOUT_EVALUATIONS, &trial)) {
            continue;
        }
        fits[count++] = trial;
        const double error_a = order[n] == usual ? trial.residual_a / USUAL_LOSS : trial.residual_a;
        if (error_a < least_a) {
            least_a = error_a;
            chosen = order[n];
        }
    }
    f->hold_delay = 0.0;
    if (isfinite(chosen)) {
        f->start[CVK_B_DELAY] = chosen;
        f->hold_delay = 1.0 / WHOLE_SPREAD;
    }
    return count;
}

/* Noise of the current, and what edges that lie between a scope's rows add in a period. */
static double expected_misfit(const cvk_turning_problem *f, const cvk_turning_result *result)
{
    const double step_a = f->s->edge_noise_v * f->s->period_s / result->p[CVK_B_L_D];
    return hypot(f->noise.current_a, step_a);
}

/* With what is known before. */
static void find_first_edges(const cvk_turning_problem *f, const cvk_belief *belief)
{
    cvk_loss loss = cvk_loss_of(belief);
    loss.delay = likely_delay(f, belief);
    for (size_t b = 0; b < f->blocks.count; b++) {
        cvk_find_edges(&f->rippled, f->blocks.block[b].rows, &loss);
    }
}

/* A fit on few rows, then on many. `surprise`: how much worse it follows those that are new to it.
 */
static bool fit_once(cvk_turning_problem *f, const cvk_turns *turns, const cvk_belief *belief,
                     bool thorough, cvk_turning_result *result, double *surprise, bool *exhausted)
{
    double spread[N * N] = {0};
    cvk_turning_result fits[MOST_FITS];
    f->s = &f->rippled;
    f->hold_late = !f->s->late_unknown;
    f->curve = belief->knee_a > 0.0 ? belief->curve : CVK_CURVE_CHARGE;
    cvk_choose_blocks(&f->blocks, f->s, turns, CVK_SCOUT_ROWS, CVK_SCOUT_BLOCK_ROWS);
    find_first_edges(f, belief);
    int settled = scout(f, turns, belief, thorough, exhausted, fits);
    if (settled == 0) {
        return false;
    }
    /* else duties act any part of a row late */
    if (f->s->path == CVK_PATH_COMMANDED && cvk_row_each_period(f->s) &&
        !cvk_belief_knows(belief, CVK_B_DELAY, 0.1)) {
        settled = settle_delay(f, fits, settled, (double)likely_delay(f, belief));
    }
    weigh_explanations(f, belief, fits, settled, result, spread);
    const double scouted_a = cvk_refine_noise(f, result->p);
    cvk_choose_blocks(&f->blocks, f->s, turns, MOST_ROWS, BLOCK_ROWS);
    cvk_turning_edges(f, result->p);
    f->prior_sd = scouted_a;
    bool fine = cvk_turning_drop_lost(f, result->p) &&
                cvk_turning_fit_from(f, result->p, FULL_EVALUATIONS, result);
    *surprise = result->residual_a / scouted_a;
    if (fine) { /* what is known before weighs more when the errors are alike over many rows */
        cvk_turning_edges(f, result->p);
        f->prior_sd = result->residual_a * sqrt(fmin(result->colour, LARGEST_COLOUR));
        fine = cvk_turning_fit_from(f, result->p, FULL_EVALUATIONS, result);
        result->misfit = result->residual_a / expected_misfit(f, result);
        fine = fine && result->misfit < LARGEST_MISFIT;
    }
    for (int e = 0; fine && e < N * N; e++) {
        result->cov[e] += spread[e];
    }
    return fine;
}

/* A start that looks good on few rows may be a wrong one: the others are tried when it fails, or
 * does not follow the rest. */
bool cvk_turning_search(cvk_turning_problem *f, const cvk_turns *turns, const cvk_belief *belief,
                        cvk_turning_result *result)
{
    double surprise = INFINITY;
    bool exhausted = false;
    const bool fine = fit_once(f, turns, belief, false, result, &surprise, &exhausted);
    if (exhausted || (fine && surprise < MOST_SURPRISE)) {
        return fine;
    }
    cvk_turning_result second;
    const bool better = fit_once(f, turns, belief, true, &second, &surprise, &exhausted) &&
                        (!fine || second.residual_a < result->residual_a);
    if (better) {
        *result = second;
    }
    f->s = result->flat ? &f->flat : &f->rippled;
    f->curve = result->curve;
    f->noise = result->noise;
    return fine || better;
}
