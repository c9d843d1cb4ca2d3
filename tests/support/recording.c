/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs in memory from the simulated rig.
 */
#include "recording.h"

#include "corvak/files/rig_yaml.h"
#include "corvak/files/tune_yaml.h"
#include "corvak/sim/device.h"

#include <stdio.h>
#include <stdlib.h>

static void give_up(const char *what)
{
    fprintf(stderr, "recording failed: %s\n", what);
    abort();
}

cvk_rig_config studio_rig(const char *name)
{
    cvk_rig_config config;
    cvk_complaint complaint;
    char path[512];
    snprintf(path, sizeof path, "%s/%s.rig.yaml", CORVAK_DATA, name);
    if (cvk_rig_file_read(&config, path, &complaint) != CVK_OK) {
        give_up(complaint.text);
    }
    cvk_tune tune;
    snprintf(path, sizeof path, "%s/%s.tune.yaml", CORVAK_DATA, name);
    if (cvk_tune_file_read(&tune, path, &complaint) != CVK_OK) {
        give_up(complaint.text);
    }
    config.tune = tune.settings;
    return config;
}

void give_winding(cvk_rig_config *rig, const double is[4], const float told[4])
{
    rig->motor.resistance_ohm = is[0];
    rig->motor.inductance_d_h = is[1];
    rig->motor.inductance_q_h = is[2];
    rig->motor.flux_linkage_wb = is[3];
    rig->tune.motor.resistance_ohm = told[0];
    rig->tune.motor.inductance_d_h = told[1];
    rig->tune.motor.inductance_q_h = told[2];
    rig->tune.motor.flux_linkage_wb = told[3];
}

/* Nobody holds the shaft, even when a program wants it held. */
static cvk_status (*run_held)(void *context, const cvk_program *program, cvk_refusal *why);
static cvk_device *loose;

static cvk_status run_loose(void *context, const cvk_program *program, cvk_refusal *why)
{
    const cvk_status status = run_held(context, program, why);
    cvk_rig_hold_shaft(cvk_sim_device_inside(loose)->rig, false);
    return status;
}

static void hold_nothing(cvk_device *device)
{
    loose = device;
    run_held = device->run;
    device->run = run_loose;
}

void record_with(recording *out, const cvk_rig_config *config, const char *excitation,
                 uint64_t seed, bool rotor_sensor, bool free_shaft)
{
    cvk_refusal why = {0};
    cvk_device device;
    cvk_status status = cvk_sim_device_open(&device, config, seed, &why);
    if (status == CVK_OK && free_shaft) {
        hold_nothing(&device);
    }
    if (status == CVK_OK) {
        status = cvk_record(out, &device, excitation, rotor_sensor, &why);
    }
    if (status != CVK_OK) {
        give_up(why.field != NULL ? why.field : excitation);
    }
    cvk_device_close(&device);
}

void record(recording *out, const cvk_rig_config *config, const char *excitation, uint64_t seed,
            bool rotor_sensor)
{
    record_with(out, config, excitation, seed, rotor_sensor, false);
}

void recording_free(recording *r)
{
    cvk_recording_free(r);
}

cvk_log part_of_log(const cvk_log *whole, size_t begin, size_t rows)
{
    cvk_log part = *whole;
    part.rows = rows;
    for (int n = 0; n < CVK_COLUMN_COUNT; n++) {
        part.column[n] = whole->column[n] != NULL ? whole->column[n] + begin : NULL;
    }
    return part;
}
