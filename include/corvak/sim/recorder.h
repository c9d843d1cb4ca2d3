/* SPDX-License-Identifier: Apache-2.0
 *
 * Recordings of the simulated rig in memory: one program, run to its end.
 */
#ifndef CORVAK_SIM_RECORDER_H
#define CORVAK_SIM_RECORDER_H

#include "corvak/ident/log.h"
#include "corvak/sim/sim.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Called after each control period, recorded or not (`row->recorded` tells). False ends the run. */
typedef bool (*cvk_recorder_row)(void *context, const cvk_sim_row *row);

/* Runs the program that was started (cvk_sim_start()) to its end. CVK_STOPPED when the drive
 * stopped with a fault before (the last row's `now->fault`). Takes at most the program's length.
 */
cvk_status cvk_sim_run_program(cvk_sim *sim, cvk_recorder_row on_row, void *context) CVK_MUST_CHECK;

typedef struct cvk_recording {
    cvk_log log; /* columns point into `storage` */
    double *storage;
    char name[64];
} cvk_recording;

/* The same into a log. Voltages are duties and bus while the bridge is on, terminal voltages where
 * the program records with it off. `rotor_sensor` adds theta_m, the shaft's angle as the rotor
 * sensor in use shows it (sin/cos and halls: within their own period). CVK_NULL_ARGUMENT when no
 * program was started; CVK_NO_MEMORY; CVK_STOPPED as above: the log holds what came before. Free
 * the recording in any case. */
cvk_status cvk_sim_record(cvk_recording *out, cvk_sim *sim, bool rotor_sensor) CVK_MUST_CHECK;

void cvk_recording_free(cvk_recording *recording);

#ifdef __cplusplus
}
#endif
#endif
