/* SPDX-License-Identifier: Apache-2.0
 *
 * A document as text for people.
 */
#include "tree/node.h"

#include "corvak/document/number.h"

#include <math.h>
#include <string.h>

enum { WIDTH = 100, INDENT = 2, GAP = 2, MOST_CELLS = 16 };

/* ---- numbers -------------------------------------------------------------------------------- */

static cvk_display display_of(const node *n, double size)
{
    return n->unit != NULL ? (cvk_display){n->unit, n->factor} : cvk_display_of(n->key, size);
}

static double half_of(const node *n)
{
    return n->kind == NODE_INTERVAL ? 0.5 * (n->high - n->low) : (double)NAN;
}

/* Without its unit; of an interval with "+- half". */
static void append_number(GString *out, const node *n, double factor)
{
    const double half = factor * half_of(n);
    if (!isfinite(n->value)) {
        g_string_append(out, "-");
    } else if (isfinite(half) && half > 0.0) {
        char value[40], around[40];
        print_number(value, sizeof value, factor * n->value, half);
        print_number(around, sizeof around, half, half);
        g_string_append_printf(out, "%s +- %s", value, around);
    } else {
        g_string_append(out, digits(factor * n->value, n->digits));
    }
}

static void append_numbers(GString *out, const node *n)
{
    double largest = 0.0;
    for (size_t k = 0; k < n->count; k++) {
        largest = isfinite(n->numbers[k]) ? fmax(largest, fabs(n->numbers[k])) : largest;
    }
    const cvk_display how = display_of(n, largest);
    for (size_t k = 0; k < n->count; k++) {
        g_string_append_printf(out, "%s%s", k > 0 ? ", " : "",
                               digits(how.factor * n->numbers[k], n->digits));
    }
    g_string_append_printf(out, "%s%s", how.unit[0] != '\0' ? " " : "", how.unit);
}

static char *value_text(const node *n)
{
    GString *out = g_string_new(NULL);
    if (n->kind == NODE_NUMBERS) {
        append_numbers(out, n);
    } else if (n->kind == NODE_NUMBER || n->kind == NODE_INTERVAL) {
        const cvk_display how = display_of(n, n->value);
        append_number(out, n, how.factor);
        if (how.unit[0] != '\0' && isfinite(n->value)) {
            g_string_append_printf(out, "%s%s", strcmp(how.unit, "°") == 0 ? "" : " ", how.unit);
        }
    } else {
        g_string_append(out, n->text != NULL ? n->text : "-");
    }
    if (n->remark != NULL && out->len > 0) {
        g_string_append(out, g_str_has_prefix(n->remark, ",") ? "" : "  ");
    }
    g_string_append(out, n->remark != NULL ? n->remark : "");
    return g_string_free(out, FALSE);
}

/* ---- lines ---------------------------------------------------------------------------------- */

static void pad(GString *out, const char *text, glong width, gboolean right)
{
    const glong missing = width - g_utf8_strlen(text, -1);
    for (glong n = 0; right && n < missing; n++) {
        g_string_append_c(out, ' ');
    }
    g_string_append(out, text);
    for (glong n = 0; !right && n < missing; n++) {
        g_string_append_c(out, ' ');
    }
}

/* A text from column `at` on; lines that would be too long go on below it. */
static void append_wrapped(GString *out, const char *text, glong at)
{
    char **words = g_strsplit(text, " ", -1);
    glong column = at;
    for (int n = 0; words[n] != NULL; n++) {
        const glong length = g_utf8_strlen(words[n], -1);
        if (n > 0 && column + 1 + length > WIDTH) {
            g_string_append_c(out, '\n');
            pad(out, "", at, FALSE);
            column = at;
        } else if (n > 0) {
            g_string_append_c(out, ' ');
            column++;
        }
        g_string_append(out, words[n]);
        const char *broken = strrchr(words[n], '\n');
        column = broken != NULL ? at + g_utf8_strlen(broken + 1, -1) : column + length;
    }
    g_strfreev(words);
    g_string_append_c(out, '\n');
}

static void headline(GString *out, const char *text, glong indent)
{
    if (out->len > 0) {
        g_string_append_c(out, '\n');
    }
    pad(out, "", indent, FALSE);
    append_wrapped(out, text, indent);
}

/* ---- tables --------------------------------------------------------------------------------- */

