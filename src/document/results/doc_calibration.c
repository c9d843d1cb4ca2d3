/* SPDX-License-Identifier: Apache-2.0
 *
 * Calibrated sensors: from a log, and by the controller itself.
 */
#include "common.h"

#include "corvak/core/angles.h"
#include "corvak/core/units.h"
#include "corvak/document/number.h"

#include <math.h>

static const int code_of[CVK_HALL_EDGES] = {1, 3, 2, 6, 4, 5};

void put_measured(cvk_doc *doc, const char *key, const char *label, const cvk_measured *x)
{
    if (cvk_measured_known(x)) {
        cvk_doc_interval(doc, key, label, x->value, x->low, x->high);
    } else {
        cvk_doc_text(doc, key, NULL, NULL);
    }
}

/* For machines. */
static void put_list(cvk_doc *doc, const char *key, const cvk_measured *x, int count)
{
    cvk_doc_table(doc, key, NULL);
    for (int n = 0; n < count; n++) {
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_number(doc, "value", NULL, x[n].value);
        cvk_doc_number(doc, "low", NULL, x[n].low);
        cvk_doc_number(doc, "high", NULL, x[n].high);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
}

static const char *text_or_null(const char *text)
{
    return text[0] != '\0' ? text : NULL;
}

/* ---- one sensor ----------------------------------------------------------------------------- */

static void put_edges(cvk_doc *doc, const cvk_hall_calibration *h)
{
    cvk_doc_table(doc, NULL, "edges: where each is, and how much later upwards than downwards");
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        char label[32];
        g_snprintf(label, sizeof label, "between %d and %d", code_of[n],
                   code_of[(n + 1) % CVK_HALL_EDGES]);
        cvk_doc_row(doc, NULL, label);
        const cvk_measured *gap = &h->hysteresis_rad[n], *edge = &h->edge_rad[n];
        const double nan = (double)NAN;
        const bool known = cvk_measured_known(gap);
        cvk_doc_interval(doc, "angle_rad", "electrical angle", edge->value, edge->low, edge->high);
        cvk_doc_interval(doc, "gap_rad", "up after down", known ? gap->value : nan, gap->low,
                         gap->high);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
}

static void put_halls(cvk_doc *doc, const cvk_hall_calibration *h)
{
    static const char *const dead[] = {NULL, "a", "b", "c"};
    if (cvk_measured_known(&h->edge_rad[0])) {
        put_list(doc, "edge_rad", h->edge_rad, CVK_HALL_EDGES);
        put_list(doc, "hysteresis_rad", h->hysteresis_rad, CVK_HALL_EDGES);
        put_edges(doc, h);
    } else {
        cvk_doc_text(doc, NULL, "edges",
                     "each was passed too few times to be placed: turn further");
    }
    cvk_doc_number(doc, "edges", NULL, (double)h->edges);
    cvk_doc_number(doc, "bad_codes", h->bad_codes > 0 ? "bad codes" : NULL, (double)h->bad_codes);
    cvk_doc_remark(doc, "rows with code 0 or 7");
    cvk_doc_number(doc, "bounce_share", h->bounce_share > 0.001 ? "bouncing" : NULL,
                   h->bounce_share);
    cvk_doc_remark(doc, "of %zu edges", h->edges);
    cvk_doc_text(doc, "dead", NULL, dead[h->dead]);
}

static void put_sincos(cvk_doc *doc, const cvk_sincos_calibration *s)
{
    put_measured(doc, "amplitude_v", NULL, &s->amplitude_v);
    put_measured(doc, "sin_offset_v", "sin offset", &s->sin_offset_v);
    put_measured(doc, "cos_offset_v", "cos offset", &s->cos_offset_v);
    put_measured(doc, "gain_ratio", "sin over cos", &s->gain_ratio);
    put_measured(doc, "quadrature_rad", "quadrature", &s->quadrature_rad);
}

static void put_encoder(cvk_doc *doc, const cvk_encoder_calibration *e)
{
    cvk_doc_number(doc, "counts_per_turn", "counts per turn", e->counts_per_turn);
    cvk_doc_digits(doc, 9);
    put_measured(doc, "index_rad", "index mark at", &e->index_rad);
    cvk_doc_number(doc, "marks", NULL, (double)e->marks);
    put_measured(doc, "lost_per_turn", "lost counts per turn", &e->lost_per_turn);
}

static void put_own_errors(cvk_doc *doc, const cvk_sensor_calibration *s)
{
    put_measured(doc, "cosine_1_rad", "error once a turn, cos", &s->cosine_rad[0]);
    put_measured(doc, "sine_1_rad", "error once a turn, sin", &s->sine_rad[0]);
    put_measured(doc, "cosine_2_rad", "error twice a turn, cos", &s->cosine_rad[1]);
    put_measured(doc, "sine_2_rad", "error twice a turn, sin", &s->sine_rad[1]);
}

static void put_remaining(cvk_doc *doc, const cvk_sensor_calibration *s)
{
    const bool told = isfinite(s->error_before_rad);
    cvk_doc_number(doc, "error_before_rad", NULL, s->error_before_rad);
    cvk_doc_number(doc, "error_after_rad", NULL, s->error_after_rad);
    if (told) {
        const bool by_current = s->reference == CVK_REFERENCE_CURRENT;
        char *text = g_strdup_printf("%.2f° electrical rms before, %.2f° after%s",
                                     s->error_before_rad * CVK_DEG_PER_RAD,
                                     s->error_after_rad * CVK_DEG_PER_RAD,
                                     by_current ? ": the magnets' detents are in it" : "");
        cvk_doc_text(doc, NULL, by_current ? "against the vector" : "angle error", text);
        g_free(text);
    }
    cvk_doc_number(doc, "resolution_rad", NULL, s->resolution_rad);
    cvk_doc_number(doc, "noise_rad", NULL, s->noise_rad);
}

static void put_placed(cvk_doc *doc, const cvk_sensor_calibration *s)
{
    static const char *const references[] = {NULL, "back_emf", "current_vector", "sensor"};
    static const char *const by[] = {NULL, "the back-EMF",
                                     "the current vector that dragged the rotor both ways",
                                     "the best of the other sensors"};
    const bool known = cvk_measured_known(&s->electrical_offset_rad);
    char *counts = g_strdup_printf(
        "%s, %d electrical turn%s per turn of the sensor; %.1f electrical turns in the log",
        s->direction > 0 ? "forward" : "backward", s->ratio, s->ratio == 1 ? "" : "s", s->turns);
    cvk_doc_text(doc, NULL, known ? "direction" : NULL, counts);
    g_free(counts);
    put_measured(doc, "electrical_offset_rad", "electrical offset", &s->electrical_offset_rad);
    cvk_doc_number(doc, "direction", NULL, s->direction);
    cvk_doc_number(doc, "direction_probability", NULL, s->direction_probability);
    cvk_doc_number(doc, "electrical_per_own", NULL, s->ratio);
    cvk_doc_number(doc, "electrical_turns", NULL, s->turns);
    cvk_doc_text(doc, "reference", NULL, references[s->reference]);
    cvk_doc_text(doc, NULL, known ? "by" : NULL, by[s->reference]);
    put_measured(doc, "latency_s", "latency", &s->latency_s);
    put_measured(doc, "lag_rad", "rotor's lag", &s->lag_rad);
    cvk_doc_remark(doc, "taken off by using both ways");
}

static void put_sensor(cvk_doc *doc, const cvk_sensor_calibration *s, cvk_rotor_kind kind)
{
    const char *name = cvk_rotor_kind_name((int)kind);
    cvk_doc_begin(doc, name, name);
    put_placed(doc, s);
    put_own_errors(doc, s);
    if (kind == CVK_ROTOR_HALLS) {
        put_halls(doc, &s->hall);
    } else if (kind == CVK_ROTOR_SINCOS) {
        put_sincos(doc, &s->sincos);
    } else if (kind == CVK_ROTOR_ENCODER) {
        put_encoder(doc, &s->encoder);
    }
    put_remaining(doc, s);
    cvk_doc_text(doc, "missing", s->why[0] != '\0' ? "not calibrated" : NULL, text_or_null(s->why));
    cvk_doc_end(doc);
}

/* ---- all of a log --------------------------------------------------------------------------- */

static void put_side_by_side(cvk_doc *doc, const cvk_calibration *c)
{
    int known = 0;
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        known += cvk_measured_known(&c->sensor[k].electrical_offset_rad);
    }
    if (known < 2) {
        return;
    }
    cvk_doc_table(doc, NULL, "side by side, electrical");
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        const cvk_sensor_calibration *s = &c->sensor[k];
        const cvk_measured *offset = &s->electrical_offset_rad;
        if (cvk_measured_known(offset)) {
            cvk_doc_row(doc, NULL, cvk_rotor_kind_name(k));
            cvk_doc_number(doc, "step_rad", "step", s->resolution_rad);
            cvk_doc_number(doc, "noise_rad", "noise", s->noise_rad);
            cvk_doc_digits(doc, 3);
            cvk_doc_number(doc, "latency_s", "latency",
                           cvk_measured_known(&s->latency_s) ? s->latency_s.value : (double)NAN);
            cvk_doc_digits(doc, 3);
            cvk_doc_number(doc, "half_rad", "offset +-", 0.5 * (offset->high - offset->low));
            cvk_doc_digits(doc, 2);
            cvk_doc_end(doc);
        }
    }
    cvk_doc_end(doc);
}

