/* SPDX-License-Identifier: Apache-2.0
 *
 * Tune files, driven by the parameter table:
 *
 *     tune_version: 1
 *     name: wheel
 *     current:
 *       bandwidth_hz: 500
 *     from:
 *       current.bandwidth_hz: gains, from wheel.card.yaml
 */
#include "corvak/files/tune_yaml.h"

#include "corvak/files/closest.h"
#include "text/number.h"
#include "text/text_file.h"
#include "text/whole_file.h"
#include "yaml_doc.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef struct reader {
    cvk_tune *tune;
    const char *path;
    cvk_complaint *complaint;
    long line_of[CVK_TUNE_MOST];
    bool versioned;
} reader;

void cvk_tune_start(cvk_tune *tune)
{
    *tune = (cvk_tune){.settings = cvk_settings_default()};
}

/* ---- rows and their texts ------------------------------------------------------------------- */

static void key_of(const cvk_parameter *row, char *out, size_t size)
{
    snprintf(out, size, "%s.%s", row->section, row->name);
}

/* Index of a row; -1 for null. */
static int index_of(const cvk_parameter *row)
{
    for (unsigned n = 0; row != NULL && n < cvk_parameter_count() && n < CVK_TUNE_MOST; n++) {
        if (cvk_parameter_at(n) == row) {
            return (int)n;
        }
    }
    return -1;
}

/* Index of the row with this key; -1 when there is none. */
static int row_named(const char *key)
{
    return index_of(cvk_parameter_named(key));
}

void cvk_tune_give(cvk_tune *tune, const cvk_parameter *row, const char *from)
{
    const int n = index_of(row);
    if (n >= 0) {
        tune->given[n] = true;
        snprintf(tune->from[n], sizeof tune->from[n], "%s", from);
    }
}

/* Rows may come from a controller: neither they nor their values are to be trusted. */
static const char *name_of(const cvk_parameter *row, float value)
{
    int count = 0;
    while (row->names != NULL && row->names[count] != NULL) {
        count++;
    }
    return row->kind == CVK_CHOICE && value >= 0.0f && value < (float)count ? row->names[(int)value]
                                                                            : NULL;
}

void cvk_parameter_text(const cvk_parameter *row, float value, char *out, size_t size)
{
    const char *name = name_of(row, value);
    if (name != NULL) {
        snprintf(out, size, "%s", name);
    } else if (row->kind == CVK_YES_NO) {
        snprintf(out, size, "%s", value != 0.0f ? "yes" : "no");
    } else {
        snprintf(out, size, "%.7g", (double)value);
    }
}

static void allowed_text(const cvk_parameter *row, char *out, size_t size)
{
    if (row->kind == CVK_YES_NO) {
        snprintf(out, size, "yes or no");
    } else if (row->kind == CVK_CHOICE) {
        out[0] = '\0';
        for (int n = 0; row->names[n] != NULL; n++) {
            const size_t used = strlen(out);
            snprintf(out + used, size - used, "%s%s", n > 0 ? ", " : "", row->names[n]);
        }
    } else {
        snprintf(out, size, "%g .. %g%s%s%s", (double)row->low, (double)row->high,
                 row->unit[0] != '\0' ? " " : "", row->unit,
                 row->kind == CVK_WHOLE ? ", a whole number" : "");
    }
}

static void closest_key(const char *key, char *out, size_t size)
{
    size_t least = (size_t)-1;
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        char other[80];
        key_of(cvk_parameter_at(n), other, sizeof other);
        const size_t distance = cvk_name_distance(key, other);
        if (distance < least) {
            least = distance;
            snprintf(out, size, "%s", other);
        }
    }
}

static bool is_one_of(const char *text, const char *const *names, float *index)
{
    for (int n = 0; names[n] != NULL; n++) {
        if (strcmp(names[n], text) == 0) {
            *index = (float)n;
            return true;
        }
    }
    return false;
}

static bool read_value(const cvk_parameter *row, const char *text, float *value)
{
    static const char *const no_yes[] = {"no", "yes", NULL};
    if (row->kind == CVK_CHOICE) {
        return is_one_of(text, row->names, value);
    }
    if (row->kind == CVK_YES_NO) {
        return is_one_of(text, no_yes, value);
    }
    double number;
    const char *end = text + strlen(text), *after;
    if (!cvk_read_number(text, end, '.', &number, &after) || after != end) {
        return false;
    }
    *value = (float)number;
    return true;
}

