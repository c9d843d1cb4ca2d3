/* SPDX-License-Identifier: Apache-2.0
 *
 * Recordings of a device in memory: one program, run to its end.
 */
#ifndef CORVAK_HOST_RECORDER_H
#define CORVAK_HOST_RECORDER_H

#include "corvak/host/device.h"
#include "corvak/ident/log.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Called after each control period, recorded or not (`row->recorded` tells). False ends the run. */
typedef bool (*cvk_recorder_row)(void *context, const cvk_device_row *row);

/* Runs the program that was started on `device` to its end. CVK_STOPPED when the drive stopped with
 * a fault before (the last row's `now->fault`). Takes at most the program's length; never longer.
 */
cvk_status cvk_run_excitation(cvk_device *device, cvk_recorder_row on_row,
                              void *context) CVK_MUST_CHECK;

typedef struct cvk_recording {
    cvk_log log; /* columns point into `storage` */
    double *storage;
    char name[64];
} cvk_recording;

/* Runs one program, by its name, to its end. Voltages are duties and bus while the bridge is on,
 * terminal voltages where the program records with it off. `rotor_sensor` adds theta_m, the shaft's
 * angle as the rotor sensor in use shows it (sin/cos and halls: within their own period). `why`
 * (may be null) names a parameter that is refused. CVK_UNKNOWN_NAME; CVK_STOPPED when the drive
 * stopped with a fault: the log holds what came before. Free the recording in any case. */
cvk_status cvk_record(cvk_recording *out, cvk_device *device, const char *program,
                      bool rotor_sensor, cvk_refusal *why) CVK_MUST_CHECK;

void cvk_recording_free(cvk_recording *recording);

#ifdef __cplusplus
}
#endif
#endif
