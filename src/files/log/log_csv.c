/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading CSV logs: finds the header row, the delimiter and the decimal mark from the file itself,
 * then reads numbers in one pass. Only numbers matter here, which is why this is not a general CSV
 * library: it must keep up with the disk.
 */
#include "corvak/files/log_file.h"

#include "log_parts.h"
#include "text/number.h"

#include <ctype.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#define MOST_COLUMNS 1024
#define HEADER_SEARCH_LINES 200 /* a scope's preamble is shorter */
#define LEAST_KNOWN 2           /* known names that make a line the header */
#define FIRST_CAPACITY 4096u

typedef struct reader {
    const char *path, *text, *end;
    const cvk_column_map *maps;
    size_t map_count;
    cvk_log_file *file;
    cvk_complaint *complaint;
    char delimiter, point;
    int columns; /* in the header row */
    cvk_column_head head[MOST_COLUMNS];
    bool clock; /* the time column holds time stamps */
    double first_day, last_clock_s;
    size_t long_rows;      /* with more cells than the header */
    double sample_rate_hz; /* from a "# sample_rate_hz:" line; 0 when not given */
} reader;

static const char *line_end(const char *line, const char *end)
{
    const char *newline = memchr(line, '\n', (size_t)(end - line));
    return newline != NULL ? newline : end;
}

/* Without the carriage return and blanks at the end. */
static const char *content_end(const char *line, const char *stop)
{
    while (stop > line && isspace((unsigned char)stop[-1]) && stop[-1] != '\t') {
        stop--;
    }
    return stop;
}

static const char *cell_end(const char *cell, const char *stop, char delimiter)
{
    const char *found = memchr(cell, delimiter, (size_t)(stop - cell));
    return found != NULL ? found : stop;
}

/* ---- "# key: value" lines ------------------------------------------------------------------- */

static void read_key(reader *r, const char *line, const char *stop)
{
    line++;
    while (line < stop && isspace((unsigned char)*line)) {
        line++;
    }
    for (size_t n = 0; n < CVK_LOG_KEYS; n++) {
        size_t length = strlen(cvk_log_keys[n]);
        if ((size_t)(stop - line) <= length || strncasecmp(line, cvk_log_keys[n], length) != 0) {
            continue;
        }
        const char *value = line + length;
        while (value < stop && (isspace((unsigned char)*value) || *value == ':' || *value == '=')) {
            value++;
        }
        if (value > line + length) {
            cvk_log_key(r->file, cvk_log_keys[n], value, stop, &r->sample_rate_hz);
        }
    }
}

/* ---- the header row ------------------------------------------------------------------------- */

/* Splits a line into heads; returns how many names are known. */
static int split_header(reader *r, const char *line, const char *stop, char delimiter)
{
    int known = 0;
    r->columns = 0;
    for (const char *cell = line; r->columns < MOST_COLUMNS;) {
        const char *cell_stop = cell_end(cell, stop, delimiter);
        cvk_column_head *head = &r->head[r->columns++];
        *head = cvk_column_of_head(cell, (size_t)(cell_stop - cell), r->maps, r->map_count);
        known += head->known;
        if (cell_stop == stop) {
            break;
        }
        cell = cell_stop + 1;
    }
    return known;
}

static bool try_header(reader *r, const char *line, const char *stop)
{
    static const char delimiters[] = {';', '\t', ','};
    for (size_t d = 0; d < sizeof delimiters; d++) {
        if (memchr(line, delimiters[d], (size_t)(stop - line)) != NULL &&
            split_header(r, line, stop, delimiters[d]) >= LEAST_KNOWN) {
            r->delimiter = delimiters[d];
            return true;
        }
    }
    return false;
}

/* A cell for a message: short and printable. */
static void quote(char *out, size_t size, const char *text, size_t length)
{
    size_t n = 0;
    for (; n + 1 < size && n < length; n++) {
        out[n] = isprint((unsigned char)text[n]) ? text[n] : '?';
    }
    out[n] = '\0';
}

static cvk_status no_header(const reader *r, const char *first, const char *first_stop, long line)
{
    char shown[160];
    quote(shown, sizeof shown, first, (size_t)(first_stop - first));
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "no header row with at least two known column names was found; the first "
                        "line reads \"%s\". Head the columns t, ia, ib, ic, va, vb, vc (or duty_a, "
                        "duty_b, duty_c, vdc), or map them: --map t=NAME --map ia=NAME",
                        shown);
}

