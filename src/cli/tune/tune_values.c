/* SPDX-License-Identifier: Apache-2.0
 *
 * The values of a session: wanted, in the device, preset; from and to tune files.
 */
#include "tune.h"

#include "corvak/files/closest.h"
#include "corvak/files/tune_yaml.h"

#include <math.h>
#include <string.h>

static const cvk_parameter *row_of(const tuner *t, unsigned n)
{
    return &t->session.parameter[n].row;
}

void tune_value_text(const tuner *t, unsigned n, float value, char *out, size_t size)
{
    char text[48];
    cvk_parameter_text(row_of(t, n), value, text, sizeof text);
    const char *unit = t->session.parameter[n].unit;
    g_snprintf(out, (gulong)size, "%s%s%s", text, unit[0] != '\0' ? " " : "", unit);
}

unsigned tune_wanted_count(const tuner *t)
{
    unsigned count = 0;
    for (unsigned n = 0; n < t->parameters; n++) {
        count += t->is_wanted[n] ? 1u : 0u;
    }
    return count;
}

/* What a parameter may be, for people. */
static char *allowed_text(const tuner *t, unsigned n)
{
    const cvk_parameter *row = row_of(t, n);
    GString *allowed = g_string_new(NULL);
    if (row->names != NULL) {
        for (int k = 0; row->names[k] != NULL; k++) {
            g_string_append_printf(allowed, "%s%s", k > 0 ? ", " : "", row->names[k]);
        }
    } else if (row->kind == CVK_YES_NO) {
        g_string_append(allowed, "yes, no");
    } else {
        char high[64];
        tune_value_text(t, n, row->high, high, sizeof high);
        g_string_append_printf(allowed, "%g .. %s%s", (double)row->low, high,
                               row->kind == CVK_WHOLE ? ", whole numbers" : "");
    }
    return g_string_free(allowed, FALSE);
}

/* ---- show ----------------------------------------------------------------------------------- */

static void print_value(const tuner *t, unsigned n)
{
    char in_device[64], preset[64], wanted[64] = "";
    cvk_parameter_text(row_of(t, n), t->session.value[n], in_device, sizeof in_device);
    cvk_parameter_text(row_of(t, n), row_of(t, n)->preset, preset, sizeof preset);
    if (t->is_wanted[n]) {
        cvk_parameter_text(row_of(t, n), t->wanted[n], wanted, sizeof wanted);
    }
    g_print("%s %-34s %-8s %12s %14s %12s%s\n", t->is_wanted[n] ? "*" : " ",
            t->session.parameter[n].key, t->session.parameter[n].unit, wanted, in_device, preset,
            row_of(t, n)->while_on ? "" : "   [bridge off]");
}

/* Of the one that was named in full. */
static void print_meaning(const tuner *t, unsigned n)
{
    char *allowed = allowed_text(t, n);
    g_print("    %s; allowed: %s\n", t->session.parameter[n].help, allowed);
    g_free(allowed);
    if (t->from[n] != NULL) {
        g_print("    %s\n", t->from[n]);
    }
}

int tune_show(tuner *t, int argc, char **argv)
{
    unsigned shown = 0;
    const int status = tune_check(t, cvk_session_read_values(&t->session));
    if (status != EXIT_DONE) {
        return status;
    }
    g_print("  %-34s %-8s %12s %14s %12s\n", "parameter", "unit", "wanted", "in the device",
            "preset");
    for (unsigned n = 0; n < t->parameters; n++) {
        const cvk_session_parameter *p = &t->session.parameter[n];
        if (argc < 2 || strstr(p->key, argv[1]) != NULL || strstr(p->help, argv[1]) != NULL) {
            print_value(t, n);
            shown++;
        }
        if (argc > 1 && strcmp(p->key, argv[1]) == 0) {
            print_meaning(t, n);
        }
    }
    return shown > 0 ? EXIT_DONE
                     : tune_complain("no parameter has \"%s\" in its key or its help", argv[1]);
}

/* ---- set and undo --------------------------------------------------------------------------- */

