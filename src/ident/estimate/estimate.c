/* SPDX-License-Identifier: Apache-2.0
 *
 * The order of work: prepare every log, learn the electrical parameters, then pole pairs, then
 * inertia and friction; and write down what was found, or why not.
 */
#include "corvak/ident/estimate.h"

#include "card_writing.h"
#include "log/findings.h"
#include "mechanics/mechanics.h"
#include "math/numeric.h"
#include "mechanics/pole_columns.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define FLUX_SHARE 0.05          /* deviation of a flux linkage that makes a torque */
#define USEFUL_SHARE 0.2         /* an entry is given when its deviation is below this share */
#define LARGEST_ANGLE_DOUBT 0.25 /* rad, of the rotor, when the torque is to be believed */

cvk_estimate_options cvk_estimate_options_default(void)
{
    return (cvk_estimate_options){.current_gain_tolerance = -1.0,
                                  .voltage_gain_tolerance = -1.0,
                                  .largest_current_a = 500.0,
                                  .threads = 1};
}

/* All that one estimation holds. */
typedef struct work {
    size_t count;
    const cvk_log **logs; /* in their own order */
    cvk_prepared *prepared;
    cvk_learning *learning;
    int threads;
} work;

static const cvk_belief *belief_of(const work *w, size_t n)
{
    return &w->learning->known.of[w->prepared[n].waveforms.path];
}

/* Balances of the logs in which `disc_kg_m2` was added to the shaft; `shown` may be null. */
static cvk_status balance_logs(const work *w, double disc_kg_m2, double pole_pairs,
                               cvk_mechanics *out, cvk_curve *shown)
{
    cvk_balance *balance = calloc(1, sizeof *balance);
    cvk_status status = balance == NULL ? CVK_NO_MEMORY : CVK_OK;
    for (size_t n = 0; n < w->count && status == CVK_OK; n++) {
        const cvk_prepared *p = &w->prepared[n];
        if (p->usable && p->log.added_inertia_kg_m2 == disc_kg_m2) {
            status = cvk_add_balances(balance, &p->waveforms, &p->turns, belief_of(w, n),
                                      pole_pairs, w->threads);
        }
    }
    if (status == CVK_OK) {
        status = cvk_fit_mechanics(balance, out);
    }
    if (status == CVK_OK && shown != NULL) {
        cvk_balance_curve(balance, out, shown);
    }
    free(balance);
    return status;
}

static void learn_from_disc(cvk_pole_evidence *evidence, const work *w)
{
    const cvk_belief *belief = &w->learning->known.of[cvk_path_beliefs_first(&w->learning->known)];
    double disc_kg_m2 = 0.0;
    cvk_mechanics without, with_disc;
    for (size_t n = 0; n < w->count; n++) {
        disc_kg_m2 = fmax(disc_kg_m2, w->logs[n]->added_inertia_kg_m2);
    }
    if (disc_kg_m2 > 0.0 && cvk_belief_knows(belief, CVK_B_FLUX, FLUX_SHARE) &&
        balance_logs(w, 0.0, 1.0, &without, NULL) == CVK_OK &&
        balance_logs(w, disc_kg_m2, 1.0, &with_disc, NULL) == CVK_OK) {
        const double a[] = {without.value[CVK_MECH_INERTIA], without.deviation[CVK_MECH_INERTIA]};
        const double b[] = {with_disc.value[CVK_MECH_INERTIA],
                            with_disc.deviation[CVK_MECH_INERTIA]};
        cvk_poles_from_disc(evidence, a, b, disc_kg_m2);
    }
}

/* Whole numbers of electrical turns a turn of the shaft, but others in one log than in another. */
static bool ratios_differ(const work *w)
{
    double first = NAN;
    for (size_t n = 0; n < w->count; n++) {
        double sum = 0.0, count = 0.0;
        for (size_t k = w->prepared[n].windows.begin; k < w->prepared[n].windows.end; k++) {
            const double ratio = fabs(w->learning->windows.window[k].rotor_ratio);
            sum += isfinite(ratio) ? ratio : 0.0;
            count += isfinite(ratio) ? 1.0 : 0.0;
        }
        if (count > 0.0 && fabs(sum / count - first) > 0.5) {
            return true;
        }
        first = count > 0.0 ? sum / count : first;
    }
    return false;
}

/* What an option states, else what the logs' heads do; 0: nothing, -1: these differ. `by` names who
 * states it. */
