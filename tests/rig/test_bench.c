/* SPDX-License-Identifier: Apache-2.0
 *
 * The rig as a bench: loads and faults from a scenario, supply, wiring, ways of measuring, gate
 * driver and storage behind the port, scope. The controller core runs on all of it.
 */
#include "corvak/rig/scope.h"
#include "corvak/sim/sim.h"
#include "ideal_rig.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#define PI 3.14159265358979323846

static cvk_sim sim;
static cvk_excitation program;
static cvk_rig_scenario scenario;

static void start(const cvk_rig_config *config, const char *excitation)
{
    cvk_sim_close(&sim);
    ck_assert_int_eq(cvk_sim_init(&sim, config, 5, NULL), CVK_OK);
    if (excitation != NULL) {
        ck_assert_int_eq(cvk_sim_start(&sim, cvk_program_named(excitation), &program, NULL),
                         CVK_OK);
    }
}

static cvk_rig_event *happens(cvk_rig_event_kind what, double value)
{
    scenario = (cvk_rig_scenario){.count = 1};
    scenario.item[0] = cvk_rig_event_default(what);
    scenario.item[0].value[0] = value;
    return &scenario.item[0];
}

static void run_until(double time_s)
{
    while (cvk_rig_time_s(sim.rig) < time_s) {
        cvk_sim_step(&sim);
    }
}

/* A motor that spins freely at a speed set-point under the speed loop. */
static void spin_at(const cvk_rig_config *config, double speed_e_rad_s)
{
    start(config, NULL);
    const cvk_request command = {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)speed_e_rad_s};
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &command, NULL), CVK_OK);
}

static cvk_rig_config small_motor(void)
{
    cvk_rig_config config = ideal_rig();
    config.shaft.inertia_kg_m2 = 1e-4;
    config.shaft.friction_viscous_nm_s = 1e-5;
    return config;
}

/* ---- loads ------------------------------------------------------------------------------------
 */

/* A fan's torque against the motion, with the square of the speed: J dw/dt = -k w^2. */
START_TEST(a_fan_slows_a_coasting_shaft_hyperbolically)
{
    cvk_rig_config config = ideal_rig();
    happens(CVK_LOAD_FAN, 0.1)->value[1] = 100.0;
    start(&config, NULL);
    cvk_rig_set_scenario(sim.rig, &scenario);
    cvk_rig_spin(sim.rig, 100.0, cvk_rig_state_of(sim.rig)->load_speed_mech_rad_s);
    run_until(1.0);
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 100.0 / (1.0 + 1.0), 0.1);
}
END_TEST

/* The hand presses, the shaft stops and stays; the hand lets go, and a weight turns it again. */
START_TEST(a_hand_brakes_and_lets_go)
{
    cvk_rig_config config = ideal_rig();
    cvk_rig_event *hand = happens(CVK_LOAD_BRAKE, 0.2);
    hand->from_s = 0.5;
    hand->for_s = 1.0;
    scenario.item[1] = cvk_rig_event_default(CVK_LOAD_CONSTANT);
    scenario.item[1].value[0] = 0.05;
    scenario.count = 2;
    start(&config, NULL);
    cvk_rig_set_scenario(sim.rig, &scenario);
    run_until(0.5);
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 25.0, 0.01);
    run_until(1.4);
    ck_assert_double_eq(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 0.0);
    run_until(1.7);
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 10.0, 0.01);
}
END_TEST

START_TEST(an_unbalanced_wheel_swings_like_a_pendulum)
{
    cvk_rig_config config = ideal_rig();
    happens(CVK_LOAD_UNBALANCE, 0.1)->value[1] = 0.5;
    start(&config, NULL);
    cvk_rig_place(sim.rig, 0.55);
    cvk_rig_set_scenario(sim.rig, &scenario);
    int crossings = 0;
    double before = 1.0;
    while (cvk_rig_time_s(sim.rig) < 5.0) {
        cvk_sim_step(&sim);
        double off = cvk_rig_state_of(sim.rig)->angle_mech_rad - 0.5;
        crossings += off * before < 0.0;
        before = off;
    }
    ck_assert_double_eq_tol(crossings / 10.0, sqrt(0.1 / 1e-3) / (2.0 * PI), 0.15);
}
END_TEST

