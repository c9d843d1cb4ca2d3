/* SPDX-License-Identifier: Apache-2.0
 *
 * An excitation run on the simulated rig: row by row, or its log kept in memory.
 */
#ifndef CORVAK_HOST_RECORDER_H
#define CORVAK_HOST_RECORDER_H

#include "corvak/ident/log.h"
#include "corvak/sim/sim.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Called after each control period, recorded or not (`row->recorded` tells). False ends the run. */
typedef bool (*cvk_recorder_row)(void *context, const cvk_sim *sim, const cvk_sim_row *row);

/* Runs an excitation that was started on `sim` to its end. CVK_STOPPED when the drive stopped with
 * a fault before (`sim->drive.fault`). Takes at most the excitation's length; never longer. */
cvk_status cvk_run_excitation(cvk_sim *sim, const cvk_excitation *program, cvk_recorder_row on_row,
                              void *context) CVK_MUST_CHECK;

typedef struct cvk_recording {
    cvk_log log; /* columns point into `storage` */
    double *storage;
    char name[64];
} cvk_recording;

typedef struct cvk_recorder_options {
    uint64_t seed;
    bool rotor_sensor; /* log theta_m */
    bool free_shaft;   /* nobody holds it, even at standstill */
} cvk_recorder_options;

/* Runs one excitation to its end. Voltages are duties and bus while the bridge is on, terminal
 * voltages in a coast-down. `why` (may be null) names a field of the config that is refused.
 * CVK_STOPPED when the drive stopped with a fault: the log holds what came before. Free the
 * recording in any case. */
cvk_status cvk_record(cvk_recording *out, const cvk_rig_config *config, const char *excitation,
                      const cvk_recorder_options *options, cvk_refusal *why) CVK_MUST_CHECK;

void cvk_recording_free(cvk_recording *recording);

#ifdef __cplusplus
}
#endif
#endif
