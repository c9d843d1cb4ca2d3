/* SPDX-License-Identifier: Apache-2.0
 *
 * A log as an observer sees it: row by row, currents at the sample and the voltage that acted since
 * the row before, in the stationary frame; and the rotor's angle, when the log has one.
 */
#ifndef CORVAK_IDENT_REPLAY_ROWS_H
#define CORVAK_IDENT_REPLAY_ROWS_H

#include "corvak/core/status.h"
#include "corvak/ident/log.h"
#include "corvak/ident/result.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Where the rotor's angle in a log comes from. */
typedef enum cvk_angle_column {
    CVK_NO_ANGLE = 0,
    CVK_ANGLE_ELECTRICAL, /* column theta_e */
    CVK_ANGLE_MECHANICAL  /* column theta_m: its offset is not known */
} cvk_angle_column;

typedef struct cvk_replay_rows {
    size_t rows;
    double period_s;
    double *time_s; /* as in the log */
    double *current_alpha_a, *current_beta_a;
    double *acted_alpha_v, *acted_beta_v; /* since the row before */
    double *angle_rad;                    /* electrical, without jumps; NaN where it is not known */
    bool *begins;                         /* the first row of a piece: nothing acted before it */
    cvk_angle_column angle;
    bool own_left;   /* the voltages are commanded: the inverter's own is still in them */
    bool bridge_off; /* no currents were logged: open terminals */
    double *storage;
} cvk_replay_rows;

/* Examines and converts: time base, channel gains and offsets as for an estimate. CVK_NOT_IN_LOG
 * when the log cannot be used, with the reason among the findings of `out`; CVK_NO_MEMORY.
 * `pole_pairs`: turns theta_m into an electrical angle; 0: theta_m is not used. Free the rows in
 * any case. */
cvk_status cvk_replay_rows_from_log(cvk_replay_rows *rows, const cvk_log *log,
                                    const cvk_estimate_options *options, double pole_pairs,
                                    cvk_estimate *out) CVK_MUST_CHECK;

void cvk_replay_rows_free(cvk_replay_rows *rows);

#ifdef __cplusplus
}
#endif
#endif
