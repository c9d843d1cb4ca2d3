/* SPDX-License-Identifier: Apache-2.0
 *
 * What is counted: an encoder's index mark and lost counts, and a tachometer's volts.
 */
#include "calibration.h"

#include "corvak/core/units.h"

#include "math/numeric.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

#define TWO_PI (2.0 * CVK_PI_WIDE)
#define MOST_MARKS 4096u
#define FEWEST_COUNTS 16.0 /* of an encoder in a turn */
#define FEWEST_TURNS 1.0
#define SPEED_S 0.01 /* the tachometer is compared over so long */
#define FEWEST_SPEEDS 16u

typedef struct marks {
    size_t count;
    double angle_rad[MOST_MARKS]; /* encoder's, going on, in the middle of the step */
    double step_rad[MOST_MARKS];
} marks;

static void find_marks(const cvk_sensor_column *c, const cvk_waveforms *s, const cvk_log *log,
                       const size_t *row, marks *out)
{
    const double *index = log->column[CVK_COLUMN_INDEX], level = cvk_mark_level(log);
    out->count = 0;
    for (size_t k = 1; k < s->rows && out->count < MOST_MARKS; k++) {
        const double now = c->angle_rad[k], before = c->angle_rad[k - 1];
        if (index[row[k]] > level && !(index[row[k - 1]] > level) && isfinite(now - before)) {
            out->angle_rad[out->count] = 0.5 * (now + before);
            out->step_rad[out->count++] = fabs(now - before);
        }
    }
}

/* Median of the counts from mark to mark: the same mark passed the other way is none. */
static double counts_by_marks(const marks *m)
{
    double gone[MOST_MARKS];
    size_t n = 0;
    for (size_t k = 1; k < m->count; k++) {
        const double counts = fabs(m->angle_rad[k] - m->angle_rad[k - 1]);
        if (counts > FEWEST_COUNTS) {
            gone[n++] = counts;
        }
    }
    return n > 0 ? round(cvk_median(gone, n)) : 0.0;
}

/* Counts while the shaft turns, by an absolute angle in the same log. */
static double counts_by_shaft(const cvk_sensor_column *c, const cvk_waveforms *s)
{
    double least = INFINITY, most = -INFINITY;
    size_t from = 0, to = 0;
    for (size_t k = 0; s->theta_m != NULL && k < s->rows; k++) {
        from = s->theta_m[k] < least ? k : from;
        to = s->theta_m[k] > most ? k : to;
        least = fmin(least, s->theta_m[k]);
        most = fmax(most, s->theta_m[k]);
    }
    const double turns = (most - least) / TWO_PI;
    const double counts = fabs(c->angle_rad[to] - c->angle_rad[from]) / turns;
    return turns > FEWEST_TURNS && counts > FEWEST_COUNTS ? round(counts) : 0.0;
}

double cvk_find_counts(const cvk_sensor_column *c, const cvk_waveforms *s, const cvk_log *log,
                       const size_t *row)
{
    double counts = 0.0;
    marks *m = malloc(sizeof *m);
    if (m != NULL && cvk_log_has(log, CVK_COLUMN_INDEX)) {
        find_marks(c, s, log, row, m);
        counts = counts_by_marks(m);
    }
    free(m);
    if (!(counts > 0.0) && cvk_log_has(log, CVK_COLUMN_THETA_M)) {
        counts = counts_by_shaft(c, s);
    }
    return counts;
}

void cvk_calibrate_marks(const cvk_sensor_column *c, const cvk_waveforms *s, const cvk_log *log,
                         const size_t *row, double counts, cvk_encoder_calibration *out)
{
    out->counts_per_turn = counts;
    out->index_rad = out->lost_per_turn = CVK_UNKNOWN_MEASURED;
    if (!cvk_log_has(log, CVK_COLUMN_INDEX) || !(counts > 0.0)) {
        return;
    }
    marks *m = malloc(sizeof *m);
    if (m == NULL) {
        return;
    }
    find_marks(c, s, log, row, m);
    out->marks = m->count;
    double along = 0.0, across = 0.0, off = 0.0, off2 = 0.0, turns = 0.0, step = 0.0;
    for (size_t n = 0; n < m->count; n++) {
        along += cos(m->angle_rad[n]);
        across += sin(m->angle_rad[n]);
        step += m->step_rad[n] / (double)m->count;
        if (n > 0) {
            const double gone = m->angle_rad[n] - m->angle_rad[n - 1];
            const double whole = round(gone / TWO_PI);
            if (whole != 0.0) { /* not the same mark the other way */
                const double lost = (fabs(whole) * TWO_PI - fabs(gone)) / TWO_PI * counts;
                off += lost;
                off2 += lost * lost;
                turns += fabs(whole);
            }
        }
    }
    if (m->count > 0) {
        const double alike = hypot(along, across) / (double)m->count;
        const double spread = sqrt(fmax(2.0 * (1.0 - alike), 0.0));
        const double half = 1.96 * hypot(spread, step / sqrt(12.0)) / sqrt((double)m->count) +
                            0.5 * TWO_PI / counts;
        out->index_rad = cvk_measured_of(atan2(across, along), half);
    }
    if (turns >= 2.0) {
        const double mean = off / turns;
        out->lost_per_turn =
            cvk_measured_of(mean, 1.96 * sqrt(fmax(off2 / turns - mean * mean, 0.25) / turns));
    }
    free(m);
}

void cvk_calibrate_tachometer(const cvk_sensor_column *c, const cvk_waveforms *s,
                              const cvk_log *log, const size_t *row, double direction,
                              cvk_calibration *out)
{
    const double *v = log->column[CVK_COLUMN_TACH];
    const size_t length = (size_t)fmax(2.0, SPEED_S / s->period_s);
    double wv = 0.0, ww = 0.0, vv = 0.0, n = 0.0;
    out->has_tachometer = v != NULL;
    out->tachometer_v_s = CVK_UNKNOWN_MEASURED;
    for (size_t p = 0; v != NULL && c != NULL && p < s->pieces; p++) {
        for (size_t k = s->piece[p].begin; k + length < s->piece[p].end; k += length) {
            const double speed = direction * (c->angle_rad[k + length] - c->angle_rad[k]) /
                                 ((double)length * s->period_s);
            double mean = 0.0;
            for (size_t j = k; j < k + length; j++) {
                mean += v[row[j]] / (double)length;
            }
            if (isfinite(speed + mean)) {
                wv += speed * mean;
                ww += speed * speed;
                vv += mean * mean;
                n += 1.0;
            }
        }
    }
    if (v == NULL) {
        return;
    }
    const double scale = wv / ww, left = fmax(vv - scale * wv, 0.0);
    if (!(n >= (double)FEWEST_SPEEDS) || !(ww > 0.0) || !(left < 0.1 * vv)) {
        snprintf(out->why_tachometer, sizeof out->why_tachometer,
                 c == NULL ? "needs a rotor angle in the same log that tells the speed"
                           : "its voltage does not follow the speed: unplugged, or too slow");
        return;
    }
    out->tachometer_v_s =
        cvk_measured_of(scale, 1.96 * hypot(sqrt(left / n / ww), 5e-4 * fabs(scale)));
    out->tachometer_ripple = sqrt(left / vv);
}
