/* SPDX-License-Identifier: Apache-2.0
 *
 * What one log of a motor that stands still tells of its winding.
 */
#include "learning_parts.h"

#include "corvak/core/units.h"

#include "figure_curves.h"
#include "log/findings.h"
#include "standstill/standstill.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define USEFUL_SHARE 0.2      /* as on the card */
#define RUN_UP_SHARE 0.02     /* resistance from a log that also turns must be this sharp */
#define LARGEST_LOSS_W 2000.0 /* mean copper loss of a motor that stands still */
#define LARGEST_OWN_SHARE 0.3 /* of the bus, that the inverter's own voltage may take */
#define WORST_MISFIT 0.02     /* rms misfit, share of the peak current, that is still used */
#define HOPELESS_NOISE 0.2    /* of the largest voltage, of edges between a scope's rows */
#define NOTABLE_DOUBT 0.02    /* of it, that may be why a fit fails */
#define SURELY_WARMER 3.0     /* deviations between the resistances of two logs */
#define MOVING_SHARE 0.02     /* of the peak current, within two rows, that shows an inductance */
#define LARGEST_LOSS 0.6      /* of inductance, that the series of two terms can follow */
#define COLOURED_RESIDUAL 3.0 /* residual over noise that deserves a finding */

/* Heat in the winding, averaged over the standstill. A motor of this class cannot carry kilowatts
 * standing still: then the currents are a thousand times too large. */
static bool plausible_loss(const cvk_prepared *w, double resistance_ohm, cvk_estimate *out)
{
    const cvk_waveforms *s = &w->waveforms;
    double square = 0.0, rows = 0.0;
    for (size_t n = 0; n < w->still_count; n++) {
        for (size_t k = w->still[n].begin; k < w->still[n].end; k++) {
            square += s->i_alpha[k] * s->i_alpha[k] + s->i_beta[k] * s->i_beta[k];
            rows += 1.0;
        }
    }
    double loss_w = 1.5 * resistance_ohm * square / rows;
    if (loss_w > LARGEST_LOSS_W) {
        cvk_add_finding(out, CVK_ERROR, s->name,
                        "at standstill the winding would have to take %.0f W, at most %.0f W is "
                        "believed: if the currents are in milliampere, head them `ia [mA]`",
                        loss_w, LARGEST_LOSS_W);
    }
    return loss_w <= LARGEST_LOSS_W;
}

/* The inverter's own voltage takes a part of the bus, never most of it. */
static bool plausible_inverter(const cvk_prepared *w, double own_v, cvk_estimate *out)
{
    const cvk_waveforms *s = &w->waveforms;
    const bool fine = s->path != CVK_PATH_COMMANDED || own_v < LARGEST_OWN_SHARE * s->bus_v;
    if (!fine) {
        cvk_add_finding(out, CVK_ERROR, s->name,
                        "the inverter's own voltage would be %.3g V on a bus of %.3g V: duties and "
                        "bus do not belong to these currents; check units and columns",
                        own_v, s->bus_v);
    }
    return fine;
}

/* The largest current at which the current also moves: only there an inductance is seen. */
static double reach_of_motion(const cvk_prepared *w)
{
    const cvk_waveforms *s = &w->waveforms;
    double reach = 0.0;
    for (size_t n = 0; n < w->still_count; n++) {
        for (size_t k = w->still[n].begin + 1; k + 1 < w->still[n].end; k++) {
            double move =
                hypot(s->i_alpha[k + 1] - s->i_alpha[k - 1], s->i_beta[k + 1] - s->i_beta[k - 1]);
            double size = hypot(s->i_alpha[k], s->i_beta[k]);
            reach = move > MOVING_SHARE * s->peak_current_a && size > reach ? size : reach;
        }
    }
    return reach;
}

/* How far the log saturates an axis, when it surely does, with the interval of that. */
static void tell_saturation(const cvk_prepared *w, const cvk_standstill_fit *fit, int parameter,
                            const char *name, cvk_estimate *out)
{
    const double reach_a = reach_of_motion(w), square = reach_a * reach_a;
    const double loss = fit->p[parameter] * square;
    const double half = 1.96 * square * sqrt(fit->cov[parameter * (CVK_SM_COUNT + 1)]);
    if (loss > 0.02 && loss > 2.0 * half && loss < LARGEST_LOSS) {
        cvk_add_finding(out, CVK_NOTE, w->waveforms.name,
                        "inductance %s falls by %.0f %% (%.0f .. %.0f %%) at %.3g A: the value on "
                        "the card is that at small current",
                        name, 100.0 * loss / (1.0 + loss),
                        100.0 * (loss - half) / (1.0 + loss - half),
                        100.0 * (loss + half) / (1.0 + loss + half), reach_a);
    }
}

/* Misfit, at most, that the noise of edges between a scope's rows explains: the winding adds it up
 * over its time constant. */