static void put_channels(cvk_doc *doc, const cvk_channel_calibration *c, bool told)
{
    static const char *const offsets[] = {"offset a", "offset b", "offset c"}, *const gains[] = {
                                                                                   "gain a",
                                                                                   "gain b",
                                                                                   "gain c"};
    cvk_doc_begin(doc, "channels", told ? "current channels" : NULL);
    put_list(doc, "offset_a", c->offset_a, 3);
    put_list(doc, "gain", c->gain, 3);
    for (int n = 0; n < 3 && told; n++) {
        put_measured(doc, NULL, offsets[n], &c->offset_a[n]);
        cvk_doc_unit(doc, "mA", 1e3);
        put_measured(doc, NULL, gains[n], &c->gain[n]);
        cvk_doc_unit(doc, "of the mean", 1.0);
    }
    put_measured(doc, "bus_gain", told ? "bus voltage, of the terminals'" : NULL, &c->bus_gain);
    cvk_doc_text(doc, "missing_offset", told && c->why_offset[0] != '\0' ? "offsets open" : NULL,
                 text_or_null(c->why_offset));
    cvk_doc_text(doc, "missing_gain", told && c->why_gain[0] != '\0' ? "gains open" : NULL,
                 text_or_null(c->why_gain));
    cvk_doc_text(doc, NULL,
                 told && !cvk_measured_known(&c->bus_gain) ? "bus voltage's gain open" : NULL,
                 c->why_bus);
    cvk_doc_end(doc);
}

