/* SPDX-License-Identifier: Apache-2.0
 *
 * Evidence for the number of pole pairs. With p pole pairs the strength of electrical turn n
 * depends on n mod p. For each p the turns are averaged per residue; the Bayesian information
 * criterion (Schwarz, Ann. Statist. 6(2), 1978) weighs the better fit of a larger p against its
 * number of averages.
 */
#include "pole_pairs.h"

#include "math/numeric.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define ROTOR_DEVIATION 0.03 /* least standard deviation of the speed ratio, relative to one */
#define FEWEST_TURNS 14u
#define LEAST_REPEATED 2.2 /* mechanical turns, from which on a pattern can be told */
#define SMOOTH_TURNS 30    /* speed and slow drift are taken over this many turns to each side */

void cvk_poles_from_rotor(cvk_pole_evidence *evidence, const cvk_windows *windows, bool *odd,
                          double *ratio)
{
    double values[CVK_MAX_WINDOWS];
    size_t count = 0, forward = 0;
    for (size_t n = 0; n < windows->count; n++) {
        double value = windows->window[n].rotor_ratio;
        if (isfinite(value) && fabs(value) < 1e3) {
            values[count++] = fabs(value);
            forward += value > 0.0;
        }
    }
    *odd = false;
    if (count == 0) {
        return;
    }
    double middle = cvk_median(values, count);
    for (size_t n = 0; n < count; n++) {
        values[n] = fabs(values[n] - middle);
    }
    double scatter = cvk_median(values, count) / 0.6745 / sqrt((double)count);
    double deviation = fmax(ROTOR_DEVIATION, 3.0 * scatter);
    evidence->rotor_column = true;
    *ratio = 2 * forward >= count ? middle : -middle;
    *odd = fabs(middle - round(middle)) > 3.0 * deviation || middle < 0.5;
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS && !*odd; p++) {
        double off = (middle - p) / deviation;
        evidence->log_likelihood[p] -= 0.5 * off * off;
    }
}

/* Strength of one turn's back-EMF divided by its speed. The speed comes from the turns from .. to-1
 * around it, so that the pattern does not enter it. */
static double turn_strength(const cvk_waveforms *s, const cvk_turns *turns, size_t n, size_t from,
                            size_t to)
{
    double c[3], re = 0.0, im = 0.0, slope = 0.0;
    const size_t begin = turns->begin[from], end = turns->end[to - 1];
    const double middle = (double)begin + 0.5 * ((double)(end - begin) - 1.0);
    cvk_fit_phase(turns->phase, begin, end, c);
    for (size_t k = turns->begin[n]; k < turns->end[n]; k++) {
        double x = (double)k - middle;
        double angle = c[0] + x * (c[1] + x * c[2]);
        re += s->v_alpha[k] * cos(angle) + s->v_beta[k] * sin(angle);
        im += s->v_beta[k] * cos(angle) - s->v_alpha[k] * sin(angle);
        slope += c[1] + 2.0 * c[2] * x;
    }
    return hypot(re, im) / fabs(slope);
}

/* The strengths of the joined turns first .. last-1. */
static void turn_strengths(const cvk_waveforms *s, const cvk_turns *turns, size_t first,
                           size_t last, double *strength)
{
    for (size_t n = first; n < last; n++) {
        size_t from = n > first + SMOOTH_TURNS ? n - SMOOTH_TURNS : first;
        size_t to = n + SMOOTH_TURNS + 1 < last ? n + SMOOTH_TURNS + 1 : last;
        strength[n - first] = turn_strength(s, turns, n, from, to);
    }
}

