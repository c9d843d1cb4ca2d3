/* SPDX-License-Identifier: Apache-2.0
 *
 * The order of work: examine every log, find where the motor turns, fit what stands still, then
 * the flux circle over all logs, then pole pairs; and write down what was found, or why not.
 */
#include "corvak/ident/estimate.h"

#include "findings.h"
#include "inverter_curve.h"
#include "mechanics.h"
#include "numeric.h"
#include "pole_columns.h"
#include "pole_pairs.h"
#include "standstill.h"
#include "turning.h"
#include "turning_fit.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define MOST_SPANS 64u
#define NOTHING_KNOWN 30.0    /* prior deviation as a multiple of a typical value */
#define LINEAR_SPREAD 0.2     /* of that, what the magnet has saturated already */
#define SATURATION_SPREAD 0.5 /* loss of inductance at the peak current that is expected */
#define FLUX_SHARE 0.05       /* the same for the flux linkage, which any real turning shows well */
#define SHARP_SHARE 0.05      /* known so well that only the flux linkage is left to learn */
#define USEFUL_SHARE 0.2      /* an entry is given when its deviation is below this share */
/* Relative deviations that the model itself may be off by: loss in the iron is in no model and
 * looks like as much more resistance, inductance and flux linkage (bench_accuracy). */
#define FLOOR_RESISTANCE 1.6e-3
#define FLOOR_INDUCTANCE 2e-3
#define FLOOR_FLUX 1.5e-3
#define FLOOR_DEAD_TIME 5e-4
/* Of an inductance, times the share of it that is lost at the largest current. */
#define SERIES_DOUBT 0.015
#define CURVE_DOUBT 0.1          /* of the inverter's voltage, while the motor turns */
#define LARGEST_ANGLE_DOUBT 0.25 /* rad, of the rotor, when the torque is to be believed */
#define SURE_OF_POLES 0.9
#define BOUND_TO_95 0.95      /* half width of 95 % of an even distribution within a bound */
#define RUN_UP_SHARE 0.02     /* resistance from a log that also turns must be this sharp */
#define LARGEST_LOSS_W 2000.0 /* mean copper loss of a motor that stands still */
#define WORST_MISFIT 0.02     /* rms misfit, share of the peak current, that is still used */
#define COLOURED_RESIDUAL 3.0 /* residual over noise that deserves a finding */

cvk_estimate_options cvk_estimate_options_default(void)
{
    return (cvk_estimate_options){-1.0, -1.0, 500.0, 0.0, 1, false};
}

double cvk_inverter_voltage(double dead_time_voltage_v, double knee_a, int curve, double current_a)
{
    double x = fmax(-1e6, fmin(1e6, current_a / knee_a));
    return dead_time_voltage_v * cvk_curve_at(x, curve);
}

void cvk_add_finding(cvk_estimate *out, cvk_severity severity, const char *log, const char *format,
                     ...)
{
    if (out->findings == CVK_MAX_FINDINGS) {
        return;
    }
    cvk_finding *finding = &out->finding[out->findings++];
    finding->severity = severity;
    snprintf(finding->log, sizeof finding->log, "%s", log);
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(finding->text, sizeof finding->text, format, arguments);
    va_end(arguments);
}

bool cvk_has_errors(const cvk_estimate *out)
{
    for (size_t n = 0; n < out->findings; n++) {
        if (out->finding[n].severity == CVK_ERROR) {
            return true;
        }
    }
    return false;
}

/* One log on its way through the estimation. */
typedef struct work {
    const cvk_log *log;
    cvk_signals signals;
    cvk_turns turns;
    cvk_span still[MOST_SPANS];
    size_t still_count;
    bool profile; /* of the likelihood is wanted */
    int threads;
    bool moved;  /* meant as a standstill test, but the rotor did not stand still */
    bool fitted; /* its turning stretches have been fitted row by row */
} work;

static void free_work(work *logs, size_t count)
{
    for (size_t n = 0; n < count; n++) {
        cvk_signals_free(&logs[n].signals);
        cvk_turns_free(&logs[n].turns);
    }
    free(logs);
}

static cvk_status prepare(work *w, const cvk_log *log, const cvk_estimate_options *options,
                          cvk_estimate *out)
{
    w->log = log;
    w->profile = options->profile;
    w->threads = options->threads;
    cvk_status status = cvk_signals_from_log(&w->signals, log, options, out);
    out->row_s = out->row_s > 0.0 ? out->row_s : w->signals.period_s;
    if (status == CVK_OK) {
        status = cvk_find_turns(&w->turns, &w->signals);
    }
    if (status == CVK_OK) {
        cvk_remove_offset(&w->signals, &w->turns);
        if (w->turns.count > 0) {
            out->offset_alpha_a = w->signals.offset_alpha_a;
            out->offset_beta_a = w->signals.offset_beta_a;
        }
        w->still_count = cvk_still_spans(&w->signals, &w->turns, w->still, MOST_SPANS);
    }
    return status;
}

