/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated port. Timing as on a microcontroller: the sample taken at the valley gives duties
 * that are loaded at the next valley, so they act one period later, for one period.
 */
#include "corvak/sim/sim.h"

#include <math.h>
#include <string.h>

static void gate_enable(void *context, bool enable)
{
    cvk_rig_enable_bridge((cvk_rig *)context, enable);
}

static cvk_drive_config drive_config(const cvk_rig_config *config)
{
    const cvk_rig_drive *drive = &config->drive;
    const double rate_hz = config->inverter.pwm_hz;
    return (cvk_drive_config){
        .current =
            {
                .period_s = (float)(1.0 / rate_hz),
                .bandwidth_hz = (float)drive->bandwidth_hz,
                .resistance_ohm = (float)drive->resistance_ohm,
                .inductance_d_h = (float)drive->inductance_d_h,
                .inductance_q_h = (float)drive->inductance_q_h,
                .flux_linkage_wb = (float)drive->flux_linkage_wb,
            },
        .sensor =
            {
                .period_s = (float)(1.0 / rate_hz),
                .pole_pairs = (float)config->motor.pole_pairs,
                .direction = 1.0f,
                .offset_rad = (float)remainder(-config->motor.pole_pairs *
                                                   config->rotor_sensor.offset_mech_rad,
                                               2.0 * 3.14159265358979323846),
                .bandwidth_hz = (float)(rate_hz / 200.0),
            },
        .trip_current_a = (float)drive->trip_current_a,
        .bus_min_v = (float)(0.5 * config->supply.bus_v),
        .bus_max_v = (float)fmin(100.0, 1.5 * config->supply.bus_v),
        .speed_gain_a_s = (float)drive->speed_gain_a_s,
        .speed_integral_gain_a = (float)drive->speed_integral_gain_a,
        .speed_limit_a = (float)(0.7 * drive->current_limit_a),
    };
}

cvk_status cvk_sim_init(cvk_sim *sim, const cvk_rig_config *config, uint64_t seed, cvk_refusal *why)
{
    *sim = (cvk_sim){.duty = {0.5, 0.5, 0.5}};
    cvk_status status = cvk_rig_init(&sim->rig, config, seed);
    if (status != CVK_OK) {
        return status;
    }
    sim->port = (cvk_port){.context = &sim->rig, .gate_enable = gate_enable};
    cvk_drive_config drive = drive_config(config);
    return cvk_drive_init(&sim->drive, &sim->port, &drive, why);
}

cvk_sim_row cvk_sim_step(cvk_sim *sim)
{
    cvk_sim_row row = {.time_s = sim->rig.time_s, .sample = cvk_rig_read(&sim->rig)};
    const cvk_drive_sample sample = {
        .current_a = {(float)row.sample.current_a[0], (float)row.sample.current_a[1],
                      (float)row.sample.current_a[2]},
        .bus_v = (float)row.sample.bus_v,
        .sensor_mech_rad = (float)row.sample.sensor_mech_rad,
    };
    const cvk_abc duties = cvk_drive_control(&sim->drive, &sample);
    cvk_rig_advance(&sim->rig, sim->duty);
    sim->duty[0] = duties.a;
    sim->duty[1] = duties.b;
    sim->duty[2] = duties.c;
    memcpy(row.duty, sim->duty, sizeof row.duty);
    row.recorded = sim->drive.excitation != NULL && cvk_excitation_recorded(sim->drive.excitation);
    return row;
}

cvk_status cvk_sim_start(cvk_sim *sim, const char *name, cvk_excitation *excitation,
                         cvk_refusal *why)
{
    const cvk_rig_config *rig = &sim->rig.config;
    cvk_excitation_config config =
        cvk_excitation_config_default(sim->drive.config.current.period_s,
                                      (float)rig->drive.current_limit_a, (float)rig->supply.bus_v);
    config.speed_rad_s = (float)rig->drive.speed_rad_s;
    cvk_status status = CVK_NOT_IN_LOG;
    if (strcmp(name, "standstill") == 0) {
        status = cvk_excitation_standstill(excitation, &config, why);
        cvk_rig_hold_shaft(&sim->rig, true);
        cvk_drive_set_angle_source(&sim->drive, CVK_ANGLE_IMPOSED);
    } else if (strcmp(name, "spin") == 0 || strcmp(name, "coast") == 0) {
        config.hold_s = (float)rig->drive.plateau_s;
        status = name[0] == 's' ? cvk_excitation_spin(excitation, &config, why)
                                : cvk_excitation_coast(excitation, &config, why);
        cvk_rig_hold_shaft(&sim->rig, false);
        cvk_drive_set_angle_source(&sim->drive, CVK_ANGLE_SENSOR);
    }
    if (status == CVK_OK) {
        cvk_drive_run(&sim->drive, excitation);
    }
    return status;
}
