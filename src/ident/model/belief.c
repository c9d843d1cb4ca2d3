/* SPDX-License-Identifier: Apache-2.0
 *
 * Gaussian beliefs. For numeric health everything is inverted in units of the parameters' own
 * standard deviations.
 */
#include "belief.h"

#include "inverter_curve.h"
#include "math/numeric.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define N CVK_B_COUNT

void cvk_belief_start(cvk_belief *belief, const double typical[N], double width)
{
    *belief = (cvk_belief){.dof = 1e6, .knee_a = 0.0, .curve = CVK_CURVE_TANH};
    for (int p = 0; p < N; p++) {
        belief->mean[p] = typical[p];
        belief->cov[p * N + p] = width * width * typical[p] * typical[p];
    }
}

double cvk_belief_deviation(const cvk_belief *belief, int parameter)
{
    return sqrt(belief->cov[parameter * N + parameter]);
}

double cvk_belief_variance(const cvk_belief *belief, const int *parameter, const double *slope,
                           int count)
{
    double sum = 0.0;
    for (int k = 0; k < count * count; k++) {
        int r = k / count, c = k % count;
        sum += slope[r] * slope[c] * belief->cov[parameter[r] * N + parameter[c]];
    }
    return sum;
}

bool cvk_belief_knows(const cvk_belief *belief, int parameter, double share)
{
    double value = belief->mean[parameter];
    return value > 0.0 && cvk_belief_deviation(belief, parameter) < share * value;
}

/* Information matrix in the units of `unit`. */
static bool information(const cvk_belief *belief, const double unit[N], double out[N * N])
{
    for (int k = 0; k < N * N; k++) {
        out[k] = belief->cov[k] / (unit[k / N] * unit[k % N]);
    }
    return cvk_invert_spd(N, out);
}

bool cvk_belief_merge(cvk_belief *belief, const cvk_belief *learnt)
{
    double unit[N], a[N * N], b[N * N], pull[N] = {0};
    const bool sharper = cvk_belief_deviation(learnt, CVK_B_DEAD_TIME) <
                         cvk_belief_deviation(belief, CVK_B_DEAD_TIME);
    for (int p = 0; p < N; p++) {
        unit[p] = fmin(cvk_belief_deviation(belief, p), cvk_belief_deviation(learnt, p));
    }
    if (!information(belief, unit, a) || !information(learnt, unit, b)) {
        return false;
    }
    for (int k = 0; k < N * N; k++) {
        pull[k / N] += (a[k] * belief->mean[k % N] + b[k] * learnt->mean[k % N]) / unit[k % N];
        a[k] += b[k];
    }
    if (!cvk_invert_spd(N, a)) {
        return false;
    }
    for (int p = 0; p < N; p++) {
        double sum = 0.0;
        for (int q = 0; q < N; q++) {
            sum += a[p * N + q] * pull[q];
            belief->cov[p * N + q] = a[p * N + q] * unit[p] * unit[q];
        }
        belief->mean[p] = unit[p] * sum;
    }
    belief->dof = fmin(belief->dof, learnt->dof);
    if (learnt->knee_a > 0.0 && (sharper || belief->knee_a <= 0.0)) {
        belief->knee_a = learnt->knee_a;
        belief->curve = learnt->curve;
        belief->flat = learnt->flat;
    }
    for (int p = 0; p < N; p++) {
        if (learnt->from[p][0] != '\0') {
            cvk_belief_note(belief, p, learnt->from[p], "");
        }
    }
    return true;
}

void cvk_belief_isolate(cvk_belief *belief, int parameter, double variance)
{
    for (int k = 0; k < N; k++) {
        belief->cov[parameter * N + k] = belief->cov[k * N + parameter] = 0.0;
    }
    belief->cov[parameter * (N + 1)] = variance;
}

void cvk_belief_doubt(cvk_belief *belief, int parameter, double variance)
{
    const double grow = sqrt(variance / belief->cov[parameter * (CVK_B_COUNT + 1)]);
    if (grow > 1.0) {
        cvk_widen(CVK_B_COUNT, belief->cov, parameter, grow);
    }
}

void cvk_belief_note(cvk_belief *belief, int parameter, const char *log, const char *method)
{
    char *text = belief->from[parameter];
    size_t used = strlen(text);
    snprintf(text + used, CVK_CARD_TEXT - used, "%s%s%s%s", used > 0 ? "; " : "", log,
             method[0] != '\0' ? ": " : "", method);
}
