/* SPDX-License-Identifier: Apache-2.0
 *
 * What a document is made of; for its renderers.
 */
#ifndef CORVAK_DOCUMENT_TREE_NODE_H
#define CORVAK_DOCUMENT_TREE_NODE_H

#include "corvak/document/document.h"

#include <glib.h>

typedef enum node_kind {
    NODE_GROUP,
    NODE_TABLE,
    NODE_LIST,
    NODE_ROW,
    NODE_NUMBER,
    NODE_INTERVAL,
    NODE_NUMBERS,
    NODE_TEXT,
    NODE_TEXTS,
    NODE_FLAG,
    NODE_TITLE,
    NODE_NOTE
} node_kind;

typedef struct node {
    node_kind kind;
    char *key, *label, *text, *remark;
    char *unit; /* for people; null: by the key */
    double value, low, high, factor;
    int digits;
    double *numbers;
    char **texts;
    size_t count;
    GPtrArray *children; /* of groups, tables and rows; members more of an interval; or null */
    struct node *parent;
} node;

struct cvk_doc {
    node *root;
    node *open; /* group that is being filled */
    node *last; /* entry that was added */
};

static inline const node *child_of(const node *n, guint index)
{
    return n->children->pdata[index];
}

#endif