/* Rough sizes, for a prior that knows nothing: from peak current and typical voltage. */
static void start_belief(cvk_belief *belief, const work *logs, size_t count)
{
    double current_a = 1e-3, voltage_v = 1e-3, period_s = logs[0].signals.period_s;
    for (size_t n = 0; n < count; n++) {
        const cvk_signals *s = &logs[n].signals;
        current_a = fmax(current_a, s->peak_current_a);
        for (size_t k = 0; k < s->rows; k++) {
            voltage_v = fmax(voltage_v, hypot(s->v_alpha[k], s->v_beta[k]));
        }
    }
    double delay = logs[0].signals.commanded ? 1.0 : 0.3;
    delay = logs[0].signals.pwm_hz > 0.0 ? 0.0 : delay;
    const double typical[CVK_B_COUNT] = {
        [CVK_B_RESISTANCE] = 0.1 * voltage_v / current_a,
        [CVK_B_L_D] = 20.0 * period_s * voltage_v / current_a,
        [CVK_B_L_Q] = 20.0 * period_s * voltage_v / current_a,
        [CVK_B_FLUX] = voltage_v / 300.0,
        [CVK_B_DEAD_TIME] = 0.01 * voltage_v,
        [CVK_B_DELAY] = delay,
    };
    cvk_belief_start(belief, typical, NOTHING_KNOWN);
    belief->cov[CVK_B_DEAD_TIME * (CVK_B_COUNT + 1)] = pow(0.02 * voltage_v, 2.0);
    belief->cov[CVK_B_DELAY * (CVK_B_COUNT + 1)] = 0.8 * 0.8;
    if (logs[0].signals.pwm_hz > 0.0) {
        belief->mean[CVK_B_DELAY] = belief->mean[CVK_B_DEAD_TIME] = 0.0;
        belief->cov[CVK_B_DELAY * (CVK_B_COUNT + 1)] = CVK_AVERAGED_DELAY * CVK_AVERAGED_DELAY;
        belief->cov[CVK_B_DEAD_TIME * (CVK_B_COUNT + 1)] = pow(CVK_AVERAGED_DEAD * voltage_v, 2.0);
    }
    const double saturation = SATURATION_SPREAD / current_a;
    belief->cov[CVK_B_LINEAR_D * (CVK_B_COUNT + 1)] = pow(LINEAR_SPREAD / current_a, 2.0);
    belief->cov[CVK_B_SQUARE_D * (CVK_B_COUNT + 1)] = pow(saturation / current_a, 2.0);
    belief->cov[CVK_B_SQUARE_Q * (CVK_B_COUNT + 1)] = pow(saturation / current_a, 2.0);
}

/* Resistances of two standstill fits that do not agree within their intervals. */
static void compare_resistance(const cvk_belief *before, const cvk_belief *news, const char *log,
                               cvk_estimate *out)
{
    double a = before->mean[CVK_B_RESISTANCE], b = news->mean[CVK_B_RESISTANCE];
    double spread = hypot(cvk_belief_deviation(before, CVK_B_RESISTANCE),
                          cvk_belief_deviation(news, CVK_B_RESISTANCE));
    if (cvk_belief_knows(before, CVK_B_RESISTANCE, USEFUL_SHARE) && fabs(a - b) > 4.0 * spread) {
        cvk_add_finding(out, CVK_WARNING, log,
                        "resistance here is %.4g ohm, the logs before say %.4g ohm: another "
                        "temperature, or another motor?",
                        b, a);
    }
}

/* Heat in the winding, averaged over the standstill. A motor of this class cannot carry kilowatts
 * standing still: then the currents are a thousand times too large. */
static bool plausible_loss(const work *w, double resistance_ohm, cvk_estimate *out)
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

/* How far the log saturates an axis, when it surely does. */
static void tell_saturation(const cvk_signals *s, const cvk_standstill_fit *fit, int parameter,
                            const char *name, cvk_estimate *out)
{
    double square = s->peak_current_a * s->peak_current_a;
    double loss = fit->p[parameter] * square;
    double deviation = sqrt(fit->cov[parameter * (CVK_SM_COUNT + 1)]) * square;
    if (loss > 0.02 && loss > 4.0 * deviation) {
        cvk_add_finding(out, CVK_NOTE, s->name,
                        "inductance %s falls by about %.0f %% at %.3g A: the value on the card is "
                        "that at small current",
                        name, 100.0 * loss / (1.0 + loss), s->peak_current_a);
    }
}

