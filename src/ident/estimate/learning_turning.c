/* SPDX-License-Identifier: Apache-2.0
 *
 * What logs of a turning motor tell: each driven one that is needed is fitted alone, the flux
 * circle joins all turning windows of a path. A log of another winding is found out.
 */
#include "learning_parts.h"

#include "corvak/core/units.h"

#include "turning/arc.h"
#include "figure_curves.h"
#include "log/findings.h"
#include "turning/turning_fit.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define SHARP_SHARE 0.05   /* known so well that only the flux linkage is left to learn */
#define FLUX_SHARE 0.05    /* as on the card */
#define USEFUL_SHARE 0.2   /* as on the card */
#define KNOWN_BEFORE 0.01  /* so sharp that a turning motor tells nothing new */
#define CURVE_DOUBT 0.1    /* of the inverter's voltage, while the motor turns */
#define HEIGHT_DOUBT 0.024 /* and what stays of it beside a resistance that follows it */
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
#define WORSE_OWN 1.5    /* spread of a winding of its own over that of the known one */
#define SURELY_OTHER 6.0 /* and deviations of it */

/* A voltage that is off by so much, at the windows' mean speed. */
static void doubt_flux(const cvk_windows *windows, double doubt_v, cvk_belief *belief)
{
    double speed = 0.0;
    for (size_t n = 0; n < windows->count; n++) {
        speed += fabs(windows->window[n].omega) / (double)windows->count;
    }
    if (speed > 0.0) {
        belief->cov[CVK_B_FLUX * (CVK_B_COUNT + 1)] += pow(doubt_v / speed, 2.0);
    }
}

/* What stays of edges that lie between a scope's rows. */
static void doubt_edges(const cvk_waveforms *s, const cvk_windows *windows, cvk_belief *belief)
{
    doubt_flux(windows, 2.0 * fmax(s->voltage_doubt_v, 0.0), belief);
}

/* The inverter's voltage while the motor turns is that of the standstill log only nearly: what the
 * fit takes for resistance then makes the flux linkage, the more the slower the motor is. */
static void doubt_height(const cvk_windows *windows, cvk_belief *belief)
{
    if (cvk_any_current(windows)) {
        doubt_flux(windows, HEIGHT_DOUBT * belief->mean[CVK_B_DEAD_TIME], belief);
    }
}