/* A cell for people, in the order of a row. */
static const node *cell_of(const node *row, guint column)
{
    for (guint n = 0, seen = 0; n < row->children->len; n++) {
        const node *child = child_of(row, n);
        if (child->label != NULL && seen++ == column) {
            return child;
        }
    }
    return NULL;
}

/* One unit for a column: that of its largest number. */
static cvk_display column_display(const node *table, guint column)
{
    double largest = 0.0;
    const node *any = cell_of(child_of(table, 0), column);
    for (guint r = 0; r < table->children->len; r++) {
        const node *cell = cell_of(child_of(table, r), column);
        if (cell != NULL && isfinite(cell->value)) {
            largest = fmax(largest, fabs(cell->value));
        }
    }
    return any->kind == NODE_NUMBER || any->kind == NODE_INTERVAL ? display_of(any, largest)
                                                                  : (cvk_display){"", 1.0};
}

static char *cell_text(const node *cell, cvk_display how)
{
    GString *out = g_string_new(NULL);
    if (cell != NULL && (cell->kind == NODE_NUMBER || cell->kind == NODE_INTERVAL)) {
        append_number(out, cell, how.factor);
    } else if (cell != NULL && cell->text != NULL) {
        g_string_append(out, cell->text);
    }
    if (cell != NULL && cell->remark != NULL) {
        g_string_append_printf(out, "%s%s", out->len > 0 ? "  " : "", cell->remark);
    }
    return g_string_free(out, FALSE);
}

static void append_table(GString *out, const node *table, glong indent)
{
    const guint rows = table->children->len;
    glong width[MOST_CELLS] = {0}, first = 0;
    cvk_display how[MOST_CELLS];
    guint columns = 0;
    if (rows == 0) {
        return;
    }
    for (const node *cell;
         columns < MOST_CELLS && (cell = cell_of(child_of(table, 0), columns)) != NULL; columns++) {
        how[columns] = column_display(table, columns);
        width[columns] = MAX(g_utf8_strlen(cell->label, -1), g_utf8_strlen(how[columns].unit, -1));
        for (guint r = 0; r < rows; r++) {
            char *text = cell_text(cell_of(child_of(table, r), columns), how[columns]);
            width[columns] = MAX(width[columns], g_utf8_strlen(text, -1));
            g_free(text);
        }
    }
    for (guint r = 0; r < rows; r++) {
        const char *label = child_of(table, r)->label;
        first = label != NULL ? MAX(first, g_utf8_strlen(label, -1)) : first;
    }
    gboolean units = FALSE;
    for (guint c = 0; c < columns; c++) {
        units = units || how[c].unit[0] != '\0';
    }
    for (int line = -2; line < (int)rows; line++) {
        if (line == -1 && !units) {
            continue;
        }
        const node *row = child_of(table, line < 0 ? 0 : (guint)line);
        GString *text = g_string_new(NULL);
        pad(text, "", indent, FALSE);
        pad(text, line < 0 || row->label == NULL ? "" : row->label, first, FALSE);
        for (guint c = 0; c < columns; c++) {
            const node *cell = cell_of(row, c);
            char *shown = line == -2   ? g_strdup(cell->label)
                          : line == -1 ? g_strdup(how[c].unit)
                                       : cell_text(cell, how[c]);
            const gboolean words = cell != NULL && cell->kind == NODE_TEXT;
            pad(text, "", c == 0 && first == 0 ? 0 : GAP, FALSE);
            pad(text, shown, width[c], !words);
            g_free(shown);
        }
        g_string_append(out, g_strchomp(text->str));
        g_string_append_c(out, '\n');
        g_string_free(text, TRUE);
    }
}

/* ---- groups --------------------------------------------------------------------------------- */

/* Widths of what stands in columns in a group: labels; of intervals the value, its unit, its ends.
 */
typedef struct columns {
    glong label, value, unit, ends;
} columns;

static gboolean is_entry(const node *n)
{
    return n->kind >= NODE_NUMBER && n->kind <= NODE_FLAG && n->label != NULL;
}

/* People read it as part of the group around it. */
static gboolean reads_on(const node *n)
{
    return n->label == NULL &&
           (n->kind == NODE_GROUP || n->kind == NODE_LIST || n->parent->kind == NODE_LIST);
}

