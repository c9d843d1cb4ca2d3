/* SPDX-License-Identifier: Apache-2.0
 *
 * The electrical parameters, log by log. Each standstill log and each driven one is fitted alone;
 * the flux circle joins all turning windows of a path.
 */
#include "learning.h"

#include "arc.h"
#include "figure_curves.h"
#include "findings.h"
#include "standstill.h"
#include "turning_fit.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define SHARP_SHARE 0.05 /* known so well that only the flux linkage is left to learn */
#define FLUX_SHARE 0.05  /* as on the card */
#define PI 3.14159265358979323846
#define USEFUL_SHARE 0.2      /* as on the card */
#define KNOWN_BEFORE 0.01     /* so sharp that a turning motor tells nothing new */
#define CURVE_DOUBT 0.1       /* of the inverter's voltage, while the motor turns */
#define RUN_UP_SHARE 0.02     /* resistance from a log that also turns must be this sharp */
#define LARGEST_LOSS_W 2000.0 /* mean copper loss of a motor that stands still */
#define LARGEST_OWN_SHARE 0.3 /* of the bus, that the inverter's own voltage may take */
#define WORST_MISFIT 0.02     /* rms misfit, share of the peak current, that is still used */
#define LARGEST_DOUBT 0.03    /* of the largest voltage, that averaged ones may have */
#define HOPELESS_NOISE 0.2    /* of the largest voltage, of edges between a scope's rows */
#define NOTABLE_DOUBT 0.02    /* of it, that may be why a fit fails */
#define NOTABLE_WARMTH 0.03
#define SURELY_WARMER 3.0 /* deviations between the resistances of two logs */
#define FEWEST_WINDOWS 3u
#define LARGEST_OPEN_SPREAD 0.02 /* of voltage over speed, without current */
#define LARGEST_SPREAD 0.02      /* off the flux circle, of a log that fits the winding */
#define OTHER_INDUCTANCE 0.12    /* difference that no motor has with itself */
#define WARMEST 0.25             /* difference of resistances that a warmer winding explains */
#define WARM_SPREAD 0.1          /* of a resistance, from standing still to turning */
#define LIKELY_OTHER 4.0
#define ODD_SPREAD 0.004 /* off the circle, and so many times more than with one of its own */
#define ODD_RATIO 1.6
#define WORSE_OWN 1.5         /* spread of a winding of its own over that of the known one */
#define SURELY_OTHER 6.0      /* and deviations of it */
#define MOVING_SHARE 0.02     /* of the peak current, within two rows, that shows an inductance */
#define LARGEST_LOSS 0.6      /* of inductance, that the series of two terms can follow */
#define COLOURED_RESIDUAL 3.0 /* residual over noise that deserves a finding */

/* What stays of edges that lie between a scope's rows, at the windows' typical speed. */
static void doubt_edges(const cvk_signals *s, const cvk_windows *windows, cvk_belief *belief)
{
    double sum = 0.0;
    for (size_t n = 0; n < windows->count; n++) {
        sum += fabs(windows->window[n].omega) / (double)windows->count;
    }
    if (s->voltage_doubt_v > 0.0 && sum > 0.0) {
        belief->cov[CVK_B_FLUX * (CVK_B_COUNT + 1)] += pow(2.0 * s->voltage_doubt_v / sum, 2.0);
    }
}

/* Two voltage channels may differ in gain, which three would have shown. */
static void doubt_two_channels(const cvk_learning *l, const cvk_signals *s, cvk_belief *belief)
{
    for (int k = CVK_B_RESISTANCE; k <= CVK_B_FLUX && s->two_voltages; k++) {
        belief->cov[k * (CVK_B_COUNT + 1)] += pow(0.5 * l->channel_mismatch * belief->mean[k], 2.0);
    }
}

/* ---- standing still ------------------------------------------------------------------------- */

/* Heat in the winding, averaged over the standstill. A motor of this class cannot carry kilowatts
 * standing still: then the currents are a thousand times too large. */
static bool plausible_loss(const cvk_prepared *w, double resistance_ohm, cvk_estimate *out)
{
    const cvk_signals *s = &w->signals;
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
    const cvk_signals *s = &w->signals;
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
    const cvk_signals *s = &w->signals;
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
        cvk_add_finding(out, CVK_NOTE, w->signals.name,
                        "inductance %s falls by %.0f %% (%.0f .. %.0f %%) at %.3g A: the value on "
                        "the card is that at small current",
                        name, 100.0 * loss / (1.0 + loss),
                        100.0 * (loss - half) / (1.0 + loss - half),
                        100.0 * (loss + half) / (1.0 + loss + half), reach_a);
    }
}

