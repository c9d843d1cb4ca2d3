/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated port. Timing as on a microcontroller: the sample taken at the valley gives duties
 * that are loaded at the next valley, so they act one period later, for one period.
 */
#include "corvak/sim/sim.h"

#include <math.h>
#include <string.h>

const char *const cvk_sim_excitations[] = {"standstill", "spin",  "coast", "sweep",
                                           "duty",       "steps", NULL};

/* ---- the callbacks of the port --------------------------------------------------------------- */

static void gate_enable(void *context, bool enable)
{
    cvk_rig_enable_bridge((cvk_rig *)context, enable);
}

static bool gate_register_read(void *context, uint8_t address, uint16_t *value)
{
    return cvk_rig_gate_read((cvk_rig *)context, address, value);
}

static bool gate_register_write(void *context, uint8_t address, uint16_t value)
{
    return cvk_rig_gate_write((cvk_rig *)context, address, value);
}

static bool storage_read(void *context, uint32_t at, void *bytes, uint32_t count)
{
    return cvk_rig_storage_read((const cvk_rig *)context, at, bytes, count);
}

static bool storage_program(void *context, uint32_t at, const void *bytes, uint32_t count)
{
    return cvk_rig_storage_program((cvk_rig *)context, at, bytes, count);
}

static bool storage_erase(void *context, uint32_t page)
{
    return cvk_rig_storage_erase((cvk_rig *)context, page);
}

/* What the person tells the controller, and the wiring as a calibration would have found it. */
static cvk_drive_config drive_config(const cvk_rig *rig)
{
    const cvk_rig_config *config = &rig->config;
    const cvk_rig_drive *drive = &config->drive;
    const double rate_hz = config->inverter.pwm_hz * config->inverter.updates_per_period;
    double direction, offset_e_rad;
    cvk_rig_calibration(rig, &direction, &offset_e_rad);
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
                .direction = (float)direction,
                .offset_rad = (float)offset_e_rad,
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
    sim->port = (cvk_port){
        .context = &sim->rig,
        .gate_enable = gate_enable,
        .gate_register_read = gate_register_read,
        .gate_register_write = gate_register_write,
        .storage_read = storage_read,
        .storage_program = storage_program,
        .storage_erase = storage_erase,
    };
    cvk_drive_config drive = drive_config(&sim->rig);
    return cvk_drive_init(&sim->drive, &sim->port, &drive, why);
}

static void complete_currents(cvk_sim *sim, const cvk_rig_sample *sample)
{
    int missing = 0, which = 0;
    double sum = 0.0;
    for (int n = 0; n < 3; n++) {
        if (sample->current_valid[n]) {
            sum += sample->current_a[n];
        } else {
            missing++;
            which = n;
        }
    }
    if (missing == 0) {
        memcpy(sim->current_a, sample->current_a, sizeof sim->current_a);
    } else if (missing == 1) {
        memcpy(sim->current_a, sample->current_a, sizeof sim->current_a);
        sim->current_a[which] = -sum;
    } /* else: those of the period before */
}

/* The angle that the rotor sensor in use shows. */
static double sensor_angle(const cvk_rig_config *config, const cvk_rig_sample *sample)
{
    static const int sixth_of[8] = {0, 0, 2, 1, 4, 5, 3, 0}; /* hall word to sixth of a turn */
    const cvk_rig_rotor_sensor *sensor = &config->rotor_sensor;
    const double two_pi = 6.28318530717958647693;
    double periods =
        sensor->periods_per_turn > 0.0 ? sensor->periods_per_turn : config->motor.pole_pairs;
    switch (sensor->kind) {
    case CVK_SENSOR_ABSOLUTE:
        return sample->absolute_mech_rad;
    case CVK_SENSOR_ENCODER:
        /* within a turn: the drive computes in float */
        return remainder(two_pi * sample->encoder_counts / sensor->counts, two_pi);
    case CVK_SENSOR_SINCOS:
        return atan2(sample->sin_v, sample->cos_v) / periods;
    case CVK_SENSOR_HALLS:
        return two_pi / 6.0 * sixth_of[sample->hall] / config->motor.pole_pairs;
    default:
        return NAN;
    }
}

