/* SPDX-License-Identifier: Apache-2.0
 *
 * The order of work of a calibration: the log made ready, then each sensor, the one that shows most
 * first, so that the others need not search what it has found.
 */
#include "corvak/ident/calibrate.h"

#include "corvak/core/halls.h"
#include "corvak/ident/estimate.h"

#include "calibration.h"
#include "estimate/prepared.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

cvk_calibrate_options cvk_calibrate_options_default(void)
{
    return (cvk_calibrate_options){.log = cvk_estimate_options_default()};
}

static void clear(cvk_calibration *out)
{
    memset(out, 0, sizeof *out);
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        cvk_sensor_calibration *c = &out->sensor[k];
        c->electrical_offset_rad = c->latency_s = c->lag_rad = CVK_UNKNOWN_MEASURED;
        for (int n = 0; n < CVK_SENSOR_HARMONICS; n++) {
            c->cosine_rad[n] = c->sine_rad[n] = CVK_UNKNOWN_MEASURED;
        }
        for (int n = 0; n < CVK_HALL_EDGES; n++) {
            c->hall.edge_rad[n] = c->hall.hysteresis_rad[n] = CVK_UNKNOWN_MEASURED;
        }
        c->sincos.sin_offset_v = c->sincos.cos_offset_v = c->sincos.amplitude_v =
            c->sincos.gain_ratio = c->sincos.quadrature_rad = CVK_UNKNOWN_MEASURED;
        c->encoder.index_rad = c->encoder.lost_per_turn = CVK_UNKNOWN_MEASURED;
        c->error_before_rad = c->error_after_rad = c->resolution_rad = c->noise_rad = NAN;
    }
    out->tachometer_v_s = CVK_UNKNOWN_MEASURED;
    out->best = out->wiring.by = CVK_ROTOR_ANGLE_KINDS;
}

/* Electrical turns in one of the sensor, when that is known before; 0 else. */
static int known_ratio(const cvk_calibrate_options *options, const cvk_calibration *so_far,
                       cvk_rotor_kind kind)
{
    const cvk_sensor_calibration *shaft = &so_far->sensor[CVK_ROTOR_ABSOLUTE];
    if (shaft->direction == 0) {
        shaft = &so_far->sensor[CVK_ROTOR_ENCODER];
    }
    const double pole_pairs = options->pole_pairs > 0.0
                                  ? options->pole_pairs
                                  : (shaft->direction != 0 ? shaft->ratio : 0);
    if (kind == CVK_ROTOR_HALLS) {
        return 1;
    }
    if (kind != CVK_ROTOR_SINCOS) {
        return (int)pole_pairs;
    }
    const double ratio = pole_pairs / options->periods_per_turn;
    return options->periods_per_turn > 0.0 && ratio == floor(ratio) ? (int)ratio : 0;
}

static void judge_halls(const cvk_sensor_column *c, cvk_sensor_calibration *out)
{
    const unsigned seen = c->hall_seen & 0xffu;
    out->hall.edges = c->edges;
    out->hall.bad_codes = c->bad;
    out->hall.bounce_share = c->edges > 0 ? (double)c->bounces / (double)c->edges : 0.0;
    const bool changed = (seen & (seen - 1u)) != 0u; /* more than one code */
    out->hall.dead = changed ? cvk_dead_hall(seen) : 0;
}

static double noise_of(const cvk_sensor_column *c, const cvk_waveforms *s)
{
    double sum = 0.0, count = 0.0;
    for (size_t k = 4; k < s->rows; k++) {
        const double *x = &c->angle_rad[k];
        const double d = x[0] - 4.0 * x[-1] + 6.0 * x[-2] - 4.0 * x[-3] + x[-4];
        if (isfinite(d) && fabs(d) < 1.0) {
            sum += d * d;
            count += 1.0;
        }
    }
    return count > 0.0 ? sqrt(sum / (70.0 * count)) : NAN;
}

static cvk_status calibrate_sensor(const cvk_angle_data *data, const cvk_log *log,
                                   const size_t *row, const cvk_calibrate_options *options,
                                   cvk_rotor_kind kind, cvk_sensor_column *column,
                                   cvk_calibration *out)
{
    cvk_sensor_calibration *sensor = &out->sensor[kind];
    const cvk_waveforms *s = data->waveforms;
    double counts = log->encoder_counts;
    cvk_status status = cvk_sensor_column_read(column, kind, s, log, row, counts);
    if (status == CVK_OK && kind == CVK_ROTOR_ENCODER && !(counts > 0.0)) {
        counts = cvk_find_counts(column, s, log, row);
        cvk_sensor_column_free(column);
        status = cvk_sensor_column_read(column, kind, s, log, row, counts);
    }
    if (status != CVK_OK) {
        return status == CVK_NOT_IN_LOG ? CVK_OK : status;
    }
    sensor->present = true;
    if (kind == CVK_ROTOR_HALLS) {
        judge_halls(column, sensor);
        if (sensor->hall.dead != 0) {
            snprintf(sensor->why, sizeof sensor->why,
                     "hall %c never changes while the others do: a broken wire, or the hall itself",
                     'a' + sensor->hall.dead - 1);
            return CVK_OK;
        }
    }
    if (kind == CVK_ROTOR_ENCODER && !(counts > 0.0)) {
        cvk_calibrate_direction(data, column, sensor);
        if (sensor->direction != 0) {
            snprintf(sensor->why, sizeof sensor->why,
                     "its counts per turn are not known: add the line `# encoder_counts: 4096` "
                     "(with your encoder's number) before the header, or --encoder-counts");
        }
        return CVK_OK;
    }
    if (kind == CVK_ROTOR_SINCOS) {
        cvk_calibrate_ellipse(column, s, &sensor->sincos);
    }
    status = cvk_calibrate_angle(data, column, known_ratio(options, out, kind), sensor);
    const double ratio = sensor->ratio > 0 ? sensor->ratio : 1.0;
    sensor->resolution_rad = ratio * column->step_rad;
    sensor->noise_rad = kind == CVK_ROTOR_HALLS ? NAN : ratio * noise_of(column, s);
    if (kind == CVK_ROTOR_ENCODER) {
        cvk_calibrate_marks(column, s, log, row, counts, &sensor->encoder);
    }
    return status;
}

