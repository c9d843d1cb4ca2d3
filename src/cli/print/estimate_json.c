/* SPDX-License-Identifier: Apache-2.0
 *
 * The estimate as one JSON document; keys as in the card. See docs/file-formats.md.
 */
#include "base/cli.h"

#include <math.h>

void add_json_number(JsonBuilder *b, const char *key, double value)
{
    json_builder_set_member_name(b, key);
    if (isfinite(value)) {
        json_builder_add_double_value(b, value);
    } else {
        json_builder_add_null_value(b);
    }
}

void add_json_text(JsonBuilder *b, const char *key, const char *value)
{
    json_builder_set_member_name(b, key);
    if (value != NULL) {
        json_builder_add_string_value(b, value);
    } else {
        json_builder_add_null_value(b);
    }
}

void add_json_entry(JsonBuilder *b, const char *key, const cvk_card_entry *entry, gboolean poles)
{
    json_builder_set_member_name(b, key);
    if (!entry->known) {
        json_builder_add_null_value(b);
        return;
    }
    json_builder_begin_object(b);
    if (poles) {
        json_builder_set_member_name(b, "value");
        json_builder_add_int_value(b, (gint64)entry->value);
    } else {
        add_json_number(b, "value", entry->value);
    }
    add_json_number(b, "low", entry->low);
    add_json_number(b, "high", entry->high);
    add_json_number(b, "statistical_low", entry->statistical_low);
    add_json_number(b, "statistical_high", entry->statistical_high);
    if (poles && !entry->by_hand) {
        add_json_number(b, "probability", entry->probability);
    }
    add_json_text(b, entry->by_hand ? "by_hand" : "from", entry->from);
    json_builder_end_object(b);
}

static void add_entries(JsonBuilder *b, const cvk_card *card, const char *section, int from, int to)
{
    json_builder_set_member_name(b, section);
    json_builder_begin_object(b);
    for (int key = from; key < to; key++) {
        add_json_entry(b, cvk_card_key_name((cvk_card_key)key), &card->entry[key],
                       key == CVK_CARD_POLE_PAIRS);
    }
    json_builder_end_object(b);
}

static void add_derived(JsonBuilder *b, const cvk_card *card)
{
    cvk_card_entry entry;
    json_builder_set_member_name(b, "derived");
    json_builder_begin_object(b);
    entry.known = cvk_card_torque_constant(card, &entry);
    add_json_entry(b, "torque_constant_nm_a", &entry, FALSE);
    entry.known = cvk_card_rpm_per_volt(card, &entry);
    add_json_entry(b, "speed_per_volt_rpm_v", &entry, FALSE);
    json_builder_end_object(b);
}

void add_json_missing(JsonBuilder *b, const cvk_card *card)
{
    json_builder_set_member_name(b, "missing");
    json_builder_begin_object(b);
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        if (!card->entry[key].known) {
            add_json_text(b, cvk_card_key_name((cvk_card_key)key), card->entry[key].missing);
        }
    }
    json_builder_end_object(b);
}

void add_json_findings(JsonBuilder *b, const cvk_estimate *estimate)
{
    json_builder_set_member_name(b, "log");
    json_builder_begin_array(b);
    for (size_t n = 0; n < estimate->findings; n++) {
        json_builder_begin_object(b);
        add_json_text(b, "file", estimate->finding[n].log);
        add_json_text(b, "severity", severity_text(estimate->finding[n].severity));
        add_json_text(b, "text", estimate->finding[n].text);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
}

void add_json_card(JsonBuilder *b, const cvk_card *card)
{
    add_json_text(b, "name", card->name);
    add_entries(b, card, "motor", 0, CVK_CARD_MOTOR_COUNT);
    add_entries(b, card, "inverter", CVK_CARD_MOTOR_COUNT, CVK_CARD_INVERTER_COUNT);
    add_entries(b, card, "saturation", CVK_CARD_INVERTER_COUNT, CVK_CARD_COUNT);
    add_derived(b, card);
    add_json_missing(b, card);
}

/* The likely integers only. */
static void add_pole_probabilities(JsonBuilder *b, const cvk_estimate *estimate)
{
    json_builder_set_member_name(b, "pole_pair_probabilities");
    json_builder_begin_object(b);
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        if (estimate->pole_probability[0] == 0.0 && estimate->pole_probability[p] > 1e-6) {
            char name[8];
            g_snprintf(name, sizeof name, "%d", p);
            add_json_number(b, name, estimate->pole_probability[p]);
        }
    }
    json_builder_end_object(b);
}

