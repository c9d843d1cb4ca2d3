/* SPDX-License-Identifier: Apache-2.0
 *
 * A table as text: one unit for each column, numbers flush right.
 */
#include "parts.h"

#include <math.h>

enum { WIDTH = 120, MOST_CELLS = 16 };

typedef struct layout {
    const node *table;
    guint rows, columns;
    glong label; /* width of the rows' own labels */
    glong width[MOST_CELLS];
    cvk_display how[MOST_CELLS];
    gboolean units; /* some column has one */
} layout;

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

static layout layout_of(const node *table)
{
    layout l = {.table = table, .rows = table->children->len};
    const node *first;
    for (; l.columns < MOST_CELLS && (first = cell_of(child_of(table, 0), l.columns)) != NULL;
         l.columns++) {
        const guint c = l.columns;
        l.how[c] = column_display(table, c);
        l.units = l.units || l.how[c].unit[0] != '\0';
        l.width[c] = MAX(g_utf8_strlen(first->label, -1), g_utf8_strlen(l.how[c].unit, -1));
        for (guint r = 0; r < l.rows; r++) {
            char *text = cell_text(cell_of(child_of(table, r), c), l.how[c]);
            l.width[c] = MAX(l.width[c], g_utf8_strlen(text, -1));
            g_free(text);
        }
    }
    for (guint r = 0; r < l.rows; r++) {
        const char *label = child_of(table, r)->label;
        l.label = label != NULL ? MAX(l.label, g_utf8_strlen(label, -1)) : l.label;
    }
    return l;
}

static gboolean is_words(const node *cell)
{
    return cell != NULL && (cell->kind == NODE_TEXT || cell->kind == NODE_TEXTS);
}

static void begin_line(GString *line, const layout *l, const char *label, glong indent)
{
    pad(line, "", indent, FALSE);
    pad(line, label != NULL ? label : "", l->label, FALSE);
}

static void gap(GString *line, const layout *l, guint column)
{
    pad(line, "", column == 0 && l->label == 0 ? 0 : GAP, FALSE);
}

static void append_head(GString *out, const layout *l, glong indent, gboolean units)
{
    GString *line = g_string_new(NULL);
    begin_line(line, l, NULL, indent);
    for (guint c = 0; c < l->columns; c++) {
        const node *cell = cell_of(child_of(l->table, 0), c);
        gap(line, l, c);
        pad(line, units ? l->how[c].unit : cell->label, l->width[c], !is_words(cell));
    }
    g_string_append_printf(out, "%s\n", g_strchomp(line->str));
    g_string_free(line, TRUE);
}

/* Words in the last column may need several lines. */
static void append_row(GString *out, const layout *l, const node *row, glong indent)
{
    GString *line = g_string_new(NULL);
    begin_line(line, l, row->label, indent);
    for (guint c = 0; c < l->columns; c++) {
        const node *cell = cell_of(row, c);
        char *text = cell_text(cell, l->how[c]);
        gap(line, l, c);
        if (is_words(cell) && c + 1 == l->columns && text[0] != '\0') {
            const glong at = g_utf8_strlen(line->str, -1);
            append_within(line, text, at, at, WIDTH);
        } else {
            pad(line, text, l->width[c], !is_words(cell));
        }
        g_free(text);
    }
    g_string_append_printf(out, "%s\n", g_strchomp(line->str));
    g_string_free(line, TRUE);
}

void append_table(GString *out, const node *table, glong indent)
{
    if (table->children->len == 0) {
        return;
    }
    const layout l = layout_of(table);
    append_head(out, &l, indent, FALSE);
    if (l.units) {
        append_head(out, &l, indent, TRUE);
    }
    for (guint r = 0; r < l.rows; r++) {
        append_row(out, &l, child_of(table, r), indent);
    }
}