/* Misfit, at most, that the noise of edges between a scope's rows explains: the winding adds it up
 * over its time constant. */
static double edge_misfit(const cvk_signals *s, const cvk_standstill_fit *fit)
{
    const double l_h = fit->p[CVK_SM_L_MEAN], step_a = s->edge_noise_v * s->period_s / l_h;
    return 2.0 * step_a * sqrt(0.5 * l_h / (fit->p[CVK_SM_RESISTANCE] * s->period_s));
}

/* Edges that lie between a scope's rows may be why no fit was found. */
static void blame_edges(cvk_learning *l, const cvk_signals *s, cvk_span rows)
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
    const cvk_signals *s = &w->signals;
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
static void learn_line(cvk_learning *l, const cvk_signals *s, const cvk_standstill_fit *fit,
                       cvk_estimate *out)
{
    /* the axis of the line from the first terminal to the second, rad */
    const double axis =
        PI / 3.0 * (double)(s->terminals[0] - 'a' + s->terminals[1] - 'a') + 0.5 * PI;
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
    for (int c = 0; c < CVK_B_COUNT; c++) {
        learnt->cov[r * CVK_B_COUNT + c] = learnt->cov[c * CVK_B_COUNT + r] = 0.0;
    }
    learnt->cov[r * (CVK_B_COUNT + 1)] = apart * apart;
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

static void learn_standstill(cvk_learning *l, cvk_prepared *w, const cvk_estimate_options *options,
                             cvk_estimate *out)
{
    static const int told[] = {CVK_B_RESISTANCE, CVK_B_L_D, CVK_B_L_Q, CVK_B_DEAD_TIME,
                               CVK_B_DELAY};
    const cvk_signals *s = &w->signals;
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
    doubt_two_channels(l, s, &learnt);
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
        if (options->profile) {
            cvk_standstill_profile(s, w->still, w->still_count, &fit, &out->profile);
        }
    }
}

/* ---- turning -------------------------------------------------------------------------------- */

/* What a driven log told, apart from what was known so well before that it only repeats it. */
static cvk_belief news_of(const cvk_belief *before, const cvk_belief *after,
                          const cvk_belief *start)
{
    cvk_belief learnt = *after;
    for (int k = 0; k < CVK_B_COUNT; k++) {
        if (!cvk_belief_knows(before, k, KNOWN_BEFORE)) {
            continue;
        }
        for (int c = 0; c < CVK_B_COUNT; c++) {
            learnt.cov[k * CVK_B_COUNT + c] = learnt.cov[c * CVK_B_COUNT + k] = 0.0;
        }
        learnt.cov[k * (CVK_B_COUNT + 1)] = start->cov[k * (CVK_B_COUNT + 1)];
        learnt.from[k][0] = '\0';
    }
    return learnt;
}

/* What a standstill log has shown sharply, a turning one does not make worse. */
static void keep_known(const cvk_belief *before, cvk_belief *after)
{
    for (int r = 0; r < CVK_B_COUNT; r++) {
        const bool kept = cvk_belief_knows(before, r, KNOWN_BEFORE);
        for (int c = 0; c < CVK_B_COUNT; c++) {
            const bool other = cvk_belief_knows(before, c, KNOWN_BEFORE);
            double *cell = &after->cov[r * CVK_B_COUNT + c];
            *cell =
                kept && other ? before->cov[r * CVK_B_COUNT + c] : (kept != other ? 0.0 : *cell);
        }
        after->mean[r] = kept ? before->mean[r] : after->mean[r];
    }
}

/* Where no standstill run has shown the winding, the turning motor does: less sharply. Each log is
 * fitted from what was known before any of them. */