START_TEST(a_blocked_rotor_stands_and_a_driven_one_turns)
{
    cvk_rig_config config = small_motor();
    happens(CVK_LOAD_BLOCKED, NAN)->for_s = 0.2;
    spin_at(&config, 200.0);
    cvk_rig_set_scenario(sim.rig, &scenario);
    run_until(0.19);
    ck_assert_double_eq(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 0.0);
    run_until(0.6);
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 50.0, 2.0);

    happens(CVK_LOAD_DRIVEN, 80.0)->ramp_s = 0.1;
    start(&config, NULL);
    cvk_rig_set_scenario(sim.rig, &scenario);
    run_until(0.05);
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 40.0, 0.1);
    run_until(0.2);
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 80.0, 1e-9);
}
END_TEST

/* Driven beyond the bus, the rotor charges it through the diodes: up to the line's back-EMF with a
 * supply that takes nothing back. */
START_TEST(a_fast_rotor_rectifies_into_the_bus)
{
    cvk_rig_config config = ideal_rig();
    config.supply.kind = CVK_SUPPLY_BENCH;
    config.supply.resistance_ohm = 0.05;
    config.inverter.diode_drop_v = 0.7;
    happens(CVK_LOAD_DRIVEN, 500.0);
    start(&config, NULL);
    cvk_rig_set_scenario(sim.rig, &scenario);
    run_until(0.5);
    double line_v = sqrt(3.0) * 500.0 * 4 * 0.01;
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->bus_v, line_v - 1.4, 0.4);
}
END_TEST

/* Events: a happening can wait for a speed. */
START_TEST(a_happening_waits_for_its_event)
{
    cvk_rig_config config = small_motor();
    cvk_rig_event *plug = happens(CVK_MISHAP_SENSOR_UNPLUGGED, NAN);
    plug->above_speed_mech_rad_s = 30.0;
    plug->from_s = 0.01;
    config.rotor_sensor.all_fitted = 1;
    config.rotor_sensor.counts = 4096;
    spin_at(&config, 200.0);
    cvk_rig_set_scenario(sim.rig, &scenario);
    while (!(cvk_rig_state_of(sim.rig)->speed_mech_rad_s > 30.0)) {
        cvk_sim_step(&sim);
        ck_assert_int_ne(sim.sample.hall, 7);
    }
    double since = cvk_rig_time_s(sim.rig);
    while (sim.sample.hall != 7) {
        cvk_sim_step(&sim);
    }
    ck_assert_double_eq_tol(cvk_rig_time_s(sim.rig) - since, 0.01, 2e-4);
}
END_TEST

/* ---- faults -----------------------------------------------------------------------------------
 */

START_TEST(an_open_phase_carries_nothing)
{
    for (int fidelity = 0; fidelity < 2; fidelity++) {
        cvk_rig_config config = small_motor();
        config.inverter.fidelity = fidelity;
        happens(CVK_MISHAP_OPEN_PHASE, 1)->from_s = 0.2;
        spin_at(&config, 200.0);
        cvk_rig_set_scenario(sim.rig, &scenario);
        run_until(0.21);
        for (int k = 0; k < 100; k++) {
            double i[3];
            cvk_sim_step(&sim);
            cvk_rig_true_current(sim.rig, i);
            ck_assert_double_lt(fabs(i[1]), 1e-6);
            ck_assert_double_lt(fabs(i[0] + i[2]), 1e-6);
        }
    }
}
END_TEST

START_TEST(a_short_between_wires_trips_the_drive)
{
    cvk_rig_config config = small_motor();
    cvk_rig_event *accident = happens(CVK_MISHAP_PHASE_SHORT, 0);
    accident->value[1] = 1;
    accident->from_s = 0.2;
    spin_at(&config, 200.0);
    cvk_rig_set_scenario(sim.rig, &scenario);
    run_until(0.19);
    ck_assert_int_eq(cvk_drive_now(&sim.drive)->fault, CVK_FAULT_NONE);
    run_until(0.3);
    ck_assert_int_eq(cvk_drive_now(&sim.drive)->fault, CVK_FAULT_OVERCURRENT);
    ck_assert(!cvk_rig_bridge_is_on(sim.rig));
}
END_TEST

