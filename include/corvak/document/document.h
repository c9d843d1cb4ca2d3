/* SPDX-License-Identifier: Apache-2.0
 *
 * A document: what came of something, in order, without any formatting: entries with key, label,
 * value, interval and remark, in groups and tables. It is built once; renderers make text, JSON or
 * a page of it.
 *
 * An entry's key is its name for machines, with the SI unit behind it as everywhere in Corvak
 * (`resistance_ohm`); its label is its name for people, who read another unit with a prefix. Either
 * may be null: then it is for the others only. Numbers that are not finite are not known.
 *
 * Texts are copied. Built with GLib: out of memory ends the process, as there.
 */
#ifndef CORVAK_DOCUMENT_DOCUMENT_H
#define CORVAK_DOCUMENT_DOCUMENT_H

#include <stdbool.h>
#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#if defined(__GNUC__)
#define CVK_DOC_PRINTF(text, first) __attribute__((format(printf, text, first)))
#else
#define CVK_DOC_PRINTF(text, first)
#endif

typedef struct cvk_doc cvk_doc;

cvk_doc *cvk_doc_new(void);
void cvk_doc_free(cvk_doc *doc); /* null is allowed */

/* A group, until its end: for machines an object, for people a headline with what belongs to it;
 * without a label they read it as part of what is around. Groups nest. */
void cvk_doc_begin(cvk_doc *doc, const char *key, const char *label);
/* A table, whose rows follow. For machines an object of rows when these have keys, else an array.
 */
void cvk_doc_table(cvk_doc *doc, const char *key, const char *label);
/* A row of it; what follows are its cells, the same in each row. The label is in the first column.
 */
void cvk_doc_row(cvk_doc *doc, const char *key, const char *label);
/* Rows that are no table for people, but read one after the other. */
void cvk_doc_list(cvk_doc *doc, const char *key);
void cvk_doc_end(cvk_doc *doc);

void cvk_doc_number(cvk_doc *doc, const char *key, const char *label, double value);
void cvk_doc_interval(cvk_doc *doc, const char *key, const char *label, double value, double low,
                      double high);
void cvk_doc_numbers(cvk_doc *doc, const char *key, const char *label, const double *value,
                     size_t count);
void cvk_doc_text(cvk_doc *doc, const char *key, const char *label, const char *text);
/* So many of them. */
void cvk_doc_texts(cvk_doc *doc, const char *key, const char *label, const char *const *text,
                   size_t count);
void cvk_doc_flag(cvk_doc *doc, const char *key, const char *label, bool value);

/* For people: a headline of its own, and a sentence. */
void cvk_doc_title(cvk_doc *doc, const char *format, ...) CVK_DOC_PRINTF(2, 3);
void cvk_doc_note(cvk_doc *doc, const char *format, ...) CVK_DOC_PRINTF(2, 3);

/* Of the entry that was added last: another unit than its key says, with printed number = factor *
 * value; so many significant digits (4); what is said behind it; words in place of "yes" or "no";
 * members more, of an interval and for machines. */
void cvk_doc_unit(cvk_doc *doc, const char *unit, double factor);
void cvk_doc_also(cvk_doc *doc, const char *key, double value);
void cvk_doc_also_text(cvk_doc *doc, const char *key, const char *text);
void cvk_doc_digits(cvk_doc *doc, int significant);
void cvk_doc_remark(cvk_doc *doc, const char *format, ...) CVK_DOC_PRINTF(2, 3);
void cvk_doc_words(cvk_doc *doc, const char *yes, const char *no);

/* Renderers: free the text with g_free(). */
char *cvk_doc_as_text(const cvk_doc *doc);
char *cvk_doc_as_json(const cvk_doc *doc, bool pretty);

#ifdef __cplusplus
}
#endif
#endif