static void learn_standstill(work *w, const cvk_belief *start, cvk_belief *belief,
                             cvk_estimate *out)
{
    const cvk_signals *s = &w->signals;
    cvk_standstill_fit fit;
    /* in a log that also turns, what fits badly is the slow part of a run-up, not a test */
    double worst_ratio = w->turns.count > 0 ? COLOURED_RESIDUAL : INFINITY;
    if (w->still_count == 0 || cvk_standstill_fit_spans(s, w->still, w->still_count, w->threads,
                                                        worst_ratio, &fit) != CVK_OK) {
        return;
    }
    if (!plausible_loss(w, fit.p[CVK_SM_RESISTANCE], out)) {
        return;
    }
    if (fit.residual_a > COLOURED_RESIDUAL * fit.noise_a) {
        w->moved = fit.residual_a > WORST_MISFIT * s->peak_current_a;
        cvk_add_finding(out, CVK_WARNING, s->name,
                        "the standstill model misses the current by %.3g A rms where the noise is "
                        "%.3g A%s: did the rotor move? Hold the shaft, or lower the current",
                        fit.residual_a, fit.noise_a, w->moved ? "; not used" : "");
    }
    if (w->moved) {
        return;
    }
    cvk_belief news;
    cvk_standstill_belief(&fit, start, &news);
    if (w->turns.count > 0 && !cvk_belief_knows(&news, CVK_B_RESISTANCE, RUN_UP_SHARE)) {
        return;
    }
    static const int told[] = {CVK_B_RESISTANCE, CVK_B_L_D, CVK_B_L_Q, CVK_B_DEAD_TIME,
                               CVK_B_DELAY};
    cvk_belief_note(&news, CVK_B_LINEAR_D, s->name, "standstill fit");
    for (size_t k = 0; k < sizeof told / sizeof told[0]; k++) {
        if (cvk_belief_knows(&news, told[k], USEFUL_SHARE)) {
            cvk_belief_note(&news, told[k], s->name, "standstill fit");
        }
    }
    out->offset_alpha_a = s->offset_alpha_a + fit.p[CVK_SM_OFFSET_ALPHA];
    out->offset_beta_a = s->offset_beta_a + fit.p[CVK_SM_OFFSET_BETA];
    tell_saturation(s, &fit, CVK_SM_SQUARE_Y, "d", out);
    tell_saturation(s, &fit, CVK_SM_SQUARE_X, "q", out);
    compare_resistance(belief, &news, s->name, out);
    if (cvk_belief_merge(belief, &news) && !(out->residual_a < fit.residual_a)) {
        out->residual_a = fit.residual_a;
        cvk_standstill_curves(s, w->still, w->still_count, &fit, out);
        if (w->profile) {
            cvk_standstill_profile(s, w->still, w->still_count, &fit, &out->profile);
        }
    }
}

/* Where no standstill run has shown the winding, the turning motor does: less sharply. */
static void learn_driven(work *w, cvk_belief *belief)
{
    static const int told[] = {CVK_B_RESISTANCE, CVK_B_L_D, CVK_B_L_Q, CVK_B_FLUX};
    cvk_turning_result result;
    w->fitted = cvk_turning_fit(&w->signals, &w->turns, w->threads, belief, &result) == CVK_OK;
    for (size_t k = 0; w->fitted && k < sizeof told / sizeof told[0]; k++) {
        if (cvk_belief_knows(belief, told[k], USEFUL_SHARE)) {
            cvk_belief_note(belief, told[k], w->signals.name, "turning fit");
        }
    }
}

/* The windows of the logs that no turning fit has used yet. */
static void fit_circle(const work *logs, size_t count, cvk_windows *windows, cvk_belief *belief)
{
    windows->count = 0;
    for (size_t n = 0; n < count; n++) {
        size_t before = windows->count;
        if (!logs[n].fitted) {
            cvk_add_windows(windows, &logs[n].signals, &logs[n].turns, belief);
        }
        if (windows->count > before) {
            cvk_belief_note(belief, CVK_B_FLUX, logs[n].signals.name, "flux circle");
        }
    }
    /* the inverter's curve at the small currents of a motor that only turns is known less well than
     * its height: the circle may settle that */
    belief->cov[CVK_B_DEAD_TIME * (CVK_B_COUNT + 1)] +=
        pow(CURVE_DOUBT * belief->mean[CVK_B_DEAD_TIME], 2.0);
    if (windows->count > 0 && cvk_fit_circle(windows, belief) != CVK_OK) {
        windows->count = 0;
    }
}

static void refine_phases(work *logs, size_t count, const cvk_belief *belief)
{
    for (size_t n = 0; n < count; n++) {
        if (logs[n].turns.count > 0 && cvk_belief_knows(belief, CVK_B_RESISTANCE, USEFUL_SHARE)) {
            cvk_refine_phase(&logs[n].turns, &logs[n].signals, belief);
        }
    }
}

