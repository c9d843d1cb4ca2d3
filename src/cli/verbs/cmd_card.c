/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak card: shows a motor card, compares it with another or with meter readings, sets a value by
 * hand.
 */
#include "base/cli.h"

#include "corvak/core/units.h"

#include "corvak/files/card_yaml.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define VERB "card"
#define METER_TOLERANCE 0.02

typedef struct arguments {
    gboolean json;
    double meter_resistance, meter_inductance, meter_tolerance, rotor_deg; /* NaN: not given */
    char *set, *low, *high, *reason, *output, *join;
} arguments;

/* One line of a comparison. */
typedef struct comparison {
    const char *key;
    display how;
    cvk_card_entry here, there;
    double ratio;
    gboolean agree;
} comparison;

typedef struct comparisons {
    comparison line[CVK_CARD_COUNT + 2];
    int count, disagree;
} comparisons;

static void compare(comparisons *all, const char *key, display how, const cvk_card_entry *here,
                    const cvk_card_entry *there)
{
    comparison *line = &all->line[all->count++];
    *line = (comparison){.key = key, .how = how, .here = *here, .there = *there};
    line->agree = cvk_card_agree(here, there, &line->ratio);
    all->disagree += !line->agree;
}

static void compare_cards(comparisons *all, const cvk_card *here, const cvk_card *there)
{
    for (int k = 0; k < CVK_CARD_COUNT; k++) {
        const cvk_card_key key = (cvk_card_key)k;
        if (here->entry[k].known && there->entry[k].known) {
            compare(all, cvk_card_key_name(key), display_of(key, here->entry[k].value),
                    &here->entry[k], &there->entry[k]);
        }
    }
}

static cvk_card_entry reading(double value, double tolerance)
{
    return (cvk_card_entry){.known = true,
                            .value = value,
                            .low = value * (1.0 - tolerance),
                            .high = value * (1.0 + tolerance)};
}

static int compare_meter(comparisons *all, const cvk_card *card, const arguments *a)
{
    cvk_card_entry here;
    if (!isnan(a->meter_resistance)) {
        if (!cvk_card_meter_resistance(card, &here)) {
            return complain_usage(VERB, "the card has no resistance to compare with");
        }
        display how = display_of(CVK_CARD_RESISTANCE, here.value);
        how.label = "resistance, line to line";
        cvk_card_entry there = reading(a->meter_resistance, a->meter_tolerance);
        compare(all, "resistance_line_to_line_ohm", how, &here, &there);
    }
    if (!isnan(a->meter_inductance)) {
        if (!cvk_card_meter_inductance(card, a->rotor_deg * CVK_RAD_PER_DEG, &here)) {
            return complain_usage(VERB, "the card has no inductances to compare with");
        }
        display how = display_of(CVK_CARD_INDUCTANCE_Q, here.value);
        how.label = "inductance, line to line";
        cvk_card_entry there = reading(a->meter_inductance, a->meter_tolerance);
        compare(all, "inductance_line_to_line_h", how, &here, &there);
    }
    return EXIT_DONE;
}

static void print_comparisons(const comparisons *all, const char *other)
{
    g_print("%-28s %12s %12s %-7s %8s  %s\n", "", "card", other, "unit", "apart", "");
    for (int n = 0; n < all->count; n++) {
        const comparison *c = &all->line[n];
        char here[32], there[32];
        double half = 0.5 * c->how.factor * (c->here.high - c->here.low);
        print_number(here, sizeof here, c->how.factor * c->here.value, half);
        print_number(there, sizeof there, c->how.factor * c->there.value, half);
        g_print("%-28s %12s %12s ", c->how.label, here, there);
        g_print("%s%*s", c->how.unit, MAX(7 - (int)g_utf8_strlen(c->how.unit, -1), 0), "");
        g_print(" %+7.2f %%  %s (%.2f of the intervals)\n",
                100.0 * (c->there.value / c->here.value - 1.0), c->agree ? "agree" : "DISAGREE",
                c->ratio);
    }
    if (all->count == 0) {
        g_print("nothing is known on both sides\n");
    }
}

static void print_comparisons_json(const comparisons *all)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    for (int n = 0; n < all->count; n++) {
        const comparison *c = &all->line[n];
        json_builder_set_member_name(b, c->key);
        json_builder_begin_object(b);
        add_json_number(b, "card", c->here.value);
        add_json_number(b, "other", c->there.value);
        add_json_number(b, "share_of_intervals", c->ratio);
        json_builder_set_member_name(b, "agree");
        json_builder_add_boolean_value(b, c->agree);
        json_builder_end_object(b);
    }
    json_builder_end_object(b);
    print_json_document(b);
}

/* "KEY=VALUE" with its interval; without one the value is taken as exact. */
static int set_by_hand(cvk_card *card, const arguments *a)
{
    char **parts = g_strsplit(a->set, "=", 2);
    const cvk_card_key key = cvk_card_key_of(parts[0] != NULL ? parts[0] : "");
    int status = EXIT_DONE;
    if (a->reason == NULL || a->reason[0] == '\0') {
        status = complain_usage(VERB, "--set needs --reason: a value set by hand keeps why");
    } else if (key == CVK_CARD_COUNT || parts[1] == NULL) {
        status = complain_usage(VERB,
                                "--set %s: write KEY=VALUE with a key of the card, such as "
                                "resistance_ohm, inductance_d_h, flux_linkage_wb, pole_pairs",
                                a->set);
    } else {
        char *end;
        double value = g_ascii_strtod(parts[1], &end);
        double low = a->low != NULL ? g_ascii_strtod(a->low, NULL) : value;
        double high = a->high != NULL ? g_ascii_strtod(a->high, NULL) : value;
        if (end == parts[1] || *end != '\0' ||
            cvk_card_set(card, key, value, low, high, a->reason) != CVK_OK) {
            status = complain_usage(VERB,
                                    "--set %s with %g .. %g: the value must be positive (pole "
                                    "pairs: a whole number, 1 .. 200) and low <= value <= high",
                                    a->set, low, high);
        }
    }
    g_strfreev(parts);
    return status;
}

