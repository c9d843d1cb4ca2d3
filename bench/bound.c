/* SPDX-License-Identifier: Apache-2.0
 *
 * Fisher information of the two models that the fits use, from all rows.
 */
#include "bound.h"

#include "corvak/ident/estimate.h"
#include "knowledge.h"
#include "prepared.h"
#include "standstill.h"
#include "turning_search.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define CONFIDENT 1.96
#define NEARLY 0.05       /* of the truth: how sharply the oracle knows it before */
#define WORST_RATIO 100.0 /* of the noise: any fit will do */
#define EVALUATIONS 6

static const int of[BOUND_KEYS] = {CVK_B_RESISTANCE, CVK_B_L_D, CVK_B_L_Q, CVK_B_FLUX};

static void standstill_bound(const cvk_prepared *w, const cvk_belief *start,
                             double deviation[BOUND_KEYS])
{
    cvk_standstill_fit fit;
    cvk_belief belief;
    size_t rows = 0;
    if (cvk_standstill_fit_spans(&w->signals, w->still, w->still_count, 1, WORST_RATIO, &fit) !=
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
    f->prior_sd = result->residual_a;
    cvk_choose_blocks(&f->blocks, f->s, turns, rows, rows / CVK_TURNING_MOST_BLOCKS + 1u);
    return cvk_turning_prior(f, start) && cvk_turning_drop_lost(f, result->p) &&
           cvk_turning_fit_from(f, result->p, EVALUATIONS, result);
}

static void turning_bound(const cvk_prepared *w, const cvk_belief *start,
                          const double truth[BOUND_KEYS], double deviation[BOUND_KEYS])
{
    cvk_turning_result result;
    cvk_turning_problem f = {
        .s = &w->signals, .rippled = &w->signals, .flat = w->signals, .threads = 2};
    const size_t rows = cvk_turning_rows(&w->turns);
    f.flat.edge_wb = NULL;
    f.errors = malloc((2u * rows + 2u) * sizeof *f.errors);
    f.gains = malloc((rows + 1u) * sizeof *f.gains);
    if (f.errors != NULL && f.gains != NULL &&
        turning_information(&f, &w->turns, start, truth, &result)) {
        for (int k = 0; k < BOUND_KEYS; k++) {
            deviation[k] = sqrt(result.bound[of[k] * (CVK_TM_COUNT + 1)]);
        }
    }
    free(f.errors);
    free(f.gains);
}

void bound_of(const cvk_log *log, const double truth[BOUND_KEYS], double percent[BOUND_KEYS])
{
    static cvk_estimate unused;
    cvk_prepared prepared = {.usable = false};
    cvk_knowledge known;
    const cvk_estimate_options options = cvk_estimate_options_default();
    double deviation[BOUND_KEYS] = {NAN, NAN, NAN, NAN};
    if (cvk_prepare(&prepared, log, &options, &unused) == CVK_OK && prepared.usable) {
        cvk_knowledge_start(&known, &prepared, 1, 0.0);
        const cvk_belief *start = &known.start[prepared.signals.path];
        if (cvk_turning_rows(&prepared.turns) > prepared.signals.rows / 2u) {
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
