/* SPDX-License-Identifier: Apache-2.0
 *
 * What is inside a cvk_drive.
 */
#ifndef CORVAK_CORE_DRIVE_DRIVE_STATE_H
#define CORVAK_CORE_DRIVE_DRIVE_STATE_H

#include "corvak/core/drive.h"

#include "angle/angle_sources.h"
#include "programs/calibrate.h"
#include "control/measure.h"
#include "control/reference.h"
#include "programs/startup.h"
#include "trial_state.h"
#include "control/winding.h"

typedef struct cvk_drive_state {
    const cvk_port *port;
    cvk_hardware hardware;
    /* Written by a task, read by the interrupt: two places each, and the number of the one that
     * counts. The interrupt preempts the task, never the other way round. */
    cvk_setup setup[2];
    volatile uint8_t setup_live, setup_staged;
    cvk_request request[2];
    volatile uint8_t request_live;
    volatile bool clear_fault;
    volatile cvk_owner owner;
    uint32_t lease_ticks;
    volatile uint8_t calibrations; /* requests for one */
    volatile uint8_t beats;        /* the task adds one to refresh the lease */
    volatile uint8_t requests;     /* so many came, */
    volatile bool off_at_once;     /* nobody commands, and the bridge is to be off */
    uint32_t there[8];             /* a bit for each possible owner */
    cvk_excitation *volatile excitation;
    cvk_trial trial;
    cvk_angles twin; /* while a change is on trial: observers with the settings before it */
    uint32_t tick_supervised;
    /* the interrupt's own */
    uint8_t beats_seen;
    uint8_t requests_seen;
    bool request_over;   /* a fault has ended it */
    uint32_t lease_left; /* control calls */
    cvk_measure measure;
    cvk_winding winding;
    cvk_angles angles;
    cvk_calibrator calibrator;
    bool calibrating;
    uint8_t calibrations_seen;
    cvk_startup startup;
    cvk_reference reference;
    float integral_before_a; /* of the speed loop, when a change came on trial */
    cvk_current_control current_control;
    cvk_angle angle;      /* in use at the last call, */
    int32_t angle_source; /* and from where */
    int32_t mode;         /* of the last call */
    bool gates_on;
    cvk_moment now;
} cvk_drive_state;

static inline cvk_drive_state *state_of(cvk_drive *drive)
{
    return (cvk_drive_state *)(void *)&drive->inside;
}

static inline const cvk_drive_state *const_state_of(const cvk_drive *drive)
{
    return (const cvk_drive_state *)(const void *)&drive->inside;
}

#endif