static int stated_pole_pairs(const work *w, int option, cvk_estimate *out, char by[CVK_CARD_TEXT])
{
    int stated = option;
    snprintf(by, CVK_CARD_TEXT, "by the user");
    for (size_t n = 0; n < w->count && option == 0; n++) {
        const double head = w->prepared[n].usable ? w->logs[n]->pole_pairs : 0.0;
        const int whole = head <= CVK_MOST_POLE_PAIRS ? (int)head : 0;
        if (whole != head) {
            cvk_add_finding(out, CVK_WARNING, w->logs[n]->name,
                            "# pole_pairs: %g is not used: a whole number from 1 to %d is wanted",
                            head, CVK_MOST_POLE_PAIRS);
        } else if (whole > 0 && stated > 0 && stated != whole) {
            return -1;
        } else if (whole > 0 && stated == 0) {
            stated = whole;
            snprintf(by, CVK_CARD_TEXT, "in # pole_pairs of %s", w->logs[n]->name);
        }
    }
    return stated;
}

static cvk_status learn_pole_pairs(const work *w, int option, cvk_estimate *out)
{
    cvk_pole_evidence evidence = {.rotor_column = false};
    bool odd = false;
    double ratio = 0.0;
    cvk_poles_from_rotor(&evidence, &w->learning->windows, &odd, &ratio);
    if (odd) {
        evidence.rotor_column = false;
        cvk_add_finding(out, CVK_WARNING, w->logs[0]->name,
                        "electrical over rotor speed is %.3f, not a whole number: is the sensor "
                        "geared, or its unit wrong?",
                        ratio);
    } else if (ratio < 0.0) {
        cvk_add_finding(out, CVK_NOTE, w->logs[0]->name,
                        "the rotor sensor counts backwards against the phase order a, b, c");
    }
    for (size_t n = 0; n < w->count; n++) {
        const cvk_prepared *p = &w->prepared[n];
        if (!p->usable) {
            continue;
        }
        evidence.uncounted = evidence.uncounted || (cvk_log_has(&p->log, CVK_COLUMN_ENC) &&
                                                    !(p->log.encoder_counts > 0.0));
        cvk_poles_from_columns(&evidence, &p->log);
        cvk_poles_from_count(&evidence, &p->turns, p->log.shaft_turns);
        cvk_status status = cvk_poles_from_pattern(&evidence, &p->waveforms, &p->turns);
        if (status != CVK_OK) {
            return status;
        }
    }
    learn_from_disc(&evidence, w);
    if (cvk_other_motor(w->learning) || ratios_differ(w)) {
        cvk_leave_open(&out->card, CVK_CARD_POLE_PAIRS,
                       "the logs contradict each other (see the other entries): whose pole pairs "
                       "these are cannot be told");
        return CVK_OK;
    }
    char by[CVK_CARD_TEXT];
    const int stated = stated_pole_pairs(w, option, out, by);
    if (stated < 0) {
        cvk_leave_open(&out->card, CVK_CARD_POLE_PAIRS,
                       "the logs' heads state different numbers (# pole_pairs)");
    } else {
        cvk_write_pole_pairs(out, &evidence, stated, by);
    }
    cvk_poles_probabilities(&evidence, out->pole_probability);
    return CVK_OK;
}

