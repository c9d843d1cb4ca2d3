/* SPDX-License-Identifier: Apache-2.0
 *
 * Writing down on the card what was learnt, or why an entry stays open.
 */
#include "card_doubts.h"

#include "corvak/core/units.h"

#include "math/numeric.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define FLUX_SHARE 0.05  /* the same of the flux linkage, which turning shows well */
#define USEFUL_SHARE 0.2 /* an entry is given when its deviation is below this share */
#define CROSS_DOUBT 0.08 /* of cross-saturation: the same series */
#define SURE_OF_POLES 0.9

void cvk_leave_open(cvk_card *card, cvk_card_key key, const char *why)
{
    card->entry[key].known = false;
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

/* Why a parameter of the winding stays open when nothing shows it. */
static const char *why_open(const cvk_learning *l, int parameter)
{
    static const char *const reasons[CVK_B_COUNT] = {
        [CVK_B_RESISTANCE] =
            "no steady current at several levels in the logs: record a standstill run with DC "
            "levels of both signs (corvak record standstill)",
        [CVK_B_L_D] =
            "no changing current along at least two directions at standstill: record a standstill "
            "run with injection along two or more directions (corvak record standstill)",
        [CVK_B_L_Q] =
            "no changing current along at least two directions at standstill: record a standstill "
            "run with injection along two or more directions (corvak record standstill)",
        [CVK_B_DEAD_TIME] =
            "no standstill run with DC levels: the inverter's own voltage is not visible",
        [CVK_B_DELAY] = "no steps of voltage with current: the delay is not visible"};
    if (l->cure[0] != '\0') {
        return l->cure;
    }
    if (l->one_line[0] != '\0' && (parameter == CVK_B_L_D || parameter == CVK_B_L_Q)) {
        return l->one_line;
    }
    if (l->crumbs) {
        return "the log is in pieces of less than 30 ms, too short for any test: record it without "
               "gaps, or with fewer rows a second (beyond 160 MB only stretches of a file are "
               "read)";
    }
    if (parameter == CVK_B_FLUX && l->short_of[0] != '\0') {
        return l->short_of;
    }
    if (parameter == CVK_B_FLUX) {
        return why_no_flux(&l->windows);
    }
    return l->moved ? "the standstill log does not fit a motor that stands still: hold the shaft "
                      "and record it again"
                    : reasons[parameter];
}

/* The interval grows to hold what the logs say apart from each other. */
static void widen(cvk_card_entry *entry, const cvk_agreement *agreement)
{
    const double below = entry->value - agreement->lowest,
                 above = agreement->highest - entry->value;
    if (isfinite(below) && below > 0.0) {
        entry->low -= below;
        entry->statistical_low -= below;
    }
    if (isfinite(above) && above > 0.0) {
        entry->high += above;
        entry->statistical_high += above;
    }
}

/* Why the logs do not agree on a parameter; false when they do. Different inductances belong to
 * different motors: then nothing of the winding can be trusted, nor what was learnt with it. */
static bool contradicted(const cvk_learning *l, int parameter, cvk_path path, char *why)
{
    static const int winding[] = {CVK_B_L_D, CVK_B_L_Q, CVK_B_RESISTANCE};
    cvk_agreement own = cvk_agree(&l->readings, parameter, path);
    for (size_t n = 0; n < 3 && !own.contradicts; n++) {
        const bool matters = winding[n] != CVK_B_RESISTANCE ||
                             (parameter == CVK_B_FLUX && cvk_any_current(&l->windows));
        own = matters ? cvk_agree(&l->readings, winding[n], path) : own;
    }
    /* without a standstill log the winding was learnt by the very logs that disagree */
    if (!own.contradicts && l->still.of[path].from[CVK_B_RESISTANCE][0] == '\0') {
        own = cvk_agree(&l->readings, CVK_B_FLUX, path);
    }
    const char *reason = own.contradicts ? own.why : l->misfit;
    snprintf(why, CVK_CARD_TEXT, "%s", reason);
    return reason[0] != '\0';
}

/* Degrees of freedom: few windows on the flux circle do not blunt what standstill logs have shown.
 */
static double dof_of(const cvk_learning *l, int parameter, cvk_path path)
{
    const cvk_belief *still = &l->still.of[path];
    return parameter != CVK_B_FLUX && still->from[parameter][0] != '\0' ? still->dof
                                                                        : l->known.of[path].dof;
}

/* One parameter of the motor, from the belief of a path. */
static void write_parameter(const cvk_learning *l, int parameter, cvk_card_key key, cvk_path path,
                            const cvk_scale_share *scale, const cvk_reach *r, cvk_card *card)
{
    const cvk_belief *belief = &l->known.of[path];
    const cvk_agreement agreement = cvk_agree(&l->readings, parameter, path);
    const double share = parameter == CVK_B_FLUX ? FLUX_SHARE : USEFUL_SHARE;
    cvk_card_entry *entry = &card->entry[key];
    char why[CVK_CARD_TEXT];
    if (contradicted(l, parameter, path, why)) {
        cvk_leave_open(card, key, why);
    } else if (belief->from[parameter][0] == '\0' || !cvk_belief_knows(belief, parameter, share)) {
        cvk_leave_open(card, key, why_open(l, parameter));
    } else {
        /* where the bridge was off, no current was read */
        cvk_scale_share own = *scale;
        if (r->commanded && r->turning) { /* the turning fit knows it */
            own.delay_s = 0.0;
        }
        if (parameter == CVK_B_FLUX && cvk_any_coasting(&l->windows)) {
            own.delay_s = own.delay_doubt_s = 0.0;
        }
        cvk_write_entry(entry, belief, parameter, dof_of(l, parameter, path), &own, r);
        widen(entry, &agreement);
        if (!(entry->low > 0.0)) {
            cvk_leave_open(card, key,
                           "its interval reaches below zero, which no motor does: the logs show "
                           "too little of it");
        }
    }
}

/* Voltages that should have been measured, but contain an inverter's own voltage, are commanded. */
static bool truly_measured(const cvk_belief *belief)
{
    const double own_v = belief->mean[CVK_B_DEAD_TIME];
    return own_v < CVK_SMALLEST_OWN_V ||
           own_v < 5.0 * cvk_belief_deviation(belief, CVK_B_DEAD_TIME);
}

/* The inverter and the delay, which only standstill logs show. */
static void write_inverter(const cvk_learning *l, cvk_path path, cvk_scale_share scale,
                           cvk_card *card)
{
    const cvk_belief *told =
        l->still.of[path].knee_a > 0.0 ? &l->still.of[path] : &l->known.of[path];
    const cvk_card_key keys[] = {CVK_CARD_DEAD_TIME_VOLTAGE, CVK_CARD_DELAY};
    const int parameters[] = {CVK_B_DEAD_TIME, CVK_B_DELAY};
    for (int n = 0; n < 2; n++) {
        if (path != CVK_PATH_COMMANDED && parameters[n] == CVK_B_DEAD_TIME &&
            truly_measured(told)) {
            cvk_leave_open(card, keys[n],
                           "the voltages were measured at the terminals: the inverter's own is in "
                           "them already");
        } else if (told->from[CVK_B_RESISTANCE][0] != '\0' && told->knee_a > 0.0) {
            cvk_write_entry(&card->entry[keys[n]], told, parameters[n], told->dof, &scale,
                            &(cvk_reach){0});
        } else {
            cvk_leave_open(card, keys[n], why_open(l, parameters[n]));
        }
    }
}

/* How the inductances fall with current, as far as the standstill logs reach. */
static void write_saturation(const cvk_learning *l, const cvk_belief *belief, double reach_a,
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
            cvk_leave_open(
                &out->card, (cvk_card_key)(CVK_CARD_LINEAR_D + k),
                "needs DC levels with changing current on top: record a standstill run (corvak "
                "record standstill)");
            continue;
        }
        double value = belief->mean[parameters[k]];
        double half = cvk_student95(belief->dof) * cvk_belief_deviation(belief, parameters[k]);
        cvk_fill_entry(entry, value, half, 0.0, belief->from[CVK_B_LINEAR_D]);
    }
    if (shown && l->cross_information > 0.0) {
        const double half = cvk_student95(belief->dof) / sqrt(l->cross_information);
        cvk_fill_entry(&out->card.entry[CVK_CARD_CROSS], l->cross_per_a,
                       hypot(half, 1.96 * CROSS_DOUBT * l->cross_per_a), 0.0, l->cross_from);
    } else {
        cvk_leave_open(
            &out->card, CVK_CARD_CROSS,
            "needs DC levels that saturate the motor in a standstill run, and a rotor that "
            "does not lie along one of the directions");
    }
    s->known = shown;
    s->reach_a = reach_a;
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