static void add_line_readings(JsonBuilder *b, const cvk_estimate *e)
{
    json_builder_set_member_name(b, "terminal_to_terminal");
    json_builder_begin_array(b);
    for (size_t n = 0; n < e->line_readings; n++) {
        json_builder_begin_object(b);
        add_json_text(b, "file", e->line_reading[n].log);
        add_json_text(b, "terminals", e->line_reading[n].terminals);
        add_json_entry(b, "resistance_ohm", &e->line_reading[n].resistance, FALSE);
        add_json_entry(b, "inductance_h", &e->line_reading[n].inductance, FALSE);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
}

/* What a meter between two terminals reads: the range of the inductance as the rotor turns. */
static void add_line_to_line(JsonBuilder *b, const cvk_card *card)
{
    const cvk_card_entry *ld = &card->entry[CVK_CARD_INDUCTANCE_D];
    const cvk_card_entry *lq = &card->entry[CVK_CARD_INDUCTANCE_Q];
    cvk_card_entry entry = {.known = false};
    json_builder_set_member_name(b, "line_to_line");
    json_builder_begin_object(b);
    entry.known = cvk_card_meter_resistance(card, &entry);
    add_json_entry(b, "resistance_ohm", &entry, FALSE);
    add_json_number(b, "inductance_smallest_h", ld->known && lq->known ? 2.0 * ld->value : NAN);
    add_json_number(b, "inductance_largest_h", ld->known && lq->known ? 2.0 * lq->value : NAN);
    json_builder_end_object(b);
}

/* The rig's truth beside each value that is known. */
static void add_comparison(JsonBuilder *b, const cvk_card *card, const cvk_rig_config *truth)
{
    json_builder_set_member_name(b, "comparison");
    json_builder_begin_object(b);
    for (int key = 0; key < CVK_CARD_INVERTER_COUNT; key++) {
        const cvk_card_entry *entry = &card->entry[key];
        const double true_value = card_truth(truth, card, (cvk_card_key)key);
        if (!entry->known || isnan(true_value)) {
            continue;
        }
        json_builder_set_member_name(b, cvk_card_key_name((cvk_card_key)key));
        json_builder_begin_object(b);
        add_json_number(b, "truth", true_value);
        add_json_number(b, "off_by", entry->value / true_value - 1.0);
        json_builder_set_member_name(b, "inside");
        json_builder_add_boolean_value(b, true_value >= entry->low && true_value <= entry->high);
        json_builder_end_object(b);
    }
    json_builder_end_object(b);
}

/* The members of an estimate, in an open object. */
static void add_estimate(JsonBuilder *b, const cvk_estimate *estimate)
{
    add_json_card(b, &estimate->card);
    add_pole_probabilities(b, estimate);
    add_line_to_line(b, &estimate->card);
    add_line_readings(b, estimate);
    add_json_findings(b, estimate);
}

void print_estimate_json(const cvk_estimate *estimate, const cvk_rig_config *truth)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_estimate(b, estimate);
    if (truth != NULL) {
        add_comparison(b, &estimate->card, truth);
    }
    json_builder_end_object(b);
    print_json_document(b);
}

void print_estimate_line(const cvk_estimate *estimate, const char *path, int status)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_json_text(b, "path", path);
    json_builder_set_member_name(b, "status");
    json_builder_add_int_value(b, status);
    if (status == EXIT_BAD_USAGE) {
        add_json_text(b, "error", last_complaint());
    } else {
        add_estimate(b, estimate);
    }
    json_builder_end_object(b);
    print_json_line(b);
}