static void learn_driven(cvk_learning *l, cvk_path path, cvk_prepared *logs, size_t count,
                         int threads, cvk_curve *shown)
{
    static const int told[] = {CVK_B_RESISTANCE, CVK_B_L_D, CVK_B_L_Q, CVK_B_FLUX};
    const cvk_belief before = l->known.of[path];
    bool first = true;
    for (size_t n = 0; n < count; n++) {
        cvk_prepared *w = &logs[n];
        cvk_turning_result result;
        cvk_belief after = before;
        if (!w->usable || w->signals.path != path ||
            cvk_turning_fit(&w->signals, &w->turns, threads, &after, &result,
                            shown->points == 0 ? shown : NULL) != CVK_OK) {
            continue;
        }
        w->fitted = true;
        for (size_t k = 0; k < sizeof told / sizeof told[0]; k++) {
            memcpy(after.from[told[k]], first ? before.from[told[k]] : "",
                   first ? sizeof after.from[0] : 1u);
            if (cvk_belief_knows(&after, told[k], USEFUL_SHARE)) {
                cvk_belief_note(&after, told[k], w->signals.name, "turning fit");
            }
            if (!cvk_belief_knows(&before, told[k], USEFUL_SHARE)) {
                cvk_add_reading(&l->readings, w->signals.name, path, &after, told[k]);
            }
        }
        const cvk_belief learnt = news_of(&before, &after, &l->known.start[path]);
        if (first) {
            keep_known(&before, &after);
            l->known.of[path] = after;
        } else if (!cvk_belief_merge(&l->known.of[path], &learnt)) {
            w->fitted = false;
        }
        first = false;
    }
    if (!first) {
        cvk_knowledge_share(&l->known, path);
    }
}

/* Voltage over speed must be constant where no current is said to flow. */
static void check_open_circuit(cvk_prepared *w, double spread, cvk_estimate *out)
{
    if (w->signals.open_circuit && spread > LARGEST_OPEN_SPREAD) {
        w->usable = false;
        cvk_add_finding(
            out, CVK_ERROR, w->signals.name,
            "no current columns, but voltage over speed varies by %.1f %% rms where a "
            "motor without current keeps it within %.0f %%: currents did flow; log them",
            100.0 * spread, 100.0 * LARGEST_OPEN_SPREAD);
    }
}

typedef enum opinion { NO_OPINION, SAME_WINDING, OTHER_WINDING } opinion;

/* A second opinion on a log that looks odd: fitted row by row with nothing known before. */
static opinion second_opinion(const cvk_learning *l, const cvk_prepared *w, int threads)
{
    static const int compared[] = {CVK_B_RESISTANCE, CVK_B_L_Q};
    const cvk_belief *known = &l->known.of[w->signals.path];
    cvk_belief own = l->known.start[w->signals.path];
    cvk_turning_result result;
    bool any = false, other = false;
    if (cvk_turning_fit(&w->signals, &w->turns, threads, &own, &result, NULL) != CVK_OK) {
        return NO_OPINION;
    }
    for (int n = 0; n < 2; n++) {
        const int k = compared[n];
        const double apart = fabs(own.mean[k] - known->mean[k]);
        const double share = k == CVK_B_RESISTANCE ? WARMEST : OTHER_INDUCTANCE;
        const double deviation =
            hypot(cvk_belief_deviation(&own, k), cvk_belief_deviation(known, k));
        const bool told = cvk_belief_knows(&own, k, USEFUL_SHARE);
        any = any || told;
        other =
            other || (told && apart > share * known->mean[k] && apart > LIKELY_OTHER * deviation);
    }
    return other ? OTHER_WINDING : (any ? SAME_WINDING : NO_OPINION);
}

/* Whether a turning log fits the winding that the standstill logs have shown: `alone` was fitted
 * with it, `own` without. */
static void check_winding(cvk_learning *l, const cvk_prepared *w, const cvk_belief *alone,
                          const cvk_belief *own, int threads)
{
    const double spread = cvk_circle_spread(&l->windows, alone);
    const double own_spread = cvk_circle_spread(&l->windows, own);
    const double r = l->known.of[w->signals.path].mean[CVK_B_RESISTANCE];
    const double own_r = own->mean[CVK_B_RESISTANCE];
    const double deviation = hypot(cvk_belief_deviation(own, CVK_B_RESISTANCE),
                                   cvk_belief_deviation(alone, CVK_B_RESISTANCE));
    /* one of its own that follows the log worse says nothing */
    const double apart = own_spread < WORSE_OWN * spread ? fabs(own_r - r) : 0.0;
    const bool odd = (spread > ODD_SPREAD && spread > ODD_RATIO * own_spread) ||
                     apart > fmax(0.5 * WARMEST * r, 0.25 * SURELY_OTHER * deviation);
    const bool likely = apart > fmax(WARMEST * r, SURELY_OTHER * deviation);
    const bool surely = spread > LARGEST_SPREAD && spread > 2.0 * own_spread;
    if (l->misfit[0] != '\0' || !(odd || surely)) {
        return;
    }
    /* means over windows take another voltage of the inverter for another resistance: rows do not
     */
    const opinion second = surely ? OTHER_WINDING : second_opinion(l, w, threads);
    if (second == OTHER_WINDING || (likely && second == NO_OPINION)) {
        snprintf(
            l->misfit, sizeof l->misfit,
            "%s does not fit the winding that the other logs show (it is off the flux circle by "
            "%.1f %% with theirs, by %.1f %% with one of its own of about %.3g ohm where they "
            "have %.3g): another motor, another unit, or a wrong column? Estimate it alone",
            w->signals.name, 100.0 * spread, 100.0 * own_spread, own_r, r);
    }
}

