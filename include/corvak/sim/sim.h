/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated port: the controller core on the simulated rig, in lock-step, with no clock but
 * the rig's. One call is one control period.
 */
#ifndef CORVAK_SIM_SIM_H
#define CORVAK_SIM_SIM_H

#include "corvak/core/drive.h"
#include "corvak/rig/rig.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_sim {
    cvk_rig rig;
    cvk_port port;
    cvk_drive drive;
    double duty[3];      /* computed in the call before: act during the next period */
    double current_a[3]; /* as the drive got them, completed where a window was too short */
} cvk_sim;

/* One control period as a logger on the controller sees it. */
typedef struct cvk_sim_row {
    double time_s; /* of the sample */
    cvk_rig_sample sample;
    double current_a[3];    /* what the drive got: see cvk_sim_step() */
    double sensor_mech_rad; /* of the rotor sensor in use; NaN when there is none */
    double duty[3];         /* computed from this sample */
    bool recorded;          /* the running excitation wants this row in the log */
} cvk_sim_row;

/* Rig and drive from one config. `sim` must not be moved afterwards: the port points into it.
 * `why` (may be null) names a drive field that is refused. */
cvk_status cvk_sim_init(cvk_sim *sim, const cvk_rig_config *config, uint64_t seed,
                        cvk_refusal *why) CVK_MUST_CHECK;

/* One control period. Currents that the sensing cannot show follow from the others (their sum is
 * zero), or are those of the period before when two are missing. */
cvk_sim_row cvk_sim_step(cvk_sim *sim);

/* The names of the excitations, ended by null. */
extern const char *const cvk_sim_excitations[];

/* An excitation by its name, prepared for this rig: holds or frees the shaft, selects the angle
 * source, fills in `excitation` and starts it. CVK_NOT_IN_LOG when there is none of that name. */
cvk_status cvk_sim_start(cvk_sim *sim, const char *name, cvk_excitation *excitation,
                         cvk_refusal *why) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