static void put_tachometer(cvk_doc *doc, const cvk_calibration *c)
{
    cvk_doc_begin(doc, "tachometer", "tachometer");
    put_measured(doc, "tachometer_v_s", "scale", &c->tachometer_v_s);
    cvk_doc_unit(doc, "mV per rad/s of the shaft", 1e3);
    cvk_doc_number(doc, "ripple", isfinite(c->tachometer_ripple) ? "ripple" : NULL,
                   c->tachometer_ripple);
    cvk_doc_unit(doc, "% rms", 100.0);
    cvk_doc_digits(doc, 2);
    cvk_doc_text(doc, "missing", c->why_tachometer[0] != '\0' ? "not calibrated" : NULL,
                 text_or_null(c->why_tachometer));
    cvk_doc_end(doc);
}

cvk_doc *cvk_calibration_document(const cvk_calibration *c, const char *log)
{
    bool any = false;
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_title(doc, "calibration from %s (95 %% intervals; angles electrical)", log);
    cvk_doc_text(doc, "name", NULL, log);
    cvk_doc_begin(doc, "calibration", NULL);
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        if (c->sensor[k].present) {
            put_sensor(doc, &c->sensor[k], (cvk_rotor_kind)k);
            any = true;
        }
    }
    cvk_doc_end(doc);
    if (!any) {
        cvk_doc_title(doc, "the log has no rotor sensor: log hall, enc, theta_m, or sin and cos");
    }
    if (c->has_tachometer) {
        put_tachometer(doc, c);
    }
    put_side_by_side(doc, c);
    put_channels(doc, &c->channels, any);
    cvk_doc_text(doc, "use", NULL,
                 c->best != CVK_ROTOR_ANGLE_KINDS ? cvk_rotor_kind_name((int)c->best) : NULL);
    cvk_doc_text(doc, "why", NULL, c->why_best);
    if (any) {
        cvk_doc_title(doc, "use %s", c->why_best);
    }
    put_findings(doc, &c->log, "about the log");
    return doc;
}

