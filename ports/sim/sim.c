/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated port. Timing as on a microcontroller: the sample taken at the valley gives duties
 * that are loaded at the next valley, so they act one period later, for one period.
 */
#include "corvak/sim/sim.h"

#include <math.h>
#include <string.h>

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

#define LEASE_S 1.0f
#define SEEN 0.96 /* of a channel's range: a protection needs 3 % of it */

cvk_rotor_settings cvk_sim_rotor(const cvk_rig_config *config)
{
    cvk_rotor_settings s = config->tune.rotor;
    s.kind = config->stated.kind ? s.kind : config->rotor_sensor.kind;
    if (!config->stated.counts && config->rotor_sensor.counts >= 4.0) {
        s.counts = (int32_t)config->rotor_sensor.counts;
    }
    if (!config->stated.periods) {
        s.periods_per_turn = (int32_t)config->rotor_sensor.periods_per_turn;
    }
    return s;
}

/* A trip that is the preset and beyond what this bench's channel measures comes within it. */
static float preset_within(float value, bool stated, float preset, double range)
{
    const float most = (float)(SEEN * range);
    return !stated && value == preset && value > most ? most : value;
}

static void preset_trips(cvk_settings *s, const cvk_rig_config *config)
{
    const cvk_settings preset = cvk_settings_default();
    s->protect.trip_current_a =
        preset_within(s->protect.trip_current_a, config->stated.trip, preset.protect.trip_current_a,
                      config->sensing.current_range_a);
    s->protect.bus_max_v = preset_within(s->protect.bus_max_v, config->stated.bus_max,
                                         preset.protect.bus_max_v, config->sensing.voltage_range_v);
}

/* Where the sensor's zero is and which way it counts: what the tune states; else on a calibrated
 * bench as it is; else nobody knows, and a calibration is asked for. */
static void place_rotor(cvk_rotor_settings *s, const cvk_rig *rig)
{
    const cvk_rig_config *config = cvk_rig_config_of(rig);
    double direction, offset_e_rad;
    cvk_rig_calibration(rig, &direction, &offset_e_rad);
    if (config->rotor_sensor.calibrated) {
        s->reversed = config->stated.reversed ? s->reversed : (direction < 0.0 ? 1 : 0);
        s->offset_rad = config->stated.offset ? s->offset_rad : (float)offset_e_rad;
    } else if (!config->stated.offset) {
        s->startup = CVK_ROTOR_CALIBRATE;
    }
}

/* The tune, and what the bench's data sheets say where it is silent. */
static cvk_settings settings_of(const cvk_rig *rig)
{
    const cvk_rig_config *config = cvk_rig_config_of(rig);
    cvk_settings s = config->tune;
    s.rotor = cvk_sim_rotor(config);
    place_rotor(&s.rotor, rig);
    s.motor.pole_pairs =
        config->stated.pole_pairs ? s.motor.pole_pairs : (int32_t)config->motor.pole_pairs;
    preset_trips(&s, config);
    return s;
}

cvk_hardware cvk_sim_hardware(const cvk_rig_config *config)
{
    const double rate_hz = config->inverter.pwm_hz * config->inverter.updates_per_period;
    const int sensing = config->sensing.current_sensing;
    const bool low_side = sensing == CVK_SENSING_TWO_SHUNTS || sensing == CVK_SENSING_THREE_SHUNTS;
    const bool single = sensing == CVK_SENSING_SINGLE_SHUNT;
    const double window_s = config->sensing.settling_s + config->inverter.dead_time_s;
    return (cvk_hardware){.period_s = (float)(1.0 / rate_hz),
                          .updates_per_period = (int32_t)config->inverter.updates_per_period,
                          .current_sensing = low_side ? CVK_CURRENTS_LOW_SIDE
                                             : single ? CVK_CURRENTS_SINGLE_SHUNT
                                                      : CVK_CURRENTS_ALWAYS,
                          .window_s = low_side || single ? (float)window_s : 0.0f,
                          .nominal_bus_v = (float)config->supply.bus_v,
                          .current_range_a = (float)config->sensing.current_range_a,
                          .bus_range_v = (float)config->sensing.voltage_range_v};
}

cvk_status cvk_sim_init(cvk_sim *sim, const cvk_rig_config *config, uint64_t seed, cvk_refusal *why)
{
    *sim = (cvk_sim){.duty = {0.5, 0.5, 0.5}};
    cvk_status status = cvk_rig_open(&sim->rig, config, seed);
    if (status != CVK_OK) {
        return status;
    }
    sim->port = (cvk_port){
        .context = sim->rig,
        .gate_enable = gate_enable,
        .gate_register_read = gate_register_read,
        .gate_register_write = gate_register_write,
        .storage_read = storage_read,
        .storage_program = storage_program,
        .storage_erase = storage_erase,
    };
    const cvk_settings settings = settings_of(sim->rig);
    const cvk_hardware hardware = cvk_sim_hardware(config);
    status = cvk_drive_init(&sim->drive, &sim->port, &hardware, &settings, why);
    if (status == CVK_OK) {
        status = cvk_drive_claim(&sim->drive, CVK_SIM_OWNER, LEASE_S);
    }
    if (status == CVK_OK && config->rotor_sensor.calibrated) { /* an encoder's start came from it */
        status = cvk_drive_rotor_aligned(&sim->drive, CVK_SIM_OWNER);
    }
    return status;
}