START_TEST(stuck_and_lost_signals)
{
    cvk_rig_config config = small_motor();
    config.sensing.current_noise_a = 0.05;
    config.rotor_sensor.all_fitted = 1;
    config.rotor_sensor.counts = 4096;
    static const cvk_rig_event_kind faults[] = {
        CVK_MISHAP_ADC_STUCK, CVK_MISHAP_SENSOR_STUCK, CVK_MISHAP_SENSOR_UNPLUGGED,
        CVK_SET_POINT_LOST,   CVK_MISHAP_HOT,          CVK_MISHAP_BROWN_OUT};
    for (unsigned n = 0; n < sizeof faults / sizeof faults[0]; n++) {
        double value =
            faults[n] == CVK_MISHAP_HOT ? 160.0 : (faults[n] == CVK_MISHAP_ADC_STUCK ? 2 : 9);
        happens(faults[n], value)->from_s = 0.1;
        start(&config, NULL);
        cvk_rig_set_scenario(sim.rig, &scenario);
        cvk_rig_spin(sim.rig, 50.0, cvk_rig_state_of(sim.rig)->load_speed_mech_rad_s);
        run_until(0.11);
        cvk_rig_sample a = cvk_sim_step(&sim).sample;
        run_until(0.113);
        cvk_rig_sample b = cvk_sim_step(&sim).sample;
        ck_assert((a.current_a[2] == b.current_a[2]) == (faults[n] == CVK_MISHAP_ADC_STUCK));
        bool still = a.absolute_mech_rad == b.absolute_mech_rad && a.sin_v == b.sin_v;
        ck_assert(still == (faults[n] == CVK_MISHAP_SENSOR_STUCK));
        ck_assert((b.hall == 7 && hypot(b.sin_v, b.cos_v) < 0.2) ==
                  (faults[n] == CVK_MISHAP_SENSOR_UNPLUGGED));
        ck_assert((b.pedal_v == 0.0) == (faults[n] == CVK_SET_POINT_LOST));
        ck_assert((b.winding_degc > 150.0) == (faults[n] == CVK_MISHAP_HOT));
        ck_assert((b.bus_v < 10.0) == (faults[n] == CVK_MISHAP_BROWN_OUT));
    }
}
END_TEST

/* Set-points arrive as the person sets them. */
START_TEST(set_points_arrive_as_pulse_voltage_and_number)
{
    cvk_rig_config config = ideal_rig();
    happens(CVK_SET_POINT, 0.5);
    start(&config, NULL);
    cvk_rig_set_scenario(sim.rig, &scenario);
    int pulses = 0, numbers = 0;
    for (int k = 0; k < 20000; k++) {
        cvk_rig_sample s = cvk_sim_step(&sim).sample;
        pulses += fabs(s.pulse_s - 1.5e-3) < 1e-9;
        numbers += s.digital == 0.5;
        ck_assert_double_eq_tol(s.pedal_v, 2.5, 1e-9);
    }
    ck_assert_int_eq(pulses, 50);
    ck_assert_int_eq(numbers, 100);
}
END_TEST

/* ---- supply -----------------------------------------------------------------------------------
 */

/* Braking from 700 to 0 rad/s: a battery takes the energy back, a bench supply lets the bus rise.
 */
START_TEST(a_bench_supply_takes_nothing_back)
{
    double highest[2];
    for (int kind = 0; kind < 2; kind++) {
        cvk_rig_config config = small_motor();
        config.supply.kind = kind;
        config.supply.resistance_ohm = 0.05;
        config.supply.cable_inductance_h = 1e-6;
        config.tune.protect.bus_max_v = 60.0f;
        spin_at(&config, 700.0);
        run_until(0.5);
        const cvk_request stop = {.mode = CVK_MODE_SPEED};
        ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &stop, NULL), CVK_OK);
        highest[kind] = 0.0;
        while (cvk_rig_time_s(sim.rig) < 0.7) {
            cvk_sim_step(&sim);
            highest[kind] = fmax(highest[kind], cvk_rig_state_of(sim.rig)->bus_v);
        }
    }
    ck_assert_double_lt(highest[CVK_SUPPLY_BATTERY], 25.0);
    ck_assert_double_gt(highest[CVK_SUPPLY_BENCH], 27.0);
}
END_TEST

/* ---- measuring and wiring ---------------------------------------------------------------------
 */

/* Every way of measuring currents controls the motor; what it reports is near the truth. A single
 * shunt needs active vectors long enough: it is tried on a motor that turns already. */
