/* SPDX-License-Identifier: Apache-2.0
 *
 * Estimation at standstill. The shape of the inverter's curve is unknown: several are fitted, flat
 * and at the legs' edges, on few rows; the likely ones on all, averaged by their likelihood.
 */
#include "standstill.h"

#include "corvak/core/units.h"

#include <math.h>
#include <string.h>

#define N CVK_SM_COUNT
/* Curves are weighed as if this many residuals were independent; one below the weight is left out.
 */
#define INDEPENDENT_SAMPLES 500.0
#define SMALLEST_WEIGHT 1e-2
#define LARGE_MISFIT 1.3    /* of the noise */
#define SMALL_SALIENCY 0.1  /* (Lq - Ld) / (Lq + Ld) below which axes' directions are tried out, */
#define TRIAL_SALIENCY 0.03 /* from this much */
#define SMALL_LOSS 0.01     /* of inductance at the peak current, below which that is idle */
#define DIRECTIONS 4
/* Evaluations of the misfit in one fit. A scout comes from far away; a full fit starts close by,
 * and only at a whole delay, where the misfit has a corner, would it need more for its last digits.
 */
#define SCOUT_EVALUATIONS 30
#define OTHER_EVALUATIONS 10
#define TURN_EVALUATIONS 4
#define FULL_EVALUATIONS 15
#define QUICK_EVALUATIONS 4
#define PROFILE_EVALUATIONS 20
#define PROFILE_REACH 3.5 /* deviations to each side */
#define PROFILE_ROUNDS 4
#define NOTABLY_BETTER 0.2 /* in -2 ln of the likelihood */
#define HELD_SHARPLY 100.0
#define SURE_OF_NORTH 4.0 /* deviations of the slope that tells it */
#define LATEST_HALVES 5   /* half periods, of a voltage */
#define WIDER_KNEES 2     /* of the knees to try, the first; */
#define ALL_KNEES 3
#define EDGE_ROUNDS 3
#define LIKELIER 0.97  /* in residual */
#define EDGES_FIT 1.05 /* of the noise: they are found without a doubt */

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
static void average_curves(const cvk_standstill_problem *f, const cvk_standstill_fit fits[],
                           int count, cvk_standstill_fit *out)
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

/* Axes that saturate unlike each other have a direction although their inductances at small current
 * may be alike: then no small step finds it, and a few directions are tried. */
static void turn_axes(cvk_standstill_problem *f, cvk_standstill_fit *fit)
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
        const double angle = 2.0 * CVK_PI_WIDE * n / DIRECTIONS;
        cvk_standstill_fit trial = found;
        trial.p[CVK_SM_L_COS] = TRIAL_SALIENCY * mean * cos(angle);
        trial.p[CVK_SM_L_SIN] = TRIAL_SALIENCY * mean * sin(angle);
        if (cvk_standstill_fit_curve(f, found.curve, &trial) &&
            trial.residual_a < best.residual_a) {
            best = trial;
        }
    }
    f->most_evaluations = SCOUT_EVALUATIONS;
    if (isfinite(best.residual_a) && cvk_standstill_fit_curve(f, found.curve, &best) &&
        best.residual_a < fit->residual_a) {
        *fit = best;
    }
}

/* A knee that has run off to nothing takes the inverter's voltage with it and does not come back,
 * nor does one so wide that it is a resistance: a fit that misses by more than the noise is begun
 * again from other knees. */
static void try_knees(cvk_standstill_problem *f, const cvk_standstill_fit *start, int count,
                      cvk_standstill_fit *fit)
{
    static const double factors[] = {3.0, 10.0, 0.2};
    for (int n = 0; n < count; n++) {
        cvk_standstill_fit trial = *start;
        trial.p[CVK_SM_LOG_KNEE] += log(factors[n]);
        if (fit->residual_a > LARGE_MISFIT * f->noise_a &&
            cvk_standstill_fit_curve(f, fit->curve, &trial) && trial.residual_a < fit->residual_a) {
            *fit = trial;
        }
    }
}

/* Ends the trials whose saturation is held: what they have found, if they have, is set free, and
 * taken when it misses by less. */
