/* SPDX-License-Identifier: Apache-2.0
 *
 * Mapping files: which column of a log is which canonical one.
 */
#include "column_guess.h"
#include "column_names.h"
#include "text/number.h"
#include "text/text_file.h"
#include "yaml/yaml_doc.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef struct maps_reader {
    cvk_column_map *maps;
    size_t most, *count, first;
    const char *path;
    cvk_complaint *complaint;
} maps_reader;

/* The map of a section's column; a new one when it is the section's first line. */
static cvk_column_map *map_of_section(maps_reader *r, const char *section)
{
    char pair[128];
    for (size_t n = r->first; n < *r->count; n++) {
        if (strcmp(cvk_column_name(r->maps[n].column), section) == 0) {
            return &r->maps[n];
        }
    }
    (void)snprintf(pair, sizeof pair, "%.60s=?", section);
    if (*r->count == r->most || cvk_column_map_parse(&r->maps[*r->count], pair) != CVK_OK) {
        return NULL;
    }
    return &r->maps[(*r->count)++];
}

/* `name`, `unit`, `scale` or `offset` of a section. */
static cvk_status on_detail(maps_reader *r, const char *section, const char *key, const char *value,
                            long line)
{
    cvk_column_map *map = map_of_section(r, section);
    if (map == NULL) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "`%s:` is no canonical column (t, ia, va, duty_a, vdc, theta_m, ...)",
                            section);
    }
    const size_t length = strlen(value);
    const char *after = value;
    double number = 0.0;
    const bool is_number =
        cvk_read_number(value, value + length, '.', &number, &after) && *after == '\0';
    if (strcmp(key, "name") == 0 && length > 0 && length < sizeof map->name) {
        memcpy(map->name, value, length + 1);
        return CVK_OK;
    }
    if (strcmp(key, "unit") == 0 && length < sizeof map->unit &&
        cvk_unit_factor(map->column, value, length) != 0.0) {
        memcpy(map->unit, value, length + 1);
        return CVK_OK;
    }
    if (strcmp(key, "scale") == 0 && is_number && number != 0.0) {
        map->scale = number;
        return CVK_OK;
    }
    if (strcmp(key, "offset") == 0 && is_number) {
        map->offset = number;
        return CVK_OK;
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "`%s: %s` in `%s`: allowed are name (at most 63 characters), unit (%s), "
                        "scale (a number, not 0) and offset (a number); value = scale * cell + "
                        "offset, in that unit",
                        key, value, section, cvk_column_units(map->column));
}

static cvk_status on_pair(void *context, const char *section, const char *key, const char *value,
                          long line)
{
    maps_reader *r = context;
    char pair[256];
    if (section[0] != '\0') {
        return on_detail(r, section, key, value, line);
    }
    if (strcmp(value, "?") == 0) {
        return CVK_OK; /* left open in a proposal */
    }
    if (*r->count == r->most) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "more than %zu columns are mapped", r->most);
    }
    int length = snprintf(pair, sizeof pair, "%s=%s", key, value);
    if (length >= (int)sizeof pair || cvk_column_map_parse(&r->maps[*r->count], pair) != CVK_OK) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "`%s: %s`: write a canonical column (t, ia, va, duty_a, vdc, theta_m, "
                            "...) and the name in the log's header, at most 63 characters",
                            key, value);
    }
    (*r->count)++;
    return CVK_OK;
}

cvk_status cvk_column_maps_parse(cvk_column_map *maps, size_t most, size_t *count, const char *path,
                                 const char *text, size_t length, cvk_complaint *complaint)
{
    maps_reader r = {maps, most, count, *count, path, complaint};
    cvk_status status = cvk_yaml_walk(path, text, length, on_pair, &r, complaint);
    for (size_t n = r.first; n < *count && status == CVK_OK; n++) {
        if (strcmp(maps[n].name, "?") == 0) {
            status =
                cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                             "section `%s:` has no `name:`: write the column's name in the log",
                             cvk_column_name(maps[n].column));
        }
    }
    return status;
}

cvk_status cvk_column_maps_read(cvk_column_map *maps, size_t most, size_t *count, const char *path,
                                cvk_complaint *complaint)
{
    char text[CVK_TEXT_FILE_MOST];
    size_t length = 0;
    const cvk_status status = cvk_text_file_read(path, text, &length, complaint);
    return status == CVK_OK
               ? cvk_column_maps_parse(maps, most, count, path, text, length, complaint)
               : status;
}

