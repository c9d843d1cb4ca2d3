/* SPDX-License-Identifier: Apache-2.0
 *
 * A log as an observer sees it.
 */
#include "corvak/ident/replay_rows.h"

#include "corvak/core/units.h"

#include "estimate/prepared.h"
#include "sensor_columns.h"

#include <math.h>
#include <stdlib.h>

#define ARRAYS 6

/* The voltage that acted from row k - 1 to row k. A commanded one is logged with the sample that it
 * was computed from, and acts from one period later on; terminals are read at an instant. */
static void acted(const cvk_waveforms *s, const double *v, cvk_span piece, double *out)
{
    for (size_t k = piece.begin; k < piece.end; k++) {
        const size_t one = k > piece.begin ? k - 1 : piece.begin;
        const size_t two = one > piece.begin ? one - 1 : piece.begin;
        out[k] = s->path == CVK_PATH_COMMANDED  ? v[two]
                 : s->path == CVK_PATH_AVERAGED ? v[one]
                                                : 0.5 * (v[one] + v[k]);
    }
}

/* Without jumps, so that differences are turns. */
static void unwrap(double *angle_rad, cvk_span piece)
{
    double turns = 0.0, before = NAN;
    for (size_t k = piece.begin; k < piece.end; k++) {
        const double now = angle_rad[k];
        turns -= isfinite(before) && isfinite(now) ? round((now - before) / CVK_TWO_PI_WIDE) : 0.0;
        before = isfinite(now) ? now : before;
        angle_rad[k] = now + CVK_TWO_PI_WIDE * turns;
    }
}

static cvk_status fill(cvk_replay_rows *rows, const cvk_waveforms *s, const cvk_log *log,
                       double pole_pairs)
{
    const size_t n = s->rows;
    size_t *row = cvk_rows_in_log(s, log);
    rows->storage = malloc(ARRAYS * n * sizeof *rows->storage);
    rows->begins = calloc(n, sizeof *rows->begins);
    if (row == NULL || rows->storage == NULL || rows->begins == NULL) {
        free(row);
        return CVK_NO_MEMORY;
    }
    double **const array[] = {&rows->time_s,        &rows->current_alpha_a, &rows->current_beta_a,
                              &rows->acted_alpha_v, &rows->acted_beta_v,    &rows->angle_rad};
    for (size_t a = 0; a < ARRAYS; a++) {
        *array[a] = rows->storage + a * n;
    }
    const double *electrical = log->column[CVK_COLUMN_THETA_E];
    const bool mechanical = electrical == NULL && s->theta_m != NULL && pole_pairs > 0.0;
    rows->rows = n;
    rows->period_s = s->period_s;
    rows->own_left = s->path == CVK_PATH_COMMANDED;
    rows->bridge_off = s->open_circuit;
    rows->angle = electrical != NULL ? CVK_ANGLE_ELECTRICAL
                  : mechanical       ? CVK_ANGLE_MECHANICAL
                                     : CVK_NO_ANGLE;
    for (size_t k = 0; k < n; k++) {
        rows->time_s[k] = s->time_s[k];
        rows->current_alpha_a[k] = s->i_alpha[k];
        rows->current_beta_a[k] = s->i_beta[k];
        rows->angle_rad[k] = electrical != NULL ? electrical[row[k]]
                             : mechanical       ? pole_pairs * s->theta_m[k]
                                                : NAN;
    }
    for (size_t p = 0; p < s->pieces; p++) {
        rows->begins[s->piece[p].begin] = true;
        unwrap(rows->angle_rad, s->piece[p]);
        acted(s, s->v_alpha, s->piece[p], rows->acted_alpha_v);
        acted(s, s->v_beta, s->piece[p], rows->acted_beta_v);
    }
    free(row);
    return CVK_OK;
}

cvk_status cvk_replay_rows_from_log(cvk_replay_rows *rows, const cvk_log *log,
                                    const cvk_estimate_options *options, double pole_pairs,
                                    cvk_estimate *out)
{
    if (rows == NULL || log == NULL || options == NULL || out == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    *rows = (cvk_replay_rows){.rows = 0};
    cvk_prepared prepared = {.usable = false};
    cvk_status status = cvk_prepare(&prepared, log, options, out);
    if (status == CVK_OK) {
        status = prepared.usable ? fill(rows, &prepared.waveforms, &prepared.log, pole_pairs)
                                 : CVK_NOT_IN_LOG;
    }
    cvk_prepared_free(&prepared);
    return status;
}

void cvk_replay_rows_free(cvk_replay_rows *rows)
{
    free(rows->storage);
    free(rows->begins);
    *rows = (cvk_replay_rows){.rows = 0};
}
