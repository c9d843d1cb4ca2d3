/* SPDX-License-Identifier: Apache-2.0
 *
 * A log through the observers, and the search for their settings.
 */
#include "common.h"

#include "corvak/core/units.h"
#include "corvak/document/number.h"

const char *cvk_observer_name(int kind)
{
    return cvk_parameter_named("observer.kind")->names[kind];
}

static void put_result(cvk_doc *doc, const char *name, const cvk_replay_result *x)
{
    cvk_doc_row(doc, name, name);
    cvk_doc_number(doc, "judged_s", NULL, x->judged_s);
    cvk_doc_number(doc, "error_rms_rad", "rms error", x->error_rms_rad);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "error_95_rad", "95 %", x->error_95_rad);
    cvk_doc_digits(doc, 2);
    cvk_doc_number(doc, "error_mean_rad", "mean", x->error_mean_rad);
    cvk_doc_digits(doc, 2);
    cvk_doc_number(doc, "speed_rms_rad_s", "speed, rms", x->speed_rms_rad_s);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "within_30_deg_share", "within 30°", x->within_share);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "mean_quality", "quality", x->mean_quality);
    cvk_doc_unit(doc, "%", 100.0);
    cvk_doc_digits(doc, 3);
    cvk_doc_end(doc);
}

static void put_search(cvk_doc *doc, const cvk_search *s, int searched, const char *corners)
{
    cvk_doc_begin(doc, "search", NULL);
    cvk_doc_title(
        doc,
        "Search: %s, worst over the corners of the %s: %.2f° before, %.2f° after (%u runs; "
        "angle, and with it the speed's error over observer.least_speed_rad_s)",
        cvk_observer_name(searched), corners, CVK_DEG_PER_RAD * s->before_rad,
        CVK_DEG_PER_RAD * s->after_rad, s->runs);
    cvk_doc_text(doc, "observer", NULL, cvk_observer_name(searched));
    cvk_doc_number(doc, "worst_before_rad", NULL, s->before_rad);
    cvk_doc_number(doc, "worst_after_rad", NULL, s->after_rad);
    cvk_doc_begin(doc, "settings", NULL);
    for (int k = 0; k < CVK_SEARCH_KEYS; k++) {
        char *name = g_strconcat(s->key[k]->section, ".", s->key[k]->name, NULL);
        cvk_doc_begin(doc, name, NULL);
        cvk_doc_number(doc, "best", name, (double)cvk_parameter_get(&s->best, s->key[k]));
        cvk_doc_unit(doc, s->key[k]->unit, 1.0);
        cvk_doc_table(doc, "tried", NULL);
        for (int n = 0; n < CVK_SEARCH_POINTS; n++) {
            cvk_doc_row(doc, NULL, NULL);
            cvk_doc_number(doc, "value", NULL, s->value[k][n]);
            cvk_doc_number(doc, "worst_error_rad", NULL, s->error_rad[k][n]);
            cvk_doc_end(doc);
        }
        cvk_doc_end(doc);
        cvk_doc_end(doc);
        g_free(name);
    }
    cvk_doc_end(doc);
    cvk_doc_end(doc);
}

cvk_doc *cvk_replay_document(const cvk_replay *r, const cvk_replay_rows *rows,
                             const cvk_replay_setting *how)
{
    static const char *const references[] = {"electrical", "fitted", "consensus"};
    static const char *const texts[] = {"the log's electrical angle",
                                        "the log's rotor angle, its offset fitted",
                                        "none in the log: the observers' own mean"};
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_title(doc, "Replay: %s, %zu rows at %s kHz", how->log, rows->rows,
                  digits(1e-3 / rows->period_s, 4));
    cvk_doc_note(doc, "reference: %s", texts[r->reference]);
    cvk_doc_text(doc, "log", NULL, how->log);
    cvk_doc_number(doc, "rows", NULL, (double)rows->rows);
    cvk_doc_text(doc, "reference", NULL, references[r->reference]);
    cvk_doc_table(doc, "observers", "");
    for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
        if (r->result[kind].ran) {
            put_result(doc, cvk_observer_name(kind), &r->result[kind]);
        }
    }
    cvk_doc_end(doc);
    cvk_doc_title(
        doc,
        "within 30°: share of the judged rows that are less than 30° off; quality is what "
        "the observer said of that (its mean). Judged: beyond %s rad/s and after two "
        "turns.",
        digits(how->least_speed_rad_s, 3));
    if (how->search != NULL) {
        put_search(doc, how->search, how->searched, how->corners);
    }
    put_findings(doc, how->findings, NULL);
    return doc;
}