static double edge_misfit(const cvk_waveforms *s, const cvk_standstill_fit *fit)
{
    const double l_h = fit->p[CVK_SM_L_MEAN], step_a = s->edge_noise_v * s->period_s / l_h;
    return 2.0 * step_a * sqrt(0.5 * l_h / (fit->p[CVK_SM_RESISTANCE] * s->period_s));
}

/* Edges that lie between a scope's rows may be why no fit was found. */
static void blame_edges(cvk_learning *l, const cvk_waveforms *s, cvk_span rows)
{
    const double largest_v = cvk_largest_voltage(s, rows);
    if (s->edge_noise_v > HOPELESS_NOISE * largest_v ||
        s->voltage_doubt_v > NOTABLE_DOUBT * largest_v) {
        memcpy(l->cure, s->cure, sizeof l->cure);
    }
}

/* A fit that can be used; findings say why not. */
static bool fit_standstill(cvk_learning *l, cvk_prepared *w, int threads, cvk_standstill_fit *fit,
                           cvk_estimate *out)
{
    const cvk_waveforms *s = &w->waveforms;
    /* in a log that also turns, what fits badly is the slow part of a run-up, not a test */
    const bool turned = w->turns.count > 0 || (w->turns.dropped > 0 && !(s->edge_noise_v > 0.0));
    double worst_ratio = turned ? COLOURED_RESIDUAL : INFINITY;
    if (w->still_count == 0) {
        return false;
    }
    const cvk_span all = {w->still[0].begin, w->still[w->still_count - 1u].end};
    if (cvk_too_coarse(s, all)) {
        memcpy(l->cure, s->cure, sizeof l->cure);
        return false;
    }
    if (cvk_standstill_fit_spans(s, w->still, w->still_count, threads, worst_ratio, fit) !=
        CVK_OK) {
        blame_edges(l, s, all);
        return false;
    }
    if (!plausible_loss(w, fit->p[CVK_SM_RESISTANCE], out) ||
        !plausible_inverter(w, fit->p[CVK_SM_DEAD_TIME], out)) {
        w->usable = false;
        return false;
    }
    if (fit->residual_a > WORST_MISFIT * s->peak_current_a && s->edge_noise_v > 0.0 &&
        fit->residual_a < edge_misfit(s, fit)) {
        memcpy(l->cure, s->cure, sizeof l->cure);
        return false;
    }
    if (w->turns.dropped > 0 && fit->residual_a > COLOURED_RESIDUAL * fit->noise_a &&
        fit->residual_a > edge_misfit(s, fit)) {
        blame_edges(l, s, all);
        return false; /* or a short capture of a rotor that turns */
    }
    if (fit->residual_a > COLOURED_RESIDUAL * fit->noise_a) {
        w->moved = fit->residual_a > WORST_MISFIT * s->peak_current_a;
        cvk_add_finding(out, CVK_WARNING, s->name,
                        "the standstill model misses the current by %.3g A rms where the noise is "
                        "%.3g A%s: did the rotor move? Hold the shaft, or lower the current",
                        fit->residual_a, fit->noise_a, w->moved ? "; not used" : "");
    }
    return !w->moved;
}

/* Value and deviation of `share` times a sum of fitted parameters. */
static cvk_card_entry line_entry(const cvk_standstill_fit *fit, const double slope[CVK_SM_COUNT],
                                 const char *log)
{
    cvk_card_entry entry = {.known = true};
    double variance = 0.0;
    for (int r = 0; r < CVK_SM_COUNT; r++) {
        entry.value += slope[r] * fit->p[r];
        for (int c = 0; c < CVK_SM_COUNT; c++) {
            variance += slope[r] * slope[c] * fit->cov[r * CVK_SM_COUNT + c];
        }
    }
    const double half = 1.96 * sqrt(variance);
    entry.low = entry.statistical_low = entry.value - half;
    entry.high = entry.statistical_high = entry.value + half;
    snprintf(entry.from, sizeof entry.from, "%s: two probes", log);
    entry.known = entry.low > 0.0;
    return entry;
}

/* One direction shows the resistance, which is the same in all, and the inductance along it, which
 * is neither that of d nor of q. */