START_TEST(every_current_sensing_controls_the_motor)
{
    cvk_rig_config config = small_motor();
    config.sensing.current_sensing = _i / 2;
    config.inverter.dead_time_s = 2e-7;
    config.inverter.fidelity = _i % 2;
    const bool single = config.sensing.current_sensing == CVK_SENSING_SINGLE_SHUNT;
    config.sensing.settling_s = single ? 2e-7 : 1e-6;
    spin_at(&config, single ? 700.0 : 300.0);
    cvk_rig_spin(sim.rig, single ? 160.0 : 0.0, cvk_rig_state_of(sim.rig)->load_speed_mech_rad_s);
    double worst = 0.0, largest = 0.0;
    while (cvk_rig_time_s(sim.rig) < 0.3) {
        double truth[3];
        cvk_rig_true_current(sim.rig, truth);
        const cvk_abc i = cvk_sim_step(&sim).now->phase_a;
        const double seen[3] = {(double)i.a, (double)i.b, (double)i.c};
        for (int n = 0; n < 3; n++) {
            largest = fmax(largest, fabs(truth[n]));
            if (cvk_rig_time_s(sim.rig) > 0.15) {
                worst = fmax(worst, fabs(seen[n] - truth[n]));
            }
        }
    }
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, single ? 175.0 : 75.0,
                            2.0);
    ck_assert_msg(worst < (single ? 1.0 : 1e-3), "worst %g A", worst);
    ck_assert_double_gt(largest, 1.0);
}
END_TEST

/* Two control calls a period. */
START_TEST(double_update_controls_the_motor)
{
    for (int fidelity = 0; fidelity < 2; fidelity++) {
        cvk_rig_config config = small_motor();
        config.inverter.updates_per_period = 2;
        config.inverter.fidelity = fidelity;
        spin_at(&config, 300.0);
        cvk_sim_step(&sim);
        ck_assert_double_eq_tol(cvk_rig_time_s(sim.rig), 25e-6, 1e-12);
        run_until(0.3);
        ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 75.0, 1.0);
    }
}
END_TEST

/* Any permutation of the motor's wires and any direction of the sensor: with the calibration that
 * the rig knows, the controller sees a positive speed; the shaft turns the way the wires say. */
START_TEST(any_wiring_turns)
{
    cvk_rig_config config = small_motor();
    config.wiring.phases = _i / 2;
    config.wiring.sensor_reversed = _i % 2;
    config.rotor_sensor.offset_mech_rad = 0.7;
    spin_at(&config, 300.0);
    run_until(0.3);
    double shaft = config.wiring.phases < CVK_PHASES_ACB ? 75.0 : -75.0;
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, shaft, 1.0);
    ck_assert_double_eq_tol(cvk_drive_now(&sim.drive)->angle.speed_rad_s, 300.0, 4.0);
}
END_TEST

/* Every sensor that shows an angle closes the loop. */
START_TEST(any_angle_sensor_closes_the_loop)
{
    cvk_rig_config config = small_motor();
    config.rotor_sensor.kind = _i;
    config.rotor_sensor.counts = 4096;
    config.rotor_sensor.offset_mech_rad = -0.4;
    spin_at(&config, 400.0);
    run_until(0.5);
    ck_assert_double_eq_tol(cvk_rig_state_of(sim.rig)->speed_mech_rad_s, 100.0, 3.0);
}
END_TEST

/* The swapped halls of the mixer go through all six states in another order. */
START_TEST(swapped_halls_change_the_order_of_states)
{
    cvk_rig_config config = ideal_rig();
    config.rotor_sensor.kind = CVK_ROTOR_HALLS;
    int orders[2][6];
    for (int swapped = 0; swapped < 2; swapped++) {
        config.wiring.hall_wires = swapped ? CVK_PHASES_BAC : CVK_PHASES_ABC;
        start(&config, NULL);
        for (int k = 0; k < 6; k++) {
            cvk_rig_place(sim.rig, k * PI / 3.0 / 4.0);
            orders[swapped][k] = cvk_rig_read(sim.rig).hall;
        }
    }
    static const int straight[] = {1, 3, 2, 6, 4, 5}, crossed[] = {2, 3, 1, 5, 4, 6};
    ck_assert_int_eq(memcmp(orders[0], straight, sizeof straight), 0);
    ck_assert_int_eq(memcmp(orders[1], crossed, sizeof crossed), 0);
}
END_TEST

/* ---- behind the port --------------------------------------------------------------------------
 */

static uint16_t gate(uint8_t address)
{
    uint16_t value = 0;
    ck_assert(sim.port.gate_register_read(sim.port.context, address, &value));
    return value;
}