/* Place in the table; -1 with the complaint told. */
static int find(const tuner *t, const char *key)
{
    const int n = cvk_session_parameter_named(&t->session, key);
    const char *closest = NULL;
    size_t least = 1000;
    for (unsigned k = 0; n < 0 && k < t->parameters; k++) {
        const size_t distance = cvk_name_distance(key, t->session.parameter[k].key);
        closest = distance < least ? t->session.parameter[k].key : closest;
        least = MIN(least, distance);
    }
    if (n < 0) {
        tune_complain("there is no parameter \"%s\"; the closest is %s", key, closest);
    }
    return n;
}

static gboolean value_of_text(const cvk_parameter *row, const char *text, float *value)
{
    double number;
    for (int n = 0; row->names != NULL && row->names[n] != NULL; n++) {
        if (strcmp(row->names[n], text) == 0) {
            *value = (float)n;
            return TRUE;
        }
    }
    if (row->kind == CVK_YES_NO && (strcmp(text, "yes") == 0 || strcmp(text, "no") == 0)) {
        *value = text[0] == 'y' ? 1.0f : 0.0f;
        return TRUE;
    }
    const gboolean fine = row->kind != CVK_CHOICE && tune_number(text, &number);
    *value = fine ? (float)number : 0.0f;
    return fine;
}

static int refuse_value(const tuner *t, unsigned n, const char *text)
{
    char *allowed = allowed_text(t, n);
    const int status =
        tune_complain("%s cannot be %s; allowed: %s", t->session.parameter[n].key, text, allowed);
    g_free(allowed);
    return status;
}

/* `from`: where it comes from, when a file says so. */
static void want(tuner *t, unsigned n, float value, const char *from)
{
    const wanted_before before = {n, t->is_wanted[n], t->wanted[n]};
    g_array_append_val(t->undo, before);
    t->wanted[n] = value;
    t->is_wanted[n] = value != t->session.value[n];
    g_free(t->wanted_from[n]);
    t->wanted_from[n] = from != NULL && from[0] != '\0' ? g_strdup(from) : NULL;
}

static void print_wanted(const tuner *t, unsigned n)
{
    char in_device[64], wanted[64];
    tune_value_text(t, n, t->session.value[n], in_device, sizeof in_device);
    tune_value_text(t, n, t->wanted[n], wanted, sizeof wanted);
    if (t->is_wanted[n]) {
        g_print("  %s: wanted %s, in the device %s%s\n", t->session.parameter[n].key, wanted,
                in_device,
                row_of(t, n)->while_on ? "; `apply` sends it" : "; only while the bridge is off");
    } else {
        g_print("  %s: %s, as in the device\n", t->session.parameter[n].key, in_device);
    }
}

int tune_set(tuner *t, int argc, char **argv)
{
    float value;
    if (argc != 3) {
        return tune_complain("set KEY VALUE, such as set current.bandwidth_hz 600");
    }
    const int n = find(t, argv[1]);
    if (n < 0) {
        return EXIT_BAD_USAGE;
    }
    const cvk_parameter *row = row_of(t, (unsigned)n);
    const gboolean read = value_of_text(row, argv[2], &value);
    const gboolean whole = row->kind == CVK_REAL || value == (float)(int)value;
    if (!read || !whole || !(value >= row->low && value <= row->high)) {
        return refuse_value(t, (unsigned)n, argv[2]);
    }
    want(t, (unsigned)n, value, NULL);
    print_wanted(t, (unsigned)n);
    return EXIT_DONE;
}

int tune_undo(tuner *t, int argc, char **argv)
{
    if (argc > 1) {
        const int n = find(t, argv[1]);
        if (n < 0) {
            return EXIT_BAD_USAGE;
        }
        want(t, (unsigned)n, t->session.value[n], NULL);
        print_wanted(t, (unsigned)n);
        return EXIT_DONE;
    }
    if (t->undo->len == 0) {
        return tune_complain("nothing to undo: nothing was set in this session");
    }
    const wanted_before last = g_array_index(t->undo, wanted_before, t->undo->len - 1);
    g_array_set_size(t->undo, t->undo->len - 1);
    t->is_wanted[last.parameter] =
        last.was_wanted && last.value != t->session.value[last.parameter];
    t->wanted[last.parameter] = last.was_wanted ? last.value : t->session.value[last.parameter];
    print_wanted(t, last.parameter);
    return EXIT_DONE;
}

/* ---- tune files ----------------------------------------------------------------------------- */

/* Rows of the device and of the tune file meet by their keys. */
static const cvk_parameter *own_row(const tuner *t, unsigned n)
{
    return cvk_parameter_named(t->session.parameter[n].key);
}

