/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs in memory from the simulated rig.
 */
#include "recording.h"

#include "corvak/files/rig_yaml.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { COLUMNS = 9 }; /* t, three currents, three duties or terminal voltages, bus, rotor angle */

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
    return config;
}

void record_with(recording *out, const cvk_rig_config *config, const char *excitation,
                 uint64_t seed, bool rotor_sensor, bool free_shaft)
{
    cvk_sim *sim = malloc(sizeof *sim);
    cvk_excitation *program = malloc(sizeof *program);
    cvk_refusal why = {0};
    if (sim == NULL || program == NULL || cvk_sim_init(sim, config, seed, &why) != CVK_OK ||
        cvk_sim_start(sim, excitation, program, &why) != CVK_OK) {
        give_up(why.field != NULL ? why.field : excitation);
    }
    if (free_shaft) {
        cvk_rig_hold_shaft(&sim->rig, false);
    }
    size_t most = (size_t)(cvk_excitation_length_s(program) * config->inverter.pwm_hz) + 16u;
    snprintf(out->name, sizeof out->name, "%.31s-%.31s", config->name, excitation);
    out->log = cvk_log_empty(out->name);
    out->log.current_gain_tolerance = config->sensing.current_gain_tolerance;
    out->log.voltage_gain_tolerance = config->sensing.voltage_gain_tolerance;
    out->storage = malloc(COLUMNS * most * sizeof(double));
    if (out->storage == NULL) {
        give_up("memory");
    }
    bool off = strcmp(excitation, "coast") == 0;
    size_t rows = 0;
    while (!cvk_excitation_finished(program) && rows < most) {
        cvk_sim_row row = cvk_sim_step(sim);
        if (!row.recorded) {
            continue;
        }
        const double *voltage = off ? row.sample.terminal_v : row.duty;
        const double cells[COLUMNS] = {row.time_s,       row.current_a[0], row.current_a[1],
                                       row.current_a[2], voltage[0],       voltage[1],
                                       voltage[2],       row.sample.bus_v, row.sensor_mech_rad};
        for (size_t c = 0; c < COLUMNS; c++) {
            out->storage[c * most + rows] = cells[c];
        }
        rows++;
    }
    static const cvk_column on_columns[COLUMNS] = {
        CVK_COLUMN_T,      CVK_COLUMN_IA,     CVK_COLUMN_IB,  CVK_COLUMN_IC,     CVK_COLUMN_DUTY_A,
        CVK_COLUMN_DUTY_B, CVK_COLUMN_DUTY_C, CVK_COLUMN_VDC, CVK_COLUMN_THETA_M};
    for (size_t c = 0; c < COLUMNS; c++) {
        cvk_column column = on_columns[c];
        if (off && c >= 4 && c <= 6) {
            column = (cvk_column)(CVK_COLUMN_VA + (int)c - 4);
        }
        if (column != CVK_COLUMN_THETA_M || rotor_sensor) {
            out->log.column[column] = out->storage + c * most;
        }
    }
    out->log.rows = rows;
    free(sim);
    free(program);
}

void record(recording *out, const cvk_rig_config *config, const char *excitation, uint64_t seed,
            bool rotor_sensor)
{
    record_with(out, config, excitation, seed, rotor_sensor, false);
}

void recording_free(recording *r)
{
    free(r->storage);
    r->storage = NULL;
}