/* ---- proposals ------------------------------------------------------------------------------ */

#define LOOKED_AT_LINES 60

/* Length of a UTF-8 or other cell without blanks and quotes around it. */
static size_t trimmed(const char **cell, size_t length)
{
    while (length > 0 && (**cell == ' ' || **cell == '"' || **cell == '\t')) {
        (*cell)++;
        length--;
    }
    while (length > 0 && ((*cell)[length - 1] == ' ' || (*cell)[length - 1] == '"' ||
                          (*cell)[length - 1] == '\r')) {
        length--;
    }
    return length;
}

/* Cells of a line that are names, not numbers; leaves the delimiter that gives most cells. */
static size_t count_names(const char *line, size_t length, char *delimiter)
{
    static const char delimiters[] = {';', '\t', ','};
    size_t best = 0;
    for (size_t d = 0; d < sizeof delimiters; d++) {
        size_t names = 0, begin = 0;
        for (size_t k = 0; k <= length; k++) {
            if (k < length && line[k] != delimiters[d]) {
                continue;
            }
            const char *cell = line + begin, *after;
            size_t size = trimmed(&cell, k - begin);
            double value;
            names +=
                size > 0 && size < 64 && !cvk_read_number(cell, cell + size, '.', &value, &after);
            begin = k + 1;
        }
        if (names > best) {
            best = names;
            *delimiter = delimiters[d];
        }
    }
    return best;
}

/* The line with most names among the first ones. */
static const char *find_names(const char *text, size_t length, size_t *line_length, char *delimiter)
{
    const char *best = NULL, *line = text, *end = text + length;
    size_t most = 2;
    for (int n = 0; n < LOOKED_AT_LINES && line < end; n++) {
        const char *stop = memchr(line, '\n', (size_t)(end - line));
        stop = stop != NULL ? stop : end;
        char here = ',';
        size_t names = *line != '#' ? count_names(line, (size_t)(stop - line), &here) : 0;
        if (names > most) {
            most = names;
            best = line;
            *line_length = (size_t)(stop - line);
            *delimiter = here;
        }
        line = stop < end ? stop + 1 : end;
    }
    return best;
}

static void propose(FILE *out, const char *cell, size_t length, bool taken[CVK_COLUMN_COUNT])
{
    bool sure = false;
    const cvk_column column = cvk_guess_column(cell, length, &sure);
    const bool fits = column != CVK_COLUMN_COUNT && !taken[column];
    if (fits) {
        taken[column] = true;
    }
    fprintf(out, "%s%s: '%.*s'%s\n", fits ? "" : "# ", fits ? cvk_column_name(column) : "?",
            (int)length, cell, fits && !sure ? "   # a guess: check it" : "");
}

char *cvk_propose_mapping(const char *path)
{
    char head[16384], delimiter = ',', *text = NULL;
    size_t size = 0, line_length = 0;
    FILE *in = fopen(path, "rb");
    const size_t got = in != NULL ? fread(head, 1, sizeof head, in) : 0;
    if (in != NULL) {
        fclose(in);
    }
    const char *line = find_names(head, got, &line_length, &delimiter);
    FILE *out = line != NULL ? open_memstream(&text, &size) : NULL;
    if (out == NULL) {
        return NULL;
    }
    bool taken[CVK_COLUMN_COUNT] = {false};
    fprintf(out,
            "# Mapping for %s: put it into a file, correct it, and read the log with\n"
            "#   corvak estimate %s --mapping FILE\n"
            "# canonical column: 'name in the log'. A column in another unit, or in counts:\n"
            "#   ia:\n#     name: ADC1\n#     unit: A\n#     scale: 0.0122    # value = scale "
            "* cell + offset\n#     offset: -25\n"
            "# Needed: t; two of ia ib ic; and va vb vc, or two of vab vbc vca, or duty_a "
            "duty_b duty_c\n# with vdc. A coast-down needs no currents.\n",
            path, path);
    size_t begin = 0;
    for (size_t k = 0; k <= line_length; k++) {
        if (k == line_length || line[k] == delimiter) {
            const char *cell = line + begin;
            size_t length = trimmed(&cell, k - begin);
            if (length > 0 && length < 64) {
                propose(out, cell, length, taken);
            }
            begin = k + 1;
        }
    }
    fclose(out);
    return text;
}
