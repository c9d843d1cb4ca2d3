/* SPDX-License-Identifier: Apache-2.0
 *
 * Building a document.
 */
#include "node.h"

#include <math.h>
#include <stdarg.h>

enum { USUAL_DIGITS = 4 };

static void free_node(gpointer data)
{
    node *n = data;
    g_free(n->key);
    g_free(n->label);
    g_free(n->text);
    g_free(n->remark);
    g_free(n->unit);
    g_free(n->numbers);
    g_strfreev(n->texts);
    if (n->children != NULL) {
        g_ptr_array_unref(n->children);
    }
    g_free(n);
}

static node *new_node(node_kind kind, const char *key, const char *label)
{
    node *n = g_new0(node, 1);
    n->kind = kind;
    n->key = g_strdup(key);
    n->label = g_strdup(label);
    n->value = n->low = n->high = (double)NAN;
    n->factor = 1.0;
    n->digits = USUAL_DIGITS;
    if (kind <= NODE_ROW) {
        n->children = g_ptr_array_new_with_free_func(free_node);
    }
    return n;
}

static node *add(cvk_doc *doc, node_kind kind, const char *key, const char *label)
{
    node *n = new_node(kind, key, label);
    n->parent = doc->open;
    g_ptr_array_add(doc->open->children, n);
    doc->last = n;
    return n;
}

cvk_doc *cvk_doc_new(void)
{
    cvk_doc *doc = g_new0(cvk_doc, 1);
    doc->root = doc->open = new_node(NODE_GROUP, NULL, NULL);
    return doc;
}

void cvk_doc_free(cvk_doc *doc)
{
    if (doc != NULL) {
        free_node(doc->root);
        g_free(doc);
    }
}

void cvk_doc_begin(cvk_doc *doc, const char *key, const char *label)
{
    doc->open = add(doc, NODE_GROUP, key, label);
}

void cvk_doc_table(cvk_doc *doc, const char *key, const char *label)
{
    doc->open = add(doc, NODE_TABLE, key, label);
}

void cvk_doc_list(cvk_doc *doc, const char *key)
{
    doc->open = add(doc, NODE_LIST, key, NULL);
}

void cvk_doc_row(cvk_doc *doc, const char *key, const char *label)
{
    doc->open = add(doc, NODE_ROW, key, label);
}

void cvk_doc_end(cvk_doc *doc)
{
    doc->open = doc->open->parent;
}

void cvk_doc_number(cvk_doc *doc, const char *key, const char *label, double value)
{
    add(doc, NODE_NUMBER, key, label)->value = value;
}

void cvk_doc_interval(cvk_doc *doc, const char *key, const char *label, double value, double low,
                      double high)
{
    node *n = add(doc, NODE_INTERVAL, key, label);
    n->value = value;
    n->low = low;
    n->high = high;
}

void cvk_doc_numbers(cvk_doc *doc, const char *key, const char *label, const double *value,
                     size_t count)
{
    node *n = add(doc, NODE_NUMBERS, key, label);
    n->numbers = g_memdup2(value, count * sizeof *value);
    n->count = count;
}

void cvk_doc_text(cvk_doc *doc, const char *key, const char *label, const char *text)
{
    add(doc, NODE_TEXT, key, label)->text = g_strdup(text);
}

void cvk_doc_texts(cvk_doc *doc, const char *key, const char *label, const char *const *text,
                   size_t count)
{
    node *n = add(doc, NODE_TEXTS, key, label);
    n->texts = g_new0(char *, count + 1);
    for (size_t k = 0; k < count; k++) {
        n->texts[k] = g_strdup(text[k]);
    }
    n->text = g_strjoinv(" | ", n->texts);
}

void cvk_doc_flag(cvk_doc *doc, const char *key, const char *label, bool value)
{
    node *n = add(doc, NODE_FLAG, key, label);
    n->value = value ? 1.0 : 0.0;
    n->text = g_strdup(value ? "yes" : "no");
}

void cvk_doc_title(cvk_doc *doc, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    add(doc, NODE_TITLE, NULL, "")->text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
}

void cvk_doc_note(cvk_doc *doc, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    add(doc, NODE_NOTE, NULL, "")->text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
}

void cvk_doc_unit(cvk_doc *doc, const char *unit, double factor)
{
    g_free(doc->last->unit);
    doc->last->unit = g_strdup(unit);
    doc->last->factor = factor;
}

static node *add_to_last(cvk_doc *doc, node_kind kind, const char *key)
{
    node *of = doc->last, *n = new_node(kind, key, NULL);
    if (of->children == NULL) {
        of->children = g_ptr_array_new_with_free_func(free_node);
    }
    g_ptr_array_add(of->children, n);
    return n;
}

void cvk_doc_also(cvk_doc *doc, const char *key, double value)
{
    add_to_last(doc, NODE_NUMBER, key)->value = value;
}

void cvk_doc_also_text(cvk_doc *doc, const char *key, const char *text)
{
    add_to_last(doc, NODE_TEXT, key)->text = g_strdup(text);
}

void cvk_doc_digits(cvk_doc *doc, int significant)
{
    doc->last->digits = significant;
}

void cvk_doc_remark(cvk_doc *doc, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_free(doc->last->remark);
    doc->last->remark = g_strdup_vprintf(format, arguments);
    va_end(arguments);
}

void cvk_doc_words(cvk_doc *doc, const char *yes, const char *no)
{
    g_free(doc->last->text);
    doc->last->text = g_strdup(doc->last->value > 0.5 ? yes : no);
}
