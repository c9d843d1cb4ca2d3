/* SPDX-License-Identifier: Apache-2.0
 *
 * The estimate as a table for people.
 */
#include "base/cli.h"

#include "corvak/ident/card.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

double rig_truth(const cvk_rig_config *rig, cvk_card_key key)
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
        return NAN;
    }
}

double card_truth(const cvk_rig_config *rig, const cvk_card *card, cvk_card_key key)
{
    const cvk_card_entry *winding = &card->entry[CVK_CARD_WINDING_RESISTANCE];
    const gboolean measured =
        winding->known && winding->value == card->entry[CVK_CARD_RESISTANCE].value;
    /* measured at the terminals: no switch in it */
    return rig_truth(rig,
                     measured && key == CVK_CARD_RESISTANCE ? CVK_CARD_WINDING_RESISTANCE : key);
}

/* Prints text padded to a width in characters, not bytes. */
static void pad(const char *text, int width)
{
    int length = (int)g_utf8_strlen(text, -1);
    g_print("%s%*s", text, MAX(width - length, 0) + 1, "");
}

/* Prints text flush right in a width in characters. */
static void pad_left(const char *text, int width)
{
    int length = (int)g_utf8_strlen(text, -1);
    g_print("%*s%s", MAX(width - length, 0), "", text);
}

static void print_truth(const cvk_card_entry *entry, double truth, double factor, double half)
{
    char number[48];
    if (isnan(truth)) {
        return;
    }
    print_number(number, sizeof number, factor * truth, half);
    pad_left(number, 11);
    const double off = truth != 0.0 ? 100.0 * (entry->value / truth - 1.0) : 0.0;
    g_print(" %+8.2f %%  %s", fabs(off) < 0.005 ? 0.0 : off,
            truth >= entry->low && truth <= entry->high ? "inside" : "OUTSIDE");
}

static void print_row(const display *how, const cvk_card_entry *entry, double truth)
{
    char value[48], low[48], high[48], line[160];
    double half = 0.5 * how->factor * (entry->high - entry->low);
    double statistical = 0.5 * (entry->statistical_high - entry->statistical_low);
    print_number(value, sizeof value, how->factor * entry->value, half);
    print_number(low, sizeof low, how->factor * entry->low, half);
    print_number(high, sizeof high, how->factor * entry->high, half);
    pad(how->label, 30);
    pad_left(value, 8);
    g_print(" ");
    pad(how->unit, 7);
    snprintf(line, sizeof line, "%s .. %s", low, high);
    pad(line, 20);
    if (strcmp(how->unit, "periods") == 0) { /* a share of something near zero says nothing */
        snprintf(line, sizeof line, "±%.3f  ", statistical);
    } else {
        snprintf(line, sizeof line, "±%.2f %%", 100.0 * statistical / fabs(entry->value));
    }
    pad_left(entry->by_hand ? "by hand" : line, 10);
    print_truth(entry, truth, how->factor, half);
    g_print("\n");
}

static cvk_card_entry scaled(const cvk_card_entry *entry, double factor)
{
    cvk_card_entry out = *entry;
    out.value *= factor;
    out.low *= factor;
    out.high *= factor;
    out.statistical_low *= factor;
    out.statistical_high *= factor;
    return out;
}

static void print_entry(const cvk_card *card, cvk_card_key key, const cvk_rig_config *truth)
{
    const cvk_card_entry *entry = &card->entry[key];
    if (!entry->known) {
        return;
    }
    display how = display_of(key, entry->value);
    double true_value = truth != NULL ? card_truth(truth, card, key) : NAN;
    if (key == CVK_CARD_POLE_PAIRS) {
        pad(how.label, 30);
        if (entry->by_hand) {
            g_print("%8.0f  (set by hand)", entry->value);
        } else {
            g_print("%8.0f  (probability %.4f)", entry->value, entry->probability);
        }
        if (truth != NULL) {
            g_print("  rig: %.0f", true_value);
        }
        g_print("\n");
        return;
    }
    print_row(&how, entry, true_value);
}

/* What a meter between two terminals would read. */
static void print_line_to_line(const cvk_card *card)
{
    const cvk_card_entry *r = &card->entry[CVK_CARD_RESISTANCE];
    const cvk_card_entry *ld = &card->entry[CVK_CARD_INDUCTANCE_D];
    const cvk_card_entry *lq = &card->entry[CVK_CARD_INDUCTANCE_Q];
    if (r->known) {
        cvk_card_entry line = scaled(r, 2.0);
        display how = display_of(CVK_CARD_RESISTANCE, line.value);
        how.label = "resistance, line to line";
        print_row(&how, &line, NAN);
    }
    if (ld->known && lq->known) {
        display how = display_of(CVK_CARD_INDUCTANCE_Q, 2.0 * lq->value);
        pad("inductance, line to line", 33);
        g_print("between %s and %s %s as the rotor turns\n",
                digits(how.factor * 2.0 * ld->value, 4), digits(how.factor * 2.0 * lq->value, 4),
                how.unit);
    }
}