/* Takes a straight line off each value, fitted over its neighbours. */
static void take_off_drift(const double *strength, double *flat, size_t count)
{
    for (size_t n = 0; n < count; n++) {
        size_t from = n > SMOOTH_TURNS ? n - SMOOTH_TURNS : 0;
        size_t to = n + SMOOTH_TURNS + 1 < count ? n + SMOOTH_TURNS + 1 : count;
        double c[3];
        cvk_fit_phase(strength, from, to, c);
        double m = (double)(to - from), x = (double)(n - from) - 0.5 * (m - 1.0);
        /* cvk_fit_phase fits a parabola; its line is c0 + c2 mean(x^2) + c1 x */
        flat[n] = strength[n] - (c[0] + c[2] * (m * m - 1.0) / 12.0 + c[1] * x);
    }
}

/* Square sum that is left when every residue class mod p has its own mean. */
static double comb_misfit(const double *x, size_t count, int p)
{
    double sum[CVK_MOST_POLE_PAIRS] = {0}, total = 0.0;
    size_t in_class[CVK_MOST_POLE_PAIRS] = {0};
    for (size_t n = 0; n < count; n++) {
        sum[n % (size_t)p] += x[n];
        in_class[n % (size_t)p]++;
        total += x[n] * x[n];
    }
    for (int c = 0; c < p; c++) {
        total -= in_class[c] > 0 ? sum[c] * sum[c] / (double)in_class[c] : 0.0;
    }
    return total;
}

static void add_pattern(cvk_pole_evidence *evidence, const double *flat, size_t count)
{
    double n = (double)count, criterion[CVK_MOST_POLE_PAIRS + 1], best = INFINITY;
    double total = comb_misfit(flat, count, 1);
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        criterion[p] = INFINITY;
        if (n >= LEAST_REPEATED * p && total > 0.0) {
            double left = fmax(comb_misfit(flat, count, p), 1e-6 * total);
            criterion[p] = 0.5 * (n * log(left / total) + p * log(n));
            best = fmin(best, criterion[p]);
        }
    }
    /* a pattern is there when some p explains far more than chance */
    if (criterion[1] - best < 10.0) {
        return;
    }
    evidence->pattern = true;
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        /* too few turns to judge a large p: it stays possible, but not better than the best */
        double value = isfinite(criterion[p]) ? criterion[p] : best + 8.0;
        evidence->log_likelihood[p] -= value - best;
    }
}

cvk_status cvk_poles_from_pattern(cvk_pole_evidence *evidence, const cvk_waveforms *s,
                                  const cvk_turns *turns)
{
    double *strength = malloc(2u * (turns->count + 1u) * sizeof *strength);
    if (strength == NULL) {
        return CVK_NO_MEMORY;
    }
    for (size_t first = 0; first < turns->count;) {
        size_t last = first + 1;
        while (last < turns->count && turns->joined[last]) {
            last++;
        }
        if (last - first >= FEWEST_TURNS &&
            cvk_currentless(s, turns->begin[first], turns->end[last - 1])) {
            /* at the ends a motor comes to rest, or the bridge still lets go */
            const size_t kept = last - first - 2u;
            double *flat = strength + turns->count + 1u;
            turn_strengths(s, turns, first + 1u, last - 1u, strength);
            take_off_drift(strength, flat, kept);
            add_pattern(evidence, flat, kept);
        }
        first = last;
    }
    free(strength);
    return CVK_OK;
}

void cvk_poles_probabilities(const cvk_pole_evidence *evidence, double *out)
{
    double sum = 0.0, best = -INFINITY;
    const bool any = cvk_poles_any(evidence);
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        best = fmax(best, evidence->log_likelihood[p]);
    }
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        out[p] = any ? exp(evidence->log_likelihood[p] - best) : 1.0;
        sum += out[p];
    }
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        out[p] /= sum;
    }
    out[0] = any ? 0.0 : 1.0;
}

int cvk_poles_decide(const cvk_pole_evidence *evidence, double *probability)
{
    double of[CVK_MOST_POLE_PAIRS + 1];
    int decided = 0;
    *probability = 0.0;
    cvk_poles_probabilities(evidence, of);
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS && of[0] == 0.0; p++) {
        if (of[p] > *probability) {
            *probability = of[p];
            decided = p;
        }
    }
    return decided;
}