/* What the header names, for messages about maps. */
static void note_names(const reader *r, const char *line, const char *stop)
{
    size_t used = 0;
    r->file->names[0] = '\0';
    for (const char *cell = line; cell <= stop;) {
        const char *cell_stop = cell_end(cell, stop, r->delimiter);
        int written = snprintf(r->file->names + used, sizeof r->file->names - used, "%s%.*s",
                               used > 0 ? ", " : "", (int)(cell_stop - cell), cell);
        used += (size_t)written;
        if (used >= sizeof r->file->names) {
            break;
        }
        cell = cell_stop + 1;
    }
    for (int c = 0; c < r->columns; c++) {
        if (r->head[c].known && r->head[c].map >= 0) {
            r->file->maps_used |= 1ul << r->head[c].map;
        }
    }
}

/* Finds the header and leaves the first line after it in `line`, with its number. */
static cvk_status find_header(reader *r, const char **line, long *number)
{
    const char *first = NULL, *first_stop = NULL;
    long first_number = 1;
    for (long tried = 0; *line < r->end && tried < HEADER_SEARCH_LINES; tried++) {
        const char *newline = line_end(*line, r->end), *stop = content_end(*line, newline);
        const char *begin = *line;
        long here = *number;
        *line = newline < r->end ? newline + 1 : r->end;
        (*number)++;
        if (begin == stop) {
            continue;
        }
        if (*begin == '#') {
            read_key(r, begin, stop);
            continue;
        }
        if (first == NULL) {
            first = begin;
            first_stop = stop;
            first_number = here;
        }
        if (try_header(r, begin, stop)) {
            r->file->header_line = here;
            note_names(r, begin, stop);
            return CVK_OK;
        }
    }
    if (first == NULL) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                            "the file has no data: record it again");
    }
    return no_header(r, first, first_stop, first_number);
}

static cvk_status check_header(const reader *r)
{
    bool seen[CVK_COLUMN_COUNT] = {false};
    for (int c = 0; c < r->columns; c++) {
        const cvk_column_head *head = &r->head[c];
        if (!head->known) {
            r->file->ignored_columns++;
            continue;
        }
        const char *name = cvk_column_name(head->column);
        if (head->bad_unit) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, r->file->header_line,
                                "column %s: the unit \"%s\" is not known; allowed: %s; or say what "
                                "it is in a --mapping file: %s: {name: NAME, unit: UNIT}",
                                name, head->unit, cvk_column_units(head->column), name);
        }
        if (seen[head->column]) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, r->file->header_line,
                                "column %s appears twice: rename one, or choose with --map %s=NAME",
                                name, name);
        }
        seen[head->column] = true;
    }
    return CVK_OK;
}

/* A second header row with units only, as scopes write it. */
static bool take_unit_row(reader *r, const char *line, const char *stop)
{
    cvk_column_head units[MOST_COLUMNS];
    int c = 0;
    for (const char *cell = line; c < r->columns; c++) {
        const char *cell_stop = cell_end(cell, stop, r->delimiter);
        if (r->head[c].known) {
            char named[96];
            size_t length = (size_t)(cell_stop - cell);
            const char *name = cvk_column_name(r->head[c].column);
            if (length == 0 || length > 24) {
                return false;
            }
            bool bare = memchr(cell, '[', length) == NULL && memchr(cell, '(', length) == NULL;
            int written = snprintf(named, sizeof named, "%s%s%.*s%s", name, bare ? " [" : " ",
                                   (int)length, cell, bare ? "]" : "");
            units[c] = cvk_column_of_head(named, (size_t)written, NULL, 0);
            if (!units[c].known || units[c].bad_unit || units[c].column != r->head[c].column) {
                return false;
            }
        }
        if (cell_stop == stop) {
            c++;
            break;
        }
        cell = cell_stop + 1;
    }
    for (int k = 0; k < c; k++) {
        if (r->head[k].known && r->head[k].map < 0) {
            r->head[k].factor = units[k].factor;
        }
    }
    return c == r->columns;
}

/* A comma in the data where the delimiter is not a comma is the decimal mark. */
static char decimal_mark(const reader *r, const char *line)
{
    if (r->delimiter == ',') {
        return '.';
    }
    for (int tried = 0; line < r->end && tried < 20; tried++) {
        const char *newline = line_end(line, r->end);
        if (memchr(line, '.', (size_t)(newline - line)) != NULL) {
            return '.';
        }
        if (memchr(line, ',', (size_t)(newline - line)) != NULL) {
            return ',';
        }
        line = newline < r->end ? newline + 1 : r->end;
    }
    return '.';
}

/* ---- data ----------------------------------------------------------------------------------- */

static bool grow(cvk_log_file *file, const reader *r)
{
    size_t wanted = file->capacity == 0 ? FIRST_CAPACITY : 2 * file->capacity;
    for (int c = 0; c < r->columns; c++) {
        if (r->head[c].known) {
            double **cells = &file->cells[r->head[c].column];
            double *larger = realloc(*cells, wanted * sizeof *larger);
            if (larger == NULL) {
                return false;
            }
            *cells = larger;
        }
    }
    file->capacity = wanted;
    return true;
}