static void print_derived(const cvk_card *card)
{
    cvk_card_entry entry;
    if (cvk_card_torque_constant(card, &entry)) {
        display how = {"torque per A (peak, q axis)", "N m/A", 1.0};
        print_row(&how, &entry, NAN);
    }
    if (cvk_card_rpm_per_volt(card, &entry)) {
        display how = {"speed per V (line, peak)", "rpm/V", 1.0};
        print_row(&how, &entry, NAN);
    }
}

static void print_by_hand(const cvk_card *card)
{
    gboolean headed = FALSE;
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        if (card->entry[key].known && card->entry[key].by_hand) {
            g_print("%s  %s: %s\n", headed ? "" : "\nSet by hand:\n",
                    display_of((cvk_card_key)key, card->entry[key].value).label,
                    card->entry[key].from);
            headed = TRUE;
        }
    }
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

/* Each reason once, with all that it keeps open; what would show it when asked. */
static void print_missing(const cvk_card *card, gboolean why)
{
    gboolean told[CVK_CARD_INVERTER_COUNT] = {FALSE}, headed = FALSE;
    for (int key = 0; key < CVK_CARD_INVERTER_COUNT; key++) {
        const char *reason = card->entry[key].missing;
        if (card->entry[key].known || reason[0] == '\0' || told[key]) {
            continue;
        }
        g_print("%s  %s", headed ? "" : "\nNot estimated:\n",
                display_of((cvk_card_key)key, 0.0).label);
        for (int other = key + 1; other < CVK_CARD_INVERTER_COUNT; other++) {
            if (!card->entry[other].known && strcmp(card->entry[other].missing, reason) == 0) {
                g_print("; %s", display_of((cvk_card_key)other, 0.0).label);
                told[other] = TRUE;
            }
        }
        g_print(": %.*s\n", why ? (int)strlen(reason) : first_clause(reason), reason);
        headed = TRUE;
    }
    if (headed && !why) {
        g_print("  (--why: and what would show it)\n");
    }
}

/* Two probes: each log's reading, and the range over the rotor's positions. */
static void print_line_readings(const cvk_estimate *e)
{
    double low = INFINITY, high = -INFINITY;
    for (size_t n = 0; n < e->line_readings; n++) {
        const cvk_line_reading *r = &e->line_reading[n];
        g_print("%s  %s, terminals %c and %c, at its rotor position:\n",
                n == 0 ? "\nFrom terminal to terminal:\n" : "", r->log, r->terminals[0],
                r->terminals[1]);
        if (r->resistance.known) {
            display how = display_of(CVK_CARD_RESISTANCE, r->resistance.value);
            how.label = "    resistance";
            print_row(&how, &r->resistance, NAN);
        }
        if (r->inductance.known) {
            display how = display_of(CVK_CARD_INDUCTANCE_Q, r->inductance.value);
            how.label = "    inductance";
            print_row(&how, &r->inductance, NAN);
            low = fmin(low, r->inductance.value);
            high = fmax(high, r->inductance.value);
        }
    }
    if (e->line_readings > 1 && high > low) {
        display how = display_of(CVK_CARD_INDUCTANCE_Q, high);
        g_print("  inductance over these positions: %s .. %s %s\n", digits(how.factor * low, 4),
                digits(how.factor * high, 4), how.unit);
    }
}

static void print_findings(const cvk_estimate *estimate)
{
    for (size_t n = 0; n < estimate->findings; n++) {
        const cvk_finding *finding = &estimate->finding[n];
        g_print("%s  %s: %s: %s\n", n == 0 ? "\nAbout the logs:\n" : "",
                severity_text(finding->severity), finding->log, finding->text);
    }
}

/* A log with a row for each control period: only there is the delay that of the rig. */
static gboolean every_period(const cvk_rig_config *rig, double row_s)
{
    double rows = row_s * rig->inverter.pwm_hz * rig->inverter.updates_per_period;
    return fabs(rows - 1.0) < 0.01;
}

void print_card_table(const cvk_card *card, const cvk_rig_config *truth, double row_s, gboolean why)
{
    g_print("Motor card: %s\n\n", card->name);
    pad("", 30);
    g_print("%8s %-7s %-20s %11s%s\n", "value", "unit", "95 % interval", "statistical",
            truth != NULL ? "  rig's truth   off by" : "");
    for (int key = 0; key < CVK_CARD_MOTOR_COUNT; key++) {
        print_entry(card, (cvk_card_key)key, truth);
    }
    g_print("\n");
    print_line_to_line(card);
    print_derived(card);
    if (card->entry[CVK_CARD_DEAD_TIME_VOLTAGE].known) {
        g_print("\n");
    }
    for (int key = CVK_CARD_MOTOR_COUNT; key < CVK_CARD_INVERTER_COUNT; key++) {
        gboolean told = key != CVK_CARD_DELAY || truth == NULL || every_period(truth, row_s);
        print_entry(card, (cvk_card_key)key, told ? truth : NULL);
    }
    print_by_hand(card);
    print_missing(card, why);
}

void print_estimate_table(const cvk_estimate *estimate, const cvk_rig_config *truth, gboolean why)
{
    print_card_table(&estimate->card, truth, estimate->row_s, why);
    print_line_readings(estimate);
    print_findings(estimate);
}