/* Low-side shunts need their leg low for a while around the sample: the three duties go down
 * together, which leaves the motor's voltage as it is while the lowest stays above zero. */
static void keep_windows(const cvk_rig_config *config, double duty[3])
{
    if (config->sensing.current_sensing != CVK_SENSING_TWO_SHUNTS &&
        config->sensing.current_sensing != CVK_SENSING_THREE_SHUNTS) {
        return;
    }
    double window_s = config->sensing.settling_s + config->inverter.dead_time_s;
    double most = 1.0 - 2.1 * window_s * config->inverter.pwm_hz;
    double over = fmax(duty[0], fmax(duty[1], duty[2])) - most;
    for (int n = 0; n < 3 && over > 0.0; n++) {
        duty[n] = fmax(0.0, duty[n] - over);
    }
}

cvk_sim_row cvk_sim_step(cvk_sim *sim)
{
    cvk_sim_row row = {.time_s = sim->rig.time_s, .sample = cvk_rig_read(&sim->rig)};
    complete_currents(sim, &row.sample);
    row.sensor_mech_rad = sensor_angle(&sim->rig.config, &row.sample);
    const cvk_drive_sample sample = {
        .current_a = {(float)sim->current_a[0], (float)sim->current_a[1], (float)sim->current_a[2]},
        .bus_v = (float)row.sample.bus_v,
        .sensor_mech_rad = (float)row.sensor_mech_rad,
    };
    const cvk_abc duties = cvk_drive_control(&sim->drive, &sample);
    cvk_rig_advance(&sim->rig, sim->duty);
    sim->duty[0] = duties.a;
    sim->duty[1] = duties.b;
    sim->duty[2] = duties.c;
    keep_windows(&sim->rig.config, sim->duty);
    memcpy(row.duty, sim->duty, sizeof row.duty);
    memcpy(row.current_a, sim->current_a, sizeof row.current_a);
    row.recorded = sim->drive.excitation != NULL && cvk_excitation_recorded(sim->drive.excitation);
    return row;
}

typedef cvk_status program(cvk_excitation *excitation, const cvk_excitation_config *config,
                           cvk_refusal *why);

cvk_status cvk_sim_start(cvk_sim *sim, const char *name, cvk_excitation *excitation,
                         cvk_refusal *why)
{
    static program *const programs[] = {cvk_excitation_standstill, cvk_excitation_spin,
                                        cvk_excitation_coast,      cvk_excitation_sweep,
                                        cvk_excitation_duty,       cvk_excitation_steps};
    const cvk_rig_config *rig = &sim->rig.config;
    cvk_excitation_config config =
        cvk_excitation_config_default(sim->drive.config.current.period_s,
                                      (float)rig->drive.current_limit_a, (float)rig->supply.bus_v);
    config.speed_rad_s = (float)rig->drive.speed_rad_s;
    config.sweep_turns = (float)rig->motor.pole_pairs; /* once round, at half a turn per second */
    config.sweep_rad_s = CVK_PI * config.sweep_turns;
    unsigned n = 0;
    while (cvk_sim_excitations[n] != NULL && strcmp(cvk_sim_excitations[n], name) != 0) {
        n++;
    }
    if (cvk_sim_excitations[n] == NULL) {
        return CVK_NOT_IN_LOG;
    }
    const bool held = strcmp(name, "standstill") == 0, open_loop = strcmp(name, "sweep") == 0;
    if (!held && !open_loop) {
        config.hold_s = (float)rig->drive.plateau_s;
    }
    cvk_status status = programs[n](excitation, &config, why);
    if (status == CVK_OK) {
        cvk_rig_hold_shaft(&sim->rig, held);
        cvk_drive_set_angle_source(&sim->drive,
                                   held || open_loop ? CVK_ANGLE_IMPOSED : CVK_ANGLE_SENSOR);
        cvk_drive_run(&sim->drive, excitation);
    }
    return status;
}
