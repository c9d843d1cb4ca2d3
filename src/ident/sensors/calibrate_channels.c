/* SPDX-License-Identifier: Apache-2.0
 *
 * The channels of the measuring chain: offsets where no current can flow, gains against each other
 * by the sum of the three currents, which is zero, and the bus against the terminals.
 */
#include "calibration.h"

#include "log/channels.h"
#include "math/numeric.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

#define SAME_DUTY 2e-3 /* all legs alike: no voltage across the winding */
#define LEAST_REST_S 0.02
#define REST_SETTLE_S 0.01 /* until currents have died out */
#define PARTS 16           /* of the log, for the spread of its gains */
#define GAIN_FLOOR 2e-4
#define OFFSET_FLOOR_SHARE 2e-4 /* of the peak current */

/* At this row of the log no voltage drives a current: all duties alike, or bridge off (no duties,
 * and voltages that the magnet alone makes would drive none). */
static bool rests(const cvk_log *log, size_t row)
{
    const double *a = log->column[CVK_COLUMN_DUTY_A], *b = log->column[CVK_COLUMN_DUTY_B],
                 *c = log->column[CVK_COLUMN_DUTY_C];
    return a != NULL && b != NULL && c != NULL && fabs(a[row] - b[row]) < SAME_DUTY &&
           fabs(b[row] - c[row]) < SAME_DUTY && fabs(a[row] - c[row]) < SAME_DUTY;
}

typedef struct mean {
    double sum, square, count;
} mean;

static void add(mean *m, double x)
{
    if (isfinite(x)) {
        m->sum += x;
        m->square += x * x;
        m->count += 1.0;
    }
}

static void find_offsets(const cvk_waveforms *s, const cvk_log *log, const size_t *row,
                         cvk_channel_calibration *out)
{
    const bool off =
        s->path != CVK_PATH_COMMANDED && !s->open_circuit && cvk_currentless(s, 0, s->rows);
    const size_t settle = (size_t)(REST_SETTLE_S / s->period_s);
    mean m[3] = {{0.0, 0.0, 0.0}, {0.0, 0.0, 0.0}, {0.0, 0.0, 0.0}};
    size_t resting = 0;
    for (size_t k = 0; k < s->rows; k++) {
        resting = off || rests(log, row[k]) ? resting + 1u : 0u;
        if (!off && resting <= settle) {
            continue;
        }
        for (int c = 0; c < 3; c++) {
            if (cvk_log_has(log, (cvk_column)(CVK_COLUMN_IA + c))) {
                add(&m[c], log->column[CVK_COLUMN_IA + c][row[k]]);
            }
        }
    }
    for (int c = 0; c < 3; c++) {
        const double average = m[c].sum / m[c].count;
        const double variance = m[c].square / m[c].count - average * average;
        if (m[c].count * s->period_s >= LEAST_REST_S) {
            out->offset_a[c] =
                cvk_measured_of(average, 1.96 * hypot(3.0 * sqrt(fmax(variance, 0.0) / m[c].count),
                                                      OFFSET_FLOOR_SHARE * s->peak_current_a));
        }
    }
    if (m[0].count * s->period_s < LEAST_REST_S && m[1].count * s->period_s < LEAST_REST_S) {
        snprintf(out->why_offset, sizeof out->why_offset,
                 "no stretch of %g ms in which no current can flow: let the log begin with the "
                 "bridge off or all duties alike",
                 1e3 * (LEAST_REST_S + REST_SETTLE_S));
    }
}

/* From the factors that make the sum of the currents zero to the channels' gains over their mean.
 */
static bool gains_of(const cvk_log *log, const size_t *row, size_t rows, double gain[3])
{
    double factor[3], sum = 0.0;
    if (!cvk_channel_gains(log, CVK_COLUMN_IA, row, rows, factor)) {
        return false;
    }
    for (int c = 0; c < 3; c++) {
        sum += 1.0 / (3.0 * factor[c]);
    }
    for (int c = 0; c < 3; c++) {
        gain[c] = 1.0 / (factor[c] * sum);
    }
    return true;
}

static void find_gains(const cvk_waveforms *s, const cvk_log *log, const size_t *row,
                       cvk_channel_calibration *out)
{
    double all[3], part[3], spread[3] = {0.0, 0.0, 0.0};
    int parts = 0;
    for (int c = 0; c < 3; c++) {
        if (!cvk_log_has(log, (cvk_column)(CVK_COLUMN_IA + c))) {
            snprintf(out->why_gain, sizeof out->why_gain,
                     "needs all three currents: their sum, which is zero, shows the gains");
            return;
        }
    }
    if (!gains_of(log, row, s->rows, all)) {
        snprintf(out->why_gain, sizeof out->why_gain,
                 "the currents are too small, or along one direction only: record a motor that "
                 "turns under load");
        return;
    }
    for (int n = 0; n < PARTS; n++) {
        const size_t begin = s->rows * (size_t)n / PARTS, end = s->rows * (size_t)(n + 1) / PARTS;
        if (gains_of(log, row + begin, end - begin, part)) {
            for (int c = 0; c < 3; c++) {
                spread[c] += (part[c] - all[c]) * (part[c] - all[c]);
            }
            parts++;
        }
    }
    for (int c = 0; c < 3; c++) {
        const double sd = parts > 1 ? sqrt(spread[c] / (parts * (parts - 1.0))) : 0.01;
        out->gain[c] =
            cvk_measured_of(all[c], cvk_student95(fmax(parts - 1.0, 1.0)) * hypot(sd, GAIN_FLOOR));
    }
}

void cvk_calibrate_channels(const cvk_waveforms *s, const cvk_log *log, const size_t *row,
                            cvk_channel_calibration *out)
{
    for (int c = 0; c < 3; c++) {
        out->offset_a[c] = out->gain[c] = CVK_UNKNOWN_MEASURED;
    }
    out->bus_gain = CVK_UNKNOWN_MEASURED;
    if (s->open_circuit) {
        snprintf(out->why_offset, sizeof out->why_offset, "the log has no current columns");
        snprintf(out->why_gain, sizeof out->why_gain, "the log has no current columns");
    } else {
        find_offsets(s, log, row, out);
        find_gains(s, log, row, out);
    }
    snprintf(out->why_bus, sizeof out->why_bus,
             "needs terminal voltages and duties in one log, or a meter: nothing else in a log "
             "tells the gain of the bus voltage");
}