/* Two probes: the model's floors and the channels' gains added to what the fit leaves open. */
static void widen_line_readings(cvk_scale_share scale, cvk_estimate *out)
{
    for (size_t n = 0; n < out->line_readings; n++) {
        cvk_card_entry *entry[] = {&out->line_reading[n].resistance,
                                   &out->line_reading[n].inductance};
        const double floors[] = {CVK_FLOOR_RESISTANCE, CVK_FLOOR_INDUCTANCE};
        for (int k = 0; k < 2 && entry[k]->known; k++) {
            const double value = entry[k]->value, half = entry[k]->statistical_high - value;
            cvk_fill_entry(entry[k], value, hypot(half, 1.96 * floors[k] * value),
                           hypot(scale.voltage, scale.current), out->line_reading[n].log);
        }
    }
}

void cvk_write_electrical(const cvk_learning *l, const cvk_prepared *logs, size_t count,
                          cvk_scale_share scale, cvk_estimate *out)
{
    static const struct {
        int parameter;
        cvk_card_key key;
    } rows[] = {{CVK_B_RESISTANCE, CVK_CARD_RESISTANCE},
                {CVK_B_L_D, CVK_CARD_INDUCTANCE_D},
                {CVK_B_L_Q, CVK_CARD_INDUCTANCE_Q},
                {CVK_B_FLUX, CVK_CARD_FLUX_LINKAGE}};
    const cvk_path first = cvk_path_beliefs_first(&l->known);
    cvk_reach r = cvk_reach_of(logs, count, first);
    r.flux_floor = cvk_flux_floor(&l->windows);
    r.turning = l->still.of[first].from[CVK_B_RESISTANCE][0] == '\0';
    for (size_t n = 0; n < sizeof rows / sizeof rows[0]; n++) {
        write_parameter(l, rows[n].parameter, rows[n].key, first, &scale, &r, &out->card);
    }
    write_inverter(l, first, scale, &out->card);
    widen_line_readings(scale, out);
    write_saturation(l, &l->still.of[first], r.largest_a, out);
}