/* A capture that is too short for the flux circle, with the winding known from elsewhere. */
static void learn_arc(cvk_learning *l, const cvk_prepared *w)
{
    const cvk_signals *s = &w->signals;
    cvk_belief *belief = &l->known.of[s->path], learnt = l->known.start[s->path];
    const bool winding =
        s->open_circuit || (cvk_belief_knows(belief, CVK_B_RESISTANCE, USEFUL_SHARE) &&
                            cvk_belief_knows(belief, CVK_B_L_Q, USEFUL_SHARE));
    cvk_arc arc;
    if (w->stood) {
        return;
    }
    if (cvk_fit_arc(s, belief, &arc) != CVK_OK || !winding) {
        snprintf(
            l->short_of, sizeof l->short_of,
            "%s shows %.1f electrical turns in %.0f ms, too few to tell back-EMF from the drop "
            "across the winding%s",
            s->name, fabs(arc.turns), 1e3 * (double)s->rows * s->period_s,
            winding ? ": capture more of them, at a higher speed"
                    : ": add a standstill log of this motor, or capture more turns");
        return;
    }
    learnt.mean[CVK_B_FLUX] = arc.flux_wb;
    learnt.cov[CVK_B_FLUX * (CVK_B_COUNT + 1)] = arc.deviation * arc.deviation;
    cvk_belief_note(&learnt, CVK_B_FLUX, s->name, "arc of the flux");
    cvk_add_reading(&l->readings, s->name, s->path, &learnt, CVK_B_FLUX);
    if (cvk_belief_merge(belief, &learnt)) {
        cvk_knowledge_share(&l->known, s->path);
    }
    if (!cvk_belief_knows(belief, CVK_B_FLUX, FLUX_SHARE)) {
        snprintf(l->short_of, sizeof l->short_of, "%s", s->cure);
    }
}

/* The inverter's curve at the small currents of a motor that only turns is known less well than its
 * height: the circle may settle that. */
static void doubt_curve(cvk_belief *belief)
{
    belief->cov[CVK_B_DEAD_TIME * (CVK_B_COUNT + 1)] +=
        pow(CURVE_DOUBT * belief->mean[CVK_B_DEAD_TIME], 2.0);
}

/* A winding is as warm as its log: turning windows may have another resistance than the standstill
 * logs have shown, and do not change that. */
static void let_warm(cvk_belief *belief)
{
    belief->cov[CVK_B_RESISTANCE * (CVK_B_COUNT + 1)] +=
        pow(WARM_SPREAD * belief->mean[CVK_B_RESISTANCE], 2.0);
}

static void keep_resistance(const cvk_belief *before, cvk_belief *after)
{
    const int r = CVK_B_RESISTANCE;
    for (int c = 0; c < CVK_B_COUNT; c++) {
        after->cov[r * CVK_B_COUNT + c] = before->cov[r * CVK_B_COUNT + c];
        after->cov[c * CVK_B_COUNT + r] = before->cov[c * CVK_B_COUNT + r];
    }
    after->mean[r] = before->mean[r];
}

static void tell_warmth(const cvk_belief *known, const cvk_belief *alone, const char *log,
                        cvk_estimate *out)
{
    const double r = known->mean[CVK_B_RESISTANCE],
                 change = alone->mean[CVK_B_RESISTANCE] / r - 1.0;
    const double deviation = cvk_belief_deviation(alone, CVK_B_RESISTANCE) / r;
    if (fabs(change) > fmax(NOTABLE_WARMTH, SURELY_WARMER * deviation)) {
        cvk_add_finding(
            out, CVK_NOTE, log,
            "its resistance is %.0f %% %s that at standstill, which is on the card: the "
            "winding was about %.0f K %s",
            100.0 * fabs(change), change > 0.0 ? "above" : "below", fabs(change) / CVK_COPPER_PER_K,
            change > 0.0 ? "warmer" : "colder");
    }
}

