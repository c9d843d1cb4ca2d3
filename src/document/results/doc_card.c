/* SPDX-License-Identifier: Apache-2.0
 *
 * A motor card, and an estimate around it.
 */
#include "common.h"

#include "corvak/document/number.h"
#include "corvak/rig/rig.h"

#include <math.h>
#include <string.h>

const char *cvk_card_label(cvk_card_key key)
{
    static const char *const labels[CVK_CARD_COUNT] = {
        [CVK_CARD_RESISTANCE] = "resistance, phase",
        [CVK_CARD_INDUCTANCE_D] = "inductance d",
        [CVK_CARD_INDUCTANCE_Q] = "inductance q",
        [CVK_CARD_FLUX_LINKAGE] = "flux linkage",
        [CVK_CARD_POLE_PAIRS] = "pole pairs",
        [CVK_CARD_INERTIA] = "inertia",
        [CVK_CARD_FRICTION_COULOMB] = "Coulomb friction",
        [CVK_CARD_FRICTION_VISCOUS] = "viscous friction",
        [CVK_CARD_WINDING_RESISTANCE] = "resistance, winding alone",
        [CVK_CARD_RESISTANCE_25] = "resistance at 25 °C",
        [CVK_CARD_LINEAR_D] = "saturation d, linear",
        [CVK_CARD_SQUARE_D] = "saturation d, square",
        [CVK_CARD_SQUARE_Q] = "saturation q, square",
        [CVK_CARD_CROSS] = "cross-saturation",
        [CVK_CARD_DEAD_TIME_VOLTAGE] = "inverter's own voltage",
        [CVK_CARD_DELAY] = "delay of voltage",
    };
    return labels[key];
}

const char *cvk_severity_text(cvk_severity severity)
{
    static const char *const names[] = {"note", "warning", "error"};
    return names[severity];
}

double cvk_rig_truth(const cvk_rig_config *rig, cvk_card_key key)
{
    switch (key) {
    case CVK_CARD_RESISTANCE:
        return cvk_rig_visible_resistance(rig);
    case CVK_CARD_INDUCTANCE_D:
        return rig->motor.inductance_d_h;
    case CVK_CARD_INDUCTANCE_Q:
        return rig->motor.inductance_q_h;
    case CVK_CARD_FLUX_LINKAGE:
        return rig->motor.flux_linkage_wb;
    case CVK_CARD_POLE_PAIRS:
        return rig->motor.pole_pairs;
    case CVK_CARD_INERTIA:
        return rig->shaft.inertia_kg_m2 + rig->shaft.load_inertia_kg_m2;
    case CVK_CARD_WINDING_RESISTANCE:
        return rig->motor.resistance_ohm;
    case CVK_CARD_DEAD_TIME_VOLTAGE:
        return cvk_rig_dead_time_voltage(rig);
    case CVK_CARD_DELAY:
        return 1.0;
    default:
        return (double)NAN;
    }
}

double cvk_card_truth(const cvk_rig_config *rig, const cvk_card *card, cvk_card_key key)
{
    const cvk_card_entry *winding = &card->entry[CVK_CARD_WINDING_RESISTANCE];
    const bool measured =
        winding->known && winding->value == card->entry[CVK_CARD_RESISTANCE].value;
    /* measured at the terminals: no switch in it */
    return cvk_rig_truth(rig, measured && key == CVK_CARD_RESISTANCE ? CVK_CARD_WINDING_RESISTANCE
                                                                     : key);
}

int first_clause(const char *text)
{
    static const char *const ends[] = {": ", "; ", ". "};
    size_t length = strlen(text);
    if (strstr(text, "contradict") != NULL) {
        return (int)length; /* what does, is the reason */
    }
    for (size_t n = 0; n < G_N_ELEMENTS(ends); n++) {
        const char *end = strstr(text, ends[n]);
        length = end != NULL && (size_t)(end - text) < length ? (size_t)(end - text) : length;
    }
    return (int)length;
}

/* ---- entries -------------------------------------------------------------------------------- */