static void learn_line(cvk_learning *l, const cvk_waveforms *s, const cvk_standstill_fit *fit,
                       cvk_estimate *out)
{
    /* the axis of the line from the first terminal to the second, rad */
    const double axis =
        CVK_PI_WIDE / 3.0 * (double)(s->terminals[0] - 'a' + s->terminals[1] - 'a') +
        0.5 * CVK_PI_WIDE;
    const double line[CVK_SM_COUNT] = {[CVK_SM_RESISTANCE] = 2.0};
    const double bend[CVK_SM_COUNT] = {[CVK_SM_L_MEAN] = 2.0,
                                       [CVK_SM_L_COS] = 2.0 * cos(2.0 * axis),
                                       [CVK_SM_L_SIN] = 2.0 * sin(2.0 * axis)};
    cvk_belief learnt = l->known.start[s->path];
    if (out->line_readings < CVK_MOST_LINE_READINGS) {
        cvk_line_reading *reading = &out->line_reading[out->line_readings++];
        *reading = (cvk_line_reading){.resistance = line_entry(fit, line, s->name),
                                      .inductance = line_entry(fit, bend, s->name)};
        snprintf(reading->log, sizeof reading->log, "%s", s->name);
        memcpy(reading->terminals, s->terminals, sizeof reading->terminals);
    }
    learnt.mean[CVK_B_RESISTANCE] = fit->p[CVK_SM_RESISTANCE];
    learnt.cov[CVK_B_RESISTANCE * (CVK_B_COUNT + 1)] = fit->cov[CVK_SM_RESISTANCE];
    learnt.dof = fit->dof;
    cvk_belief_note(&learnt, CVK_B_RESISTANCE, s->name, "two probes");
    cvk_add_reading(&l->readings, s->name, s->path, &learnt, CVK_B_RESISTANCE);
    if (!cvk_belief_merge(&l->known.of[s->path], &learnt)) {
        return;
    }
    snprintf(l->one_line, sizeof l->one_line,
             "two probes show the inductance from terminal to terminal at one rotor position, "
             "neither d nor q: log at least two phase currents and inject along two or more "
             "directions (corvak record standstill)");
}

/* A winding that is warmer in one log than in another must not pull the inductances along: then
 * what the log says of the resistance is kept apart. */
static void free_resistance(const cvk_belief *known, cvk_belief *learnt)
{
    const int r = CVK_B_RESISTANCE;
    const double apart = learnt->mean[r] - known->mean[r];
    const double deviation = hypot(cvk_belief_deviation(known, r), cvk_belief_deviation(learnt, r));
    if (fabs(apart) < SURELY_WARMER * deviation) {
        return;
    }
    cvk_belief_isolate(learnt, r, apart * apart);
}

/* A fit holds the prior on saturation already, which must not pull a second time. */
static bool take_standstill(cvk_belief *known, const cvk_belief *learnt)
{
    if (known->from[CVK_B_LINEAR_D][0] != '\0') {
        return cvk_belief_merge(known, learnt);
    }
    *known = *learnt;
    return true;
}

static void learn_cross(cvk_learning *l, const cvk_standstill_fit *fit, const char *log)
{
    double value, variance;
    if (!cvk_standstill_cross(fit, &value, &variance)) {
        return;
    }
    const size_t used = strlen(l->cross_from);
    l->cross_information += 1.0 / variance;
    l->cross_per_a += (value - l->cross_per_a) / (variance * l->cross_information);
    snprintf(l->cross_from + used, sizeof l->cross_from - used, "%s%s: standstill fit",
             used > 0 ? "; " : "", log);
}

void cvk_learn_standstill(cvk_learning *l, cvk_prepared *w, const cvk_estimate_options *options,
                          cvk_estimate *out)
{
    static const int told[] = {CVK_B_RESISTANCE, CVK_B_L_D, CVK_B_L_Q, CVK_B_DEAD_TIME,
                               CVK_B_DELAY};
    const cvk_waveforms *s = &w->waveforms;
    cvk_standstill_fit fit;
    cvk_belief learnt;
    if (!fit_standstill(l, w, options->threads, &fit, out)) {
        return;
    }
    w->stood = true;
    if (s->terminals[0] != '\0') {
        learn_line(l, s, &fit, out);
        return;
    }
    cvk_standstill_belief(&fit, &l->known.start[s->path], &learnt);
    cvk_doubt_two_channels(l, s, &learnt);
    if (w->turns.count > 0 && !cvk_belief_knows(&learnt, CVK_B_RESISTANCE, RUN_UP_SHARE)) {
        return;
    }
    cvk_belief_note(&learnt, CVK_B_LINEAR_D, s->name, "standstill fit");
    for (size_t k = 0; k < sizeof told / sizeof told[0]; k++) {
        if (cvk_belief_knows(&learnt, told[k], USEFUL_SHARE)) {
            cvk_belief_note(&learnt, told[k], s->name, "standstill fit");
        }
    }
    for (int k = CVK_B_RESISTANCE; k <= CVK_B_L_Q; k++) {
        cvk_add_reading(&l->readings, s->name, s->path, &learnt, k);
    }
    out->offset_alpha_a = s->offset_alpha_a + fit.p[CVK_SM_OFFSET_ALPHA];
    out->offset_beta_a = s->offset_beta_a + fit.p[CVK_SM_OFFSET_BETA];
    tell_saturation(w, &fit, CVK_SM_SQUARE_Y, "d", out);
    tell_saturation(w, &fit, CVK_SM_SQUARE_X, "q", out);
    learn_cross(l, &fit, s->name);
    free_resistance(&l->known.of[s->path], &learnt);
    if (take_standstill(&l->known.of[s->path], &learnt) && !(out->residual_a < fit.residual_a)) {
        out->residual_a = fit.residual_a;
        cvk_standstill_curves(s, w->still, w->still_count, &fit, out);
        if (out->curves != NULL && out->curves->with_profile) {
            cvk_standstill_profile(s, w->still, w->still_count, &fit, &out->curves->profile);
        }
    }
}