/* A voltage that would drive 24 A: the comparator limits each period, or latches until cleared. */
START_TEST(the_gate_driver_limits_or_latches)
{
    for (int _mode = 0; _mode < 4; _mode++) {
        bool latch = _mode % 2 != 0;
        cvk_rig_config config = ideal_rig();
        config.inverter.fidelity = _mode / 2;
        config.inverter.dead_time_s = 2e-7;
        config.inverter.diode_drop_v = 0.7;
        config.gate_driver.overcurrent_a = 40;
        start(&config, NULL);
        ck_assert_uint_eq(gate(CVK_GATE_IDENTITY), CVK_GATE_IDENTITY_VALUE);
        uint16_t setting = (uint16_t)(256u | (latch ? CVK_GATE_LATCH : 0u)); /* 10 A */
        ck_assert(sim.port.gate_register_write(sim.port.context, CVK_GATE_OVERCURRENT, setting));
        cvk_rig_hold_shaft(sim.rig, true);
        cvk_rig_enable_bridge(sim.rig, true);
        const double duty[3] = {0.95, 0.05, 0.05};
        double i[3], largest = 0.0;
        for (int k = 0; k < 400; k++) {
            cvk_rig_advance(sim.rig, duty);
            cvk_rig_true_current(sim.rig, i);
            largest = fmax(largest, fabs(i[0]));
        }
        ck_assert_double_lt(largest, config.inverter.fidelity ? 10.1 : 10.9);
        ck_assert_double_gt(largest, 9.0);
        ck_assert((gate(CVK_GATE_EVENTS) & CVK_GATE_EVENT_OVERCURRENT) != 0);
        ck_assert(((gate(CVK_GATE_EVENTS) & CVK_GATE_EVENT_LATCHED) != 0) == latch);
        ck_assert(latch ? fabs(i[0]) < 1e-9 : fabs(i[0]) > 5.0);
        ck_assert(sim.port.gate_register_write(sim.port.context, CVK_GATE_EVENTS, 0xffff));
        ck_assert_uint_eq(gate(CVK_GATE_EVENTS), 0);
        cvk_rig_advance(sim.rig, duty);
        cvk_rig_true_current(sim.rig, i);
        ck_assert_double_gt(fabs(i[0]), 0.1);
    }
    uint16_t value = 7;
    ck_assert(!sim.port.gate_register_read(sim.port.context, 99, &value));
    ck_assert(!sim.port.gate_register_write(sim.port.context, CVK_GATE_IDENTITY, 1));
    ck_assert_uint_eq(value, 7);
}
END_TEST

/* Power fails n bytes into a write, for every n: what came before stays, the rest is untouched. */
START_TEST(storage_can_be_cut_at_any_byte)
{
    uint8_t bytes[32], back[32];
    for (int n = 0; n < 32; n++) {
        bytes[n] = (uint8_t)n;
    }
    cvk_rig_config config = ideal_rig();
    for (int cut = 0; cut <= 32; cut++) {
        happens(CVK_MISHAP_STORAGE_CUT, cut);
        start(&config, NULL);
        cvk_rig_set_scenario(sim.rig, &scenario);
        bool done = sim.port.storage_program(sim.port.context, 100, bytes, sizeof bytes);
        ck_assert(done == (cut == 32));
        ck_assert(sim.port.storage_read(sim.port.context, 100, back, sizeof back));
        for (int n = 0; n < 32; n++) {
            ck_assert_uint_eq(back[n], n < cut ? n : 0xff);
        }
        ck_assert(!sim.port.storage_erase(sim.port.context, 0));
    }
    start(&config, NULL);
    ck_assert(sim.port.storage_program(sim.port.context, 0, bytes, sizeof bytes));
    ck_assert(sim.port.storage_program(sim.port.context, 0, bytes + 1, 1)); /* only clears bits */
    ck_assert(sim.port.storage_erase(sim.port.context, 0));
    ck_assert(sim.port.storage_read(sim.port.context, 0, back, 1));
    ck_assert_uint_eq(back[0], 0xff);
    ck_assert(!sim.port.storage_read(sim.port.context, 2048, back, 1));
    ck_assert(!sim.port.storage_program(sim.port.context, 2040, bytes, sizeof bytes));
    ck_assert(!sim.port.storage_erase(sim.port.context, 2));
}
END_TEST

/* ---- scope ------------------------------------------------------------------------------------
 */