/* Leaves the windows of all logs in `windows`. */
static void learn_turning(work *logs, size_t count, cvk_belief *belief, cvk_windows *windows,
                          cvk_estimate *out)
{
    const bool winding_known = cvk_belief_knows(belief, CVK_B_RESISTANCE, SHARP_SHARE) &&
                               cvk_belief_knows(belief, CVK_B_L_Q, SHARP_SHARE);
    const cvk_belief before = *belief;
    for (size_t n = 0; n < count && !winding_known; n++) {
        learn_driven(&logs[n], belief);
    }
    refine_phases(logs, count, belief);
    fit_circle(logs, count, windows, belief);
    refine_phases(logs, count, belief);
    windows->count = 0;
    for (size_t n = 0; n < count; n++) {
        cvk_add_windows(windows, &logs[n].signals, &logs[n].turns, belief);
        if (out->circle.points == 0) {
            cvk_circle_curve(&logs[n].signals, &logs[n].turns, belief, &out->circle);
        }
    }
    if (!winding_known && windows->count > 0 && !cvk_shows_back_emf(windows)) {
        *belief = before;
        out->circle.points = 0;
    }
}

/* ---- writing the card ----------------------------------------------------------------------- */

/* What the person states, else the largest that a log states, else the default. */
static double tolerance(double option, const cvk_log *const *logs, size_t count, bool current)
{
    double stated = -1.0;
    for (size_t n = 0; n < count; n++) {
        stated = fmax(stated,
                      current ? logs[n]->current_gain_tolerance : logs[n]->voltage_gain_tolerance);
    }
    double otherwise =
        current ? CVK_DEFAULT_CURRENT_GAIN_TOLERANCE : CVK_DEFAULT_VOLTAGE_GAIN_TOLERANCE;
    return option >= 0.0 ? option : (stated >= 0.0 ? stated : otherwise);
}

/* A value with the half width of its statistical interval; `scale` is the relative half width
 * (95 %) that the channels' common gains add. */
static void fill_entry(cvk_card_entry *entry, double value, double half, double scale,
                       const char *from)
{
    const double all = hypot(half, scale * value);
    *entry = (cvk_card_entry){.known = true,
                              .value = value,
                              .statistical_low = value - half,
                              .statistical_high = value + half,
                              .low = value - all,
                              .high = value + all};
    snprintf(entry->from, sizeof entry->from, "%s", from);
}

/* How the inductances fall is a series cut short: what it leaves out looks like some inductance. */
static double series_doubt(const cvk_belief *belief, double reach_a)
{
    const double square = reach_a * reach_a;
    const double q = fabs(belief->mean[CVK_B_SQUARE_Q]) * square;
    const double d =
        fabs(belief->mean[CVK_B_SQUARE_D]) * square + fabs(belief->mean[CVK_B_LINEAR_D]) * reach_a;
    return SERIES_DOUBT * fmax(d, q) / (1.0 + fmax(d, q));
}

/* Largest current of the logs in which the motor stands still. */
static double reach_of(const work *logs, size_t count)
{
    double reach_a = 0.0;
    for (size_t n = 0; n < count; n++) {
        reach_a = fmax(reach_a, logs[n].still_count > 0 ? logs[n].signals.peak_current_a : 0.0);
    }
    return reach_a;
}

static void write_entry(cvk_card_entry *entry, const cvk_belief *belief, int parameter,
                        double scale, double reach_a)
{
    static const double floors[CVK_B_COUNT] = {[CVK_B_RESISTANCE] = FLOOR_RESISTANCE,
                                               [CVK_B_L_D] = FLOOR_INDUCTANCE,
                                               [CVK_B_L_Q] = FLOOR_INDUCTANCE,
                                               [CVK_B_FLUX] = FLOOR_FLUX,
                                               [CVK_B_DEAD_TIME] = FLOOR_DEAD_TIME};
    const double value = belief->mean[parameter];
    const bool inductance = parameter == CVK_B_L_D || parameter == CVK_B_L_Q;
    const double floor = hypot(floors[parameter], inductance ? series_doubt(belief, reach_a) : 0.0);
    const double deviation = hypot(cvk_belief_deviation(belief, parameter), floor * value);
    fill_entry(entry, value, cvk_student95(belief->dof) * deviation, scale,
               belief->from[parameter]);
}

static void miss(cvk_card *card, cvk_card_key key, const char *why)
{
    snprintf(card->entry[key].missing, sizeof card->entry[key].missing, "%s", why);
}

static const char *why_no_flux(const cvk_windows *windows)
{
    return windows->count == 0
               ? "the motor does not turn in the logs: record a spin at a few speeds or a "
                 "coast-down (corvak record spin, corvak record coast)"
               : "the voltage turns, but back-EMF cannot be told from the drop across the winding: "
                 "add a standstill run, or record more and higher speeds, or a coast-down";
}

/* `still` is the belief before the flux circle, which says nothing of the inverter and the delay.
 */