/* A finer sensor that is calibrated says where the rotor is at each of their edges. */
static void refine_halls(const cvk_sensor_column *column, const cvk_waveforms *s,
                         cvk_calibration *out)
{
    cvk_sensor_calibration *halls = &out->sensor[CVK_ROTOR_HALLS];
    double least = INFINITY;
    int best = CVK_ROTOR_ANGLE_KINDS;
    for (int k = 0; k < CVK_ROTOR_HALLS; k++) {
        const cvk_measured *offset = &out->sensor[k].electrical_offset_rad;
        if (cvk_measured_known(offset) && offset->high - offset->low < least) {
            least = offset->high - offset->low;
            best = k;
        }
    }
    const cvk_measured *own = &halls->electrical_offset_rad;
    const bool sharper =
        halls->reference == CVK_REFERENCE_BACK_EMF && own->high - own->low <= least;
    if (best != CVK_ROTOR_ANGLE_KINDS && halls->direction != 0 && !sharper) {
        cvk_calibrate_halls_by_sensor(&column[CVK_ROTOR_HALLS], s, &column[best],
                                      &out->sensor[best], halls);
    }
}

static cvk_status calibrate_all(const cvk_waveforms *s, const cvk_log *log,
                                const cvk_calibrate_options *options, cvk_calibration *out)
{
    cvk_sensor_column column[CVK_ROTOR_ANGLE_KINDS] = {{.kind = CVK_ROTOR_HALLS}};
    cvk_angle_data data = {.storage = NULL};
    size_t *row = cvk_rows_in_log(s, log);
    cvk_status status = row == NULL ? CVK_NO_MEMORY : cvk_angle_data_make(&data, s);
    const cvk_sensor_column *fastest = NULL;
    double direction = 1.0;
    for (int kind = 0; kind < CVK_ROTOR_ANGLE_KINDS && status == CVK_OK; kind++) {
        status =
            calibrate_sensor(&data, log, row, options, (cvk_rotor_kind)kind, &column[kind], out);
        if (fastest == NULL && out->sensor[kind].direction != 0 &&
            (kind == CVK_ROTOR_ABSOLUTE || kind == CVK_ROTOR_ENCODER)) {
            fastest = &column[kind];
            direction = out->sensor[kind].direction;
        }
    }
    refine_halls(column, s, out);
    if (status == CVK_OK) {
        cvk_calibrate_tachometer(fastest, s, log, row, direction, out);
        cvk_calibrate_channels(s, log, row, &out->channels);
    }
    for (int kind = 0; kind < CVK_ROTOR_ANGLE_KINDS; kind++) {
        cvk_sensor_column_free(&column[kind]);
    }
    cvk_angle_data_free(&data);
    free(row);
    return status;
}

/* The log cannot be used: its error is each sensor's reason. */
static void give_reason(cvk_calibration *out, const cvk_log *log)
{
    const char *why = "the log cannot be used";
    for (size_t n = out->log.findings; n-- > 0;) {
        why = out->log.finding[n].severity == CVK_ERROR ? out->log.finding[n].text : why;
    }
    static const cvk_column columns[CVK_ROTOR_ANGLE_KINDS] = {[CVK_ROTOR_HALLS] = CVK_COLUMN_HALL,
                                                              [CVK_ROTOR_ENCODER] = CVK_COLUMN_ENC,
                                                              [CVK_ROTOR_SINCOS] = CVK_COLUMN_SIN,
                                                              [CVK_ROTOR_ABSOLUTE] =
                                                                  CVK_COLUMN_THETA_M};
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        out->sensor[k].present = cvk_log_has(log, columns[k]);
        snprintf(out->sensor[k].why, sizeof out->sensor[k].why, "%s", why);
    }
    snprintf(out->wiring.undecided, sizeof out->wiring.undecided, "%s", why);
}

cvk_status cvk_calibrate_log(const cvk_log *log, const cvk_calibrate_options *options,
                             cvk_calibration *out)
{
    if (log == NULL || options == NULL || out == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    clear(out);
    cvk_log stated = *log;
    stated.encoder_counts =
        options->encoder_counts > 0.0 ? options->encoder_counts : log->encoder_counts;
    cvk_calibrate_options how = *options;
    how.pole_pairs = options->pole_pairs > 0.0 ? options->pole_pairs : log->pole_pairs;
    cvk_prepared prepared = {.usable = false};
    cvk_status status = cvk_prepare(&prepared, &stated, &how.log, &out->log);
    if (status == CVK_OK && !prepared.usable) {
        give_reason(out, log);
        status = CVK_NOT_IN_LOG;
    } else if (status == CVK_OK) {
        status = calibrate_all(&prepared.waveforms, &prepared.log, &how, out);
    }
    cvk_prepared_free(&prepared);
    if (status == CVK_OK) {
        cvk_choose_sensor(out);
        cvk_answer_wiring(out);
        bool any = false;
        for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
            any = any || cvk_measured_known(&out->sensor[k].electrical_offset_rad);
        }
        status = any ? CVK_OK : CVK_NOT_IN_LOG;
    }
    return status;
}
