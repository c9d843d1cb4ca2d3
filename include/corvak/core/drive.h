/* SPDX-License-Identifier: Apache-2.0
 *
 * The drive: one call from a current sample to three duties. Call cvk_drive_control() from the
 * current-sample interrupt of the port, once per control period; the duties that it returns must
 * act for exactly one period, beginning one period after the sample.
 */
#ifndef CORVAK_CORE_DRIVE_H
#define CORVAK_CORE_DRIVE_H

#include "corvak/core/angle.h"
#include "corvak/core/current_control.h"
#include "corvak/core/excitation.h"
#include "corvak/core/port.h"
#include "corvak/core/speed_control.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum cvk_angle_source {
    CVK_ANGLE_IMPOSED = 0, /* turns at the commanded speed, whatever the rotor does */
    CVK_ANGLE_SENSOR       /* follows the rotor sensor */
} cvk_angle_source;

/* Why the bridge was switched off. The first cause is kept until it is cleared. */
typedef enum cvk_fault {
    CVK_FAULT_NONE = 0,
    CVK_FAULT_SAMPLE,      /* a sample is not a number */
    CVK_FAULT_OVERCURRENT, /* a phase current is beyond trip_current_a */
    CVK_FAULT_BUS_VOLTAGE  /* the bus is outside bus_min_v .. bus_max_v */
} cvk_fault;

const char *cvk_fault_text(cvk_fault fault);

typedef struct cvk_drive_config {
    cvk_current_control_config current;
    cvk_angle_sensor_config sensor;
    float trip_current_a;        /* peak phase current: 0.01 .. 2000 */
    float bus_min_v, bus_max_v;  /* 1 .. 100; bus_max_v above bus_min_v */
    float speed_gain_a_s;        /* speed loop: A per electrical rad/s: 0 .. 1000 */
    float speed_integral_gain_a; /* A per electrical rad/s per s: 0 .. 1e5 */
    float speed_limit_a;         /* largest torque current of the speed loop: 0 .. 1000 */
} cvk_drive_config;

typedef struct cvk_drive_sample {
    cvk_abc current_a; /* positive into the motor, sampled at the carrier valley */
    float bus_v;
    float sensor_mech_rad; /* rotor sensor, mechanical; ignored with an imposed angle */
} cvk_drive_sample;

typedef struct cvk_drive {
    const cvk_port *port;
    cvk_drive_config config;
    cvk_current_control current_control;
    cvk_speed_control speed_control;
    cvk_angle_sensor sensor;
    cvk_angle_source angle_source;
    cvk_angle angle;            /* used in the last call */
    cvk_excitation *excitation; /* null: the command below counts */
    cvk_command command;
    cvk_drive_mode mode; /* of the last call: a change of it leaves no stale state behind */
    cvk_fault fault;
    bool bridge_on;
} cvk_drive;

/* Refuses any config field outside its range; `why` may be null. `port` and the drive must outlive
 * their use; the config is copied. The bridge is off afterwards. */
cvk_status cvk_drive_init(cvk_drive *drive, const cvk_port *port, const cvk_drive_config *config,
                          cvk_refusal *why) CVK_MUST_CHECK;

void cvk_drive_set_angle_source(cvk_drive *drive, cvk_angle_source source);

/* Runs a program from its first step; null ends one. The caller keeps `excitation` alive. */
void cvk_drive_run(cvk_drive *drive, cvk_excitation *excitation);

/* Sets what to do while no program runs. CVK_OUT_OF_RANGE, and nothing changes, when the mode is
 * none of the list or a number is not finite; `why` (may be null) names it. */
cvk_status cvk_drive_set_command(cvk_drive *drive, cvk_command command,
                                 cvk_refusal *why) CVK_MUST_CHECK;

void cvk_drive_clear_fault(cvk_drive *drive);

/* The hot path. Bounded time; no allocation; touches nothing but `drive` and its port. */
cvk_abc cvk_drive_control(cvk_drive *drive, const cvk_drive_sample *sample);

#ifdef __cplusplus
}
#endif
#endif