static void note_bad_cell(cvk_log_file *file, long line, const char *cell, const char *stop)
{
    if (file->bad_cells++ == 0) {
        file->first_bad_line = line;
        quote(file->first_bad_cell, sizeof file->first_bad_cell, cell, (size_t)(stop - cell));
    }
}

static int digits_at(const char **p, const char *stop, int most)
{
    int value = 0, count = 0;
    while (*p < stop && isdigit((unsigned char)**p) && count < most) {
        value = 10 * value + (**p - '0');
        (*p)++;
        count++;
    }
    return count > 0 ? value : -1;
}

/* Days since 1970-03-01-like epoch of a date of the Gregorian calendar. */
static double days_of(int year, int month, int day)
{
    const int shifted = month > 2 ? year : year - 1, m = month > 2 ? month - 3 : month + 9;
    return 365.0 * shifted + floor(shifted / 4.0) - floor(shifted / 100.0) +
           floor(shifted / 400.0) + floor((153.0 * m + 2.0) / 5.0) + day;
}

/* [YYYY-MM-DD(T| )]hh:mm:ss[.fff][Z|+hh:mm] as seconds since the log's first time stamp's day; a
 * clock without a date that falls back has passed midnight. */
static bool read_clock(reader *r, const char *cell, const char *stop, double *seconds)
{
    const char *p = cell;
    double day = 0.0;
    int first = digits_at(&p, stop, 4);
    if (p < stop && (*p == '-' || *p == '/')) {
        p++;
        int month = digits_at(&p, stop, 2);
        if (p >= stop || (*p != '-' && *p != '/')) {
            return false;
        }
        p++;
        day = days_of(first, month, digits_at(&p, stop, 2));
        if (p >= stop || (*p != 'T' && *p != ' ' && *p != 't')) {
            return false;
        }
        p++;
        first = digits_at(&p, stop, 2);
    }
    if (first < 0 || first > 23 || p >= stop || *p != ':') {
        return false;
    }
    p++;
    const int minutes = digits_at(&p, stop, 2);
    if (minutes < 0 || minutes > 59 || p >= stop || *p != ':') {
        return false;
    }
    const char *after = p + 1;
    double fraction = 0.0;
    const char point = memchr(after, ',', (size_t)(stop - after)) != NULL ? ',' : '.';
    if (!cvk_read_number(after, stop, point, &fraction, &after) || fraction >= 61.0) {
        return false;
    }
    if (!r->clock) {
        r->clock = true;
        r->first_day = day;
    }
    double now = 86400.0 * (day - r->first_day) + 3600.0 * first + 60.0 * minutes + fraction;
    if (day == 0.0 && now + 43200.0 < r->last_clock_s) {
        now += 86400.0 * ceil((r->last_clock_s - now - 43200.0) / 86400.0);
    }
    r->last_clock_s = now;
    *seconds = now;
    return true;
}

static double read_cell(reader *r, cvk_column column, const char *cell, const char *stop,
                        bool *good)
{
    while (cell < stop && (*cell == ' ' || *cell == '"')) {
        cell++;
    }
    double value;
    const char *after;
    *good = cvk_read_number(cell, stop, r->point, &value, &after);
    while (*good && after < stop) {
        if (*after != ' ' && *after != '"' && *after != '\r') {
            *good = column == CVK_COLUMN_T && read_clock(r, cell, stop, &value);
            return *good ? value : NAN;
        }
        after++;
    }
    return value;
}

/* One data line into the next row. Returns how many cells it had. */
static int read_row(reader *r, const char *line, const char *stop, long number)
{
    cvk_log_file *file = r->file;
    size_t row = file->log.rows;
    int c = 0;
    const char *cell = line;
    for (; c < r->columns && cell <= stop; c++) {
        const char *after;
        double plain;
        if (cvk_read_plain(cell, stop, r->point, &plain, &after) &&
            (after == stop || *after == r->delimiter)) {
            if (r->head[c].known) {
                file->cells[r->head[c].column][row] = plain * r->head[c].factor + r->head[c].offset;
            }
            cell = after + 1;
            continue;
        }
        const char *cell_stop = cell_end(cell, stop, r->delimiter);
        if (r->head[c].known) {
            bool good;
            double value = read_cell(r, r->head[c].column, cell, cell_stop, &good);
            file->cells[r->head[c].column][row] = value * r->head[c].factor + r->head[c].offset;
            if (!good) {
                note_bad_cell(file, number, cell, cell_stop);
            }
        }
        cell = cell_stop + 1;
    }
    if (c == r->columns && cell < stop && content_end(cell, stop) > cell) {
        r->long_rows++;
    }
    for (int k = c; k < r->columns; k++) {
        if (r->head[k].known) {
            file->cells[r->head[k].column][row] = NAN;
            note_bad_cell(file, number, stop, stop);
        }
    }
    return c;
}