/* ---- reading -------------------------------------------------------------------------------- */

static cvk_status unknown_key(const reader *r, const char *key, long line)
{
    char close[80] = "";
    closest_key(key, close, sizeof close);
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "unknown parameter %s; the closest is %s (corvak list parameters)", key,
                        close);
}

static cvk_status take_value(reader *r, const char *key, const char *text, long line)
{
    const int n = row_named(key);
    if (n < 0) {
        return unknown_key(r, key, line);
    }
    const cvk_parameter *row = cvk_parameter_at((unsigned)n);
    float value;
    if (r->line_of[n] > 0) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "%s is given twice (first in line %ld): keep one", key, r->line_of[n]);
    }
    r->line_of[n] = line;
    if (!read_value(row, text, &value) ||
        cvk_parameter_set(&r->tune->settings, row, value, NULL) != CVK_OK) {
        char allowed[200];
        allowed_text(row, allowed, sizeof allowed);
        return cvk_complain(r->complaint, CVK_OUT_OF_RANGE, r->path, line,
                            "%s is \"%s\"; allowed: %s (%s)", key, text, allowed, row->help);
    }
    r->tune->given[n] = true;
    return CVK_OK;
}

static cvk_status take_version(reader *r, const char *text, long line)
{
    r->versioned = true;
    char *end = NULL;
    if (strtol(text, &end, 10) == CVK_TUNE_VERSION && *end == '\0') {
        return CVK_OK;
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "a tune file of version %s; this program reads version %d: write it anew "
                        "(corvak gains), or use the program that wrote it",
                        text, CVK_TUNE_VERSION);
}

static cvk_status take_origin(reader *r, const char *key, const char *text, long line)
{
    const int n = row_named(key);
    if (n < 0) {
        return unknown_key(r, key, line);
    }
    snprintf(r->tune->from[n], sizeof r->tune->from[n], "%s", text);
    return CVK_OK;
}

static cvk_status visit(void *context, const char *section, const char *key, const char *value,
                        long line)
{
    reader *r = context;
    if (section[0] == '\0' && strcmp(key, "tune_version") == 0) {
        return take_version(r, value, line);
    }
    if (section[0] == '\0' && strcmp(key, "name") == 0) {
        snprintf(r->tune->name, sizeof r->tune->name, "%s", value);
        return CVK_OK;
    }
    if (strcmp(section, "from") == 0) {
        return take_origin(r, key, value, line);
    }
    char whole[160];
    snprintf(whole, sizeof whole, "%s%s%s", section, section[0] != '\0' ? "." : "", key);
    return take_value(r, whole, value, line);
}

void cvk_refusal_text(cvk_status status, const cvk_refusal *why, char *out, size_t size)
{
    char field[80];
    const cvk_parameter *row = why->parameter;
    snprintf(field, sizeof field, "%s%s%s", row != NULL ? row->section : "", row != NULL ? "." : "",
             why->field != NULL ? why->field : "");
    if (why->field == NULL) {
        snprintf(out, size, "%s", cvk_status_text(status));
    } else if (status == CVK_CONTRADICTION && why->high > 0.0f) {
        snprintf(out, size, "%s is %g; %s allows %g: %s", field, (double)why->value, why->against,
                 (double)why->high, why->reason);
    } else if (status == CVK_CONTRADICTION) {
        snprintf(out, size, "%s against %s: %s", field, why->against, why->reason);
    } else if (status == CVK_BRIDGE_IS_ON) {
        snprintf(out, size, "%s may change only while the bridge is off: stop the motor first",
                 field);
    } else {
        snprintf(out, size, "%s is %g; allowed: %g .. %g", field, (double)why->value,
                 (double)why->low, (double)why->high);
    }
}

static cvk_status check(const reader *r)
{
    cvk_refusal why = {0};
    const cvk_status status = cvk_settings_check(&r->tune->settings, &why);
    if (status == CVK_OK) {
        return CVK_OK;
    }
    char text[300];
    cvk_refusal_text(status, &why, text, sizeof text);
    return cvk_complain(r->complaint, status, r->path, 0, "%s", text);
}