/* The flux linkage that one log shows alone, and whether it belongs to the other logs. */
static void read_flux(cvk_learning *l, cvk_prepared *w, int threads, cvk_estimate *out)
{
    const cvk_path path = w->signals.path;
    cvk_belief alone = l->known.of[path], own = l->known.start[path];
    cvk_windows *windows = &l->windows;
    const bool told = cvk_knowledge_told(&l->known, path, CVK_B_RESISTANCE);
    windows->count = 0;
    if (told) {
        let_warm(&alone);
    }
    cvk_add_windows(windows, &w->signals, &w->turns, &alone);
    if (windows->count < FEWEST_WINDOWS) {
        learn_arc(l, w);
        return;
    }
    const bool fits = cvk_fit_circle(windows, &alone) == CVK_OK;
    if (fits && told) {
        tell_warmth(&l->known.of[path], &alone, w->signals.name, out);
    }
    if (fits) {
        check_open_circuit(w, cvk_circle_spread(windows, &alone), out);
    }
    if (told && cvk_fit_circle(windows, &own) == CVK_OK && cvk_any_current(windows)) {
        check_winding(l, w, &alone, &own, threads);
    }
    if (fits && w->usable) {
        doubt_two_channels(l, &w->signals, &alone);
        doubt_edges(&w->signals, windows, &alone);
        cvk_add_reading(&l->readings, w->signals.name, path, &alone, CVK_B_FLUX);
    }
}

/* The doubts of voltages do not average out over several logs: the largest of each kind counts. */
static void doubt_voltages(const cvk_learning *l, cvk_path path, const cvk_prepared *logs,
                           size_t count, cvk_belief *belief)
{
    const cvk_signals *two = NULL, *coarse = NULL;
    for (size_t n = 0; n < count; n++) {
        const cvk_signals *s = &logs[n].signals;
        if (!logs[n].usable || s->path != path) {
            continue;
        }
        two = s->two_voltages ? s : two;
        coarse = coarse == NULL || s->voltage_doubt_v > coarse->voltage_doubt_v ? s : coarse;
    }
    if (two != NULL) {
        doubt_two_channels(l, two, belief);
    }
    if (coarse != NULL) {
        doubt_edges(coarse, &l->windows, belief);
    }
}

/* The windows of the path's logs that no turning fit has used. */
static void fit_circle(cvk_learning *l, cvk_path path, cvk_prepared *logs, size_t count,
                       int threads, cvk_estimate *out)
{
    cvk_belief belief = l->known.of[path];
    cvk_windows *windows = &l->windows;
    for (size_t n = 0; n < count; n++) {
        if (logs[n].usable && logs[n].signals.path == path && !logs[n].fitted) {
            read_flux(l, &logs[n], threads, out);
        }
    }
    windows->count = 0;
    for (size_t n = 0; n < count; n++) {
        size_t before = windows->count;
        if (logs[n].usable && logs[n].signals.path == path && !logs[n].fitted) {
            cvk_add_windows(windows, &logs[n].signals, &logs[n].turns, &belief);
        }
        if (windows->count > before) {
            cvk_belief_note(&belief, CVK_B_FLUX, logs[n].signals.name, "flux circle");
        }
    }
    const cvk_belief before = belief;
    const bool told = cvk_knowledge_told(&l->known, path, CVK_B_RESISTANCE);
    doubt_curve(&belief);
    if (told) {
        let_warm(&belief);
    }
    if (windows->count > 0 && cvk_fit_circle(windows, &belief) == CVK_OK) {
        doubt_voltages(l, path, logs, count, &belief);
        if (told) {
            keep_resistance(&before, &belief);
        }
        l->known.of[path] = belief;
        cvk_knowledge_share(&l->known, path);
    }
}

/* The same values, which make the same edges and phases. */
static bool knows_the_same(const cvk_belief *a, const cvk_belief *b)
{
    bool same = a->knee_a == b->knee_a && a->curve == b->curve;
    for (int k = 0; k < CVK_B_COUNT; k++) {
        same = same && a->mean[k] == b->mean[k];
    }
    return same;
}

/* Of the paths that know other values than `before`; of all where that is null. */
static void refine_phases(const cvk_knowledge *known, const cvk_knowledge *before,
                          cvk_prepared *logs, size_t count, int threads)
{
    for (size_t n = 0; n < count; n++) {
        const cvk_path path = logs[n].signals.path;
        const cvk_belief *belief = &known->of[path];
        const bool news = before == NULL || !knows_the_same(belief, &before->of[path]);
        if (news && logs[n].usable && logs[n].turns.count > 0 &&
            cvk_belief_knows(belief, CVK_B_RESISTANCE, USEFUL_SHARE)) {
            cvk_refine_phase(&logs[n].turns, &logs[n].signals, belief, threads);
        }
    }
}