static void write_electrical(cvk_card *card, const cvk_belief *belief, const cvk_belief *still,
                             const cvk_windows *windows, bool moved, double current, double volt,
                             double reach_a)
{
    const struct {
        int parameter;
        cvk_card_key key;
        const char *missing;
    } rows[] = {
        {CVK_B_RESISTANCE, CVK_CARD_RESISTANCE,
         "no steady current at several levels in the logs: record a standstill run with DC levels "
         "of both signs (corvak record standstill)"},
        {CVK_B_L_D, CVK_CARD_INDUCTANCE_D,
         "no changing current along at least two directions at standstill: record a standstill run "
         "with injection along two or more directions (corvak record standstill)"},
        {CVK_B_L_Q, CVK_CARD_INDUCTANCE_Q,
         "no changing current along at least two directions at standstill: record a standstill run "
         "with injection along two or more directions (corvak record standstill)"},
        {CVK_B_FLUX, CVK_CARD_FLUX_LINKAGE, why_no_flux(windows)},
        {CVK_B_DEAD_TIME, CVK_CARD_DEAD_TIME_VOLTAGE,
         "no standstill run with DC levels: the inverter's own voltage is not visible"},
        {CVK_B_DELAY, CVK_CARD_DELAY, "no steps of voltage with current: the delay is not visible"},
    };
    const cvk_belief *told = still->knee_a > 0.0 ? still : belief;
    for (size_t n = 0; n < sizeof rows / sizeof rows[0]; n++) {
        int parameter = rows[n].parameter;
        bool absolute = parameter == CVK_B_DEAD_TIME || parameter == CVK_B_DELAY;
        const double share = parameter == CVK_B_FLUX ? FLUX_SHARE : USEFUL_SHARE;
        bool known = absolute ? told->from[CVK_B_RESISTANCE][0] != '\0' && told->knee_a > 0.0
                              : belief->from[parameter][0] != '\0' &&
                                    cvk_belief_knows(belief, parameter, share);
        if (!known) {
            miss(card, rows[n].key,
                 moved && parameter != CVK_B_FLUX
                     ? "the standstill log does not fit a motor that stands still: hold the shaft "
                       "and record it again"
                     : rows[n].missing);
            continue;
        }
        double scale = parameter == CVK_B_DELAY ? 0.0 : volt;
        if (parameter == CVK_B_RESISTANCE || parameter == CVK_B_L_D || parameter == CVK_B_L_Q) {
            scale = hypot(volt, current);
        }
        write_entry(&card->entry[rows[n].key], absolute ? told : belief, parameter, scale, reach_a);
    }
}

static void write_pole_pairs(cvk_estimate *out, const cvk_pole_evidence *evidence)
{
    cvk_card_entry *entry = &out->card.entry[CVK_CARD_POLE_PAIRS];
    double probability = 0.0;
    int p = cvk_poles_decide(evidence, &probability);
    if (p == 0 || probability < SURE_OF_POLES) {
        miss(&out->card, CVK_CARD_POLE_PAIRS,
             p == 0 ? "no rotor column, and no once-per-revolution pattern: turn the shaft by hand "
                      "an exact number of turns with the phases logged and say so in the log "
                      "(# shaft_turns: 10), or record a coast-down (corvak record coast), or log a "
                      "rotor angle"
                    : "the evidence does not single out one number: turn the shaft by hand more "
                      "turns (# shaft_turns: 20), record a longer coast-down, or log a rotor "
                      "angle");
        return;
    }
    entry->known = true;
    entry->probability = probability;
    entry->value = entry->low = entry->high = p;
    entry->statistical_low = entry->statistical_high = p;
    const struct {
        bool seen;
        const char *name;
    } kinds[] = {{evidence->rotor_column, "rotor column"},
                 {evidence->pattern, "once-per-revolution pattern"},
                 {evidence->columns, "electrical column against the shaft's"},
                 {evidence->counted, "turns counted by hand"},
                 {evidence->disc, "known disc"}};
    size_t used = 0;
    for (size_t n = 0; n < sizeof kinds / sizeof kinds[0]; n++) {
        if (kinds[n].seen && used < sizeof entry->from) {
            used += (size_t)snprintf(entry->from + used, sizeof entry->from - used, "%s%s",
                                     used > 0 ? " and " : "", kinds[n].name);
        }
    }
}

/* Balances of the logs in which `disc_kg_m2` was added to the shaft. */
static cvk_status balance_logs(const cvk_belief *belief, const work *logs, size_t count,
                               double disc_kg_m2, double pole_pairs, cvk_mechanics *out)
{
    cvk_balance *balance = calloc(1, sizeof *balance);
    cvk_status status = balance == NULL ? CVK_NO_MEMORY : CVK_OK;
    for (size_t n = 0; n < count && status == CVK_OK; n++) {
        if (logs[n].log->added_inertia_kg_m2 == disc_kg_m2) {
            status =
                cvk_add_balances(balance, &logs[n].signals, &logs[n].turns, belief, pole_pairs);
        }
    }
    if (status == CVK_OK) {
        status = cvk_fit_mechanics(balance, out);
    }
    free(balance);
    return status;
}

