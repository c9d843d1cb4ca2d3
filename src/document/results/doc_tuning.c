/* SPDX-License-Identifier: Apache-2.0
 *
 * What was done in a live session: its changes, measured steps, and values. For machines: people
 * have read it as it came.
 */
#include "common.h"

static void put_figures(cvk_doc *doc, const char *key, const cvk_running_figures *f)
{
    cvk_doc_begin(doc, key, NULL);
    cvk_doc_number(doc, "length_s", NULL, f->length_s);
    cvk_doc_number(doc, "speed_rad_s", NULL, f->speed_rad_s);
    cvk_doc_number(doc, "speed_error_rad_s", NULL, f->speed_error_rad_s);
    cvk_doc_number(doc, "current_q_a", NULL, f->current_q_a);
    cvk_doc_number(doc, "ripple_a", NULL, f->ripple_a);
    cvk_doc_number(doc, "peak_a", NULL, f->peak_a);
    cvk_doc_number(doc, "quality", NULL, f->quality);
    cvk_doc_end(doc);
}

static void put_change(cvk_doc *doc, const cvk_session *session, const cvk_change *c)
{
    cvk_doc_list(doc, "parameters");
    for (unsigned n = 0; n < c->count; n++) {
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_text(doc, "key", NULL, session->parameter[c->item[n].parameter].key);
        cvk_doc_number(doc, "before", NULL, (double)c->before_value[n]);
        cvk_doc_number(doc, "after", NULL, (double)c->item[n].value);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
    cvk_doc_text(doc, "end", NULL,
                 c->state == CVK_TRIAL_KEPT        ? "kept"
                 : c->state == CVK_TRIAL_GONE_BACK ? "gone back"
                                                   : "open");
    cvk_doc_text(doc, "reason", NULL, cvk_trial_words(session, c->state, c->reason));
    if (c->on_trial) {
        put_figures(doc, "running_before", &c->before);
        put_figures(doc, "running_since", &c->during);
    }
}

cvk_doc *cvk_change_document(const cvk_session *session, const cvk_change *change, const char *time)
{
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_text(doc, "time", NULL, time);
    cvk_doc_text(doc, "controller", NULL, session->name);
    put_change(doc, session, change);
    return doc;
}

static void put_shape(cvk_doc *doc, const char *key, const cvk_step_shape *s)
{
    cvk_doc_begin(doc, key, NULL);
    cvk_doc_number(doc, "rise_s", NULL, s->rise_s);
    cvk_doc_number(doc, "overshoot", NULL, s->overshoot);
    cvk_doc_number(doc, "settling_s", NULL, s->settling_s);
    cvk_doc_number(doc, "ripple", NULL, s->ripple);
    cvk_doc_end(doc);
}

static void put_step(cvk_doc *doc, const char *key, const cvk_measured_step *s)
{
    if (s == NULL) {
        return;
    }
    cvk_doc_begin(doc, key, NULL);
    cvk_doc_text(doc, "of", NULL,
                 s->kind == CVK_MEASURED_SPEED       ? "speed, electrical rad/s"
                 : s->kind == CVK_MEASURED_CURRENT_Q ? "q current, A"
                                                     : "d current, A");
    cvk_doc_number(doc, "from", NULL, s->from);
    cvk_doc_number(doc, "to", NULL, s->to);
    put_shape(doc, "measured", &s->shape);
    put_shape(doc, "predicted", &s->predicted_shape);
    if (s->kind == CVK_MEASURED_SPEED) {
        cvk_doc_number(doc, "stiffness_nm_rad", NULL, s->stiffness_nm_rad);
        cvk_doc_number(doc, "damping_nms_rad", NULL, s->damping_nms_rad);
        cvk_doc_number(doc, "inertia_kg_m2", NULL, s->inertia_kg_m2);
    }
    cvk_doc_end(doc);
}

cvk_doc *cvk_tuning_document(const cvk_tuning *t)
{
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_text(doc, "device", NULL, t->device);
    cvk_doc_text(doc, "controller", NULL, t->session->name);
    cvk_doc_list(doc, "changes");
    for (size_t n = 0; n < t->changes; n++) {
        cvk_doc_row(doc, NULL, NULL);
        put_change(doc, t->session, t->change[n]);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
    cvk_doc_begin(doc, "steps", NULL);
    put_step(doc, "current", t->current);
    put_step(doc, "speed", t->speed);
    cvk_doc_end(doc);
    cvk_doc_begin(doc, "values", NULL);
    for (unsigned n = 0; n < t->session->parameters; n++) {
        cvk_doc_number(doc, t->session->parameter[n].key, NULL, (double)t->session->value[n]);
    }
    cvk_doc_end(doc);
    return doc;
}
