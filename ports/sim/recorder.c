/* SPDX-License-Identifier: Apache-2.0
 *
 * Recording in memory.
 */
#include "corvak/sim/recorder.h"

#include "corvak/core/halls.h"
#include "corvak/core/units.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

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

/* NaN without such a sensor. */
static double shaft_angle(const cvk_settings *settings, const cvk_rotor_readings *read)
{
    const cvk_rotor_settings *s = &settings->rotor;
    const double pole_pairs = settings->motor.pole_pairs;
    switch ((cvk_rotor_kind)s->kind) {
    case CVK_ROTOR_ABSOLUTE:
        return (double)read->absolute_mech_rad;
    case CVK_ROTOR_ENCODER:
        return remainder(CVK_TWO_PI_WIDE * read->encoder_counts / s->counts, CVK_TWO_PI_WIDE);
    case CVK_ROTOR_SINCOS:
        return atan2((double)read->sin_v, (double)read->cos_v) /
               (s->periods_per_turn > 0 ? s->periods_per_turn : pole_pairs);
    case CVK_ROTOR_HALLS:
        return cvk_hall_sector(read->hall) < 0
                   ? NAN
                   : CVK_TWO_PI_WIDE / 6.0 * cvk_hall_sector(read->hall) / pole_pairs;
    case CVK_ROTOR_NONE:
    default:
        return NAN;
    }
}

cvk_status cvk_sim_run_program(cvk_sim *sim, cvk_recorder_row on_row, void *context)
{
    bool go_on = true;
    while (go_on && sim->program != NULL && !cvk_excitation_finished(sim->program)) {
        const cvk_sim_row row = cvk_sim_step(sim);
        go_on = on_row(context, &row);
        if (row.now->fault != CVK_FAULT_NONE) {
            return CVK_STOPPED;
        }
    }
    return CVK_OK;
}

typedef struct memory {
    cvk_recording *out;
    const cvk_settings *settings;
    size_t most;
    bool off; /* terminal voltages instead of duties */
} memory;

static bool keep_row(void *context, const cvk_sim_row *row)
{
    const memory *m = context;
    cvk_recording *out = m->out;
    const cvk_moment *now = row->now;
    const cvk_abc voltage = m->off ? now->readings.terminal_v : now->duty;
    const double cells[COLUMNS] = {row->time_s,
                                   (double)now->phase_a.a,
                                   (double)now->phase_a.b,
                                   (double)now->phase_a.c,
                                   (double)voltage.a,
                                   (double)voltage.b,
                                   (double)voltage.c,
                                   (double)now->bus_v,
                                   shaft_angle(m->settings, &now->readings.rotor)};
    for (size_t c = 0; c < COLUMNS && row->recorded; c++) {
        out->storage[c * m->most + out->log.rows] = cells[c];
    }
    out->log.rows += row->recorded ? 1u : 0u;
    return out->log.rows < m->most;
}

cvk_status cvk_sim_record(cvk_recording *out, cvk_sim *sim, bool rotor_sensor)
{
    *out = (cvk_recording){.storage = NULL};
    if (sim == NULL || sim->program == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    const cvk_rig_config *rig = cvk_rig_config_of(sim->rig);
    const double length_s = (double)cvk_excitation_length_s(sim->program);
    const size_t most = (size_t)(length_s / (double)cvk_sim_hardware(rig).period_s) + 16u;
    snprintf(out->name, sizeof out->name, "%.31s-%.31s", rig->name, sim->started->name);
    out->log = cvk_log_empty(out->name);
    out->log.current_gain_tolerance = rig->sensing.current_gain_tolerance;
    out->log.voltage_gain_tolerance = rig->sensing.voltage_gain_tolerance;
    out->storage = malloc(COLUMNS * most * sizeof(double));
    if (out->storage == NULL) {
        return CVK_NO_MEMORY;
    }
    memory m = {out, cvk_drive_settings(&sim->drive), most, sim->started->bridge_off};
    const cvk_status status = cvk_sim_run_program(sim, keep_row, &m);
    name_columns(out, most, m.off, rotor_sensor);
    return status;
}

void cvk_recording_free(cvk_recording *recording)
{
    free(recording->storage);
    recording->storage = NULL;
}
