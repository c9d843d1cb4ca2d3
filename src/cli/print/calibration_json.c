/* SPDX-License-Identifier: Apache-2.0
 *
 * A calibration as JSON: docs/file-formats.md has its keys.
 */
#include "base/calibration.h"

void add_json_measured(JsonBuilder *b, const char *key, const cvk_measured *x)
{
    json_builder_set_member_name(b, key);
    if (!cvk_measured_known(x)) {
        json_builder_add_null_value(b);
        return;
    }
    json_builder_begin_object(b);
    add_json_number(b, "value", x->value);
    add_json_number(b, "low", x->low);
    add_json_number(b, "high", x->high);
    json_builder_end_object(b);
}

static void add_values(JsonBuilder *b, const char *key, const cvk_measured *x, int count)
{
    json_builder_set_member_name(b, key);
    json_builder_begin_array(b);
    for (int n = 0; n < count; n++) {
        json_builder_begin_object(b);
        add_json_number(b, "value", x[n].value);
        add_json_number(b, "low", x[n].low);
        add_json_number(b, "high", x[n].high);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
}

static void add_halls(JsonBuilder *b, const cvk_hall_calibration *h)
{
    static const char *const dead[] = {NULL, "a", "b", "c"};
    if (cvk_measured_known(&h->edge_rad[0])) {
        add_values(b, "edge_rad", h->edge_rad, CVK_HALL_EDGES);
        add_values(b, "hysteresis_rad", h->hysteresis_rad, CVK_HALL_EDGES);
    }
    add_json_number(b, "edges", (double)h->edges);
    add_json_number(b, "bad_codes", (double)h->bad_codes);
    add_json_number(b, "bounce_share", h->bounce_share);
    add_json_text(b, "dead", dead[h->dead]);
}

static void add_sincos(JsonBuilder *b, const cvk_sincos_calibration *s)
{
    add_json_measured(b, "amplitude_v", &s->amplitude_v);
    add_json_measured(b, "sin_offset_v", &s->sin_offset_v);
    add_json_measured(b, "cos_offset_v", &s->cos_offset_v);
    add_json_measured(b, "gain_ratio", &s->gain_ratio);
    add_json_measured(b, "quadrature_rad", &s->quadrature_rad);
}

static void add_encoder(JsonBuilder *b, const cvk_encoder_calibration *e)
{
    add_json_number(b, "counts_per_turn", e->counts_per_turn);
    add_json_measured(b, "index_rad", &e->index_rad);
    add_json_number(b, "marks", (double)e->marks);
    add_json_measured(b, "lost_per_turn", &e->lost_per_turn);
}

static void add_sensor(JsonBuilder *b, const cvk_sensor_calibration *s, cvk_rotor_kind kind)
{
    static const char *const references[] = {NULL, "back_emf", "current_vector", "sensor"};
    json_builder_set_member_name(b, cvk_rotor_kind_name((int)kind));
    json_builder_begin_object(b);
    add_json_measured(b, "electrical_offset_rad", &s->electrical_offset_rad);
    json_builder_set_member_name(b, "direction");
    json_builder_add_int_value(b, s->direction);
    add_json_number(b, "direction_probability", s->direction_probability);
    add_json_number(b, "electrical_per_own", s->ratio);
    add_json_number(b, "electrical_turns", s->turns);
    add_json_text(b, "reference", references[s->reference]);
    add_json_measured(b, "latency_s", &s->latency_s);
    add_json_measured(b, "lag_rad", &s->lag_rad);
    add_json_measured(b, "cosine_1_rad", &s->cosine_rad[0]);
    add_json_measured(b, "sine_1_rad", &s->sine_rad[0]);
    add_json_measured(b, "cosine_2_rad", &s->cosine_rad[1]);
    add_json_measured(b, "sine_2_rad", &s->sine_rad[1]);
    add_json_number(b, "error_before_rad", s->error_before_rad);
    add_json_number(b, "error_after_rad", s->error_after_rad);
    add_json_number(b, "resolution_rad", s->resolution_rad);
    add_json_number(b, "noise_rad", s->noise_rad);
    if (kind == CVK_ROTOR_HALLS) {
        add_halls(b, &s->hall);
    } else if (kind == CVK_ROTOR_SINCOS) {
        add_sincos(b, &s->sincos);
    } else if (kind == CVK_ROTOR_ENCODER) {
        add_encoder(b, &s->encoder);
    }
    add_json_text(b, "missing", s->why[0] != '\0' ? s->why : NULL);
    json_builder_end_object(b);
}

static void add_channels(JsonBuilder *b, const cvk_channel_calibration *c)
{
    json_builder_set_member_name(b, "channels");
    json_builder_begin_object(b);
    add_values(b, "offset_a", c->offset_a, 3);
    add_values(b, "gain", c->gain, 3);
    add_json_measured(b, "bus_gain", &c->bus_gain);
    add_json_text(b, "missing_offset", c->why_offset[0] != '\0' ? c->why_offset : NULL);
    add_json_text(b, "missing_gain", c->why_gain[0] != '\0' ? c->why_gain : NULL);
    json_builder_end_object(b);
}

void print_calibration_json(const cvk_calibration *c, const char *log)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_json_text(b, "name", log);
    json_builder_set_member_name(b, "calibration");
    json_builder_begin_object(b);
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        if (c->sensor[k].present) {
            add_sensor(b, &c->sensor[k], (cvk_rotor_kind)k);
        }
    }
    json_builder_end_object(b);
    if (c->has_tachometer) {
        json_builder_set_member_name(b, "tachometer");
        json_builder_begin_object(b);
        add_json_measured(b, "tachometer_v_s", &c->tachometer_v_s);
        add_json_number(b, "ripple", c->tachometer_ripple);
        add_json_text(b, "missing", c->why_tachometer[0] != '\0' ? c->why_tachometer : NULL);
        json_builder_end_object(b);
    }
    add_channels(b, &c->channels);
    add_json_text(b, "use",
                  c->best != CVK_ROTOR_ANGLE_KINDS ? cvk_rotor_kind_name((int)c->best) : NULL);
    add_json_text(b, "why", c->why_best);
    add_json_findings(b, &c->log);
    json_builder_end_object(b);
    print_json_document(b);
}