cvk_status cvk_tune_file_parse(cvk_tune *tune, const char *path, const char *text, size_t length,
                               cvk_complaint *complaint)
{
    cvk_tune_start(tune);
    reader r = {.tune = tune, .path = path, .complaint = complaint};
    cvk_status status = cvk_yaml_walk(path, text, length, visit, &r, complaint);
    if (status == CVK_OK && !r.versioned) {
        status = cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                              "this is no tune file: it lacks the line tune_version: %d",
                              CVK_TUNE_VERSION);
    }
    return status == CVK_OK ? check(&r) : status;
}

cvk_status cvk_tune_file_read(cvk_tune *tune, const char *path, cvk_complaint *complaint)
{
    char text[CVK_TEXT_FILE_MOST];
    size_t length;
    cvk_status status = cvk_text_file_read(path, text, &length, complaint);
    return status == CVK_OK ? cvk_tune_file_parse(tune, path, text, length, complaint) : status;
}

cvk_status cvk_tune_set(cvk_tune *tune, const char *assignment, const char *from,
                        cvk_complaint *complaint)
{
    char key[80];
    const char *equals = strchr(assignment, '=');
    if (equals == NULL || (size_t)(equals - assignment) >= sizeof key) {
        return cvk_complain(complaint, CVK_BAD_FORMAT, assignment, 0,
                            "write KEY=VALUE, such as current.bandwidth_hz=500");
    }
    snprintf(key, sizeof key, "%.*s", (int)(equals - assignment), assignment);
    reader r = {.tune = tune, .path = assignment, .complaint = complaint};
    cvk_status status = take_value(&r, key, equals + 1, 0);
    if (status == CVK_OK) {
        cvk_tune_give(tune, cvk_parameter_named(key), from);
        status = check(&r);
    }
    return status;
}

/* ---- writing -------------------------------------------------------------------------------- */

static void write_values(FILE *out, const cvk_tune *tune)
{
    const char *section = "";
    for (unsigned n = 0; n < cvk_parameter_count() && n < CVK_TUNE_MOST; n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        char value[40], line[120];
        if (!tune->given[n]) {
            continue;
        }
        if (strcmp(section, row->section) != 0) {
            section = row->section;
            fprintf(out, "\n%s:\n", section);
        }
        cvk_parameter_text(row, cvk_parameter_get(&tune->settings, row), value, sizeof value);
        snprintf(line, sizeof line, "%s: %s", row->name, value);
        fprintf(out, "  %-36s # %s\n", line, row->help);
    }
}

/* As a double-quoted scalar, in which only these two have a meaning. */
static void write_quoted(FILE *out, const char *text)
{
    fputc('"', out);
    for (; *text != '\0'; text++) {
        if (*text == '"' || *text == '\\') {
            fputc('\\', out);
        }
        fputc((unsigned char)*text < ' ' ? ' ' : *text, out);
    }
    fputc('"', out);
}

static void write_origins(FILE *out, const cvk_tune *tune)
{
    bool first = true;
    for (unsigned n = 0; n < cvk_parameter_count() && n < CVK_TUNE_MOST; n++) {
        if (tune->given[n] && tune->from[n][0] != '\0') {
            fputs(first ? "\nfrom:\n" : "", out);
            first = false;
            fprintf(out, "  %s.%s: ", cvk_parameter_at(n)->section, cvk_parameter_at(n)->name);
            write_quoted(out, tune->from[n]);
            fputc('\n', out);
        }
    }
}

cvk_status cvk_tune_file_write(const cvk_tune *tune, const char *path, cvk_complaint *complaint)
{
    cvk_whole_file file = {.stream = stdout};
    const cvk_status status = path != NULL ? cvk_whole_file_open(&file, path, complaint) : CVK_OK;
    FILE *out = file.stream;
    if (status != CVK_OK) {
        return status;
    }
    fprintf(
        out,
        "# The parameters of a controller; each key ends with its unit. What is left out stands "
        "at its\n# preset: corvak list parameters. " CVK_YAML_ENDS "\ntune_version: %d\nname: ",
        CVK_TUNE_VERSION);
    write_quoted(out, tune->name);
    fputc('\n', out);
    write_values(out, tune);
    write_origins(out, tune);
    fputs("...\n", out);
    if (path != NULL) {
        return cvk_whole_file_close(&file, true, complaint);
    }
    const bool failed = fflush(out) != 0 || ferror(out) != 0;
    return failed ? cvk_complain(complaint, CVK_FILE_ERROR, "stdout", 0,
                                 "writing failed: is the disk full?")
                  : CVK_OK;
}