static void learn_from_disc(cvk_pole_evidence *evidence, const cvk_belief *belief, const work *logs,
                            size_t count)
{
    double disc_kg_m2 = 0.0;
    cvk_mechanics without, with_disc;
    for (size_t n = 0; n < count; n++) {
        disc_kg_m2 = fmax(disc_kg_m2, logs[n].log->added_inertia_kg_m2);
    }
    if (disc_kg_m2 > 0.0 && cvk_belief_knows(belief, CVK_B_FLUX, FLUX_SHARE) &&
        balance_logs(belief, logs, count, 0.0, 1.0, &without) == CVK_OK &&
        balance_logs(belief, logs, count, disc_kg_m2, 1.0, &with_disc) == CVK_OK) {
        const double a[] = {without.value[CVK_MECH_INERTIA], without.deviation[CVK_MECH_INERTIA]};
        const double b[] = {with_disc.value[CVK_MECH_INERTIA],
                            with_disc.deviation[CVK_MECH_INERTIA]};
        cvk_poles_from_disc(evidence, a, b, disc_kg_m2);
    }
}

static cvk_status learn_pole_pairs(const work *logs, size_t count, const cvk_windows *windows,
                                   const cvk_belief *belief, cvk_estimate *out)
{
    cvk_pole_evidence evidence = {.rotor_column = false};
    bool odd = false;
    double ratio = 0.0;
    cvk_poles_from_rotor(&evidence, windows, &odd, &ratio);
    if (odd) {
        evidence.rotor_column = false;
        cvk_add_finding(out, CVK_WARNING, logs[0].signals.name,
                        "electrical over rotor speed is %.3f, not a whole number: is the sensor "
                        "geared, or its unit wrong?",
                        ratio);
    } else if (ratio < 0.0) {
        cvk_add_finding(out, CVK_NOTE, logs[0].signals.name,
                        "the rotor sensor counts backwards against the phase order a, b, c");
    }
    for (size_t n = 0; n < count; n++) {
        cvk_poles_from_columns(&evidence, logs[n].log);
        cvk_poles_from_count(&evidence, &logs[n].turns, logs[n].log->shaft_turns);
        cvk_status status = cvk_poles_from_pattern(&evidence, &logs[n].signals, &logs[n].turns);
        if (status != CVK_OK) {
            return status;
        }
    }
    learn_from_disc(&evidence, belief, logs, count);
    write_pole_pairs(out, &evidence);
    cvk_poles_probabilities(&evidence, out->pole_probability);
    return CVK_OK;
}

/* Relative half widths (95 %) that the channels' common gains add. */
typedef struct scale_share {
    double current, voltage;
} scale_share;

/* How the inductances fall with current, as far as the standstill logs reach. */
static void write_saturation(const cvk_belief *belief, const work *logs, size_t count,
                             cvk_estimate *out)
{
    static const int parameters[] = {CVK_B_LINEAR_D, CVK_B_SQUARE_D, CVK_B_SQUARE_Q};
    cvk_saturation *s = &out->saturation;
    const bool shown = belief->from[CVK_B_LINEAR_D][0] != '\0' &&
                       out->card.entry[CVK_CARD_INDUCTANCE_D].known &&
                       out->card.entry[CVK_CARD_INDUCTANCE_Q].known;
    for (int k = 0; k < 3; k++) {
        cvk_card_entry *entry = &out->card.entry[CVK_CARD_LINEAR_D + k];
        if (!shown) {
            miss(&out->card, (cvk_card_key)(CVK_CARD_LINEAR_D + k),
                 "needs DC levels with changing current on top: record a standstill run (corvak "
                 "record standstill)");
            continue;
        }
        double value = belief->mean[parameters[k]];
        double half = cvk_student95(belief->dof) * cvk_belief_deviation(belief, parameters[k]);
        fill_entry(entry, value, half, 0.0, belief->from[CVK_B_LINEAR_D]);
    }
    s->known = shown;
    s->reach_a = reach_of(logs, count);
    for (int n = 0; n < CVK_SATURATION_POINTS && shown; n++) {
        double share = (double)n / (CVK_SATURATION_POINTS - 1.0);
        double i_d = (2.0 * share - 1.0) * s->reach_a, i_q = share * s->reach_a;
        const int d[] = {CVK_B_L_D, CVK_B_LINEAR_D, CVK_B_SQUARE_D},
                  q[] = {CVK_B_L_Q, CVK_B_SQUARE_Q};
        double loss_d = 1.0 + belief->mean[d[1]] * i_d + belief->mean[d[2]] * i_d * i_d;
        double loss_q = 1.0 + belief->mean[q[1]] * i_q * i_q;
        s->d_h[n] = belief->mean[d[0]] / loss_d;
        s->q_h[n] = belief->mean[q[0]] / loss_q;
        const double slope_d[] = {1.0 / loss_d, -s->d_h[n] / loss_d * i_d,
                                  -s->d_h[n] / loss_d * i_d * i_d};
        const double slope_q[] = {1.0 / loss_q, -s->q_h[n] / loss_q * i_q * i_q};
        double half = cvk_student95(belief->dof);
        s->d_half_h[n] = half * sqrt(cvk_belief_variance(belief, d, slope_d, 3));
        s->q_half_h[n] = half * sqrt(cvk_belief_variance(belief, q, slope_q, 2));
    }
}