void put_card_entry(cvk_doc *doc, const char *key, const char *label, const cvk_card_entry *entry)
{
    if (!entry->known) {
        cvk_doc_text(doc, key, NULL, NULL);
        return;
    }
    cvk_doc_interval(doc, key, label, entry->value, entry->low, entry->high);
    cvk_doc_also(doc, "statistical_low", entry->statistical_low);
    cvk_doc_also(doc, "statistical_high", entry->statistical_high);
    if (entry->probability > 0.0 && !entry->by_hand) {
        cvk_doc_also(doc, "probability", entry->probability);
    }
    cvk_doc_also_text(doc, entry->by_hand ? "by_hand" : "from", entry->from);
}

/* How sharp it is, and the truth beside it. */
static void remark(cvk_doc *doc, const char *key, const cvk_card_entry *e, double truth)
{
    const double statistical = 0.5 * (e->statistical_high - e->statistical_low);
    GString *text = g_string_new(NULL);
    if (e->by_hand) {
        g_string_append(text, "by hand");
    } else if (g_str_has_suffix(key, "_periods")) { /* a share of something near zero: nothing */
        g_string_printf(text, "±%-7s", digits(statistical, 2));
    } else {
        g_string_printf(text, "±%.2f %%", 100.0 * statistical / fabs(e->value));
    }
    if (isfinite(truth)) {
        char number[48];
        const cvk_display how = cvk_display_of(key, e->value);
        const double off = truth != 0.0 ? 100.0 * (e->value / truth - 1.0) : 0.0;
        print_number(number, sizeof number, how.factor * truth,
                     0.5 * how.factor * (e->high - e->low));
        g_string_append_printf(text, "   rig: %s, %+.2f %%, %s", number,
                               fabs(off) < 0.005 ? 0.0 : off,
                               truth >= e->low && truth <= e->high ? "inside" : "OUTSIDE");
    }
    cvk_doc_remark(doc, "%s", text->str);
    g_string_free(text, TRUE);
}

static void put_pole_pairs(cvk_doc *doc, const cvk_card_entry *e, double truth)
{
    put_card_entry(doc, cvk_card_key_name(CVK_CARD_POLE_PAIRS), cvk_card_label(CVK_CARD_POLE_PAIRS),
                   e);
    if (e->known) {
        char beside[32] = "", sure[48] = "(set by hand)";
        if (isfinite(truth)) {
            g_snprintf(beside, sizeof beside, "  rig: %.0f", truth);
        }
        if (!e->by_hand) {
            g_snprintf(sure, sizeof sure, "(probability %.4f)", e->probability);
        }
        cvk_doc_remark(doc, "%s%s", sure, beside);
    }
}

static void put_entries(cvk_doc *doc, const char *section, const cvk_card *card, int from, int to,
                        const double *truth)
{
    cvk_doc_begin(doc, section, NULL);
    for (int k = from; k < to; k++) {
        const cvk_card_entry *e = &card->entry[k];
        const char *key = cvk_card_key_name((cvk_card_key)k);
        if (k == CVK_CARD_POLE_PAIRS) {
            put_pole_pairs(doc, e, truth[k]);
            continue;
        }
        put_card_entry(doc, key,
                       k < CVK_CARD_INVERTER_COUNT ? cvk_card_label((cvk_card_key)k) : NULL, e);
        if (e->known) {
            remark(doc, key, e, truth[k]);
        }
    }
    cvk_doc_end(doc);
}

static void put_derived(cvk_doc *doc, const cvk_card *card)
{
    cvk_card_entry e;
    cvk_doc_begin(doc, "derived", NULL);
    e.known = cvk_card_torque_constant(card, &e);
    e.probability = 0.0;
    put_card_entry(doc, "torque_constant_nm_a", "torque per A (peak, q axis)", &e);
    if (e.known) {
        cvk_doc_unit(doc, "N m/A", 1.0);
        remark(doc, "torque_constant_nm_a", &e, (double)NAN);
    }
    e.known = cvk_card_rpm_per_volt(card, &e);
    e.probability = 0.0;
    put_card_entry(doc, "speed_per_volt_rpm_v", "speed per V (line, peak)", &e);
    if (e.known) {
        remark(doc, "speed_per_volt_rpm_v", &e, (double)NAN);
    }
    cvk_doc_end(doc);
}