/* Resistance, inductance and delay are known on this path. */
static bool winding_known(const cvk_knowledge *known, cvk_path path)
{
    if (path ==
        CVK_PATH_AVERAGED) { /* no inverter and no delay to learn: a lent resistance will do */
        return cvk_belief_knows(&known->of[path], CVK_B_RESISTANCE, USEFUL_SHARE) &&
               cvk_belief_knows(&known->of[path], CVK_B_L_Q, SHARP_SHARE);
    }
    return cvk_belief_knows(&known->of[path], CVK_B_RESISTANCE, SHARP_SHARE) &&
           cvk_belief_knows(&known->of[path], CVK_B_L_Q, SHARP_SHARE) &&
           cvk_knowledge_told(known, path, CVK_B_RESISTANCE);
}

/* All windows, for what follows. */
static void gather_windows(cvk_learning *l, cvk_prepared *logs, size_t count, cvk_estimate *out)
{
    l->windows.count = 0;
    for (size_t n = 0; n < count; n++) {
        const cvk_belief *belief = &l->known.of[logs[n].signals.path];
        if (!logs[n].usable) {
            continue;
        }
        logs[n].windows.begin = l->windows.count;
        cvk_add_windows(&l->windows, &logs[n].signals, &logs[n].turns, belief);
        logs[n].windows.end = l->windows.count;
        if (out->circle.points == 0) {
            cvk_circle_curve(&logs[n].signals, &logs[n].turns, belief, &out->circle);
            cvk_speed_curve(&logs[n].signals, &logs[n].turns, &out->speed);
        }
    }
}

static void learn_turning(cvk_learning *l, cvk_prepared *logs, size_t count, int threads,
                          cvk_estimate *out)
{
    bool any_known = false;
    for (int path = 0; path < CVK_PATHS; path++) {
        if (l->known.present[path] && winding_known(&l->known, (cvk_path)path)) {
            any_known = true;
        } else if (l->known.present[path]) {
            learn_driven(l, (cvk_path)path, logs, count, threads, &out->turning);
        }
    }
    refine_phases(&l->known, NULL, logs, count, threads);
    const cvk_knowledge before = l->known;
    for (int path = 0; path < CVK_PATHS; path++) {
        if (l->known.present[path]) {
            fit_circle(l, (cvk_path)path, logs, count, threads, out);
        }
    }
    refine_phases(&l->known, &before, logs, count, threads);
    gather_windows(l, logs, count, out);
    if (!any_known && l->windows.count > 0 && !cvk_shows_back_emf(&l->windows)) {
        l->known = l->still;
        out->circle.points = out->speed.points = out->turning.points = 0;
    }
}

void cvk_learn(cvk_learning *l, cvk_prepared *logs, size_t count,
               const cvk_estimate_options *options, cvk_estimate *out)
{
    l->readings.count = 0;
    l->moved = false;
    l->misfit[0] = l->cure[0] = l->short_of[0] = l->one_line[0] = '\0';
    l->channel_mismatch = options->voltage_gain_tolerance >= 0.0
                              ? options->voltage_gain_tolerance
                              : CVK_DEFAULT_VOLTAGE_GAIN_TOLERANCE;
    cvk_knowledge_start(&l->known, logs, count, options->switch_resistance_ohm);
    l->crumbs = true;
    for (size_t n = 0; n < count; n++) {
        l->crumbs = l->crumbs && logs[n].still_count == 0 && logs[n].turns.count == 0 &&
                    logs[n].signals.pieces > 1;
        if (logs[n].usable) {
            learn_standstill(l, &logs[n], options, out);
            l->moved = l->moved || logs[n].moved;
        }
    }
    cvk_knowledge_join(&l->known);
    l->still = l->known;
    learn_turning(l, logs, count, options->threads, out);
}

bool cvk_other_motor(const cvk_learning *l)
{
    const cvk_path path = cvk_knowledge_first(&l->known);
    return l->misfit[0] != '\0' || cvk_agree(&l->readings, CVK_B_L_D, path).contradicts ||
           cvk_agree(&l->readings, CVK_B_L_Q, path).contradicts ||
           cvk_agree(&l->readings, CVK_B_FLUX, path).contradicts;
}