/* ---- wiring --------------------------------------------------------------------------------- */

static void put_direction(cvk_doc *doc, const char *key, int direction)
{
    cvk_doc_number(doc, key, NULL, direction != 0 ? direction : (double)NAN);
}

static void put_answer(cvk_doc *doc, const cvk_wiring_answer *w)
{
    const bool decided = w->undecided[0] == '\0';
    const char *sensor = w->by != CVK_ROTOR_ANGLE_KINDS ? cvk_rotor_kind_name((int)w->by) : NULL;
    cvk_doc_text(doc, "sensor", decided ? "sensor" : NULL, sensor);
    cvk_doc_text(doc, NULL, decided ? "sensor direction" : NULL,
                 w->sensor_direction > 0 ? "1, with the phase order"
                                         : "-1, against the phase order");
    cvk_doc_text(doc, NULL, decided ? "phases" : NULL,
                 w->phases[0] != '\0' ? w->phases : w->phases_open);
    cvk_doc_remark(doc, "%s", w->phases[0] != '\0' ? "at legs a, b, c" : "(open)");
    cvk_doc_number(doc, "probability", decided ? "probability" : NULL, w->probability);
    cvk_doc_digits(doc, 6);
    cvk_doc_text(doc, "phases", NULL, text_or_null(w->phases));
    cvk_doc_text(doc, "phases_open", NULL, text_or_null(w->phases_open));
    put_direction(doc, "sensor_direction", w->sensor_direction);
    cvk_doc_text(doc, "undecided", NULL, decided ? NULL : w->undecided);
    cvk_doc_text(doc, "cure", NULL, decided ? w->cure : NULL);
    if (decided) {
        cvk_doc_title(doc, "%s", w->cure);
    } else {
        cvk_doc_note(doc, "cannot decide from this log: %s", w->undecided);
    }
}

cvk_doc *cvk_wiring_document(const cvk_calibration *c, const char *log)
{
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_begin(doc, "wiring", NULL);
    cvk_doc_title(doc, "wiring of %s", log);
    put_answer(doc, &c->wiring);
    cvk_doc_table(doc, "sensors", "each sensor");
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        const cvk_sensor_calibration *s = &c->sensor[k];
        if (s->present) {
            cvk_doc_row(doc, cvk_rotor_kind_name(k), cvk_rotor_kind_name(k));
            put_direction(doc, "direction", s->direction);
            cvk_doc_text(doc, NULL, "counts",
                         s->direction > 0   ? "forward"
                         : s->direction < 0 ? "backward"
                                            : "undecided");
            cvk_doc_number(doc, "probability", "probability", s->direction_probability);
            cvk_doc_digits(doc, 6);
            cvk_doc_number(doc, "electrical_turns", "electrical turns", s->turns);
            cvk_doc_text(doc, "undecided", "", s->direction == 0 ? s->why : NULL);
            cvk_doc_end(doc);
        }
    }
    cvk_doc_end(doc);
    cvk_doc_end(doc);
    put_findings(doc, &c->log, "about the log");
    return doc;
}

