/* SPDX-License-Identifier: Apache-2.0
 *
 * The tables that files and options choose from.
 */
#include "common.h"

#include "corvak/core/programs.h"
#include "corvak/core/signals.h"
#include "corvak/files/tune_yaml.h"

#include <math.h>
#include <string.h>

/* Also notes down that there is one more. */
static bool wanted(const char *word, const char *name, const char *help, size_t *count)
{
    const bool fits = word == NULL || strstr(name, word) != NULL || strstr(help, word) != NULL;
    *count += fits;
    return fits;
}

static size_t length_of(const char *const *names)
{
    size_t count = 0;
    while (names != NULL && names[count] != NULL) {
        count++;
    }
    return count;
}

static char *range_of(const cvk_parameter *row)
{
    return row->kind == CVK_CHOICE ? g_strjoinv(" | ", (char **)(void *)row->names)
           : row->kind == CVK_YES_NO
               ? g_strdup("no | yes")
               : g_strdup_printf("%g .. %g", (double)row->low, (double)row->high);
}

static void put_parameter(cvk_doc *doc, const cvk_parameter *row, const char *key)
{
    static const char *const kinds[] = {"real", "whole", "choice", "yes/no"};
    char preset[40], *range = range_of(row);
    cvk_parameter_text(row, row->preset, preset, sizeof preset);
    cvk_doc_row(doc, NULL, NULL);
    cvk_doc_text(doc, "key", "key", key);
    cvk_doc_text(doc, "unit", "unit", row->unit);
    cvk_doc_text(doc, NULL, "allowed", range);
    cvk_doc_text(doc, NULL, "preset", preset);
    cvk_doc_text(doc, "help", "meaning ([bridge off]: may change only then)", row->help);
    if (!row->while_on) {
        cvk_doc_remark(doc, "[bridge off]");
    }
    cvk_doc_text(doc, "kind", NULL, kinds[row->kind]);
    cvk_doc_number(doc, "low", NULL, (double)row->low);
    cvk_doc_number(doc, "high", NULL, (double)row->high);
    cvk_doc_number(doc, "preset", NULL, (double)row->preset);
    if (row->kind == CVK_CHOICE) {
        cvk_doc_texts(doc, "names", NULL, row->names, length_of(row->names));
    }
    cvk_doc_flag(doc, "while_on", NULL, row->while_on);
    cvk_doc_number(doc, "factor", NULL, row->factor > 0.0f ? (double)row->factor : (double)NAN);
    cvk_doc_end(doc);
    g_free(range);
}

cvk_doc *cvk_parameters_document(const char *word, size_t *count)
{
    cvk_doc *doc = cvk_doc_new();
    *count = 0;
    cvk_doc_table(doc, "parameters", "Parameters");
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        char *key = g_strconcat(row->section, ".", row->name, NULL);
        if (wanted(word, key, row->help, count)) {
            put_parameter(doc, row, key);
        }
        g_free(key);
    }
    cvk_doc_end(doc);
    return doc;
}

/* Its states follow in rows of their own for people. */
static void put_signal(cvk_doc *doc, const cvk_signal *s)
{
    const char *states[64];
    size_t count = 0;
    cvk_doc_row(doc, NULL, NULL);
    cvk_doc_text(doc, "name", NULL, s->name);
    cvk_doc_text(doc, "unit", NULL, s->unit);
    cvk_doc_text(doc, "help", NULL, s->help);
    for (; count < (size_t)s->states && count < G_N_ELEMENTS(states); count++) {
        states[count] = s->text((int)count);
    }
    if (count > 0) {
        cvk_doc_texts(doc, "states", NULL, states, count);
    }
    cvk_doc_end(doc);
}

static void put_signal_lines(cvk_doc *doc, const cvk_signal *s)
{
    cvk_doc_row(doc, NULL, NULL);
    cvk_doc_text(doc, NULL, "name", s->name);
    cvk_doc_text(doc, NULL, "unit", s->unit);
    cvk_doc_text(doc, NULL, "meaning", s->help);
    cvk_doc_end(doc);
    for (int n = 0; n < s->states; n++) {
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_text(doc, NULL, "name", "");
        cvk_doc_text(doc, NULL, "unit", "");
        char *text = g_strdup_printf("%3d  %s", n, s->text(n));
        cvk_doc_text(doc, NULL, "meaning", text);
        g_free(text);
        cvk_doc_end(doc);
    }
}

cvk_doc *cvk_signals_document(const char *word, size_t *count)
{
    cvk_doc *doc = cvk_doc_new();
    for (int people = 0; people < 2; people++) {
        *count = 0;
        cvk_doc_table(doc, people ? NULL : "signals", people ? "Signals" : NULL);
        for (unsigned n = 0; n < cvk_signal_count(); n++) {
            const cvk_signal *s = cvk_signal_at(n);
            if (wanted(word, s->name, s->help, count)) {
                (people ? put_signal_lines : put_signal)(doc, s);
            }
        }
        cvk_doc_end(doc);
    }
    return doc;
}

cvk_doc *cvk_excitations_document(const char *word, size_t *count)
{
    cvk_doc *doc = cvk_doc_new();
    *count = 0;
    cvk_doc_table(doc, "excitations", "Excitations");
    for (unsigned n = 0; n < cvk_program_count(); n++) {
        const cvk_program *p = cvk_program_at(n);
        if (wanted(word, p->name, p->help, count)) {
            cvk_doc_row(doc, NULL, NULL);
            cvk_doc_text(doc, "name", "name", p->name);
            cvk_doc_text(doc, "help", "what it does", p->help);
            if (p->knows_angle) {
                cvk_doc_remark(doc, "(needs the rotor's angle)");
            }
            cvk_doc_flag(doc, "shaft_held", NULL, p->shaft_held);
            cvk_doc_flag(doc, "needs_angle", NULL, p->knows_angle);
            cvk_doc_end(doc);
        }
    }
    cvk_doc_end(doc);
    return doc;
}

/* For people a rig file says them better: its skeleton. */
cvk_doc *cvk_rig_keys_document(const char *word, size_t *count)
{
    unsigned fields;
    const cvk_rig_field *field = cvk_rig_fields(&fields);
    cvk_doc *doc = cvk_doc_new();
    *count = 0;
    cvk_doc_table(doc, "keys", NULL);
    for (const cvk_rig_field *f = field; f < field + fields; f++) {
        if (!wanted(word, f->name, f->meaning, count)) {
            continue;
        }
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_text(doc, "section", NULL, f->section);
        cvk_doc_text(doc, "key", NULL, f->name);
        cvk_doc_flag(doc, "needed", NULL, isnan(f->preset));
        if (f->names != NULL) {
            cvk_doc_text(doc, "value", NULL, f->names[(int)f->preset]);
            cvk_doc_texts(doc, "choices", NULL, f->names, length_of(f->names));
        } else {
            cvk_doc_number(doc, "value", NULL, f->preset);
            cvk_doc_number(doc, "low", NULL, f->low);
            cvk_doc_number(doc, "high", NULL, f->high);
        }
        cvk_doc_text(doc, "meaning", NULL, f->meaning);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
    return doc;
}
