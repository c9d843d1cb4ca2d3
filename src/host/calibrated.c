/* SPDX-License-Identifier: Apache-2.0
 *
 * A calibration as parameters.
 */
#include "corvak/host/calibrated.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdio.h>

/* A load shifts by 1 / current: at 0.6 of the current by so much less than it shifted before. */
#define SHIFT_SHARE 1.5
/* What 90 calibrations (8 benches, each sensor, both inverters) left beside that: of the lag, as
 * friction is not alike both ways; and of the d current that the offset is settled by. */
#define LAG_SHARE 0.18
#define SETTLED_RAD 0.0105

static void set_from(cvk_calibrated *out, const char *key, double value, const char *from)
{
    const cvk_parameter *row = cvk_parameter_named(key);
    const float number = (float)value;
    if (row == NULL || out->items == CVK_CALIBRATED_MOST || !(number >= row->low) ||
        !(number <= row->high)) {
        return;
    }
    cvk_calibrated_item *item = &out->item[out->items++];
    *item = (cvk_calibrated_item){.parameter = row, .value = number};
    snprintf(item->from, sizeof item->from, "%s", from);
}

/* A measured value with its interval; one that is not known is left out. */
static void set_measured(cvk_calibrated *out, const char *key, const cvk_measured *x, double value,
                         const char *log)
{
    char from[CVK_CARD_TEXT];
    if (cvk_measured_known(x)) {
        snprintf(from, sizeof from, "calibrate %s: +- %.2g", log, 0.5 * (x->high - x->low));
        set_from(out, key, value, from);
    }
}

/* Its interval leaves zero out. */
static bool differs(const cvk_measured *x)
{
    return cvk_measured_known(x) && x->low * x->high > 0.0;
}

static void set_harmonics(cvk_calibrated *out, const cvk_sensor_calibration *s, const char *log)
{
    static const char *const cosines[] = {"rotor.cosine_1_rad", "rotor.cosine_2_rad"};
    static const char *const sines[] = {"rotor.sine_1_rad", "rotor.sine_2_rad"};
    for (int n = 0; n < CVK_SENSOR_HARMONICS; n++) { /* one that may be none is taken for none */
        if (differs(&s->cosine_rad[n]) || differs(&s->sine_rad[n])) {
            set_measured(out, cosines[n], &s->cosine_rad[n], s->cosine_rad[n].value, log);
            set_measured(out, sines[n], &s->sine_rad[n], s->sine_rad[n].value, log);
        }
    }
}

static void set_encoder(cvk_calibrated *out, const cvk_sensor_calibration *s, const char *log)
{
    char from[CVK_CARD_TEXT];
    snprintf(from, sizeof from, "calibrate %s", log);
    set_from(out, "rotor.counts", s->encoder.counts_per_turn, from);
    set_measured(out, "rotor.index_rad", &s->encoder.index_rad, s->encoder.index_rad.value, log);
    snprintf(from, sizeof from, "calibrate %s: %s", log,
             s->encoder.marks > 0 ? "its index mark was seen"
                                  : "it has shown no index mark: the offset holds until power-off");
    set_from(out, "rotor.startup", s->encoder.marks > 0 ? CVK_ROTOR_INDEX : CVK_ROTOR_CALIBRATE,
             from);
}

static void set_sincos(cvk_calibrated *out, const cvk_sensor_calibration *s, const char *log)
{
    const cvk_sincos_calibration *e = &s->sincos;
    set_measured(out, "rotor.amplitude_v", &e->amplitude_v, e->amplitude_v.value, log);
    set_measured(out, "rotor.sin_offset_v", &e->sin_offset_v, e->sin_offset_v.value, log);
    set_measured(out, "rotor.cos_offset_v", &e->cos_offset_v, e->cos_offset_v.value, log);
    set_measured(out, "rotor.gain_ratio", &e->gain_ratio, e->gain_ratio.value, log);
    set_measured(out, "rotor.quadrature_rad", &e->quadrature_rad, e->quadrature_rad.value, log);
}

/* Edges in the sensor's own count, from their places in the phases' angle. */
static void set_halls(cvk_calibrated *out, const cvk_sensor_calibration *s, const char *log)
{
    const double offset = s->electrical_offset_rad.value;
    double apart = 0.0, known = 0.0, half = 0.0;
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        char key[32];
        snprintf(key, sizeof key, "rotor.hall_edge_%d_rad", n + 1);
        const cvk_measured *edge = &s->hall.edge_rad[n], *gap = &s->hall.hysteresis_rad[n];
        const double own = s->direction * (edge->value - offset) - (n + 0.5) * CVK_PI_WIDE / 3.0;
        set_measured(out, key, edge, remainder(own, 2.0 * CVK_PI_WIDE), log);
        if (cvk_measured_known(gap)) {
            apart += gap->value;
            half += 0.5 * (gap->high - gap->low);
            known += 1.0;
        }
    }
    if (known > 0.0) {
        const cvk_measured mean = {apart / known, (apart - half) / known, (apart + half) / known};
        set_measured(out, "rotor.hall_hysteresis_rad", &mean, fmax(mean.value, 0.0), log);
    }
}

static void set_channels(cvk_calibrated *out, const cvk_channel_calibration *c, const char *log)
{
    static const char *const keys[] = {"sensing.offset_phase_a_a", "sensing.offset_phase_b_a",
                                       "sensing.offset_phase_c_a"};
    for (int n = 0; n < 3; n++) {
        set_measured(out, keys[n], &c->offset_a[n], c->offset_a[n].value, log);
    }
}

void cvk_calibrated_parameters(const cvk_calibration *calibration, cvk_rotor_kind kind,
                               const char *log, cvk_calibrated *out)
{
    const cvk_sensor_calibration *s = &calibration->sensor[kind];
    char from[CVK_CARD_TEXT];
    out->items = 0;
    if (!cvk_measured_known(&s->electrical_offset_rad)) {
        return;
    }
    snprintf(from, sizeof from, "calibrate %s", log);
    if (kind == CVK_ROTOR_ABSOLUTE || kind == CVK_ROTOR_ENCODER) {
        set_from(out, "motor.pole_pairs", s->ratio, from);
    }
    set_from(out, "rotor.kind", (double)kind, from);
    if (kind != CVK_ROTOR_ENCODER) {
        snprintf(from, sizeof from, "calibrate %s: holds until the sensor is mounted anew", log);
        set_from(out, "rotor.startup", CVK_ROTOR_STORED, from);
    }
    snprintf(from, sizeof from, "calibrate %s: probability %.6g", log, s->direction_probability);
    set_from(out, "rotor.reversed", s->direction < 0, from);
    set_measured(out, "rotor.offset_rad", &s->electrical_offset_rad, s->electrical_offset_rad.value,
                 log);
    set_measured(out, "rotor.latency_s", &s->latency_s, fmax(s->latency_s.value, 0.0), log);
    set_harmonics(out, s, log);
    if (kind == CVK_ROTOR_ENCODER) {
        set_encoder(out, s, log);
    } else if (kind == CVK_ROTOR_SINCOS) {
        set_sincos(out, s, log);
    } else if (kind == CVK_ROTOR_HALLS) {
        set_halls(out, s, log);
    }
    set_channels(out, &calibration->channels, log);
}

double cvk_found_offset_half_rad(double shift_rad, double lag_rad)
{
    return hypot(hypot(SHIFT_SHARE * shift_rad, LAG_SHARE * lag_rad), SETTLED_RAD);
}