/* What a meter between two terminals reads: the range of the inductance as the rotor turns. */
static void put_line_to_line(cvk_doc *doc, const cvk_card *card)
{
    const cvk_card_entry *ld = &card->entry[CVK_CARD_INDUCTANCE_D],
                         *lq = &card->entry[CVK_CARD_INDUCTANCE_Q];
    const bool known = ld->known && lq->known;
    cvk_card_entry e = {.known = false};
    cvk_doc_begin(doc, "line_to_line", NULL);
    e.known = cvk_card_meter_resistance(card, &e);
    e.probability = 0.0;
    put_card_entry(doc, "resistance_ohm", "resistance, line to line", &e);
    if (e.known) {
        remark(doc, "resistance_ohm", &e, (double)NAN);
    }
    cvk_doc_number(doc, "inductance_smallest_h", NULL, known ? 2.0 * ld->value : (double)NAN);
    cvk_doc_number(doc, "inductance_largest_h", NULL, known ? 2.0 * lq->value : (double)NAN);
    if (known) {
        const cvk_display how = cvk_display_of("_h", 2.0 * lq->value);
        char *text = g_strdup_printf("between %s and %s %s as the rotor turns",
                                     digits(how.factor * 2.0 * ld->value, 4),
                                     digits(how.factor * 2.0 * lq->value, 4), how.unit);
        cvk_doc_text(doc, NULL, "inductance, line to line", text);
        g_free(text);
    }
    cvk_doc_end(doc);
}

/* ---- what is not there ---------------------------------------------------------------------- */

static void put_by_hand(cvk_doc *doc, const cvk_card *card)
{
    cvk_doc_begin(doc, NULL, "Set by hand:");
    for (int k = 0; k < CVK_CARD_COUNT; k++) {
        if (card->entry[k].known && card->entry[k].by_hand) {
            cvk_doc_note(doc, "%s: %s", cvk_card_label((cvk_card_key)k), card->entry[k].from);
        }
    }
    cvk_doc_end(doc);
}

/* Those of one reason in one line. */
static void put_missing_notes(cvk_doc *doc, const cvk_card *card, bool why)
{
    bool told[CVK_CARD_INVERTER_COUNT] = {false}, any = false;
    cvk_doc_begin(doc, NULL, "Not estimated:");
    for (int k = 0; k < CVK_CARD_INVERTER_COUNT; k++) {
        const char *reason = card->entry[k].missing;
        if (card->entry[k].known || reason[0] == '\0' || told[k]) {
            continue;
        }
        GString *names = g_string_new(cvk_card_label((cvk_card_key)k));
        for (int other = k + 1; other < CVK_CARD_INVERTER_COUNT; other++) {
            if (!card->entry[other].known && strcmp(card->entry[other].missing, reason) == 0) {
                g_string_append_printf(names, "; %s", cvk_card_label((cvk_card_key)other));
                told[other] = true;
            }
        }
        cvk_doc_note(doc, "%s: %.*s", names->str, why ? (int)strlen(reason) : first_clause(reason),
                     reason);
        g_string_free(names, TRUE);
        any = true;
    }
    if (any && !why) {
        cvk_doc_note(doc, "(--why: and what would show it)");
    }
    cvk_doc_end(doc);
}

void put_missing(cvk_doc *doc, const cvk_card *card)
{
    cvk_doc_begin(doc, "missing", NULL);
    for (int k = 0; k < CVK_CARD_COUNT; k++) {
        if (!card->entry[k].known) {
            cvk_doc_text(doc, cvk_card_key_name((cvk_card_key)k), NULL, card->entry[k].missing);
        }
    }
    cvk_doc_end(doc);
}

/* ---- the card ------------------------------------------------------------------------------- */

static bool every_period(const cvk_rig_config *rig, double row_s)
{
    const double rows = row_s * rig->inverter.pwm_hz * rig->inverter.updates_per_period;
    return fabs(rows - 1.0) < 0.01;
}