/* ---- by the controller itself --------------------------------------------------------------- */

cvk_doc *cvk_self_calibration_document(const cvk_self_calibration *f, const char *name)
{
    const bool good = f->end == CVK_SELF_CALIBRATED;
    const double nan = (double)NAN;
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_text(doc, "name", NULL, name);
    cvk_doc_begin(doc, "device", NULL);
    cvk_doc_number(doc, "direction", NULL, f->direction);
    cvk_doc_text(doc, NULL, good ? "wiring" : NULL,
                 f->direction > 0
                     ? "the sensor counts with the phase order: rotor.reversed: no"
                     : "the sensor counts against the phase order: rotor.reversed: yes");
    cvk_doc_remark(doc, "(was %s)", f->reversed_before ? "yes" : "no");
    cvk_doc_interval(doc, "electrical_offset_rad", good ? "offset" : NULL,
                     good ? f->offset_rad : nan, f->offset_rad - f->half_rad,
                     f->offset_rad + f->half_rad);
    cvk_doc_remark(doc, "electrical; rotor.offset_rad: %.4f (was %.4f)", f->offset_rad,
                   f->offset_before_rad);
    if (f->halls && good) {
        cvk_doc_numbers(doc, "hall_edge_rad", "edges", f->edge_rad, CVK_ROTOR_EDGES);
        cvk_doc_unit(doc, "° late about their mean: rotor.hall_edge_1_rad to _6_rad",
                     CVK_DEG_PER_RAD);
        cvk_doc_digits(doc, 2);
    }
    cvk_doc_number(doc, "lag_rad", good ? "lag" : NULL, f->lag_rad);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "by which the rotor trailed the current, taken off by both ways");
    cvk_doc_number(doc, "likeness", good ? "likeness" : NULL, f->alike);
    cvk_doc_remark(doc, "of sensor and current while it was taken round");
    cvk_doc_number(doc, "torque_share", good ? "torque test" : NULL, f->torque_share);
    cvk_doc_digits(doc, 2);
    cvk_doc_remark(doc, "of the current limit turned it: turned both ways, the right way");
    cvk_doc_text(doc, NULL, good ? "speed test" : NULL,
                 "reached 10 % of program.speed_rad_s both ways");
    cvk_doc_text(doc, "missing", good ? NULL : "not calibrated", good ? NULL : f->why);
    cvk_doc_end(doc);
    return doc;
}

cvk_doc *cvk_hand_check_document(const cvk_hand_check *c)
{
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_flag(doc, "consistent", NULL, c->consistent);
    cvk_doc_number(doc, "length_s", NULL, c->length_s);
    cvk_doc_table(doc, "sensors", NULL);
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS; n++) {
        if (c->sensor[n].seen) {
            cvk_doc_row(doc, cvk_rotor_kind_name(n), NULL);
            cvk_doc_number(doc, "turns", NULL, c->sensor[n].turns);
            cvk_doc_number(doc, "way_turns", NULL, c->sensor[n].way);
            cvk_doc_end(doc);
        }
    }
    cvk_doc_end(doc);
    cvk_doc_table(doc, "findings", NULL);
    for (unsigned n = 0; n < c->findings; n++) {
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_flag(doc, "good", NULL, c->finding[n].good);
        cvk_doc_text(doc, "text", NULL, c->finding[n].text);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
    cvk_doc_title(doc, "%s after %.1f s", c->consistent ? "consistent" : "not consistent",
                  c->length_s);
    for (unsigned n = 0; n < c->findings; n++) {
        cvk_doc_note(doc, "%s %s", c->finding[n].good ? "+" : "-", c->finding[n].text);
    }
    return doc;
}
