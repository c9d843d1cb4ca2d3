/* SPDX-License-Identifier: Apache-2.0
 *
 * Fisher information of the two models that the fits use, from all rows.
 */
#include "bound.h"

#include "corvak/ident/estimate.h"
#include "model/edges.h"
#include "model/inverter_curve.h"
#include "estimate/path_beliefs.h"
#include "math/numeric.h"
#include "estimate/prepared.h"
#include "standstill/standstill.h"
#include "turning/turning_search.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define CONFIDENT 1.96
#define NEARLY 0.05       /* of the truth: how sharply the oracle knows it before */
#define WORST_RATIO 100.0 /* of the noise: any fit will do */
#define EVALUATIONS 6
#define N CVK_TM_COUNT
#define SHAPES 5         /* of the inverter's voltage */
#define RIPPLE_SHARE 0.2 /* of the ripple: how well its effect at the edges is known */
#define STEP 0.1         /* of a deviation, in derivatives */
#define WIDTH (N + SHAPES)

static const int of[BOUND_KEYS] = {CVK_B_RESISTANCE, CVK_B_L_D, CVK_B_L_Q, CVK_B_FLUX};

static void standstill_bound(const cvk_prepared *w, const cvk_belief *start,
                             double deviation[BOUND_KEYS])
{
    cvk_standstill_fit fit;
    cvk_belief belief;
    size_t rows = 0;
    if (cvk_standstill_fit_spans(&w->waveforms, w->still, w->still_count, 1, WORST_RATIO, &fit) !=
        CVK_OK) {
        return;
    }
    for (size_t n = 0; n < w->still_count; n++) {
        rows += w->still[n].end - w->still[n].begin;
    }
    /* the fit takes blocks that are spread evenly over a long log */
    const double share = sqrt((double)fit.rows / (double)rows);
    memcpy(fit.cov, fit.bound, sizeof fit.cov);
    cvk_standstill_belief(&fit, start, &belief);
    deviation[BOUND_RESISTANCE] = share * cvk_belief_deviation(&belief, CVK_B_RESISTANCE);
    deviation[BOUND_INDUCTANCE_D] = share * cvk_belief_deviation(&belief, CVK_B_L_D);
    deviation[BOUND_INDUCTANCE_Q] = share * cvk_belief_deviation(&belief, CVK_B_L_Q);
}

/* Prediction errors of all blocks, with one curve, at the edges that the ripple moves or flat. */
static bool errors_with(const cvk_turning_problem *f, const cvk_waveforms *s, int curve,
                        const double *p, double *out)
{
    bool fine = true;
    for (size_t b = 0; b < f->blocks.count && fine; b++) {
        double *here = out + f->blocks.first_residual[b];
        fine = cvk_tm_filter(s, &f->blocks.block[b], curve, f->gains + f->blocks.first_row[b], 1,
                             &p, &here);
    }
    return fine;
}

/* A column for each of what no log tells apart from the rest: how the inverter's voltage bends, as
 * differences to other curves, and how far the ripple moves its edges. Returns how many. */
static int shape_columns(const cvk_turning_problem *f, const cvk_turning_result *at,
                         const double *middle, double *columns[SHAPES])
{
    static const int curves[] = {CVK_CURVE_SOFT, CVK_CURVE_CHARGE, CVK_CURVE_ROUND,
                                 CVK_CURVE_CLIPPED};
    const size_t m = 2u * f->blocks.residual_rows;
    int count = 0;
    for (size_t n = 0; n <= sizeof curves / sizeof curves[0]; n++) {
        const bool flat = n == sizeof curves / sizeof curves[0];
        double *out = columns[count];
        if ((!flat && curves[n] == at->curve) || (flat && f->rippled.legs == NULL) ||
            !errors_with(f, flat ? &f->flat : f->s, flat ? at->curve : curves[n], at->p, out)) {
            continue;
        }
        for (size_t k = 0; k < m; k++) {
            out[k] = (out[k] - middle[k]) * (flat ? RIPPLE_SHARE : 1.0);
        }
        count++;
    }
    return count;
}

/* Covariance of `at`, as of white errors, once more with those shapes unknown: from their products
 * with the derivatives, C (1 + ...) by the inverse of the bordered matrix. */
