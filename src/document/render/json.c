/* SPDX-License-Identifier: Apache-2.0
 *
 * A document as JSON: SI units, keys as they are; what is not known is null.
 */
#include "tree/node.h"

#include <json-glib/json-glib.h>
#include <math.h>

static void add_number(JsonBuilder *b, double value)
{
    if (!isfinite(value)) {
        json_builder_add_null_value(b);
    } else if (value == floor(value) && fabs(value) < 1e15) {
        json_builder_add_int_value(b, (gint64)value);
    } else {
        json_builder_add_double_value(b, value);
    }
}

static void add_named(JsonBuilder *b, const char *key, double value)
{
    json_builder_set_member_name(b, key);
    add_number(b, value);
}

static void add_members(JsonBuilder *b, const node *group);

static void add_interval(JsonBuilder *b, const node *n)
{
    if (!isfinite(n->value)) {
        json_builder_add_null_value(b);
        return;
    }
    json_builder_begin_object(b);
    add_named(b, "value", n->value);
    add_named(b, "low", n->low);
    add_named(b, "high", n->high);
    if (n->children != NULL) {
        add_members(b, n);
    }
    json_builder_end_object(b);
}

static gboolean has_named_rows(const node *table)
{
    return table->children->len > 0 && child_of(table, 0)->key != NULL;
}

static void add_table(JsonBuilder *b, const node *table)
{
    const gboolean named = has_named_rows(table);
    if (named) {
        json_builder_begin_object(b);
    } else {
        json_builder_begin_array(b);
    }
    for (guint n = 0; n < table->children->len; n++) {
        if (named) {
            json_builder_set_member_name(b, child_of(table, n)->key);
        }
        json_builder_begin_object(b);
        add_members(b, child_of(table, n));
        json_builder_end_object(b);
    }
    if (named) {
        json_builder_end_object(b);
    } else {
        json_builder_end_array(b);
    }
}

static void add_numbers(JsonBuilder *b, const node *n)
{
    json_builder_begin_array(b);
    for (size_t k = 0; k < n->count; k++) {
        add_number(b, n->numbers[k]);
    }
    json_builder_end_array(b);
}

static void add_value(JsonBuilder *b, const node *n)
{
    switch (n->kind) {
    case NODE_NUMBER:
        add_number(b, n->value);
        break;
    case NODE_INTERVAL:
        add_interval(b, n);
        break;
    case NODE_NUMBERS:
        add_numbers(b, n);
        break;
    case NODE_TEXTS:
        json_builder_begin_array(b);
        for (char **text = n->texts; *text != NULL; text++) {
            json_builder_add_string_value(b, *text);
        }
        json_builder_end_array(b);
        break;
    case NODE_FLAG:
        json_builder_add_boolean_value(b, n->value > 0.5);
        break;
    case NODE_TABLE:
    case NODE_LIST:
        add_table(b, n);
        break;
    case NODE_GROUP:
    case NODE_ROW:
        json_builder_begin_object(b);
        add_members(b, n);
        json_builder_end_object(b);
        break;
    case NODE_TEXT:
    case NODE_TITLE:
    case NODE_NOTE:
    default:
        if (n->text != NULL) {
            json_builder_add_string_value(b, n->text);
        } else {
            json_builder_add_null_value(b);
        }
    }
}

static void add_members(JsonBuilder *b, const node *group)
{
    for (guint n = 0; n < group->children->len; n++) {
        const node *child = child_of(group, n);
        if (child->key != NULL) {
            json_builder_set_member_name(b, child->key);
            add_value(b, child);
        } else if (child->kind == NODE_GROUP) { /* for people only as a group */
            add_members(b, child);
        }
    }
}

char *cvk_doc_as_json(const cvk_doc *doc, bool pretty)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_members(b, doc->root);
    json_builder_end_object(b);
    JsonNode *root = json_builder_get_root(b);
    char *text = json_to_string(root, pretty);
    json_node_unref(root);
    g_object_unref(b);
    return text;
}