/* Winding sensors and alloys differ. */
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

static void shift_entry(cvk_card_entry *entry, double by)
{
    double *const figures[] = {&entry->value, &entry->low, &entry->high, &entry->statistical_low,
                               &entry->statistical_high};
    for (size_t n = 0; n < sizeof figures / sizeof figures[0]; n++) {
        *figures[n] += by;
    }
}

/* The winding alone: where a measured path has seen it, or with the switch taken off. */
static void write_winding(const cvk_learning *l, cvk_scale_share scale, cvk_card *card)
{
    const cvk_card_entry *r = &card->entry[CVK_CARD_RESISTANCE];
    cvk_card_entry *winding = &card->entry[CVK_CARD_WINDING_RESISTANCE];
    const double switch_ohm = l->known.switch_ohm;
    for (int path = CVK_PATH_MEASURED; path < CVK_PATHS; path++) {
        if (l->known.present[path] &&
            cvk_path_beliefs_told(&l->known, (cvk_path)path, CVK_B_RESISTANCE) &&
            truly_measured(&l->still.of[path])) {
            write_parameter(l, CVK_B_RESISTANCE, CVK_CARD_WINDING_RESISTANCE, (cvk_path)path,
                            &scale, &(cvk_reach){0}, card);
            return;
        }
    }
    if (!r->known) {
        cvk_leave_open(card, CVK_CARD_WINDING_RESISTANCE,
                       "follows from resistance_ohm (see there)");
    } else if (!(switch_ohm > 0.0)) {
        cvk_leave_open(card, CVK_CARD_WINDING_RESISTANCE,
                       "voltages are commanded, so one switch is in series: give its on-resistance "
                       "(--switch-resistance)");
    } else {
        *winding = *r;
        shift_entry(winding, -switch_ohm);
        if (!(winding->low > 0.0)) {
            char why[CVK_CARD_TEXT];
            snprintf(why, sizeof why,
                     "the stated switch resistance of %.4g ohm leaves nothing of the %.4g ohm that "
                     "the logs show for winding and switch together: check --switch-resistance",
                     switch_ohm, r->value);
            *winding = (cvk_card_entry){.known = false};
            cvk_leave_open(card, CVK_CARD_WINDING_RESISTANCE, why);
        }
    }
}