static int show(const cvk_card *card, gboolean json)
{
    if (json) {
        JsonBuilder *b = json_builder_new();
        json_builder_begin_object(b);
        add_json_card(b, card);
        json_builder_end_object(b);
        print_json_document(b);
    } else {
        print_card_table(card, NULL, 0.0, TRUE);
    }
    return EXIT_DONE;
}

static int report(const comparisons *all, const char *other, gboolean json)
{
    if (json) {
        print_comparisons_json(all);
    } else {
        print_comparisons(all, other);
    }
    return all->disagree > 0 || all->count == 0 ? EXIT_ANSWER_NO : EXIT_DONE;
}

static int work(const arguments *a, char **paths, int count)
{
    cvk_complaint complaint;
    cvk_card card, other;
    comparisons all = {.count = 0};
    const gboolean metered = !isnan(a->meter_resistance) || !isnan(a->meter_inductance);
    if (count < 1 || count > 2 || (count == 2 && (metered || a->set != NULL))) {
        return complain_usage(VERB, "name one card, or two to compare; with --meter-... or --set "
                                    "one");
    }
    if (cvk_card_file_read(&card, paths[0], &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    if (a->join != NULL) {
        if (count != 1 || a->output == NULL || metered || a->set != NULL) {
            return complain_usage(VERB, "--join CARD takes one card and -o FILE for the result");
        }
        if (cvk_card_file_read(&other, a->join, &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
        const int contradictions = cvk_card_join(&card, &other);
        if (cvk_card_file_write(&card, a->output, &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
        show(&card, a->json);
        return contradictions > 0 ? EXIT_ANSWER_NO : EXIT_DONE;
    }
    if (count == 2) {
        if (cvk_card_file_read(&other, paths[1], &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
        compare_cards(&all, &card, &other);
        return report(&all, "other card", a->json);
    }
    if (metered) {
        int status = compare_meter(&all, &card, a);
        return status == EXIT_DONE ? report(&all, "meter", a->json) : status;
    }
    if (a->set != NULL) {
        int status = set_by_hand(&card, a);
        if (status != EXIT_DONE) {
            return status;
        }
        const char *path = a->output != NULL ? a->output : paths[0];
        if (cvk_card_file_write(&card, path, &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
    }
    return show(&card, a->json);
}

int cmd_card(int argc, char **argv)
{
    arguments a = {.meter_resistance = NAN,
                   .meter_inductance = NAN,
                   .meter_tolerance = METER_TOLERANCE,
                   .rotor_deg = NAN};
    const GOptionEntry entries[] = {
        {"json", 0, 0, G_OPTION_ARG_NONE, &a.json, "print one JSON document", NULL},
        {"meter-resistance", 0, 0, G_OPTION_ARG_DOUBLE, &a.meter_resistance,
         "compare with a meter's reading between two terminals", "OHM"},
        {"meter-inductance", 0, 0, G_OPTION_ARG_DOUBLE, &a.meter_inductance,
         "the same for the inductance", "H"},
        {"rotor-deg", 0, 0, G_OPTION_ARG_DOUBLE, &a.rotor_deg,
         "electrical angle between the magnet and the measured line's axis (any)", "DEG"},
        {"meter-tolerance", 0, 0, G_OPTION_ARG_DOUBLE, &a.meter_tolerance, "of the meter (0.02)",
         "SHARE"},
        {"set", 0, 0, G_OPTION_ARG_STRING, &a.set, "set a value by hand and write the card",
         "KEY=VALUE"},
        {"low", 0, 0, G_OPTION_ARG_STRING, &a.low, "its interval (else exact)", "NUMBER"},
        {"high", 0, 0, G_OPTION_ARG_STRING, &a.high, "", "NUMBER"},
        {"reason", 0, 0, G_OPTION_ARG_STRING, &a.reason, "why, kept on the card", "TEXT"},
        {"join", 0, 0, G_OPTION_ARG_FILENAME, &a.join,
         "join another card of the same motor: what agrees is sharpened (needs -o)", "CARD"},
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &a.output,
         "where the changed card goes (else over the old one)", "FILE"},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "CARD [CARD]",
                       "Shows a motor card; compares two cards, or a card with what a meter reads "
                       "between two\nterminals; sets a value by hand, which then wins, and "
                       "recomputes what depends on it.\nExit status 1: they disagree.",
                       "corvak card wheel.card.yaml --meter-resistance 0.332 --meter-inductance "
                       "780e-6",
                       entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = work(&a, argv + 1, argc - 1);
    g_free(a.set);
    g_free(a.low);
    g_free(a.high);
    g_free(a.reason);
    g_free(a.output);
    g_free(a.join);
    return status;
}
