/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs in memory from the simulated rig.
 */
#include "recording.h"

#include "corvak/files/rig_yaml.h"
#include "corvak/files/tune_yaml.h"

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

void record_with(recording *out, const cvk_rig_config *config, const char *excitation,
                 uint64_t seed, bool rotor_sensor, bool free_shaft)
{
    cvk_refusal why = {0};
    cvk_excitation program;
    cvk_sim sim;
    cvk_status status = cvk_sim_init(&sim, config, seed, &why);
    if (status == CVK_OK) {
        status = cvk_sim_start(&sim, cvk_program_named(excitation), &program, &why);
    }
    if (status == CVK_OK && free_shaft) { /* also when the program wants it held */
        cvk_rig_hold_shaft(sim.rig, false);
    }
    if (status == CVK_OK) {
        status = cvk_sim_record(out, &sim, rotor_sensor);
    }
    if (status != CVK_OK) {
        give_up(why.field != NULL ? why.field : excitation);
    }
    cvk_sim_close(&sim);
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