typedef struct seen {
    long rows, high;
    int edges;
    bool up;
} seen;

static void look(void *context, const cvk_rig_scope_row *row)
{
    seen *s = context;
    bool up = row->leg_v[0] > 12.0;
    s->edges += s->rows > 0 && up != s->up;
    s->up = up;
    s->high += up;
    s->rows++;
}

/* A scope sees two edges a period, the duty, and changes nothing of what the rig does. */
START_TEST(a_scope_sees_every_edge_and_changes_nothing)
{
    cvk_rig_config config = ideal_rig();
    config.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    config.inverter.dead_time_s = 3e-7;
    config.sensing.current_noise_a = 0.1;
    const double duty[3] = {0.7, 0.5, 0.4};
    cvk_rig_sample last[2];
    for (int with = 0; with < 2; with++) {
        seen s = {.rows = 0};
        cvk_rig_scope scope = {
            .from_s = 1e-3, .until_s = 2e-3, .rate_hz = 1e7, .row = look, .context = &s};
        start(&config, NULL);
        cvk_rig_hold_shaft(sim.rig, true);
        cvk_rig_enable_bridge(sim.rig, true);
        if (with) {
            cvk_rig_scope_attach(sim.rig, &scope);
        }
        for (int k = 0; k < 60; k++) {
            cvk_rig_advance(sim.rig, duty);
        }
        last[with] = cvk_rig_read(sim.rig);
        if (with) {
            ck_assert_int_eq(s.rows, 10000);
            ck_assert_int_eq(s.edges, 40);
            ck_assert_double_eq_tol((double)s.high / (double)s.rows, 0.7 - 0.006, 0.002);
        }
    }
    for (int n = 0; n < 3; n++) {
        ck_assert_double_eq(last[0].current_a[n], last[1].current_a[n]);
    }
}
END_TEST

/* The rig of any studio motor runs every excitation through, in both fidelities. */
START_TEST(every_excitation_runs_on_the_studio)
{
    static const char *const names[] = {"wheel", "blower", "mixer", "table"};
    cvk_rig_config config = studio_rig(names[_i / 2]);
    config.inverter.fidelity = _i % 2;
    for (unsigned n = 0; n < cvk_program_count(); n++) {
        start(&config, cvk_program_at(n)->name);
        long rows = 0;
        while (!cvk_excitation_finished(&program)) {
            rows += cvk_sim_step(&sim).recorded;
        }
        ck_assert_msg(cvk_drive_now(&sim.drive)->fault == CVK_FAULT_NONE, "%s %s: %s",
                      names[_i / 2], cvk_program_at(n)->name,
                      cvk_fault_text((cvk_fault)cvk_drive_now(&sim.drive)->fault));
        ck_assert_int_gt(rows, 10000);
    }
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, a_fan_slows_a_coasting_shaft_hyperbolically);
    tcase_add_test(tests, a_hand_brakes_and_lets_go);
    tcase_add_test(tests, an_unbalanced_wheel_swings_like_a_pendulum);
    tcase_add_test(tests, a_blocked_rotor_stands_and_a_driven_one_turns);
    tcase_add_test(tests, a_fast_rotor_rectifies_into_the_bus);
    tcase_add_test(tests, a_happening_waits_for_its_event);
    tcase_add_test(tests, an_open_phase_carries_nothing);
    tcase_add_test(tests, a_short_between_wires_trips_the_drive);
    tcase_add_test(tests, stuck_and_lost_signals);
    tcase_add_test(tests, set_points_arrive_as_pulse_voltage_and_number);
    tcase_add_test(tests, a_bench_supply_takes_nothing_back);
    tcase_add_loop_test(tests, every_current_sensing_controls_the_motor, 0, 8);
    tcase_add_test(tests, double_update_controls_the_motor);
    tcase_add_loop_test(tests, any_wiring_turns, 0, 12);
    tcase_add_loop_test(tests, any_angle_sensor_closes_the_loop, 0, 4);
    tcase_add_test(tests, swapped_halls_change_the_order_of_states);
    tcase_add_test(tests, the_gate_driver_limits_or_latches);
    tcase_add_test(tests, storage_can_be_cut_at_any_byte);
    tcase_add_test(tests, a_scope_sees_every_edge_and_changes_nothing);
    tcase_add_loop_test(tests, every_excitation_runs_on_the_studio, 0, 8);
}

int main(void)
{
    return run_suite("bench", add);
}
