/* SPDX-License-Identifier: Apache-2.0
 *
 * A document as text for people.
 */
#include "parts.h"

#include <math.h>
#include <string.h>

enum { WIDTH = 100 };

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

static void append_wrapped(GString *out, const char *text, glong at)
{
    append_within(out, text, at, at, WIDTH);
}

static void headline(GString *out, const char *text, glong indent)
{
    if (out->len > 0) {
        g_string_append_c(out, '\n');
    }
    pad(out, "", indent, FALSE);
    append_wrapped(out, text, indent);
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