void cvk_sim_close(cvk_sim *sim)
{
    cvk_rig_close(sim->rig);
    sim->rig = NULL;
}

/* Whole counts, as a 32-bit counter shows them; 0 without an encoder. */
static int32_t counts_of(double counts)
{
    return isfinite(counts) ? (int32_t)(int64_t)fmod(counts, 2147483648.0) : 0;
}

/* The gate driver's fault pin. */
static int32_t stage_tripped(cvk_rig *rig)
{
    uint16_t events = 0;
    return cvk_rig_gate_read(rig, CVK_GATE_EVENTS, &events) &&
                   (events & (CVK_GATE_EVENT_LATCHED | CVK_GATE_EVENT_UNDERVOLTAGE)) != 0
               ? 1
               : 0;
}

static cvk_readings readings_of(const cvk_rig_sample *sample)
{
    cvk_readings out = {
        .bus_v = (float)sample->bus_v,
        .terminal_v = {(float)sample->terminal_v[0], (float)sample->terminal_v[1],
                       (float)sample->terminal_v[2]},
        .rotor =
            {
                .absolute_mech_rad = (float)sample->absolute_mech_rad,
                .encoder_counts = counts_of(sample->encoder_counts),
                .index_passed = sample->index_passed ? 1 : 0,
                .sin_v = (float)sample->sin_v,
                .cos_v = (float)sample->cos_v,
                .hall = sample->hall,
                .tachometer_v = (float)sample->tachometer_v,
            },
        .winding_degc = (float)sample->winding_degc,
    };
    float *const current[] = {&out.current_a.a, &out.current_a.b, &out.current_a.c};
    for (int n = 0; n < 3; n++) {
        *current[n] = sample->current_valid[n] ? (float)sample->current_a[n] : 0.0f;
        out.current_valid |= sample->current_valid[n] ? 1 << n : 0;
    }
    return out;
}

static cvk_bench_truth truth_of(const cvk_rig *rig, const cvk_rig_sample *sample)
{
    const cvk_rig_state *state = cvk_rig_state_of(rig);
    cvk_bench_truth truth = {.angle_e_rad = cvk_rig_electrical_angle(rig),
                             .speed_mech_rad_s = state->speed_mech_rad_s,
                             .winding_degc = state->winding_degc,
                             .pulse_s = sample->pulse_s,
                             .pedal_v = sample->pedal_v,
                             .digital = sample->digital};
    cvk_rig_true_current(rig, truth.current_a);
    return truth;
}

cvk_sim_row cvk_sim_step(cvk_sim *sim)
{
    cvk_sim_row row = {.time_s = cvk_rig_time_s(sim->rig), .sample = cvk_rig_read(sim->rig)};
    cvk_readings readings = readings_of(&row.sample);
    readings.stage_tripped = stage_tripped(sim->rig);
    sim->sample = row.sample;
    sim->truth = truth_of(sim->rig, &row.sample);
    if (cvk_drive_refresh(&sim->drive, CVK_SIM_OWNER) != CVK_OK) {
        /* it was released, or handed over: then it is somebody else's to refresh */
    }
    const cvk_abc duty = cvk_drive_control(&sim->drive, &readings);
    cvk_rig_shift(sim->rig, sim->shift);
    cvk_rig_advance(sim->rig, sim->duty);
    sim->duty[0] = (double)duty.a;
    sim->duty[1] = (double)duty.b;
    sim->duty[2] = (double)duty.c;
    const cvk_abc shift = cvk_drive_now(&sim->drive)->shift;
    sim->shift[0] = (double)shift.a;
    sim->shift[1] = (double)shift.b;
    sim->shift[2] = (double)shift.c;
    row.now = cvk_drive_now(&sim->drive);
    row.recorded = sim->program != NULL && cvk_excitation_recorded(sim->program);
    return row;
}

cvk_status cvk_sim_start(cvk_sim *sim, const cvk_program *program, cvk_excitation *excitation,
                         cvk_refusal *why)
{
    const cvk_hardware hardware = cvk_sim_hardware(cvk_rig_config_of(sim->rig));
    cvk_status status = cvk_program_prepare(program, excitation, cvk_drive_settings(&sim->drive),
                                            &hardware, hardware.nominal_bus_v, why);
    if (status == CVK_OK) {
        status = cvk_drive_run(&sim->drive, CVK_SIM_OWNER, excitation, why);
    }
    if (status == CVK_OK) {
        cvk_rig_hold_shaft(sim->rig, program->shaft_held);
        sim->started = program;
        sim->program = excitation;
    }
    return status;
}