static void take_freely(cvk_standstill_problem *f, cvk_standstill_fit *trial, bool found,
                        cvk_standstill_fit *fit)
{
    f->unbent = false;
    f->most_evaluations = SCOUT_EVALUATIONS;
    if (found && cvk_standstill_fit_curve(f, fit->curve, trial) &&
        trial->residual_a < fit->residual_a) {
        *fit = *trial;
    }
}

/* Far away from the solution saturation takes what other parameters are for: where that has led
 * nowhere, it comes last. */
static void try_unbent(cvk_standstill_problem *f, const cvk_standstill_fit *start,
                       cvk_standstill_fit *fit)
{
    cvk_standstill_fit trial = *start;
    f->unbent = true;
    const bool found = cvk_standstill_fit_curve(f, fit->curve, &trial);
    if (found) {
        try_knees(f, start, ALL_KNEES, &trial);
    }
    take_freely(f, &trial, found, fit);
}

/* An injection of few periods repeats itself at several delays, and halves between rows: where the
 * likeliest has led nowhere, each is tried. */
static void try_delays(cvk_standstill_problem *f, const cvk_standstill_fit *start,
                       cvk_standstill_fit *fit)
{
    cvk_standstill_fit best = {.residual_a = INFINITY};
    f->unbent = true;
    f->most_evaluations = OTHER_EVALUATIONS;
    for (int half = 0; half <= LATEST_HALVES; half++) {
        cvk_standstill_fit trial = *start;
        if (cvk_standstill_start_at(f, 0.5 * half, &trial) &&
            cvk_standstill_fit_curve(f, fit->curve, &trial) && trial.residual_a < best.residual_a) {
            best = trial;
        }
    }
    take_freely(f, &best, isfinite(best.residual_a), fit);
}

/* A quick fit of one curve on few rows. */
static bool scout_first(cvk_standstill_problem *f, const cvk_standstill_fit *from,
                        cvk_standstill_fit *fit)
{
    *fit = *from;
    f->most_evaluations = SCOUT_EVALUATIONS;
    if (!cvk_standstill_fit_curve(f, CVK_CURVE_ROUND, fit)) {
        return false;
    }
    try_knees(f, from, WIDER_KNEES, fit);
    if (fit->residual_a > LARGE_MISFIT * f->noise_a) {
        try_unbent(f, from, fit);
    }
    if (fit->residual_a > LARGE_MISFIT * f->noise_a) {
        try_delays(f, from, fit);
    }
    return true;
}

/* And of the others, from the best so far on, or from `from` when there is none. Returns how many
 * there are now. */
static int scout_others(cvk_standstill_problem *f, const cvk_standstill_fit *from, int good,
                        cvk_standstill_fit fits[CVK_CURVES])
{
    static const int others[] = {CVK_CURVE_TANH, CVK_CURVE_CLIPPED, CVK_CURVE_ARC, CVK_CURVE_CHARGE,
                                 CVK_CURVE_SOFT};
    for (size_t k = 0; k < sizeof others / sizeof others[0]; k++) {
        fits[good] = good > 0 ? *best_of(fits, good) : *from;
        f->most_evaluations = good > 0 ? OTHER_EVALUATIONS : SCOUT_EVALUATIONS;
        good += cvk_standstill_fit_curve(f, others[k], &fits[good]);
    }
    return good;
}

/* The full fit, only for curves that may count: begun with the best, and left early when it falls
 * behind. Returns how many. */
