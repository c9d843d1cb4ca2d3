/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak list: the tables that files and options choose from.
 */
#include "base/cli.h"

#include "corvak/core/programs.h"
#include "corvak/core/signals.h"
#include "corvak/files/closest.h"
#include "corvak/files/rig_yaml.h"
#include "corvak/files/tune_yaml.h"
#include "corvak/host/wire.h"

#include <math.h>
#include <string.h>

#define VERB "list"

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

/* {"WHAT": [...]} */
static void begin_list(JsonBuilder *b, const char *what)
{
    json_builder_begin_object(b);
    json_builder_set_member_name(b, what);
    json_builder_begin_array(b);
}

static void end_list(JsonBuilder *b)
{
    json_builder_end_array(b);
    json_builder_end_object(b);
    print_json_document(b);
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
        begin_list(b, "parameters");
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
        end_list(b);
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
        begin_list(b, "signals");
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
        end_list(b);
    }
    return shown > 0 ? EXIT_DONE : EXIT_ANSWER_NO;
}

/* Everything a rig file can set. */
static int print_keys_as_json(const char *words)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    JsonBuilder *b = json_builder_new();
    int shown = 0;
    begin_list(b, "keys");
    for (unsigned n = 0; n < count; n++) {
        const cvk_rig_field *f = &fields[n];
        if (!wanted(words, f->name, f->meaning)) {
            continue;
        }
        shown++;
        json_builder_begin_object(b);
        add_json_text(b, "section", f->section);
        add_json_text(b, "key", f->name);
        json_builder_set_member_name(b, "needed");
        json_builder_add_boolean_value(b, isnan(f->preset));
        if (f->names != NULL) {
            add_json_text(b, "value", f->names[(int)f->preset]);
            json_builder_set_member_name(b, "choices");
            json_builder_begin_array(b);
            for (int k = 0; f->names[k] != NULL; k++) {
                json_builder_add_string_value(b, f->names[k]);
            }
            json_builder_end_array(b);
        } else {
            add_json_number(b, "value", f->preset);
            add_json_number(b, "low", f->low);
            add_json_number(b, "high", f->high);
        }
        add_json_text(b, "meaning", f->meaning);
        json_builder_end_object(b);
    }
    end_list(b);
    return shown > 0 ? EXIT_DONE : EXIT_ANSWER_NO;
}

/* The same as the skeleton of a file. */
static int print_keys(const char *words, gboolean json)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    const char *section = "";
    int shown = 0;
    if (json) {
        return print_keys_as_json(words);
    }
    g_print(
        "# Every key of a rig file. A value stands for what counts when the key is left out;\n"
        "# NEEDED keys have none. Each key ends with its unit; without one it is a bare number.\n"
        "name: NEEDED\n");
    for (unsigned n = 0; n < count; n++) {
        const cvk_rig_field *f = &fields[n];
        char value[32] = "NEEDED", range[160] = "";
        if (!wanted(words, f->name, f->meaning)) {
            continue;
        }
        shown++;
        if (strcmp(section, f->section) != 0) {
            section = f->section;
            g_print("\n%s:\n", section);
        }
        if (f->names != NULL) {
            char *names = g_strjoinv(" | ", (char **)(void *)f->names);
            g_snprintf(range, sizeof range, "%s", names);
            g_snprintf(value, sizeof value, "%s", f->names[(int)f->preset]);
            g_free(names);
        } else {
            g_snprintf(range, sizeof range, "%g .. %g", f->low, f->high);
            if (!isnan(f->preset)) {
                g_snprintf(value, sizeof value, "%g", f->preset);
            }
        }
        char *key = g_strdup_printf("  %s: %s", f->name, value);
        g_print("%-36s# %s; %s\n", key, f->meaning, range);
        g_free(key);
    }
    return shown > 0 ? EXIT_DONE : EXIT_ANSWER_NO;
}