static void names_of_turning(const work *w, char text[CVK_CARD_TEXT])
{
    size_t used = 0;
    text[0] = '\0';
    for (size_t n = 0; n < w->count && used < CVK_CARD_TEXT; n++) {
        if (w->prepared[n].turns.count > 0) {
            used += (size_t)snprintf(text + used, CVK_CARD_TEXT - used, "%s%s",
                                     used > 0 ? "; " : "", w->logs[n]->name);
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

static void learn_mechanics(const work *w, cvk_scale_share scale, cvk_estimate *out)
{
    const cvk_card_entry *entry = out->card.entry;
    const cvk_belief *belief = &w->learning->known.of[cvk_path_beliefs_first(&w->learning->known)];
    const bool angle = angle_known(belief, &w->learning->windows);
    const bool torque_known =
        entry[CVK_CARD_FLUX_LINKAGE].known && entry[CVK_CARD_POLE_PAIRS].known && angle;
    cvk_mechanics m = {.driven = false};
    char from[CVK_CARD_TEXT];
    bool fitted =
        torque_known && balance_logs(w, 0.0, entry[CVK_CARD_POLE_PAIRS].value, &m,
                                     out->curves != NULL ? &out->curves->balance : NULL) == CVK_OK;
    const char *why =
        !angle          ? "needs the torque, which needs inductance_q_h (see there)"
        : !torque_known ? "needs the torque, which needs flux linkage and pole pairs (see there)"
        : !m.driven ? "no torque is seen: a coast-down alone shows only its ratio to friction; add "
                      "a spin with speed changes (corvak record spin)"
                    : "the speed hardly changes: record a spin with speed changes, and a "
                      "coast-down (corvak record spin, corvak record coast)";
    names_of_turning(w, from);
    for (int k = 0; k < CVK_MECH_COUNT; k++) {
        const cvk_card_key key = (cvk_card_key)((int)CVK_CARD_INERTIA + k);
        const bool sharp = m.deviation[k] < USEFUL_SHARE * m.value[k] && m.value[k] > 0.0;
        if (fitted && sharp) {
            double flux = cvk_belief_deviation(belief, CVK_B_FLUX) / belief->mean[CVK_B_FLUX];
            /* torque is measured in flux times current, so both gains scale it */
            cvk_fill_entry(&out->card.entry[key], m.value[k],
                           cvk_student95(m.dof) * hypot(m.deviation[k], flux * m.value[k]),
                           hypot(scale.voltage, scale.current), from);
        } else {
            cvk_leave_open(
                &out->card, key,
                fitted ? "too small beside the other torques in these logs: record a longer "
                         "coast-down (corvak record coast)"
                       : why);
        }
    }
}

static cvk_status estimate_prepared(work *w, const cvk_estimate_options *options, cvk_estimate *out)
{
    const cvk_scale_share scale = cvk_scale_of(w->logs, w->count, options);
    cvk_learn(w->learning, w->prepared, w->count, options, out);
    cvk_write_electrical(w->learning, w->prepared, w->count, scale, out);
    cvk_status status = learn_pole_pairs(w, options->pole_pairs, out);
    if (status == CVK_OK) {
        learn_mechanics(w, scale, out);
        cvk_write_resistances(w->learning, w->logs, w->count, scale, &out->card);
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
            cvk_leave_open(&out->card, (cvk_card_key)key, why);
        }
    }
}

/* One bad log does not sink the others: what was its error is a warning that names it. */
static void leave_out_bad_logs(cvk_estimate *out)
{
    static const char left_out[] = " (this log is left out)";
    for (size_t n = 0; n < out->findings; n++) {
        cvk_finding *finding = &out->finding[n];
        if (finding->severity == CVK_ERROR) {
            size_t used = strlen(finding->text), room = sizeof finding->text - sizeof left_out;
            finding->severity = CVK_WARNING;
            memcpy(finding->text + (used < room ? used : room), left_out, sizeof left_out);
        }
    }
}

static size_t usable_logs(const work *w)
{
    size_t usable = 0;
    for (size_t n = 0; n < w->count; n++) {
        usable += w->prepared[n].usable;
    }
    return usable;
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

static cvk_status allocate(work *w, const cvk_log *const *logs, size_t count)
{
    w->count = count;
    w->logs = malloc(count * sizeof(const cvk_log *));
    w->prepared = calloc(count, sizeof *w->prepared);
    w->learning = calloc(1, sizeof *w->learning);
    if (w->logs == NULL || w->prepared == NULL || w->learning == NULL) {
        return CVK_NO_MEMORY;
    }
    cvk_order_logs(logs, count, w->logs);
    return CVK_OK;
}

static void free_work(work *w)
{
    for (size_t n = 0; w->prepared != NULL && n < w->count; n++) {
        cvk_prepared_free(&w->prepared[n]);
    }
    free(w->logs);
    free(w->prepared);
    free(w->learning);
}

cvk_status cvk_estimate_logs(const cvk_log *const *logs, size_t count,
                             const cvk_estimate_options *options, cvk_estimate *out)
{
    if (logs == NULL || count == 0 || options == NULL || out == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    if (options->pole_pairs < 0 || options->pole_pairs > CVK_MOST_POLE_PAIRS) {
        return CVK_OUT_OF_RANGE;
    }
    *out = (cvk_estimate){
        .curves = options->curves, .residual_a = NAN, .offset_alpha_a = NAN, .offset_beta_a = NAN};
    if (options->curves != NULL) {
        const bool with_profile = options->curves->with_profile;
        *options->curves = (cvk_estimate_curves){.with_profile = with_profile};
    }
    work w = {.threads = options->threads};
    cvk_status status = allocate(&w, logs, count);
    for (size_t n = 0; n < count && status == CVK_OK; n++) {
        status = cvk_prepare(&w.prepared[n], w.logs[n], options, out);
        if (w.prepared[n].usable && !(out->row_s > 0.0)) {
            out->row_s = w.prepared[n].waveforms.period_s;
        }
        if (w.prepared[n].usable && w.prepared[n].turns.count > 0) {
            out->offset_alpha_a = w.prepared[n].waveforms.offset_alpha_a;
            out->offset_beta_a = w.prepared[n].waveforms.offset_beta_a;
        }
    }
    if (status == CVK_OK && usable_logs(&w) > 0) {
        status = estimate_prepared(&w, options, out);
    }
    if (status == CVK_OK && (usable_logs(&w) == 0 || !any_known(&out->card))) {
        status = CVK_NOT_IN_LOG;
    }
    if (status == CVK_NOT_IN_LOG) {
        give_reasons(out);
    }
    if (status != CVK_NO_MEMORY && usable_logs(&w) > 0) {
        leave_out_bad_logs(out);
    }
    free_work(&w);
    return status;
}
