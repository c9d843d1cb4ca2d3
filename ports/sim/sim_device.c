/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated device: a cvk_sim behind the callbacks of a cvk_device.
 */
#include "corvak/sim/device.h"

#include <stdio.h>
#include <stdlib.h>

typedef struct simulated {
    cvk_sim sim;
    cvk_excitation program;
} simulated;

static cvk_status step(void *context, cvk_device_row *row)
{
    simulated *s = context;
    const cvk_sim_row stepped = cvk_sim_step(&s->sim);
    *row = (cvk_device_row){stepped.time_s, stepped.now, stepped.recorded};
    return CVK_OK;
}

static cvk_status request(void *context, const cvk_request *wanted, cvk_refusal *why)
{
    return cvk_drive_request(&((simulated *)context)->sim.drive, CVK_SIM_OWNER, wanted, why);
}

static cvk_status stage(void *context, const cvk_settings *settings, cvk_refusal *why)
{
    return cvk_drive_stage(&((simulated *)context)->sim.drive, settings, why);
}

static const cvk_settings *settings(void *context)
{
    return cvk_drive_settings(&((simulated *)context)->sim.drive);
}

static cvk_status run(void *context, const cvk_program *program, cvk_refusal *why)
{
    simulated *s = context;
    if (program == NULL) {
        s->sim.program = NULL;
        return cvk_drive_run(&s->sim.drive, CVK_SIM_OWNER, NULL, why);
    }
    return cvk_sim_start(&s->sim, program, &s->program, why);
}

static const cvk_excitation *running(void *context)
{
    const cvk_excitation *program = ((simulated *)context)->sim.program;
    return program != NULL && !cvk_excitation_finished(program) ? program : NULL;
}

static void truth(void *context, cvk_device_truth *out)
{
    const cvk_rig *rig = ((simulated *)context)->sim.rig;
    out->angle_e_rad = cvk_rig_electrical_angle(rig);
    out->speed_mech_rad_s = cvk_rig_state_of(rig)->speed_mech_rad_s;
    out->winding_degc = cvk_rig_state_of(rig)->winding_degc;
    cvk_rig_true_current(rig, out->current_a);
}

static void close_device(void *context)
{
    cvk_sim_close(&((simulated *)context)->sim);
    free(context);
}

cvk_status cvk_sim_device_open(cvk_device *device, const cvk_rig_config *config, uint64_t seed,
                               cvk_refusal *why)
{
    *device = (cvk_device){.context = calloc(1, sizeof(simulated)),
                           .hardware = cvk_sim_hardware(config),
                           .bus_v = config->supply.bus_v,
                           .pole_pairs = config->motor.pole_pairs,
                           .current_gain_tolerance = config->sensing.current_gain_tolerance,
                           .voltage_gain_tolerance = config->sensing.voltage_gain_tolerance,
                           .step = step,
                           .request = request,
                           .stage = stage,
                           .settings = settings,
                           .run = run,
                           .running = running,
                           .truth = truth,
                           .close = close_device};
    snprintf(device->name, sizeof device->name, "%s", config->name);
    if (device->context == NULL) {
        return CVK_NO_MEMORY;
    }
    return cvk_sim_init(&((simulated *)device->context)->sim, config, seed, why);
}

cvk_sim *cvk_sim_device_inside(const cvk_device *device)
{
    return &((simulated *)device->context)->sim;
}
