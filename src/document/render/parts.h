/* SPDX-License-Identifier: Apache-2.0
 *
 * What texts and tables are made with.
 */
#ifndef CORVAK_DOCUMENT_RENDER_PARTS_H
#define CORVAK_DOCUMENT_RENDER_PARTS_H

#include "tree/node.h"

#include "corvak/document/number.h"

enum { INDENT = 2, GAP = 2 };

/* In which unit a number of this size is told. */
cvk_display display_of(const node *n, double size);

/* Half of an interval; NaN of what is none. */
double half_of(const node *n);

/* A number without its unit; of an interval with "+- half". */
void append_number(GString *out, const node *n, double factor);
/* Several, with their unit. */
void append_numbers(GString *out, const node *n);

/* A text with spaces behind it, or before it, up to a width in characters. */
void pad(GString *out, const char *text, glong width, gboolean right);

/* A text that begins at column `from`; lines that would be longer than `width` go on at column
 * `at`.
 */
void append_within(GString *out, const char *text, glong from, glong at, glong width);

/* table.c */
void append_table(GString *out, const node *table, glong indent);

#endif
