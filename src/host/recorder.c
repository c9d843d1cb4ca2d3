/* SPDX-License-Identifier: Apache-2.0
 *
 * Recording in memory.
 */
#include "corvak/host/recorder.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { COLUMNS = 9 }; /* t, three currents, three duties or terminal voltages, bus, rotor angle */

static void name_columns(cvk_recording *out, size_t most, bool off, bool rotor_sensor)
{
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
}

cvk_status cvk_run_excitation(cvk_sim *sim, const cvk_excitation *program, cvk_recorder_row on_row,
                              void *context)
{
    bool go_on = true;
    while (go_on && !cvk_excitation_finished(program)) {
        const cvk_sim_row row = cvk_sim_step(sim);
        go_on = on_row(context, sim, &row);
        if (row.now->fault != CVK_FAULT_NONE) {
            return CVK_STOPPED;
        }
    }
    return CVK_OK;
}

typedef struct memory {
    cvk_recording *out;
    size_t most;
    bool off; /* terminal voltages instead of duties */
} memory;

static bool keep_row(void *context, const cvk_sim *sim, const cvk_sim_row *row)
{
    const memory *m = context;
    cvk_recording *out = m->out;
    const cvk_moment *now = row->now;
    const double duty[] = {(double)now->duty.a, (double)now->duty.b, (double)now->duty.c};
    const double *voltage = m->off ? row->sample.terminal_v : duty;
    const double cells[COLUMNS] = {row->time_s,
                                   (double)now->phase_a.a,
                                   (double)now->phase_a.b,
                                   (double)now->phase_a.c,
                                   voltage[0],
                                   voltage[1],
                                   voltage[2],
                                   row->sample.bus_v,
                                   cvk_sim_shaft_angle(&sim->rig.config, &row->sample)};
    for (size_t c = 0; c < COLUMNS && row->recorded; c++) {
        out->storage[c * m->most + out->log.rows] = cells[c];
    }
    out->log.rows += row->recorded ? 1u : 0u;
    return out->log.rows < m->most;
}

cvk_status cvk_record(cvk_recording *out, const cvk_rig_config *config, const char *excitation,
                      const cvk_recorder_options *options, cvk_refusal *why)
{
    *out = (cvk_recording){.storage = NULL};
    if (config == NULL || excitation == NULL || options == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_sim *sim = malloc(sizeof *sim);
    cvk_excitation *program = malloc(sizeof *program);
    const cvk_program *row = cvk_program_named(excitation);
    cvk_status status = sim != NULL && program != NULL ? CVK_OK : CVK_NO_MEMORY;
    if (status == CVK_OK && row == NULL) {
        status = CVK_UNKNOWN_NAME;
    }
    if (status == CVK_OK) {
        status = cvk_sim_init(sim, config, options->seed, why);
    }
    if (status == CVK_OK) {
        status = cvk_sim_start(sim, row, program, why);
    }
    if (status == CVK_OK) {
        const size_t most =
            (size_t)((double)cvk_excitation_length_s(program) * config->inverter.pwm_hz *
                     config->inverter.updates_per_period) +
            16u;
        const bool off = row->bridge_off;
        snprintf(out->name, sizeof out->name, "%.31s-%.31s", config->name, excitation);
        out->log = cvk_log_empty(out->name);
        out->log.current_gain_tolerance = config->sensing.current_gain_tolerance;
        out->log.voltage_gain_tolerance = config->sensing.voltage_gain_tolerance;
        out->storage = malloc(COLUMNS * most * sizeof(double));
        status = out->storage != NULL ? CVK_OK : CVK_NO_MEMORY;
        if (status == CVK_OK) {
            if (options->free_shaft) {
                cvk_rig_hold_shaft(&sim->rig, false);
            }
            memory m = {out, most, off};
            status = cvk_run_excitation(sim, program, keep_row, &m);
            name_columns(out, most, off, options->rotor_sensor);
        }
    }
    free(sim);
    free(program);
    return status;
}

void cvk_recording_free(cvk_recording *recording)
{
    free(recording->storage);
    recording->storage = NULL;
}