/* Copper's resistance rises by this share per K above 25 degC; winding sensors and alloys differ.
 */
#define COPPER_PER_K 0.00385
#define COPPER_DEVIATION 0.0001
#define SENSOR_DEVIATION_K 2.0

/* Mean of the temperature columns; false without one. */
static bool mean_temperature(const cvk_log *const *logs, size_t count, double *degc)
{
    double sum = 0.0, rows = 0.0;
    for (size_t n = 0; n < count; n++) {
        const double *x = logs[n]->column[CVK_COLUMN_TEMP];
        for (size_t k = 0; x != NULL && k < logs[n]->rows; k++) {
            sum += isfinite(x[k]) ? x[k] : 0.0;
            rows += isfinite(x[k]) ? 1.0 : 0.0;
        }
    }
    *degc = rows > 0.0 ? sum / rows : NAN;
    return rows > 0.0 && *degc > -60.0 && *degc < 250.0;
}

/* Resistance without the switch, and at 25 degC. */
static void write_resistances(const cvk_log *const *logs, const work *prepared, size_t count,
                              double switch_ohm, cvk_card *card)
{
    const cvk_card_entry *r = &card->entry[CVK_CARD_RESISTANCE];
    cvk_card_entry *winding = &card->entry[CVK_CARD_WINDING_RESISTANCE];
    cvk_card_entry *cold = &card->entry[CVK_CARD_RESISTANCE_25];
    double degc;
    if (!r->known) {
        miss(card, CVK_CARD_WINDING_RESISTANCE, "follows from resistance_ohm (see there)");
        miss(card, CVK_CARD_RESISTANCE_25, "follows from resistance_ohm (see there)");
        return;
    }
    const double off = prepared[0].signals.commanded ? switch_ohm : 0.0;
    if (prepared[0].signals.commanded && !(switch_ohm > 0.0)) {
        miss(card, CVK_CARD_WINDING_RESISTANCE,
             "voltages are commanded, so one switch is in series: give its on-resistance "
             "(--switch-resistance)");
    } else {
        *winding = *r;
        double *const figure[] = {&winding->value, &winding->low, &winding->high,
                                  &winding->statistical_low, &winding->statistical_high};
        for (size_t n = 0; n < sizeof figure / sizeof figure[0]; n++) {
            *figure[n] -= off;
        }
    }
    if (!mean_temperature(logs, count, &degc)) {
        miss(card, CVK_CARD_RESISTANCE_25,
             "no temperature column: log the winding's temperature as `temp [degC]`");
        return;
    }
    const double rise = degc - 25.0, factor = 1.0 / (1.0 + COPPER_PER_K * rise);
    const double doubt = 1.96 * hypot(COPPER_DEVIATION * rise, COPPER_PER_K * SENSOR_DEVIATION_K);
    *cold = *r;
    cold->value = r->value * factor;
    double half = hypot(0.5 * (r->high - r->low), doubt * r->value) * factor;
    double own = hypot(0.5 * (r->statistical_high - r->statistical_low), doubt * r->value) * factor;
    cold->low = cold->value - half;
    cold->high = cold->value + half;
    cold->statistical_low = cold->value - own;
    cold->statistical_high = cold->value + own;
    snprintf(cold->from, sizeof cold->from, "resistance_ohm and temperature column (%.1f degC)",
             degc);
}

static void names_of_turning(const work *logs, size_t count, char text[CVK_CARD_TEXT])
{
    size_t used = 0;
    text[0] = '\0';
    for (size_t n = 0; n < count && used < CVK_CARD_TEXT; n++) {
        if (logs[n].turns.count > 0) {
            used += (size_t)snprintf(text + used, CVK_CARD_TEXT - used, "%s%s",
                                     used > 0 ? "; " : "", logs[n].signals.name);
        }
    }
    if (used < CVK_CARD_TEXT) {
        snprintf(text + used, CVK_CARD_TEXT - used, ": balance of torque");
    }
}

/* The angle that the q inductance leaves open at the largest current: by its cosine the torque. */
static bool angle_known(const cvk_belief *belief, const cvk_windows *windows)
{
    double current_a = 0.0;
    for (size_t n = 0; n < windows->count; n++) {
        current_a = fmax(current_a, cabs(windows->window[n].current_a));
    }
    const double doubt_wb = cvk_belief_deviation(belief, CVK_B_L_Q) * current_a;
    return doubt_wb < LARGEST_ANGLE_DOUBT * belief->mean[CVK_B_FLUX];
}