static void write_cold(const cvk_log *const *logs, size_t count, cvk_card *card)
{
    const cvk_card_entry *r = &card->entry[CVK_CARD_RESISTANCE];
    cvk_card_entry *cold = &card->entry[CVK_CARD_RESISTANCE_25];
    double degc;
    if (!r->known) {
        cvk_leave_open(card, CVK_CARD_RESISTANCE_25, "follows from resistance_ohm (see there)");
        return;
    }
    if (!mean_temperature(logs, count, &degc)) {
        cvk_leave_open(card, CVK_CARD_RESISTANCE_25,
                       "no temperature column: log the winding's temperature as `temp [degC]`");
        return;
    }
    const double rise = degc - 25.0, factor = 1.0 / (1.0 + CVK_COPPER_PER_K * rise);
    const double doubt =
        1.96 * hypot(COPPER_DEVIATION * rise, CVK_COPPER_PER_K * SENSOR_DEVIATION_K);
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

void cvk_write_resistances(const cvk_learning *learning, const cvk_log *const *logs, size_t count,
                           cvk_scale_share scale, cvk_card *card)
{
    write_winding(learning, scale, card);
    write_cold(logs, count, card);
}

static void fill_pole_pairs(cvk_card_entry *entry, int pole_pairs, double probability)
{
    entry->known = true;
    entry->probability = probability;
    entry->value = entry->low = entry->high = pole_pairs;
    entry->statistical_low = entry->statistical_high = pole_pairs;
}

static void name_evidence(const cvk_pole_evidence *evidence, char *out, size_t size)
{
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
        if (kinds[n].seen && used < size) {
            used += (size_t)snprintf(out + used, size - used, "%s%s", used > 0 ? " and " : "",
                                     kinds[n].name);
        }
    }
}

/* True: it stands, or is open. False: the evidence says the same by itself. */
static bool write_stated(cvk_estimate *out, const cvk_pole_evidence *evidence, int stated,
                         const char *by)
{
    double probability[CVK_MOST_POLE_PAIRS + 1], sure = 0.0;
    const int shown = cvk_poles_decide(evidence, &sure);
    cvk_poles_probabilities(evidence, probability);
    if (shown == stated && sure >= SURE_OF_POLES) {
        return false;
    }
    cvk_card_entry *entry = &out->card.entry[CVK_CARD_POLE_PAIRS];
    if (shown != 0 && probability[stated] < 1.0 - SURE_OF_POLES) {
        char from[96], why[CVK_CARD_TEXT];
        name_evidence(evidence, from, sizeof from);
        snprintf(why, sizeof why, "stated are %d (%.64s), but the logs show %d (%s)%s", stated, by,
                 shown, from, stated == 2 * shown ? "; pole pairs are half the poles" : "");
        cvk_leave_open(&out->card, CVK_CARD_POLE_PAIRS, why);
        return true;
    }
    fill_pole_pairs(entry, stated, 1.0);
    entry->by_hand = true;
    snprintf(entry->from, sizeof entry->from, "stated %.100s", by);
    return true;
}

void cvk_write_pole_pairs(cvk_estimate *out, const cvk_pole_evidence *evidence, int stated,
                          const char *by)
{
    cvk_card_entry *entry = &out->card.entry[CVK_CARD_POLE_PAIRS];
    double probability = 0.0;
    int p = cvk_poles_decide(evidence, &probability);
    if (stated > 0 && write_stated(out, evidence, stated, by)) {
        return;
    }
    if (p == 0 && evidence->uncounted) {
        cvk_leave_open(
            &out->card, CVK_CARD_POLE_PAIRS,
            "there is an enc column, but its counts per turn are not known: add the line "
            "`# encoder_counts: 4096` (with your encoder's number) before the header");
        return;
    }
    if (p == 0 || probability < SURE_OF_POLES) {
        cvk_leave_open(
            &out->card, CVK_CARD_POLE_PAIRS,
            p == 0 ? "no rotor column, and no once-per-revolution pattern: state them "
                     "(--pole-pairs), or turn the shaft by hand a whole number of turns with the "
                     "phases logged (# shaft_turns: 10), or record a coast-down (corvak record "
                     "coast), or log a rotor angle"
                   : "the evidence does not single out one number: state them (--pole-pairs), turn "
                     "the shaft by hand more turns (# shaft_turns: 20), record a longer "
                     "coast-down, or log a rotor angle");
        return;
    }
    fill_pole_pairs(entry, p, probability);
    name_evidence(evidence, entry->from, sizeof entry->from);
}