void put_card(cvk_doc *doc, const cvk_card *card, const cvk_rig_config *truth, double row_s,
              bool why)
{
    double true_value[CVK_CARD_COUNT];
    for (int k = 0; k < CVK_CARD_COUNT; k++) {
        const bool told = truth != NULL && (k != CVK_CARD_DELAY || every_period(truth, row_s));
        true_value[k] = told ? cvk_card_truth(truth, card, (cvk_card_key)k) : (double)NAN;
    }
    cvk_doc_title(doc, "Motor card: %s", card->name);
    cvk_doc_text(doc, "name", NULL, card->name);
    cvk_doc_begin(doc, NULL, "value, 95 % interval, and the statistical part of it");
    put_entries(doc, "motor", card, 0, CVK_CARD_MOTOR_COUNT, true_value);
    put_line_to_line(doc, card);
    put_derived(doc, card);
    put_entries(doc, "inverter", card, CVK_CARD_MOTOR_COUNT, CVK_CARD_INVERTER_COUNT, true_value);
    put_entries(doc, "saturation", card, CVK_CARD_INVERTER_COUNT, CVK_CARD_COUNT, true_value);
    cvk_doc_end(doc);
    put_missing(doc, card);
    put_by_hand(doc, card);
    put_missing_notes(doc, card, why);
}

cvk_doc *cvk_card_document(const cvk_card *card, bool why)
{
    cvk_doc *doc = cvk_doc_new();
    put_card(doc, card, NULL, 0.0, why);
    return doc;
}

/* ---- an estimate ---------------------------------------------------------------------------- */

void put_findings(cvk_doc *doc, const cvk_estimate *e, const char *headline)
{
    cvk_doc_begin(doc, NULL, headline);
    for (size_t n = 0; n < e->findings; n++) {
        const cvk_finding *f = &e->finding[n];
        cvk_doc_note(doc, "%s: %s: %s", cvk_severity_text(f->severity), f->log, f->text);
    }
    cvk_doc_end(doc);
    cvk_doc_table(doc, "log", NULL);
    for (size_t n = 0; n < e->findings; n++) {
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_text(doc, "file", NULL, e->finding[n].log);
        cvk_doc_text(doc, "severity", NULL, cvk_severity_text(e->finding[n].severity));
        cvk_doc_text(doc, "text", NULL, e->finding[n].text);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
}

/* The likely integers only. */
static void put_pole_probabilities(cvk_doc *doc, const cvk_estimate *e)
{
    cvk_doc_begin(doc, "pole_pair_probabilities", NULL);
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        if (e->pole_probability[0] == 0.0 && e->pole_probability[p] > 1e-6) {
            char name[8];
            g_snprintf(name, sizeof name, "%d", p);
            cvk_doc_number(doc, name, NULL, e->pole_probability[p]);
        }
    }
    cvk_doc_end(doc);
}