static void print_excitation(JsonBuilder *b, const cvk_program *p)
{
    if (b == NULL) {
        g_print("%-11s %s%s\n", p->name, p->help,
                p->knows_angle ? "; needs the rotor's angle" : "");
        return;
    }
    json_builder_begin_object(b);
    add_json_text(b, "name", p->name);
    json_builder_set_member_name(b, "shaft_held");
    json_builder_add_boolean_value(b, p->shaft_held);
    json_builder_set_member_name(b, "needs_angle");
    json_builder_add_boolean_value(b, p->knows_angle);
    add_json_text(b, "help", p->help);
    json_builder_end_object(b);
}

static int print_excitations(const char *words, gboolean json)
{
    JsonBuilder *b = json ? json_builder_new() : NULL;
    int shown = 0;
    if (json) {
        begin_list(b, "excitations");
    }
    for (unsigned n = 0; n < cvk_program_count(); n++) {
        const cvk_program *p = cvk_program_at(n);
        if (wanted(words, p->name, p->help)) {
            shown++;
            print_excitation(b, p);
        }
    }
    if (json) {
        end_list(b);
    }
    return shown > 0 ? EXIT_DONE : EXIT_ANSWER_NO;
}

typedef struct found_lines {
    JsonBuilder *b;
    const char *words;
    int count;
} found_lines;

static void on_line(void *context, const char *path, const char *what)
{
    found_lines *f = context;
    char *address = g_strconcat("serial:", path, NULL);
    if (wanted(f->words, address, what)) {
        f->count++;
        if (f->b != NULL) {
            json_builder_begin_object(f->b);
            add_json_text(f->b, "address", address);
            add_json_text(f->b, "what", what);
            json_builder_end_object(f->b);
        } else {
            g_print("%-28s %s\n", address, what);
        }
    }
    g_free(address);
}

static int print_devices(const char *words, gboolean json)
{
    found_lines f = {json ? json_builder_new() : NULL, words, 0};
    if (json) {
        begin_list(f.b, "devices");
    }
    cvk_serial_lines(on_line, &f);
    if (json) {
        end_list(f.b);
        return EXIT_DONE;
    }
    if (f.count == 0) {
        g_print("no serial line is there%s\n", words != NULL ? " of that name" : "");
    }
    g_print("others cannot be seen from here: tcp:HOST:PORT, and sim:RIG for a simulated one\n");
    return EXIT_DONE;
}

static const struct {
    const char *name;
    int (*print)(const char *words, gboolean json);
} subjects[] = {{"parameters", print_parameters},
                {"signals", print_signals},
                {"devices", print_devices},
                {"excitations", print_excitations},
                {"keys", print_keys}};

static const char *subject_at(size_t n)
{
    return subjects[n].name;
}

static int unknown_subject(const char *name)
{
    const char *closest = cvk_closest_name(name, G_N_ELEMENTS(subjects), subject_at);
    return closest != NULL
               ? complain_usage(VERB, "there is no list \"%s\"; did you mean \"%s\"?", name,
                                closest)
               : complain_usage(VERB,
                                "there is no list \"%s\": there are parameters, signals, "
                                "devices, excitations, keys",
                                name);
}

int cmd_list(int argc, char **argv)
{
    gboolean json = FALSE;
    const GOptionEntry entries[] = {
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print one JSON document", NULL},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "parameters|signals|devices|excitations|keys [WORD]",
                       "Lists what there is to choose from, all of it or what has WORD in name or "
                       "meaning:\n"
                       "  parameters   of the controller: the keys of a tune file\n"
                       "  signals      of the controller: what can be logged, streamed, looked at\n"
                       "  devices      serial lines of this machine\n"
                       "  excitations  what `corvak record` runs\n"
                       "  keys         of a rig file",
                       "corvak list parameters speed", entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    if (argc < 2 || argc > 3) {
        return complain_usage(VERB,
                              "name a list (parameters, signals, devices, excitations, keys), "
                              "and at most one word to look for");
    }
    for (size_t n = 0; n < G_N_ELEMENTS(subjects); n++) {
        if (strcmp(argv[1], subjects[n].name) == 0) {
            const int status = subjects[n].print(argc == 3 ? argv[2] : NULL, json);
            if (status != EXIT_DONE && !json) {
                g_printerr("corvak list: nothing with \"%s\" in its name or meaning\n", argv[2]);
            }
            return status;
        }
    }
    return unknown_subject(argv[1]);
}
