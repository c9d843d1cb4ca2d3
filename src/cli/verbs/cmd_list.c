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

/* Every row whose name or help holds `words`; all when it is null. */
static gboolean wanted(const char *words, const char *name, const char *help)
{
    return words == NULL || strstr(name, words) != NULL || strstr(help, words) != NULL;
}

static int show_table(cvk_doc *doc, size_t count, gboolean json)
{
    if (count == 0 && !json) {
        cvk_doc_free(doc);
        return EXIT_ANSWER_NO;
    }
    show_document(doc, json);
    return count > 0 ? EXIT_DONE : EXIT_ANSWER_NO;
}

static int print_parameters(const char *words, gboolean json)
{
    size_t count;
    cvk_doc *doc = cvk_parameters_document(words, &count);
    return show_table(doc, count, json);
}

static int print_signals(const char *words, gboolean json)
{
    size_t count;
    cvk_doc *doc = cvk_signals_document(words, &count);
    return show_table(doc, count, json);
}

static int print_excitations(const char *words, gboolean json)
{
    size_t count;
    cvk_doc *doc = cvk_excitations_document(words, &count);
    return show_table(doc, count, json);
}

/* Everything a rig file can set, as the skeleton of a file. */
static int print_keys(const char *words, gboolean json)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    const char *section = "";
    int shown = 0;
    if (json) {
        size_t found;
        cvk_doc *doc = cvk_rig_keys_document(words, &found);
        return show_table(doc, found, TRUE);
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

typedef struct found_lines {
    cvk_doc *doc;
    const char *words;
    int count;
} found_lines;

static void on_line(void *context, const char *path, const char *what)
{
    found_lines *f = context;
    char *address = g_strconcat("serial:", path, NULL);
    if (wanted(f->words, address, what)) {
        f->count++;
        cvk_doc_row(f->doc, NULL, NULL);
        cvk_doc_text(f->doc, "address", "address", address);
        cvk_doc_text(f->doc, "what", "what it says of itself", what);
        cvk_doc_end(f->doc);
    }
    g_free(address);
}

static int print_devices(const char *words, gboolean json)
{
    found_lines f = {cvk_doc_new(), words, 0};
    cvk_doc_table(f.doc, "devices", "Devices");
    cvk_serial_lines(on_line, &f);
    cvk_doc_end(f.doc);
    if (f.count == 0) {
        cvk_doc_note(f.doc, "no serial line is there%s", words != NULL ? " of that name" : "");
    }
    cvk_doc_note(f.doc, "others cannot be seen from here: tcp:HOST:PORT, and sim:RIG for a "
                        "simulated one");
    return show_document(f.doc, json);
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
    const GOptionEntry entries[] = {JSON_OPTION(&json), G_OPTION_ENTRY_NULL};
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
