/* SPDX-License-Identifier: Apache-2.0
 *
 * The next recording, and what it is expected to bring.
 */
#include "common.h"

#include "corvak/document/number.h"

#include <math.h>
#include <string.h>

#define WIDER 1.03 /* times as wide */

static const char *const heads[CVK_PLAN_KEYS] = {"R", "Ld", "Lq", "flux", "pole pairs", "inertia"};

/* Half a width; of the pole pairs how sure the integer is. */
static const char *text_of(int k, double width, char text[24])
{
    const bool poles = cvk_plan_key(k) == CVK_CARD_POLE_PAIRS;
    if (width >= 1.0) {
        return "unknown";
    }
    if (poles) {
        g_snprintf(text, 24, "%s%s %%", width < 0.01 ? "sure, " : "likely, ",
                   digits(100.0 * (1.0 - width), 4));
    } else {
        g_snprintf(text, 24, "%s %%", digits(100.0 * width, 2));
    }
    return text;
}

/* More data make an interval wider when they contradict, a little, what was so sharp before. */
static bool widens(const cvk_plan *p)
{
    for (size_t n = 0; n < p->options; n++) {
        for (int k = 0; k < CVK_PLAN_KEYS && p->option[n].possible; k++) {
            if (p->before.width[k] < 1.0 &&
                p->option[n].after.width[k] > WIDER * p->before.width[k]) {
                return true;
            }
        }
    }
    return false;
}

static void put_row(cvk_doc *doc, const char *label, const char *length, const cvk_plan_widths *w)
{
    char text[24];
    cvk_doc_row(doc, NULL, label);
    cvk_doc_text(doc, NULL, "length", length);
    for (int k = 0; k < CVK_PLAN_KEYS; k++) {
        cvk_doc_text(doc, NULL, heads[k],
                     w != NULL ? text_of(k, w->width[k], text) : "beyond limits");
    }
    cvk_doc_end(doc);
}

static void put_table(cvk_doc *doc, const cvk_plan *p)
{
    cvk_doc_table(doc, NULL,
                  "Half widths of the 95 % intervals, relative (without the channels' common "
                  "gains)");
    put_row(doc, "  now", "", &p->before);
    for (size_t n = 0; n < p->options; n++) {
        const cvk_plan_option *o = &p->option[n];
        char label[40], length[24];
        g_snprintf(label, sizeof label, "%c %s", (int)n == p->best ? '>' : ' ', o->excitation);
        g_snprintf(length, sizeof length, "%s s", digits(o->length_s, 3));
        put_row(doc, label, length, o->possible ? &o->after : NULL);
    }
    cvk_doc_end(doc);
}

static void put_widths(cvk_doc *doc, const char *key, const cvk_plan_widths *w)
{
    cvk_doc_begin(doc, key, NULL);
    for (int k = 0; k < CVK_PLAN_KEYS; k++) {
        cvk_doc_number(doc, cvk_card_key_name(cvk_plan_key(k)), NULL,
                       w->width[k] < 1.0 ? w->width[k] : (double)NAN);
    }
    cvk_doc_end(doc);
}

static void put_options(cvk_doc *doc, const cvk_plan *p)
{
    cvk_doc_text(doc, "widest", NULL, cvk_card_key_name(p->widest));
    put_widths(doc, "now", &p->before);
    cvk_doc_table(doc, "options", NULL);
    for (size_t n = 0; n < p->options; n++) {
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_text(doc, "excitation", NULL, p->option[n].excitation);
        cvk_doc_number(doc, "length_s", NULL, p->option[n].length_s);
        cvk_doc_flag(doc, "possible", NULL, p->option[n].possible);
        if (p->option[n].possible) {
            put_widths(doc, "expected", &p->option[n].after);
        }
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
}

static void put_next(cvk_doc *doc, const cvk_plan *p, const char *command)
{
    const cvk_plan_option *best = &p->option[p->best];
    char before[24], after[24];
    int widest = 0;
    while (cvk_plan_key(widest) != p->widest) {
        widest++;
    }
    cvk_doc_begin(doc, "next", NULL);
    cvk_doc_text(doc, "excitation", NULL, best->excitation);
    cvk_doc_text(doc, "command", NULL, command);
    cvk_doc_title(doc, "Next: %s. It should bring %s from %s to %s.\n  %s", best->excitation,
                  cvk_card_label(p->widest), text_of(widest, p->before.width[widest], before),
                  text_of(widest, best->after.width[widest], after), command);
    cvk_doc_end(doc);
}

cvk_doc *cvk_plan_document(const cvk_plan *p, const char *command)
{
    cvk_doc *doc = cvk_doc_new();
    put_options(doc, p);
    put_table(doc, p);
    if (widens(p)) {
        cvk_doc_note(doc, "Where an interval gets wider with more data, the new log differs a "
                          "little from the old ones (temperature, another working point): the "
                          "wider interval holds both.");
    }
    if (command != NULL) {
        put_next(doc, p, command);
    } else {
        cvk_doc_text(doc, "next", NULL, NULL);
        cvk_doc_title(doc, "No recording within the limits sharpens the card any further.");
    }
    return doc;
}