static gboolean is_interval(const node *n)
{
    return is_entry(n) && n->kind == NODE_INTERVAL && isfinite(n->value) && isfinite(n->high) &&
           n->high > n->low;
}

/* "value", "unit", "[low .. high]"; to be freed. */
static void interval_texts(const node *n, char *out[3])
{
    const cvk_display how = display_of(n, n->value);
    const double half = how.factor * half_of(n);
    char value[40], low[40], high[40];
    print_number(value, sizeof value, how.factor * n->value, half);
    print_number(low, sizeof low, how.factor * n->low, half);
    print_number(high, sizeof high, how.factor * n->high, half);
    out[0] = g_strdup(value);
    out[1] = g_strdup(how.unit);
    out[2] = g_strdup_printf("[%s .. %s]", low, high);
}

static void widen(columns *c, const node *group)
{
    for (guint n = 0; n < group->children->len; n++) {
        const node *child = child_of(group, n);
        if (reads_on(child)) {
            widen(c, child);
        }
        if (is_entry(child)) {
            c->label = MAX(c->label, g_utf8_strlen(child->label, -1));
        }
        if (is_interval(child)) {
            char *text[3];
            interval_texts(child, text);
            c->value = MAX(c->value, g_utf8_strlen(text[0], -1));
            c->unit = MAX(c->unit, g_utf8_strlen(text[1], -1));
            c->ends = MAX(c->ends, g_utf8_strlen(text[2], -1));
            for (int k = 0; k < 3; k++) {
                g_free(text[k]);
            }
        }
    }
}

static columns columns_of(const node *group)
{
    columns c = {0, 0, 0, 0};
    widen(&c, group);
    return c;
}

static void append_interval(GString *out, const node *n, const columns *c)
{
    GString *line = g_string_new(NULL);
    char *text[3];
    interval_texts(n, text);
    pad(line, text[0], c->value, TRUE);
    g_string_append_c(line, ' ');
    pad(line, text[1], c->unit + 1, FALSE);
    pad(line, text[2], c->ends, FALSE);
    if (n->remark != NULL) {
        g_string_append_printf(line, "  %s", n->remark);
    }
    g_string_append_printf(out, "%s\n", g_strchomp(line->str));
    g_string_free(line, TRUE);
    for (int k = 0; k < 3; k++) {
        g_free(text[k]);
    }
}

static void append_entry(GString *out, const node *n, glong indent, const columns *c)
{
    const glong at = indent + c->label + GAP;
    pad(out, "", indent, FALSE);
    pad(out, n->label, c->label + GAP, FALSE);
    if (is_interval(n)) {
        append_interval(out, n, c);
    } else {
        char *value = value_text(n);
        append_wrapped(out, value, at);
        g_free(value);
    }
}

static gboolean begins_with_entry(const node *n)
{
    return is_entry(n) || (n->children != NULL && n->children->len > 0 && reads_on(n) &&
                           begins_with_entry(child_of(n, 0)));
}

static void append_group(GString *out, const node *group, glong indent, const columns *c)
{
    for (guint n = 0; n < group->children->len; n++) {
        const node *child = child_of(group, n);
        if (is_entry(child)) {
            append_entry(out, child, indent, c);
        } else if (child->kind == NODE_TITLE) {
            headline(out, child->text, indent);
            if (n + 1 < group->children->len && begins_with_entry(child_of(group, n + 1))) {
                g_string_append_c(out, '\n');
            }
        } else if (child->kind == NODE_NOTE) {
            pad(out, "", indent, FALSE);
            append_wrapped(out, child->text, indent > 0 ? indent + INDENT : 0);
        } else if (reads_on(child)) {
            append_group(out, child, indent, c);
        } else if (child->label != NULL && child->children->len > 0) {
            if (child->label[0] != '\0') {
                headline(out, child->label, indent);
            } else { /* without a headline, but apart */
                g_string_append_c(out, '\n');
            }
            if (child->kind == NODE_TABLE) {
                append_table(out, child, indent + INDENT);
            } else {
                const columns own = columns_of(child);
                append_group(out, child, indent + INDENT, &own);
            }
        }
    }
}

char *cvk_doc_as_text(const cvk_doc *doc)
{
    GString *out = g_string_new(NULL);
    const columns c = columns_of(doc->root);
    append_group(out, doc->root, 0, &c);
    return g_string_free(out, FALSE);
}
