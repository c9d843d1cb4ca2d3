/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak parameters, corvak signals: the two tables of the controller.
 */
#include "base/cli.h"

#include "corvak/core/signals.h"
#include "corvak/files/tune_yaml.h"

#include <math.h>
#include <string.h>

static const char *kind_text(cvk_parameter_kind kind)
{
    static const char *const texts[] = {"real", "whole", "choice", "yes/no"};
    return texts[kind];
}

static char *range_text(const cvk_parameter *row)
{
    if (row->kind == CVK_CHOICE) {
        return g_strjoinv(" | ", (char **)(void *)row->names);
    }
    return row->kind == CVK_YES_NO
               ? g_strdup("no | yes")
               : g_strdup_printf("%g .. %g", (double)row->low, (double)row->high);
}

static void print_parameter(const cvk_parameter *row)
{
    char preset[40], *range = range_text(row);
    char *key = g_strconcat(row->section, ".", row->name, NULL);
    cvk_parameter_text(row, row->preset, preset, sizeof preset);
    g_print("%-34s %-8s %-24s %-13s %s%s\n", key, row->unit, range, preset, row->help,
            row->while_on ? "" : " [bridge off]");
    g_free(key);
    g_free(range);
}

static void add_parameter(JsonBuilder *b, const cvk_parameter *row)
{
    char *key = g_strconcat(row->section, ".", row->name, NULL);
    json_builder_begin_object(b);
    add_json_text(b, "key", key);
    add_json_text(b, "unit", row->unit);
    add_json_text(b, "kind", kind_text(row->kind));
    add_json_number(b, "low", (double)row->low);
    add_json_number(b, "high", (double)row->high);
    add_json_number(b, "preset", (double)row->preset);
    if (row->kind == CVK_CHOICE) {
        json_builder_set_member_name(b, "names");
        json_builder_begin_array(b);
        for (int n = 0; row->names[n] != NULL; n++) {
            json_builder_add_string_value(b, row->names[n]);
        }
        json_builder_end_array(b);
    }
    json_builder_set_member_name(b, "while_on");
    json_builder_add_boolean_value(b, row->while_on);
    add_json_number(b, "factor", row->factor > 0.0f ? (double)row->factor : (double)NAN);
    add_json_text(b, "help", row->help);
    json_builder_end_object(b);
    g_free(key);
}

/* Every row whose key or help holds `words`; all when it is null. */
static gboolean wanted(const char *words, const char *name, const char *help)
{
    return words == NULL || strstr(name, words) != NULL || strstr(help, words) != NULL;
}

static int print_parameters(const char *words, gboolean json)
{
    JsonBuilder *b = json ? json_builder_new() : NULL;
    int shown = 0;
    if (json) {
        json_builder_begin_array(b);
    } else {
        g_print("%-34s %-8s %-24s %-13s %s\n", "key", "unit", "allowed", "preset",
                "meaning ([bridge off]: may change only then)");
    }
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        char *key = g_strconcat(row->section, ".", row->name, NULL);
        if (wanted(words, key, row->help)) {
            shown++;
            if (json) {
                add_parameter(b, row);
            } else {
                print_parameter(row);
            }
        }
        g_free(key);
    }
    if (json) {
        json_builder_end_array(b);
        print_json_document(b);
    }
    return shown > 0 ? EXIT_DONE : EXIT_ANSWER_NO;
}

static void add_signal(JsonBuilder *b, const cvk_signal *s)
{
    json_builder_begin_object(b);
    add_json_text(b, "name", s->name);
    add_json_text(b, "unit", s->unit);
    add_json_text(b, "help", s->help);
    if (s->states > 0) {
        json_builder_set_member_name(b, "states");
        json_builder_begin_array(b);
        for (int n = 0; n < s->states; n++) {
            json_builder_add_string_value(b, s->text(n));
        }
        json_builder_end_array(b);
    }
    json_builder_end_object(b);
}

static void print_signal(const cvk_signal *s)
{
    g_print("%-16s %-8s %s\n", s->name, s->unit, s->help);
    for (int n = 0; n < s->states; n++) {
        g_print("%25s %3d  %s\n", "", n, s->text(n));
    }
}

static int print_signals(const char *words, gboolean json)
{
    JsonBuilder *b = json ? json_builder_new() : NULL;
    int shown = 0;
    if (json) {
        json_builder_begin_array(b);
    } else {
        g_print("%-16s %-8s %s\n", "name", "unit", "meaning");
    }
    for (unsigned n = 0; n < cvk_signal_count(); n++) {
        const cvk_signal *s = cvk_signal_at(n);
        if (!wanted(words, s->name, s->help)) {
            continue;
        }
        shown++;
        if (json) {
            add_signal(b, s);
        } else {
            print_signal(s);
        }
    }
    if (json) {
        json_builder_end_array(b);
        print_json_document(b);
    }
    return shown > 0 ? EXIT_DONE : EXIT_ANSWER_NO;
}

static int tables(const char *verb, const char *summary, const char *example,
                  int (*print)(const char *words, gboolean json), int argc, char **argv)
{
    gboolean json = FALSE;
    const GOptionEntry entries[] = {
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print one JSON document", NULL},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(verb, "[WORD]", summary, example, entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    if (argc > 2) {
        return complain_usage(verb, "at most one word to look for");
    }
    const int status = print(argc == 2 ? argv[1] : NULL, json);
    if (status != EXIT_DONE && !json) {
        g_printerr("corvak %s: nothing with \"%s\" in its name or meaning\n", verb, argv[1]);
    }
    return status;
}

int cmd_parameters(int argc, char **argv)
{
    return tables("parameters",
                  "Lists the parameters of the controller: the keys of a tune file, with unit, "
                  "range, preset\nand meaning. With a word, those that have it in key or meaning.",
                  "corvak parameters speed", print_parameters, argc, argv);
}

int cmd_signals(int argc, char **argv)
{
    return tables("signals",
                  "Lists the signals of the controller: what can be logged with "
                  "`corvak record --channels`.\nWith a word, those that have it in name or "
                  "meaning.",
                  "corvak signals flux", print_signals, argc, argv);
}