/* Place in the table of a row that the file gives; -1 when it does not. */
static int place_given(const cvk_tune *tune, const cvk_parameter *row)
{
    for (unsigned n = 0; row != NULL && n < cvk_parameter_count(); n++) {
        if (cvk_parameter_at(n) == row) {
            return tune->given[n] ? (int)n : -1;
        }
    }
    return -1;
}

int tune_save(tuner *t, int argc, char **argv)
{
    static cvk_tune tune;
    cvk_complaint complaint;
    unsigned left_out = 0, given = 0;
    if (argc != 2) {
        return tune_complain("save FILE, such as save wheel.tune.yaml");
    }
    int status = check_output(TUNE_VERB, argv[1], FALSE, NULL, 0);
    status = status == EXIT_DONE ? tune_check(t, cvk_session_read_values(&t->session)) : status;
    if (status != EXIT_DONE) {
        return status;
    }
    cvk_tune_start(&tune);
    g_strlcpy(tune.name, t->session.name, sizeof tune.name);
    for (unsigned n = 0; n < t->parameters; n++) {
        const cvk_parameter *row = own_row(t, n);
        const float value = t->session.value[n];
        if (row == NULL || cvk_parameter_set(&tune.settings, row, value, NULL) != CVK_OK) {
            left_out++;
        } else if (value != row->preset || t->from[n] != NULL) {
            cvk_tune_give(&tune, row, t->from[n] != NULL ? t->from[n] : "as in the device");
            given++;
        }
    }
    if (cvk_tune_file_write(&tune, argv[1], &complaint) != CVK_OK) {
        return tune_complain("%s", complaint.text);
    }
    g_print("  %s: %u parameters%s\n", argv[1], given,
            left_out > 0 ? "; some that only the device knows were left out" : "");
    return EXIT_DONE;
}

static int read_tune(cvk_tune *tune, const char *path)
{
    cvk_complaint complaint;
    return cvk_tune_file_read(tune, path, &complaint) == CVK_OK
               ? EXIT_DONE
               : tune_complain("%s", complaint.text);
}

int tune_compare(tuner *t, int argc, char **argv)
{
    static cvk_tune tune;
    unsigned differing = 0;
    if (argc != 2) {
        return tune_complain("compare FILE: a tune file");
    }
    int status = read_tune(&tune, argv[1]);
    status = status == EXIT_DONE ? tune_check(t, cvk_session_read_values(&t->session)) : status;
    for (unsigned n = 0; n < t->parameters && status == EXIT_DONE; n++) {
        const cvk_parameter *row = own_row(t, n);
        char in_file[64], in_device[64];
        if (place_given(&tune, row) < 0) {
            continue;
        }
        tune_value_text(t, n, cvk_parameter_get(&tune.settings, row), in_file, sizeof in_file);
        tune_value_text(t, n, t->session.value[n], in_device, sizeof in_device);
        if (strcmp(in_file, in_device) != 0) { /* a file holds seven digits */
            g_print("  %-34s file %-16s device %s\n", t->session.parameter[n].key, in_file,
                    in_device);
            differing++;
        }
    }
    if (status == EXIT_DONE && differing == 0) {
        g_print("  the device is as %s says\n", argv[1]);
    }
    return status;
}

int tune_load(tuner *t, int argc, char **argv)
{
    static cvk_tune tune;
    if (argc != 2) {
        return tune_complain("load FILE: a tune file");
    }
    const int status = read_tune(&tune, argv[1]);
    for (unsigned n = 0; n < t->parameters && status == EXIT_DONE; n++) {
        const int place = place_given(&tune, own_row(t, n));
        if (place < 0) {
            continue; /* the file does not say: it stays as it is in the device */
        }
        const float value = cvk_parameter_get(&tune.settings, own_row(t, n));
        if (value != t->session.value[n]) {
            want(t, n, value, tune.from[place]);
            print_wanted(t, n);
        } else if (tune.from[place][0] != '\0') {
            g_free(t->from[n]);
            t->from[n] = g_strdup(tune.from[place]);
        }
    }
    if (status == EXIT_DONE && tune_wanted_count(t) == 0) {
        g_print("  the device is as %s says\n", argv[1]);
    }
    return status;
}