static cvk_status read_rows(reader *r, const char *line, long number)
{
    cvk_log_file *file = r->file;
    while (line < r->end) {
        const char *newline = line_end(line, r->end), *stop = content_end(line, newline);
        if (stop > line && *line != '#') {
            if (file->log.rows == file->capacity && !grow(file, r)) {
                return cvk_complain(r->complaint, CVK_NO_MEMORY, r->path, number,
                                    "not enough memory for this log: cut it into pieces");
            }
            size_t bad_before = file->bad_cells;
            int cells = read_row(r, line, stop, number);
            bool last_line_cut = newline == r->end && cells < r->columns;
            if (last_line_cut) {
                file->truncated = true;
                file->bad_cells = bad_before;
            } else {
                file->log.rows++;
            }
        }
        line = newline < r->end ? newline + 1 : r->end;
        number++;
    }
    if (file->log.rows == 0) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, file->header_line,
                            "a header, but no data rows: record it again");
    }
    return CVK_OK;
}

/* 1 234.5, 1'234.5, 1.234,5: digits in groups of three. */
static bool has_thousands(const char *cell)
{
    size_t groups = 0, run = 0;
    bool separated = false;
    cell += strspn(cell, "\" +-");
    for (const char *p = cell; *p != '\0'; p++) {
        if (isdigit((unsigned char)*p)) {
            run++;
            continue;
        }
        if (strchr(" '.,?", *p) == NULL || (separated && run != 3)) {
            return groups > 0;
        }
        groups += separated && run == 3;
        separated = run > 0;
        run = 0;
    }
    return groups > 0 || (separated && run == 3);
}

static cvk_status check_cells(const reader *r)
{
    const cvk_log_file *file = r->file;
    const size_t cells = file->log.rows * (size_t)r->columns;
    if (file->bad_cells > 0 && has_thousands(file->first_bad_cell)) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, file->first_bad_line,
                            "\"%s\" looks like a number with a thousands separator: export numbers "
                            "without one",
                            file->first_bad_cell);
    }
    if (2 * r->long_rows > file->log.rows) {
        return cvk_complain(
            r->complaint, CVK_BAD_FORMAT, r->path, file->header_line,
            "most rows have more cells than the header has names: a decimal comma or "
            "a thousands separator in a file separated by commas? Export it with "
            "semicolons, or with `.` as decimal mark");
    }
    if (file->bad_cells * 2 > cells) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, file->first_bad_line,
                            "most cells are not numbers (the first is \"%s\"): is this a CSV log "
                            "with `.` or `,` as decimal mark?",
                            file->first_bad_cell);
    }
    return CVK_OK;
}

static cvk_status check_text(const char *path, const char *text, size_t length,
                             cvk_complaint *complaint)
{
    const size_t head = length < 4096u ? length : 4096u;
    if (length == 0) {
        return cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                            "the file is empty: record it again");
    }
    if (length > 2 && (unsigned char)text[0] == 0x1f && (unsigned char)text[1] == 0x8b) {
        return cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                            "the file is compressed: zcat FILE | corvak estimate -");
    }
    if (memchr(text, '\0', head) != NULL) {
        return cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                            "this is a binary file, not text (or text in UTF-16): export the log "
                            "as CSV in UTF-8");
    }
    return CVK_OK;
}

cvk_status cvk_log_file_parse(cvk_log_file *file, const char *path, const char *text, size_t length,
                              const cvk_column_map *maps, size_t map_count,
                              cvk_complaint *complaint)
{
    cvk_log_start(file, path);
    reader r = {.path = path,
                .text = text,
                .end = text + length,
                .maps = maps,
                .map_count = map_count,
                .file = file,
                .complaint = complaint};
    cvk_status status = check_text(path, text, length, complaint);
    if (status != CVK_OK) {
        return status;
    }
    const char *line = text;
    long number = 1;
    if (length >= 3 && memcmp(text, "\xef\xbb\xbf", 3) == 0) {
        line += 3;
    }
    status = find_header(&r, &line, &number);
    if (status == CVK_OK && line < r.end) {
        const char *newline = line_end(line, r.end), *stop = content_end(line, newline);
        if (stop > line && take_unit_row(&r, line, stop)) {
            line = newline < r.end ? newline + 1 : r.end;
            number++;
        }
    }
    if (status == CVK_OK) {
        status = check_header(&r);
    }
    if (status == CVK_OK) {
        r.point = decimal_mark(&r, line);
        status = read_rows(&r, line, number);
    }
    if (status == CVK_OK) {
        status = check_cells(&r);
    }
    if (status == CVK_OK) {
        status = cvk_log_finish(file, r.sample_rate_hz);
    }
    if (status != CVK_OK) {
        cvk_log_file_free(file);
    }
    return status;
}