static void learn_mechanics(const cvk_windows *windows, const cvk_belief *belief, const work *logs,
                            size_t count, scale_share scale, cvk_estimate *out)
{
    const cvk_card_entry *entry = out->card.entry;
    const bool angle = angle_known(belief, windows);
    const bool torque_known =
        entry[CVK_CARD_FLUX_LINKAGE].known && entry[CVK_CARD_POLE_PAIRS].known && angle;
    cvk_mechanics m = {.driven = false};
    char from[CVK_CARD_TEXT];
    bool fitted = torque_known && balance_logs(belief, logs, count, 0.0,
                                               entry[CVK_CARD_POLE_PAIRS].value, &m) == CVK_OK;
    const char *why =
        !angle          ? "needs the torque, which needs inductance_q_h (see there)"
        : !torque_known ? "needs the torque, which needs flux linkage and pole pairs (see there)"
        : !m.driven ? "no torque is seen: a coast-down alone shows only its ratio to friction; add "
                      "a spin with speed changes (corvak record spin)"
                    : "the speed hardly changes: record a spin with speed changes, and a "
                      "coast-down (corvak record spin, corvak record coast)";
    names_of_turning(logs, count, from);
    for (int k = 0; k < CVK_MECH_COUNT; k++) {
        const cvk_card_key key = (cvk_card_key)((int)CVK_CARD_INERTIA + k);
        const bool sharp = m.deviation[k] < USEFUL_SHARE * m.value[k] && m.value[k] > 0.0;
        if (fitted && sharp) {
            double flux = cvk_belief_deviation(belief, CVK_B_FLUX) / belief->mean[CVK_B_FLUX];
            /* torque is measured in flux times current, so both gains scale it */
            fill_entry(&out->card.entry[key], m.value[k],
                       cvk_student95(m.dof) * hypot(m.deviation[k], flux * m.value[k]),
                       hypot(scale.voltage, scale.current), from);
        } else {
            miss(&out->card, key,
                 fitted ? "too small beside the other torques in these logs: record a longer "
                          "coast-down (corvak record coast)"
                        : why);
        }
    }
}

static cvk_status estimate_prepared(work *logs, size_t count, scale_share scale,
                                    cvk_windows *windows, cvk_estimate *out)
{
    cvk_belief start, belief;
    start_belief(&start, logs, count);
    belief = start;
    bool moved = false;
    for (size_t n = 0; n < count; n++) {
        learn_standstill(&logs[n], &start, &belief, out);
        moved = moved || logs[n].moved;
    }
    const cvk_belief still = belief;
    learn_turning(logs, count, &belief, windows, out);
    write_electrical(&out->card, &belief, &still, windows, moved, scale.current, scale.voltage,
                     reach_of(logs, count));
    write_saturation(&still, logs, count, out);
    cvk_status status = learn_pole_pairs(logs, count, windows, &belief, out);
    if (status == CVK_OK) {
        learn_mechanics(windows, &belief, logs, count, scale, out);
    }
    return status;
}

/* A log that cannot be used gives nothing: its error is the reason for every entry without one. */
static void give_reasons(cvk_estimate *out)
{
    const char *why = "the log cannot be used";
    for (size_t n = out->findings; n-- > 0;) {
        why = out->finding[n].severity == CVK_ERROR ? out->finding[n].text : why;
    }
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        if (!out->card.entry[key].known && out->card.entry[key].missing[0] == '\0') {
            miss(&out->card, (cvk_card_key)key, why);
        }
    }
}

static bool any_known(const cvk_card *card)
{
    for (int key = 0; key < CVK_CARD_MOTOR_COUNT; key++) {
        if (card->entry[key].known) {
            return true;
        }
    }
    return false;
}

cvk_status cvk_estimate_logs(const cvk_log *const *logs, size_t count,
                             const cvk_estimate_options *options, cvk_estimate *out)
{
    if (logs == NULL || count == 0 || options == NULL || out == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    *out = (cvk_estimate){.residual_a = NAN, .offset_alpha_a = NAN, .offset_beta_a = NAN};
    work *prepared = calloc(count, sizeof *prepared);
    if (prepared == NULL) {
        return CVK_NO_MEMORY;
    }
    cvk_status status = CVK_OK;
    for (size_t n = 0; n < count && status == CVK_OK; n++) {
        status = prepare(&prepared[n], logs[n], options, out);
    }
    cvk_windows *windows = malloc(sizeof *windows);
    if (status == CVK_OK && windows == NULL) {
        status = CVK_NO_MEMORY;
    }
    if (status == CVK_OK) {
        const scale_share scale = {
            BOUND_TO_95 * tolerance(options->current_gain_tolerance, logs, count, true),
            BOUND_TO_95 * tolerance(options->voltage_gain_tolerance, logs, count, false)};
        status = estimate_prepared(prepared, count, scale, windows, out);
        write_resistances(logs, prepared, count, options->switch_resistance_ohm, &out->card);
    }
    if (status == CVK_OK && (cvk_has_errors(out) || !any_known(&out->card))) {
        status = CVK_NOT_IN_LOG;
    }
    if (status == CVK_NOT_IN_LOG) {
        give_reasons(out);
    }
    free(windows);
    free_work(prepared, count);
    return status;
}
