/* SPDX-License-Identifier: Apache-2.0
 *
 * Curves for the figures of an estimate, at standstill and turning.
 */
#include "figure_curves.h"

#include "corvak/core/units.h"

#include "model/edges.h"

#include <complex.h>
#include <math.h>
#include <stdlib.h>

#define SHOWN_TURNS 3

/* ---- at standstill -------------------------------------------------------------------------- */

/* The longest span's last part: a few periods of the injected current, measured and fitted, along
 * the direction in which it moves most. */
static void step_curve(const cvk_waveforms *s, cvk_span span, const cvk_standstill_fit *fit,
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
static void line_curve(const cvk_waveforms *s, cvk_span span, const cvk_standstill_fit *fit,
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
static void residual_curves(const cvk_waveforms *s, cvk_span span, const cvk_standstill_fit *fit,
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

void cvk_standstill_curves(const cvk_waveforms *waveforms, const cvk_span *spans, size_t count,
                           const cvk_standstill_fit *fit, cvk_estimate *out)
{
    cvk_estimate_curves *curves = out->curves;
    out->line_knee_a = fit->knee_a;
    out->line_curve = fit->curve;
    if (fit->at_edges) {
        const cvk_loss loss = cvk_standstill_loss(fit);
        cvk_find_edges(waveforms, (cvk_span){0, waveforms->rows}, &loss);
    }
    if (curves == NULL) {
        return;
    }
    curves->step.points = curves->line.points = 0;
    for (size_t n = 0; n < count; n++) {
        line_curve(waveforms, spans[n], fit, &curves->line);
        step_curve(waveforms, spans[n], fit, &curves->step);
        residual_curves(waveforms, spans[n], fit, &curves->residual, &curves->correlation);
    }
}

/* ---- turning -------------------------------------------------------------------------------- */

/* The first of SHOWN_TURNS joined turns whose durations differ least. */
static size_t steadiest_turns(const cvk_turns *turns)
{
    size_t best = turns->count;
    double least = INFINITY;
    for (size_t n = 0; n + SHOWN_TURNS <= turns->count; n++) {
        if (!turns->joined[n + 1] || !turns->joined[n + 2]) {
            continue;
        }
        double first = (double)cvk_turn_rows(turns, n), change = 0.0;
        for (size_t k = 1; k < SHOWN_TURNS; k++) {
            change = fmax(change, fabs((double)cvk_turn_rows(turns, n + k) / first - 1.0));
        }
        if (change < least) {
            least = change;
            best = n;
        }
    }
    return best;
}

/* Active flux at every row from `begin` on: integral of v - R i, less Lq i. */
static void integrate_flux(const cvk_waveforms *s, const cvk_belief *belief, size_t begin,
                           size_t rows, double complex *active)
{
    const long delay = lround(belief->mean[CVK_B_DELAY]);
    /* what is not known may not multiply the noise of a current that is not there */
    const double r =
        cvk_belief_knows(belief, CVK_B_RESISTANCE, 0.5) ? belief->mean[CVK_B_RESISTANCE] : 0.0;
    const double l = cvk_belief_knows(belief, CVK_B_L_Q, 0.5) ? belief->mean[CVK_B_L_Q] : 0.0;
    const cvk_axes axes = cvk_mean_axes(belief);
    double complex psi = 0.0;
    for (size_t n = 0; n < rows; n++) {
        size_t k = begin + n, source = (long)k < delay ? 0 : (size_t)((long)k - delay);
        source = source < s->rows ? source : s->rows - 1;
        double complex i = s->i_alpha[k] + I * s->i_beta[k];
        double complex v = s->v_alpha[source] + I * s->v_beta[source];
        if (belief->knee_a > 0.0) {
            v -= belief->mean[CVK_B_DEAD_TIME] *
                 cvk_own_share_at(s, k, belief->knee_a, axes, belief);
        }
        active[n] = psi - l * i;
        psi += s->period_s * (v - r * i);
    }
}

static double complex mean_of(const double complex *x, size_t count)
{
    double complex sum = 0.0;
    for (size_t n = 0; n < count; n++) {
        sum += x[n];
    }
    return sum / (double)count;
}

void cvk_circle_curve(const cvk_waveforms *s, const cvk_turns *turns, const cvk_belief *belief,
                      cvk_curve *curve)
{
    const size_t first = steadiest_turns(turns);
    if (first == turns->count) {
        return;
    }
    const size_t last = first + SHOWN_TURNS - 1u, begin = turns->begin[first];
    const size_t rows = turns->end[last] - begin, last_at = turns->begin[last] - begin;
    double complex *active = malloc(rows * sizeof *active);
    if (active == NULL) {
        return;
    }
    integrate_flux(s, belief, begin, rows, active);
    /* an offset lets the integral drift: the centre moves from the first turn to the last */
    double complex centre = mean_of(active, cvk_turn_rows(turns, first));
    double complex later = mean_of(active + last_at, cvk_turn_rows(turns, last));
    double apart = (double)last_at +
                   0.5 * ((double)cvk_turn_rows(turns, last) - (double)cvk_turn_rows(turns, first));
    double complex drift = (later - centre) / apart;
    double middle = 0.5 * (double)cvk_turn_rows(turns, first);
    const size_t stride = rows / CVK_CURVE_POINTS + 1u;
    for (size_t n = 0; n < rows; n += stride) {
        double complex x = active[n] - centre - drift * ((double)n - middle);
        curve->x[curve->points] = creal(x);
        curve->y[curve->points++] = cimag(x);
    }
    free(active);
}

void cvk_speed_curve(const cvk_waveforms *s, const cvk_turns *turns, cvk_curve *curve)
{
    const size_t most = CVK_CURVE_POINTS / 2u; /* each may be followed by a break */
    const size_t stride = turns->count / most + 1u;
    curve->points = 0;
    for (size_t n = 0; n < turns->count; n += stride) {
        const size_t last = n + stride < turns->count ? n + stride : turns->count;
        bool broken = false;
        for (size_t k = n; k < last; k++) {
            broken = broken || (k > 0 && !turns->joined[k]);
        }
        if (broken && curve->points > 0) {
            curve->x[curve->points] = curve->y[curve->points] = NAN;
            curve->points++;
        }
        const double rows = (double)cvk_turn_rows(turns, n);
        curve->x[curve->points] = ((double)turns->begin[n] + 0.5 * rows) * s->period_s;
        curve->y[curve->points++] = turns->sign[n] * 2.0 * CVK_PI_WIDE / (rows * s->period_s);
    }
}
