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

typedef struct comparisons {
    cvk_compared line[CVK_COMPARED_MOST];
    int count, disagree;
} comparisons;

static void compare(comparisons *all, const char *key, const char *label,
                    const cvk_card_entry *here, const cvk_card_entry *there)
{
    cvk_compared *line = &all->line[all->count++];
    *line = (cvk_compared){.key = key, .label = label, .here = *here, .there = *there};
    line->agree = cvk_card_agree(here, there, &line->ratio);
    all->disagree += !line->agree;
}

static void compare_cards(comparisons *all, const cvk_card *here, const cvk_card *there)
{
    for (int k = 0; k < CVK_CARD_COUNT; k++) {
        const cvk_card_key key = (cvk_card_key)k;
        if (here->entry[k].known && there->entry[k].known) {
            compare(all, cvk_card_key_name(key), cvk_card_label(key), &here->entry[k],
                    &there->entry[k]);
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
        cvk_card_entry there = reading(a->meter_resistance, a->meter_tolerance);
        compare(all, "resistance_line_to_line_ohm", "resistance, line to line", &here, &there);
    }
    if (!isnan(a->meter_inductance)) {
        if (!cvk_card_meter_inductance(card, a->rotor_deg * CVK_RAD_PER_DEG, &here)) {
            return complain_usage(VERB, "the card has no inductances to compare with");
        }
        cvk_card_entry there = reading(a->meter_inductance, a->meter_tolerance);
        compare(all, "inductance_line_to_line_h", "inductance, line to line", &here, &there);
    }
    return EXIT_DONE;
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

static int report(const comparisons *all, const char *other, gboolean json)
{
    show_document(cvk_comparison_document(all->line, all->count, other), json);
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
        show_document(cvk_card_document(&card, true), a->json);
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
    return show_document(cvk_card_document(&card, true), a->json);
}

int cmd_card(int argc, char **argv)
{
    arguments a = {.meter_resistance = NAN,
                   .meter_inductance = NAN,
                   .meter_tolerance = METER_TOLERANCE,
                   .rotor_deg = NAN};
    const GOptionEntry entries[] = {
        JSON_OPTION(&a.json),
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