static void put_line_readings(cvk_doc *doc, const cvk_estimate *e)
{
    double low = INFINITY, high = -INFINITY;
    cvk_doc_table(doc, "terminal_to_terminal", NULL);
    for (size_t n = 0; n < e->line_readings; n++) {
        const cvk_line_reading *r = &e->line_reading[n];
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_text(doc, "file", NULL, r->log);
        cvk_doc_text(doc, "terminals", NULL, r->terminals);
        put_card_entry(doc, "resistance_ohm", NULL, &r->resistance);
        put_card_entry(doc, "inductance_h", NULL, &r->inductance);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
    cvk_doc_begin(doc, NULL, "From terminal to terminal:");
    for (size_t n = 0; n < e->line_readings; n++) {
        const cvk_line_reading *r = &e->line_reading[n];
        cvk_doc_note(doc, "%s, terminals %c and %c, at its rotor position:", r->log,
                     r->terminals[0], r->terminals[1]);
        const struct {
            const char *key, *label;
            const cvk_card_entry *entry;
        } both[] = {{"_ohm", "  resistance", &r->resistance},
                    {"_h", "  inductance", &r->inductance}};
        for (size_t k = 0; k < G_N_ELEMENTS(both); k++) {
            const cvk_card_entry *entry = both[k].entry;
            if (entry->known) {
                const cvk_display how = cvk_display_of(both[k].key, entry->value);
                cvk_doc_interval(doc, NULL, both[k].label, entry->value, entry->low, entry->high);
                cvk_doc_unit(doc, how.unit, how.factor);
                remark(doc, both[k].key, entry, (double)NAN);
            }
        }
        low = r->inductance.known ? fmin(low, r->inductance.value) : low;
        high = r->inductance.known ? fmax(high, r->inductance.value) : high;
    }
    if (e->line_readings > 1 && high > low) {
        const cvk_display how = cvk_display_of("_h", high);
        cvk_doc_note(doc, "inductance over these positions: %s .. %s %s",
                     digits(how.factor * low, 4), digits(how.factor * high, 4), how.unit);
    }
    cvk_doc_end(doc);
}

/* The rig's truth beside each value that is known. */
static void put_comparison(cvk_doc *doc, const cvk_card *card, const cvk_rig_config *truth)
{
    cvk_doc_begin(doc, "comparison", NULL);
    for (int k = 0; k < CVK_CARD_INVERTER_COUNT; k++) {
        const cvk_card_entry *e = &card->entry[k];
        const double true_value = cvk_card_truth(truth, card, (cvk_card_key)k);
        if (e->known && isfinite(true_value)) {
            cvk_doc_begin(doc, cvk_card_key_name((cvk_card_key)k), NULL);
            cvk_doc_number(doc, "truth", NULL, true_value);
            cvk_doc_number(doc, "off_by", NULL, e->value / true_value - 1.0);
            cvk_doc_flag(doc, "inside", NULL, true_value >= e->low && true_value <= e->high);
            cvk_doc_end(doc);
        }
    }
    cvk_doc_end(doc);
}

static void put_estimate(cvk_doc *doc, const cvk_estimate *e, const cvk_rig_config *truth, bool why)
{
    put_card(doc, &e->card, truth, e->row_s, why);
    put_pole_probabilities(doc, e);
    put_line_readings(doc, e);
    put_findings(doc, e, "About the logs:");
    if (truth != NULL) {
        put_comparison(doc, &e->card, truth);
    }
}

cvk_doc *cvk_estimate_document(const cvk_estimate *estimate, const cvk_rig_config *truth, bool why)
{
    cvk_doc *doc = cvk_doc_new();
    put_estimate(doc, estimate, truth, why);
    return doc;
}

cvk_doc *cvk_estimate_line_document(const cvk_estimate *estimate, const char *path, int status,
                                    const char *error)
{
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_text(doc, "path", NULL, path);
    cvk_doc_number(doc, "status", NULL, status);
    if (error != NULL) {
        cvk_doc_text(doc, "error", NULL, error);
    } else {
        put_estimate(doc, estimate, NULL, false);
    }
    return doc;
}

/* ---- side by side --------------------------------------------------------------------------- */

static char *number_with(const cvk_compared *c, const cvk_card_entry *e)
{
    char text[48];
    const cvk_display how = cvk_display_of(c->key, c->here.value);
    print_number(text, sizeof text, how.factor * e->value,
                 0.5 * how.factor * (c->here.high - c->here.low));
    return g_strdup_printf("%s %s", text, how.unit);
}

cvk_doc *cvk_comparison_document(const cvk_compared *line, int count, const char *other)
{
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_table(doc, NULL, "Two cards side by side");
    for (int n = 0; n < count; n++) {
        const cvk_compared *c = &line[n];
        char *here = number_with(c, &c->here), *there = number_with(c, &c->there);
        cvk_doc_row(doc, NULL, c->label);
        cvk_doc_text(doc, NULL, "card", here);
        cvk_doc_text(doc, NULL, other, there);
        cvk_doc_number(doc, NULL, "apart", c->there.value / c->here.value - 1.0);
        cvk_doc_unit(doc, "%", 100.0);
        cvk_doc_digits(doc, 3);
        cvk_doc_number(doc, NULL, "of the intervals", c->ratio);
        cvk_doc_digits(doc, 3);
        cvk_doc_text(doc, NULL, "", c->agree ? "agree" : "DISAGREE");
        cvk_doc_end(doc);
        g_free(here);
        g_free(there);
    }
    cvk_doc_end(doc);
    for (int n = 0; n < count; n++) {
        cvk_doc_begin(doc, line[n].key, NULL);
        cvk_doc_number(doc, "card", NULL, line[n].here.value);
        cvk_doc_number(doc, "other", NULL, line[n].there.value);
        cvk_doc_number(doc, "share_of_intervals", NULL, line[n].ratio);
        cvk_doc_flag(doc, "agree", NULL, line[n].agree);
        cvk_doc_end(doc);
    }
    if (count == 0) {
        cvk_doc_note(doc, "nothing is known on both sides");
    }
    return doc;
}
