/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated port: the controller core on the simulated rig, in lock-step, with no clock but
 * the rig's. One call is one control period.
 */
#ifndef CORVAK_SIM_SIM_H
#define CORVAK_SIM_SIM_H

#include "corvak/core/drive.h"
#include "corvak/core/programs.h"
#include "corvak/host/device.h"
#include "corvak/rig/rig.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The simulation owns its drive: it claims it at init, and each step refreshes the lease. */
#define CVK_SIM_OWNER 255u /* links count from 1 */

typedef struct cvk_sim {
    cvk_rig *rig;
    cvk_port port;
    cvk_drive drive;
    const cvk_program *started;    /* row of the table; or null */
    const cvk_excitation *program; /* of it, that runs; or null */
    cvk_rig_sample sample;         /* of the last step */
    cvk_bench_truth truth;         /* at that sample */
    double duty[3], shift[3];      /* computed in the call before: act during the next period */
} cvk_sim;

/* One control period. */
typedef struct cvk_sim_row {
    double time_s; /* of the sample */
    cvk_rig_sample sample;
    const cvk_moment *now; /* of the drive, until the next step */
    bool recorded;         /* the running excitation wants this row in the log */
} cvk_sim_row;

/* The tune's rotor section, with kind and counts of the rig's sensor where the tune does not state
 * them. */
cvk_rotor_settings cvk_sim_rotor(const cvk_rig_config *config);

/* What the drive must know of the rig's power stage. */
cvk_hardware cvk_sim_hardware(const cvk_rig_config *config);

/* Rig and drive from one config, the drive's settings from `config->tune`; what it does not
 * state (`config->stated`) of sensor and pole pairs is as the bench's data sheets say. Direction
 * and offset of the sensor are known where `config->rotor_sensor.calibrated` says so or the tune
 * states the offset; else `rotor.startup` asks for a calibration. `why` (may be null) names a
 * parameter that is refused. Close the simulation in any case. */
cvk_status cvk_sim_init(cvk_sim *sim, const cvk_rig_config *config, uint64_t seed,
                        cvk_refusal *why) CVK_MUST_CHECK;

/* Frees the rig; a sim of zeros, and one that was closed, may be closed again. */
void cvk_sim_close(cvk_sim *sim);

/* One control period. */
cvk_sim_row cvk_sim_step(cvk_sim *sim);

/* A program prepared for this rig: holds or frees the shaft, fills in `excitation` and starts it.
 */
cvk_status cvk_sim_start(cvk_sim *sim, const cvk_program *program, cvk_excitation *excitation,
                         cvk_refusal *why) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
