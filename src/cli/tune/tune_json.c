/* SPDX-License-Identifier: Apache-2.0
 *
 * A live session as JSON: a change for the history, and the whole session as one document.
 */
#include "tune.h"

#include <math.h>

const char *tune_trial_text(const tuner *t, int32_t state, int32_t reason)
{
    const char *why = cvk_session_state_text(&t->session, "trial_reason", reason);
    const char *what = cvk_session_state_text(&t->session, "trial", state);
    return state == CVK_TRIAL_GONE_BACK && why != NULL ? why : (what != NULL ? what : "unknown");
}

static void add_figures(JsonBuilder *b, const char *name, const cvk_running_figures *f)
{
    json_builder_set_member_name(b, name);
    json_builder_begin_object(b);
    add_json_number(b, "length_s", f->length_s);
    add_json_number(b, "speed_rad_s", f->speed_rad_s);
    add_json_number(b, "speed_error_rad_s", f->speed_error_rad_s);
    add_json_number(b, "current_q_a", f->current_q_a);
    add_json_number(b, "ripple_a", f->ripple_a);
    add_json_number(b, "peak_a", f->peak_a);
    add_json_number(b, "quality", f->quality);
    json_builder_end_object(b);
}

void add_json_change(JsonBuilder *b, const tuner *t, const made_change *m)
{
    json_builder_set_member_name(b, "parameters");
    json_builder_begin_array(b);
    for (unsigned n = 0; n < m->change.count; n++) {
        json_builder_begin_object(b);
        add_json_text(b, "key", t->session.parameter[m->change.item[n].parameter].key);
        add_json_number(b, "before", (double)m->change.before_value[n]);
        add_json_number(b, "after", (double)m->change.item[n].value);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    add_json_text(b, "end",
                  m->change.state == CVK_TRIAL_KEPT        ? "kept"
                  : m->change.state == CVK_TRIAL_GONE_BACK ? "gone back"
                                                           : "open");
    add_json_text(b, "reason", tune_trial_text(t, m->change.state, m->change.reason));
    if (m->change.on_trial) {
        add_figures(b, "running_before", &m->change.before);
        add_figures(b, "running_since", &m->change.during);
    }
}

static void add_shape(JsonBuilder *b, const char *name, const cvk_step_shape *s)
{
    json_builder_set_member_name(b, name);
    json_builder_begin_object(b);
    add_json_number(b, "rise_s", s->rise_s);
    add_json_number(b, "overshoot", s->overshoot);
    add_json_number(b, "settling_s", s->settling_s);
    add_json_number(b, "ripple", s->ripple);
    json_builder_end_object(b);
}

static void add_step(JsonBuilder *b, const char *name, const cvk_measured_step *s)
{
    json_builder_set_member_name(b, name);
    json_builder_begin_object(b);
    add_json_text(b, "of",
                  s->kind == CVK_MEASURED_SPEED       ? "speed, electrical rad/s"
                  : s->kind == CVK_MEASURED_CURRENT_Q ? "q current, A"
                                                      : "d current, A");
    add_json_number(b, "from", s->from);
    add_json_number(b, "to", s->to);
    add_shape(b, "measured", &s->shape);
    add_shape(b, "predicted", &s->predicted_shape);
    if (s->kind == CVK_MEASURED_SPEED) {
        add_json_number(b, "stiffness_nm_rad", s->stiffness_nm_rad);
        add_json_number(b, "damping_nms_rad", s->damping_nms_rad);
        add_json_number(b, "inertia_kg_m2", s->inertia_kg_m2);
    }
    json_builder_end_object(b);
}

void tune_print_json(const tuner *t)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_json_text(b, "device", t->address);
    add_json_text(b, "controller", t->session.name);
    json_builder_set_member_name(b, "changes");
    json_builder_begin_array(b);
    for (guint n = 0; n < t->changes->len; n++) {
        json_builder_begin_object(b);
        add_json_change(b, t, &g_array_index(t->changes, made_change, n));
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_set_member_name(b, "steps");
    json_builder_begin_object(b);
    for (int n = 0; n < 2; n++) {
        if (t->measured[n]) {
            add_step(b, n == 0 ? "current" : "speed", &t->step[n]);
        }
    }
    json_builder_end_object(b);
    json_builder_set_member_name(b, "values");
    json_builder_begin_object(b);
    for (unsigned n = 0; n < t->parameters; n++) {
        add_json_number(b, t->session.parameter[n].key, (double)t->session.value[n]);
    }
    json_builder_end_object(b);
    json_builder_end_object(b);
    print_json_document(b);
}