static int fit_likely_curves(cvk_standstill_problem *f, cvk_standstill_fit scouts[CVK_CURVES],
                             int scouted, double samples, cvk_standstill_fit fits[CVK_CURVES])
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
        bool fine = cvk_standstill_fit_curve(f, scouts[k].curve, &fits[good]);
        if (good > 0 && fine && !fits[good].converged) {
            f->most_evaluations = FULL_EVALUATIONS;
            fine = weight_of(&fits[good], best_of(fits, good), samples) > SMALLEST_WEIGHT &&
                   cvk_standstill_fit_curve(f, scouts[k].curve, &fits[good]);
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
static bool shows_edges(const cvk_standstill_problem *f)
{
    return f->s->legs != NULL && !f->no_inverter && cvk_row_each_period(f->s);
}

/* From a flat fit: the inverter's voltage at the edges, which the ripple moves.
 */
static void scout_edges(cvk_standstill_problem *f, const cvk_standstill_fit *flat, family *edged)
{
    /* a current that moves the leg's charge is likeliest, and taken unless another is clearly so */
    static const int curves[] = {CVK_CURVE_CHARGE, CVK_CURVE_ROUND, CVK_CURVE_TANH, CVK_CURVE_ARC};
    cvk_standstill_fit likely = *flat;
    edged->count = 0;
    bool fine = shows_edges(f);
    for (int round = 0; round < EDGE_ROUNDS && fine; round++) { /* what is found moves them */
        fine = cvk_standstill_edges(f, &likely);
        edged->legs = f->legs = f->s->legs;
        f->most_evaluations = OTHER_EVALUATIONS;
        fine = fine && cvk_standstill_fit_curve(f, CVK_CURVE_CHARGE, &likely);
        if (fine && round == 0) {
            turn_axes(f, &likely);
        }
    }
    for (size_t k = 0; fine && k < sizeof curves / sizeof curves[0]; k++) {
        edged->fits[edged->count] = edged->count > 0 ? *best_in(edged) : likely;
        f->most_evaluations = edged->count > 0 ? OTHER_EVALUATIONS : SCOUT_EVALUATIONS;
        edged->count += cvk_standstill_fit_curve(f, curves[k], &edged->fits[edged->count]);
    }
    if (edged->count > 0 && best_in(edged)->residual_a > LIKELIER * edged->fits[0].residual_a) {
        edged->count = 1;
    }
    f->legs = NULL;
}

/* The flat family, of which the first member may have been found. */
static int scout_flat(cvk_standstill_problem *f, const cvk_standstill_fit *from, family *flat)
{
    if (flat->count > 0) {
        turn_axes(f, &flat->fits[0]);
    }
    if (f->no_inverter) { /* then there is no curve to choose */
        return cvk_standstill_fit_curve(f, CVK_CURVE_ROUND, &flat->fits[0]);
    }
    return scout_others(f, from, flat->count, flat->fits);
}

/* Both families of fits on few rows. Other curves are not tried where one at the edges fits. */
static bool scout(cvk_standstill_problem *f, const cvk_span *spans, size_t count,
                  double worst_ratio, family *flat, family *edged)
{
    cvk_standstill_fit from;
    flat->count = edged->count = 0;
    flat->legs = NULL;
    if (!cvk_standstill_start(f, spans, count, &from)) {
        return false;
    }
    cvk_standstill_few_rows(f, spans, count);
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
static bool fit_fully(cvk_standstill_problem *f, const cvk_span *spans, size_t count, family *of,
                      double samples, cvk_standstill_fit *fit)
{
    cvk_standstill_fit fits[CVK_CURVES];
    f->legs = of->legs;
    cvk_standstill_all_rows(f, spans, count);
    if (f->legs != NULL && !cvk_standstill_edges(f, best_in(of))) {
        return false;
    }
    int good = of->count > 0 ? fit_likely_curves(f, of->fits, of->count, samples, fits) : 0;
    if (good > 0 && best_of(fits, good)->residual_a > LARGE_MISFIT * best_in(of)->residual_a) {
        for (int k = 0; k < of->count; k++) { /* a bend that few rows could not show */
            memset(of->fits[k].p + CVK_SM_SQUARE_X, 0, (N - CVK_SM_SQUARE_X) * sizeof(double));
        }
        good = fit_likely_curves(f, of->fits, of->count, samples, fits);
    }
    if (good > 0) {
        average_curves(f, fits, good, fit);
        fit->at_edges = f->legs != NULL;
    }
    return good > 0;
}

/* At the edges, or flat where few rows clearly show that better, or all do. */
cvk_status cvk_standstill_fit_spans(const cvk_waveforms *waveforms, const cvk_span *spans,
                                    size_t count, int threads, double worst_ratio,
                                    cvk_standstill_fit *fit)
{
    cvk_standstill_problem f = {.s = waveforms, .threads = threads};
    family flat, edged;
    if (!scout(&f, spans, count, worst_ratio, &flat, &edged)) {
        return CVK_NOT_IN_LOG;
    }
    const double samples = 2.0 * (double)f.residual_rows;
    cvk_standstill_fit other;
    const bool at_edges = edged.count > 0 &&
                          LIKELIER * best_in(&edged)->residual_a < best_in(&flat)->residual_a &&
                          fit_fully(&f, spans, count, &edged, samples, fit);
    if (at_edges && fit->residual_a < EDGES_FIT * f.noise_a) {
        return CVK_OK;
    }
    const bool flatly = fit_fully(&f, spans, count, &flat, samples, &other);
    if (flatly && (!at_edges || other.residual_a < fit->residual_a)) {
        *fit = other;
    }
    return at_edges || flatly ? CVK_OK : CVK_NOT_IN_LOG;
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
    belief->knee_a = fit->knee_a;
    belief->curve = fit->curve;
}

bool cvk_standstill_cross(const cvk_standstill_fit *fit, double *value, double *variance)
{
    const double magnet = fit->p[CVK_SM_LINEAR_Y];
    *value = copysign(1.0, magnet) * fit->p[CVK_SM_CROSS];
    *variance = fit->cov[CVK_SM_CROSS * (N + 1)];
    return fabs(magnet) > SURE_OF_NORTH * sqrt(fit->cov[CVK_SM_LINEAR_Y * (N + 1)]);
}

enum { EACH_SIDE = 8 };

/* Points outwards from the middle, each fitted from the one before. False when a fit fails, or when
 * one is better than the middle: that is left in `best`. */
static bool walk_profile(cvk_standstill_problem *f, cvk_standstill_fit *best, int side,
                         cvk_curve *curve)
{
    /* what the rows say, without doubts that no likelihood knows of */
    const double deviation = sqrt(best->bound[CVK_SM_RESISTANCE] * best->widened);
    const double least = best->residual_a * best->residual_a;
    cvk_standstill_fit held = *best;
    f->hold = HELD_SHARPLY / deviation;
    for (int n = 0; n <= EACH_SIDE; n++) {
        const int at = EACH_SIDE + side * n;
        const double off = side * PROFILE_REACH * n / EACH_SIDE;
        for (int k = 0; k < N && n > 0; k++) { /* where the others go with it, to first order */
            held.p[k] += side * PROFILE_REACH / EACH_SIDE * deviation *
                         best->bound[k * N + CVK_SM_RESISTANCE] / best->bound[CVK_SM_RESISTANCE];
        }
        f->hold_ohm = best->p[CVK_SM_RESISTANCE] + off * deviation;
        if (n > 0 && !cvk_standstill_fit_curve(f, best->curve, &held)) {
            return false;
        }
        const double worse = held.residual_a * held.residual_a / least - 1.0;
        curve->x[at] = f->hold_ohm;
        curve->y[at] = 2.0 * (double)f->residual_rows * worse / best->widened;
        curve->fit[at] = off * off;
        if (curve->y[at] < -NOTABLY_BETTER) {
            *best = held;
            return false;
        }
    }
    return true;
}

/* With the resistance held at values around that of `fit`; anew from what a walk finds better. */
static void profile_of(cvk_standstill_problem *f, const cvk_standstill_fit *fit, cvk_curve *curve)
{
    cvk_standstill_fit best = *fit;
    for (int round = 0; round < PROFILE_ROUNDS; round++) {
        f->hold = 0.0;
        if (!cvk_standstill_fit_curve(f, best.curve, &best)) {
            return;
        }
        if (walk_profile(f, &best, -1, curve) && walk_profile(f, &best, 1, curve)) {
            curve->points = 2 * EACH_SIDE + 1;
            return;
        }
    }
}

void cvk_standstill_profile(const cvk_waveforms *waveforms, const cvk_span *spans, size_t count,
                            const cvk_standstill_fit *fit, cvk_curve *curve)
{
    cvk_standstill_problem f = {.s = waveforms,
                                .legs = fit->at_edges ? waveforms->legs : NULL,
                                .noise_a = fit->noise_a,
                                .most_evaluations = PROFILE_EVALUATIONS};
    curve->points = 0;
    cvk_standstill_few_rows(&f, spans, count);
    f.largest_v = cvk_standstill_largest_voltage(&f);
    f.knee_centre = fit->p[CVK_SM_LOG_KNEE];
    cvk_standstill_scale(&f, fit->p);
    if (!fit->at_edges || cvk_standstill_edges(&f, fit)) {
        profile_of(&f, fit, curve);
    }
}
