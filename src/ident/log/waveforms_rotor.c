/* SPDX-License-Identifier: Apache-2.0
 *
 * The shaft's angle and speed, from a column, counts of an encoder or marks.
 */
#include "waveforms_parts.h"

#include "corvak/core/units.h"

#include <math.h>

double cvk_mark_level(const cvk_log *log)
{
    const double *index = log->column[CVK_COLUMN_INDEX];
    double most = 0.0;
    for (size_t k = 0; k < log->rows; k++) {
        most = index[k] > most ? index[k] : most;
    }
    return 0.5 * most;
}

/* One turn from mark to mark, evenly in between; not known before the first and after the last. */
static void angle_from_marks(cvk_waveforms *s, const cvk_log *log, const size_t *rows)
{
    size_t last = 0, turns = 0;
    const double *index = log->column[CVK_COLUMN_INDEX], level = cvk_mark_level(log);
    for (size_t k = 0; k < s->rows; k++) {
        s->theta_m[k] = NAN;
    }
    for (size_t k = 1; k < s->rows; k++) {
        if (!(index[rows[k]] > level && !(index[rows[k - 1]] > level))) {
            continue;
        }
        for (size_t j = last; j < k && turns > 0; j++) {
            double share = (double)(j - last) / (double)(k - last);
            s->theta_m[j] = 2.0 * CVK_PI_WIDE * ((double)turns + share);
        }
        last = k;
        turns++;
    }
}

void cvk_convert_rotor(cvk_waveforms *s, const cvk_log *log, const size_t *rows)
{
    double turns = 0.0, last = 0.0;
    const double *angle = log->column[CVK_COLUMN_THETA_M];
    double scale = 1.0, wrap = 2.0 * CVK_PI_WIDE;
    if (angle == NULL && cvk_log_has(log, CVK_COLUMN_ENC) && log->encoder_counts > 0.0) {
        angle = log->column[CVK_COLUMN_ENC];
        scale = 2.0 * CVK_PI_WIDE / log->encoder_counts;
    }
    for (size_t k = 0; s->theta_m != NULL && angle != NULL && k < s->rows; k++) {
        double now = scale * angle[rows[k]];
        if (!isfinite(now)) {
            now = last;
        }
        if (k > 0) {
            turns -= wrap * round((now - last) / wrap);
        }
        last = now;
        s->theta_m[k] = now + turns;
    }
    if (angle == NULL && s->theta_m != NULL) {
        angle_from_marks(s, log, rows);
    }
    for (size_t k = 0; k < s->rows; k++) {
        s->time_s[k] = log->column[CVK_COLUMN_T][rows[k]];
    }
    for (size_t k = 0; s->speed_m != NULL && k < s->rows; k++) {
        s->speed_m[k] = log->column[CVK_COLUMN_SPEED_M][rows[k]];
    }
}

bool cvk_has_rotor_angle(const cvk_log *log)
{
    return cvk_log_has(log, CVK_COLUMN_THETA_M) ||
           (cvk_log_has(log, CVK_COLUMN_ENC) && log->encoder_counts > 0.0) ||
           (cvk_log_has(log, CVK_COLUMN_INDEX) && !cvk_log_has(log, CVK_COLUMN_SPEED_M));
}
