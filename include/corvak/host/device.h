/* SPDX-License-Identifier: Apache-2.0
 *
 * A device: a running controller as a host sees it, wherever it is. The first is the simulated one
 * (corvak/sim/device.h). A new kind fills in this struct.
 */
#ifndef CORVAK_HOST_DEVICE_H
#define CORVAK_HOST_DEVICE_H

#include "corvak/core/drive.h"
#include "corvak/core/programs.h"

#ifdef __cplusplus
extern "C" {
#endif

/* One control period. */
typedef struct cvk_device_row {
    double time_s;         /* of the sample, since the device was opened */
    const cvk_moment *now; /* until the next step */
    bool recorded;         /* the running program wants this row in a log */
} cvk_device_row;

/* What only a simulated device knows of itself, at the instant of a row's sample. */
typedef struct cvk_device_truth {
    double angle_e_rad, speed_mech_rad_s, winding_degc;
    double current_a[3]; /* by leg */
} cvk_device_truth;

typedef struct cvk_device {
    void *context;
    char name[32];
    cvk_hardware hardware;
    double bus_v;      /* nominal */
    double pole_pairs; /* 0: not known */
    /* bounds of the channels' common gain errors; 0: not known */
    double current_gain_tolerance, voltage_gain_tolerance;

    /* One control period on; a distant device: the next row that arrives. CVK_STOPPED when the link
     * is gone. */
    cvk_status (*step)(void *context, cvk_device_row *row);
    /* As the functions of cvk_drive of these names. */
    cvk_status (*request)(void *context, const cvk_request *request, cvk_refusal *why);
    cvk_status (*stage)(void *context, const cvk_settings *settings, cvk_refusal *why);
    const cvk_settings *(*settings)(void *context);
    /* Starts a program with its shaft held or free; the device keeps it. Null ends one. */
    cvk_status (*run)(void *context, const cvk_program *program, cvk_refusal *why);
    /* The program that runs; null when none does, or it has finished. */
    const cvk_excitation *(*running)(void *context);
    /* Null unless simulated. */
    void (*truth)(void *context, cvk_device_truth *out);
    void (*close)(void *context);
} cvk_device;

/* Frees what the device holds; it may be one that failed to open. */
void cvk_device_close(cvk_device *device);

#ifdef __cplusplus
}
#endif
#endif