/* What a driven log told, apart from what was known so well before that it only repeats it. */
static cvk_belief news_of(const cvk_belief *before, const cvk_belief *after,
                          const cvk_belief *start)
{
    cvk_belief learnt = *after;
    for (int k = 0; k < CVK_B_COUNT; k++) {
        if (!cvk_belief_knows(before, k, KNOWN_BEFORE)) {
            continue;
        }
        cvk_belief_isolate(&learnt, k, start->cov[k * (CVK_B_COUNT + 1)]);
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
    double sharpest[CVK_B_COUNT]; /* variance by one log */
    bool first = true;
    for (size_t n = 0; n < count; n++) {
        cvk_prepared *w = &logs[n];
        cvk_turning_result result;
        cvk_belief after = before;
        if (!w->usable || w->waveforms.path != path ||
            cvk_turning_fit(&w->waveforms, &w->turns, threads, &after, &result,
                            shown != NULL && shown->points == 0 ? shown : NULL) != CVK_OK) {
            continue;
        }
        w->fitted = true;
        for (size_t k = 0; k < sizeof told / sizeof told[0]; k++) {
            const double variance = after.cov[told[k] * (CVK_B_COUNT + 1)];
            sharpest[told[k]] = first ? variance : fmin(variance, sharpest[told[k]]);
            memcpy(after.from[told[k]], first ? before.from[told[k]] : "",
                   first ? sizeof after.from[0] : 1u);
            if (cvk_belief_knows(&after, told[k], USEFUL_SHARE)) {
                cvk_belief_note(&after, told[k], w->waveforms.name, "turning fit");
            }
            if (!cvk_belief_knows(&before, told[k], USEFUL_SHARE)) {
                cvk_add_reading(&l->readings, w->waveforms.name, path, &after, told[k]);
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
    /* what limits is the model, which is the same in each */
    for (size_t k = 0; k < sizeof told / sizeof told[0] && !first; k++) {
        cvk_belief_doubt(&l->known.of[path], told[k], sharpest[told[k]]);
    }
    if (!first) {
        cvk_path_beliefs_share(&l->known, path);
    }
}

/* Voltage over speed must be constant where no current is said to flow. */
static void check_open_circuit(cvk_prepared *w, double spread, cvk_estimate *out)
{
    if (w->waveforms.open_circuit && spread > LARGEST_OPEN_SPREAD) {
        w->usable = false;
        cvk_add_finding(
            out, CVK_ERROR, w->waveforms.name,
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
    const cvk_belief *known = &l->known.of[w->waveforms.path];
    cvk_belief own = l->known.start[w->waveforms.path];
    cvk_turning_result result;
    bool any = false, other = false;
    if (cvk_turning_fit(&w->waveforms, &w->turns, threads, &own, &result, NULL) != CVK_OK) {
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
    const double r = l->known.of[w->waveforms.path].mean[CVK_B_RESISTANCE];
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
            w->waveforms.name, 100.0 * spread, 100.0 * own_spread, own_r, r);
    }
}

/* A capture that is too short for the flux circle, with the winding known from elsewhere. */
static void learn_arc(cvk_learning *l, const cvk_prepared *w)
{
    const cvk_waveforms *s = &w->waveforms;
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
        cvk_path_beliefs_share(&l->known, s->path);
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

/* What other logs have said of the flux linkage is set aside: a fit from there would follow it, as
 * misfits that are all alike pass for noise. Returns whether there was something. */
static bool set_flux_aside(const cvk_path_beliefs *known, cvk_path path, cvk_belief *belief,
                           cvk_belief *aside)
{
    const cvk_belief *start = &known->start[path];
    const int flux = CVK_B_FLUX, variance = flux * (CVK_B_COUNT + 1);
    if (belief->from[flux][0] == '\0') {
        return false;
    }
    *aside = *start;
    aside->mean[flux] = belief->mean[flux];
    aside->cov[variance] = belief->cov[variance];
    aside->dof = belief->dof;
    memcpy(aside->from[flux], belief->from[flux], sizeof aside->from[0]);
    cvk_belief_isolate(belief, flux, start->cov[variance]);
    belief->mean[flux] = start->mean[flux];
    belief->from[flux][0] = '\0';
    return true;
}

/* The flux linkage that one log shows alone, and whether it belongs to the other logs. */
static void read_flux(cvk_learning *l, cvk_prepared *w, int threads, cvk_estimate *out)
{
    const cvk_path path = w->waveforms.path;
    cvk_belief alone = l->known.of[path], own = l->known.start[path];
    cvk_belief aside;
    cvk_windows *windows = &l->windows;
    const bool told = cvk_path_beliefs_told(&l->known, path, CVK_B_RESISTANCE);
    windows->count = 0;
    (void)set_flux_aside(&l->known, path, &alone, &aside);
    if (told) {
        let_warm(&alone);
    }
    cvk_add_windows(windows, &w->waveforms, &w->turns, &alone);
    if (windows->count < FEWEST_WINDOWS) {
        learn_arc(l, w);
        return;
    }
    const bool fits = cvk_fit_circle(windows, &alone) == CVK_OK;
    if (fits && told) {
        tell_warmth(&l->known.of[path], &alone, w->waveforms.name, out);
    }
    if (fits) {
        check_open_circuit(w, cvk_circle_spread(windows, &alone), out);
    }
    if (told && cvk_fit_circle(windows, &own) == CVK_OK && cvk_any_current(windows)) {
        check_winding(l, w, &alone, &own, threads);
    }
    if (fits && w->usable) {
        cvk_doubt_two_channels(l, &w->waveforms, &alone);
        doubt_edges(&w->waveforms, windows, &alone);
        doubt_height(windows, &alone);
        cvk_add_reading(&l->readings, w->waveforms.name, path, &alone, CVK_B_FLUX);
    }
}

/* The doubts of voltages do not average out over several logs: the largest of each kind counts. */
static void doubt_voltages(const cvk_learning *l, cvk_path path, const cvk_prepared *logs,
                           size_t count, cvk_belief *belief)
{
    const cvk_waveforms *two = NULL, *coarse = NULL;
    for (size_t n = 0; n < count; n++) {
        const cvk_waveforms *s = &logs[n].waveforms;
        if (!logs[n].usable || s->path != path) {
            continue;
        }
        two = s->two_voltages ? s : two;
        coarse = coarse == NULL || s->voltage_doubt_v > coarse->voltage_doubt_v ? s : coarse;
    }
    if (two != NULL) {
        cvk_doubt_two_channels(l, two, belief);
    }
    if (coarse != NULL) {
        doubt_edges(coarse, &l->windows, belief);
    }
    doubt_height(&l->windows, belief);
}

/* The windows of the path's logs that no turning fit has used. */
static void fit_circle(cvk_learning *l, cvk_path path, cvk_prepared *logs, size_t count,
                       int threads, cvk_estimate *out)
{
    cvk_windows *windows = &l->windows;
    for (size_t n = 0; n < count; n++) {
        if (logs[n].usable && logs[n].waveforms.path == path && !logs[n].fitted) {
            read_flux(l, &logs[n], threads, out);
        }
    }
    cvk_belief belief = l->known.of[path], aside;
    const bool said = set_flux_aside(&l->known, path, &belief, &aside);
    windows->count = 0;
    for (size_t n = 0; n < count; n++) {
        size_t before = windows->count;
        if (logs[n].usable && logs[n].waveforms.path == path && !logs[n].fitted) {
            cvk_add_windows(windows, &logs[n].waveforms, &logs[n].turns, &belief);
        }
        if (windows->count > before) {
            cvk_belief_note(&belief, CVK_B_FLUX, logs[n].waveforms.name, "flux circle");
        }
    }
    const cvk_belief before = belief;
    const bool told = cvk_path_beliefs_told(&l->known, path, CVK_B_RESISTANCE);
    doubt_curve(&belief);
    if (told) {
        let_warm(&belief);
    }
    if (windows->count > 0 && cvk_fit_circle(windows, &belief) == CVK_OK) {
        doubt_voltages(l, path, logs, count, &belief);
        if (said) {
            (void)cvk_belief_merge(&belief, &aside);
        }
        if (told) {
            keep_resistance(&before, &belief);
        }
        l->known.of[path] = belief;
        cvk_path_beliefs_share(&l->known, path);
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
static void refine_phases(const cvk_path_beliefs *known, const cvk_path_beliefs *before,
                          cvk_prepared *logs, size_t count, int threads)
{
    for (size_t n = 0; n < count; n++) {
        const cvk_path path = logs[n].waveforms.path;
        const cvk_belief *belief = &known->of[path];
        const bool news = before == NULL || !knows_the_same(belief, &before->of[path]);
        if (news && logs[n].usable && logs[n].turns.count > 0 &&
            cvk_belief_knows(belief, CVK_B_RESISTANCE, USEFUL_SHARE)) {
            cvk_refine_phase(&logs[n].turns, &logs[n].waveforms, belief, threads);
        }
    }
}

/* Resistance, inductance and delay are known on this path. */
static bool winding_known(const cvk_path_beliefs *known, cvk_path path)
{
    if (path ==
        CVK_PATH_AVERAGED) { /* no inverter and no delay to learn: a lent resistance will do */
        return cvk_belief_knows(&known->of[path], CVK_B_RESISTANCE, USEFUL_SHARE) &&
               cvk_belief_knows(&known->of[path], CVK_B_L_Q, SHARP_SHARE);
    }
    return cvk_belief_knows(&known->of[path], CVK_B_RESISTANCE, SHARP_SHARE) &&
           cvk_belief_knows(&known->of[path], CVK_B_L_Q, SHARP_SHARE) &&
           cvk_path_beliefs_told(known, path, CVK_B_RESISTANCE);
}

/* All windows, for what follows. */
static void gather_windows(cvk_learning *l, cvk_prepared *logs, size_t count, cvk_estimate *out)
{
    l->windows.count = 0;
    for (size_t n = 0; n < count; n++) {
        const cvk_belief *belief = &l->known.of[logs[n].waveforms.path];
        if (!logs[n].usable) {
            continue;
        }
        logs[n].windows.begin = l->windows.count;
        cvk_add_windows(&l->windows, &logs[n].waveforms, &logs[n].turns, belief);
        logs[n].windows.end = l->windows.count;
        if (out->curves != NULL && out->curves->circle.points == 0) {
            cvk_circle_curve(&logs[n].waveforms, &logs[n].turns, belief, &out->curves->circle);
            cvk_speed_curve(&logs[n].waveforms, &logs[n].turns, &out->curves->speed);
        }
    }
}

void cvk_learn_turning(cvk_learning *l, cvk_prepared *logs, size_t count, int threads,
                       cvk_estimate *out)
{
    bool any_known = false;
    for (int path = 0; path < CVK_PATHS; path++) {
        if (l->known.present[path] && winding_known(&l->known, (cvk_path)path)) {
            any_known = true;
        } else if (l->known.present[path]) {
            learn_driven(l, (cvk_path)path, logs, count, threads,
                         out->curves != NULL ? &out->curves->turning : NULL);
        }
    }
    refine_phases(&l->known, NULL, logs, count, threads);
    const cvk_path_beliefs before = l->known;
    for (int path = 0; path < CVK_PATHS; path++) {
        if (l->known.present[path]) {
            fit_circle(l, (cvk_path)path, logs, count, threads, out);
        }
    }
    refine_phases(&l->known, &before, logs, count, threads);
    gather_windows(l, logs, count, out);
    if (!any_known && l->windows.count > 0 && !cvk_shows_back_emf(&l->windows)) {
        l->known = l->still;
        if (out->curves != NULL) {
            out->curves->circle.points = out->curves->speed.points = out->curves->turning.points =
                0;
        }
    }
}