static bool doubt_shapes(const cvk_turning_problem *f, cvk_turning_result *at)
{
    const size_t m = 2u * f->blocks.residual_rows;
    double *work = malloc((SHAPES + 2u) * m * sizeof *work), *shape[SHAPES];
    double information[WIDTH * WIDTH] = {0};
    bool fine = work != NULL;
    for (int n = 0; n < SHAPES && fine; n++) {
        shape[n] = work + (size_t)(n + 2) * m;
    }
    fine = fine && errors_with(f, f->s, at->curve, at->p, work);
    const int shapes = fine ? shape_columns(f, at, work, shape) : 0, width = N + shapes;
    memcpy(information, at->bound, sizeof at->bound);
    fine = fine && cvk_invert_spd(N, information);
    for (int r = N - 1; r >= 0; r--) { /* from N columns to `width` */
        for (int c = N - 1; c >= 0; c--) {
            const double cell = information[r * N + c];
            information[r * N + c] = 0.0;
            information[r * width + c] = cell;
        }
    }
    for (int k = 0; k < N && fine; k++) {
        double moved[N];
        const double step = STEP * sqrt(at->bound[k * (N + 1)]);
        memcpy(moved, at->p, sizeof moved);
        moved[k] += step;
        fine = errors_with(f, f->s, at->curve, moved, work + m);
        for (int n = 0; n < shapes && fine; n++) {
            double sum = 0.0;
            for (size_t e = 0; e < m; e++) {
                sum += (work[m + e] - work[e]) / step * shape[n][e];
            }
            information[k * width + N + n] = information[(N + n) * width + k] =
                sum / (at->residual_a * at->residual_a);
        }
    }
    for (int n = 0; n < shapes && fine; n++) {
        for (int l = 0; l < shapes; l++) {
            double sum = 0.0;
            for (size_t e = 0; e < m; e++) {
                sum += shape[n][e] * shape[l][e];
            }
            information[(N + n) * width + N + l] =
                sum / (at->residual_a * at->residual_a) + (n == l ? 1.0 : 0.0);
        }
    }
    fine = fine && cvk_invert_spd(width, information);
    for (int k = 0; k < N * N && fine; k++) {
        at->bound[k] = information[k / N * width + k % N];
    }
    free(work);
    return fine;
}

/* A fit on the usual rows begun at the truth, and from there the information of all rows, without
 * the oracle's knowledge. */
static bool turning_information(cvk_turning_problem *f, const cvk_turns *turns,
                                const cvk_belief *start, const double truth[BOUND_KEYS],
                                cvk_turning_result *result)
{
    const size_t rows = cvk_turning_rows(turns);
    cvk_belief oracle = *start;
    for (int k = 0; k < BOUND_KEYS; k++) {
        for (int c = 0; c < CVK_B_COUNT; c++) {
            oracle.cov[of[k] * CVK_B_COUNT + c] = oracle.cov[c * CVK_B_COUNT + of[k]] = 0.0;
        }
        oracle.mean[of[k]] = truth[k];
        oracle.cov[of[k] * (CVK_B_COUNT + 1)] = pow(NEARLY * truth[k], 2.0);
    }
    cvk_choose_blocks(&f->blocks, f->s, turns, CVK_SCOUT_ROWS, CVK_SCOUT_BLOCK_ROWS);
    if (!cvk_turning_prior(f, &oracle) || !cvk_turning_search(f, turns, &oracle, result)) {
        return false;
    }
    f->hold_delay = 0.0;
    f->hold_late = false; /* what is unknown counts, shown or not */
    f->prior_sd = result->residual_a;
    cvk_choose_blocks(&f->blocks, f->s, turns, rows, rows / CVK_TURNING_MOST_BLOCKS + 1u);
    cvk_turning_edges(f, result->p);
    return cvk_turning_prior(f, start) && cvk_turning_drop_lost(f, result->p) &&
           cvk_turning_fit_from(f, result->p, EVALUATIONS, result) && doubt_shapes(f, result);
}

static void turning_bound(const cvk_prepared *w, const cvk_belief *start,
                          const double truth[BOUND_KEYS], double deviation[BOUND_KEYS])
{
    cvk_turning_result result;
    cvk_turning_problem f;
    if (cvk_turning_open(&f, &w->waveforms, &w->turns, 2) &&
        turning_information(&f, &w->turns, start, truth, &result)) {
        for (int k = 0; k < BOUND_KEYS; k++) {
            deviation[k] = sqrt(result.bound[of[k] * (N + 1)]);
        }
    }
    cvk_turning_close(&f);
}

void bound_of(const cvk_log *log, const double truth[BOUND_KEYS], double percent[BOUND_KEYS])
{
    static cvk_estimate unused;
    cvk_prepared prepared = {.usable = false};
    cvk_path_beliefs known;
    const cvk_estimate_options options = cvk_estimate_options_default();
    double deviation[BOUND_KEYS] = {NAN, NAN, NAN, NAN};
    if (cvk_prepare(&prepared, log, &options, &unused) == CVK_OK && prepared.usable) {
        cvk_path_beliefs_start(&known, &prepared, 1, 0.0);
        const cvk_belief *start = &known.start[prepared.waveforms.path];
        if (cvk_turning_rows(&prepared.turns) > prepared.waveforms.rows / 2u) {
            turning_bound(&prepared, start, truth, deviation);
        } else {
            standstill_bound(&prepared, start, deviation);
        }
    }
    for (int k = 0; k < BOUND_KEYS; k++) {
        percent[k] = 100.0 * CONFIDENT * deviation[k] / truth[k];
    }
    cvk_prepared_free(&prepared);
}
