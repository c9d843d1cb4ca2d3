/* SPDX-License-Identifier: Apache-2.0
 *
 * The calibration that runs on the controller, on every bench, with every kind of sensor and
 * wiring, knowing current limit and pole pairs alone; and each way in which it must fail by name.
 */
#include "corvak/sim/sim.h"
#include "sensor_log.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#define TWO_PI 6.28318530717958647693
#define DEGREES 57.29577951308232
#define LONGEST_S 60.0

static cvk_sim sim;
static const cvk_moment *now;
static double peak_a;

/* The motor is not known, and the sensor's settings are wrong. */
static void forget(cvk_settings *s)
{
    s->motor.resistance_ohm = s->motor.flux_linkage_wb = 0.0f;
    s->motor.inductance_d_h = s->motor.inductance_q_h = 0.0f;
    s->rotor.reversed = 0;
    s->rotor.offset_rad = 0.0f;
    s->rotor.startup = CVK_ROTOR_CALIBRATE;
}

static void open_bench(const cvk_rig_config *config, uint64_t seed, int pole_pairs)
{
    ck_assert_int_eq(cvk_sim_init(&sim, config, seed, NULL), CVK_OK);
    cvk_settings s = *cvk_drive_settings(&sim.drive);
    forget(&s);
    s.motor.pole_pairs = pole_pairs > 0 ? pole_pairs : s.motor.pole_pairs;
    ck_assert_int_eq(cvk_drive_stage(&sim.drive, &s, NULL), CVK_OK);
    now = cvk_drive_now(&sim.drive);
    (void)cvk_sim_step(&sim);
}

/* Runs it to its end; the true leg currents are watched. */
static void calibrate(void)
{
    const cvk_request request = {.mode = CVK_MODE_CALIBRATE};
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, NULL), CVK_OK);
    double time_s = 0.0;
    peak_a = 0.0;
    while (now->calibration < CVK_CALIBRATE_DONE && now->fault == CVK_FAULT_NONE &&
           time_s < LONGEST_S) {
        double leg_a[3];
        time_s = cvk_sim_step(&sim).time_s;
        cvk_rig_true_current(sim.rig, leg_a);
        for (int n = 0; n < 3; n++) {
            peak_a = fmax(peak_a, fabs(leg_a[n]));
        }
    }
    ck_assert_msg(now->fault == CVK_FAULT_NONE, "%s after %.1f s",
                  cvk_fault_text((cvk_fault)now->fault), time_s);
}

static cvk_rig_config bench_with(int bench, cvk_rotor_kind kind, unsigned draw)
{
    cvk_rig_config config = sensor_bench(bench);
    config.rotor_sensor.kind = (int)kind;
    config.wiring.phases = (int)(draw % 6u);
    config.wiring.sensor_reversed = (int)(draw / 6u % 2u);
    config.wiring.hall_wires = CVK_PHASES_ABC;
    config.inverter.fidelity = (int)(draw % 2u);
    return config;
}

/* With what was found the motor runs, the way it is told, both ways. */
static void run_with_it(void)
{
    cvk_settings s = *cvk_drive_settings(&sim.drive);
    const cvk_settings tune = cvk_rig_config_of(sim.rig)->tune;
    s.motor = tune.motor;
    s.rotor.reversed = now->found_direction < 0 ? 1 : 0;
    s.rotor.offset_rad = now->found_offset_rad;
    const int32_t pole_pairs = (int32_t)cvk_rig_config_of(sim.rig)->motor.pole_pairs;
    s.motor.pole_pairs = pole_pairs;
    ck_assert_int_eq(cvk_drive_stage(&sim.drive, &s, NULL), CVK_OK);
    for (int way = 1; way >= -1; way -= 2) {
        const float speed = 0.2f * s.program.speed_rad_s * (float)way;
        const cvk_request request = {.mode = CVK_MODE_SPEED, .speed_rad_s = speed};
        ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, NULL), CVK_OK);
        for (int k = 0; k < 80000; k++) {
            (void)cvk_sim_step(&sim);
        }
        ck_assert_int_eq(now->fault, CVK_FAULT_NONE);
        ck_assert_float_eq_tol(now->angle.speed_rad_s, speed, 0.25f * fabsf(speed));
    }
}

/* Each hall makes two of the edges; where all lie together is the offset's. */
static void edges_are_found(const char *name, const double place_rad[3])
{
    static const int hall_of[6] = {1, 0, 2, 1, 0, 2};
    const double middle = (place_rad[0] + place_rad[1] + place_rad[2]) / 3.0;
    for (int n = 0; n < 6; n++) {
        const double late = place_rad[hall_of[n]] - middle;
        const double error = ((double)now->found_edge_rad[n] - late) * DEGREES;
        ck_assert_msg(fabs(error) < 2.0, "%s: edge %d off by %.2f deg", name, n + 1, error);
    }
}

static void try_sensor(cvk_rotor_kind kind, double most_deg)
{
    /* half of the benches with this sensor, the others with the next one */
    for (int bench = (int)kind % 2; bench < SENSOR_BENCHES; bench += 2) {
        const cvk_rig_config config = bench_with(bench, kind, (unsigned)(bench * 5 + (int)kind));
        double direction, offset, place[3];
        open_bench(&config, 1u + (unsigned)bench, 0);
        cvk_rig_calibration(sim.rig, &direction, &offset);
        cvk_rig_true_halls(sim.rig, place);
        if (kind == CVK_ROTOR_HALLS) {
            offset += direction * (place[0] + place[1] + place[2]) / 3.0;
        }
        calibrate();
        ck_assert_msg(now->calibration == CVK_CALIBRATE_DONE, "%s: %s", config.name,
                      cvk_calibration_reason_text((cvk_calibration_reason)now->calibration_reason));
        const double error = remainder((double)now->found_offset_rad - offset, TWO_PI) * DEGREES;
        ck_assert_int_eq(now->found_direction, (int)direction);
        if (kind == CVK_ROTOR_HALLS) {
            edges_are_found(config.name, place);
        }
        ck_assert_msg(fabs(error) < most_deg, "%s: %.2f deg", config.name, error);
        ck_assert_double_lt(peak_a, (double)config.tune.limit.current_a);
        ck_assert_int_eq(now->rotor_known, 1);
        (void)cvk_sim_step(&sim);
        ck_assert_int_eq(now->bridge_on, 0);
        if (bench % 3 == 0 && bench < 4) { /* the studio's gains are meant for its motors */
            run_with_it();
        }
        cvk_sim_close(&sim);
    }
}

START_TEST(it_finds_an_absolute_sensor)
{
    try_sensor(CVK_ROTOR_ABSOLUTE, 1.2);
}
END_TEST

START_TEST(it_finds_an_encoder)
{
    try_sensor(CVK_ROTOR_ENCODER, 1.2);
}
END_TEST

START_TEST(it_finds_a_sincos_sensor)
{
    try_sensor(CVK_ROTOR_SINCOS, 1.2);
}
END_TEST

START_TEST(it_finds_halls)
{
    try_sensor(CVK_ROTOR_HALLS, 3.5);
}
END_TEST

/* ---- what goes wrong ------------------------------------------------------------------------ */

static void fails_with(const cvk_rig_config *config, const cvk_rig_scenario *scenario,
                       int pole_pairs, cvk_calibration_reason reason)
{
    open_bench(config, 3, pole_pairs);
    if (scenario != NULL) {
        cvk_rig_set_scenario(sim.rig, scenario);
    }
    calibrate();
    ck_assert_int_eq(now->calibration, CVK_CALIBRATE_FAILED);
    ck_assert_msg(now->calibration_reason == (int)reason, "%s: %s, not %s", config->name,
                  cvk_calibration_reason_text((cvk_calibration_reason)now->calibration_reason),
                  cvk_calibration_reason_text(reason));
    (void)cvk_sim_step(&sim);
    ck_assert_int_eq(now->bridge_on, 0);
    ck_assert_int_eq(now->rotor_known,
                     1); /* the simulator vouches for its own; nothing was staged */
    cvk_sim_close(&sim);
}

static cvk_rig_scenario with_event(cvk_rig_event_kind what, double value)
{
    cvk_rig_scenario s = {.count = 1};
    s.item[0] = cvk_rig_event_default(what);
    s.item[0].value[0] = value;
    return s;
}

START_TEST(a_blocked_shaft_is_named)
{
    const cvk_rig_scenario blocked = with_event(CVK_LOAD_BLOCKED, 0.0);
    const cvk_rig_config absolute = bench_with(0, CVK_ROTOR_ABSOLUTE, 0);
    const cvk_rig_config halls = bench_with(2, CVK_ROTOR_HALLS, 0);
    fails_with(&absolute, &blocked, 0, CVK_CALIBRATE_BLOCKED);
    fails_with(&halls, &blocked, 0, CVK_CALIBRATE_BLOCKED);
}
END_TEST

START_TEST(an_unplugged_sensor_is_named)
{
    const cvk_rig_scenario pulled = with_event(CVK_MISHAP_SENSOR_UNPLUGGED, 0.0);
    const cvk_rig_config halls = bench_with(2, CVK_ROTOR_HALLS, 0);
    const cvk_rig_config sincos = bench_with(1, CVK_ROTOR_SINCOS, 0);
    const cvk_rig_config absolute = bench_with(2, CVK_ROTOR_ABSOLUTE, 0);
    fails_with(&halls, &pulled, 0, CVK_CALIBRATE_UNPLUGGED);
    fails_with(&sincos, &pulled, 0, CVK_CALIBRATE_UNPLUGGED);
    fails_with(&absolute, &pulled, 0, CVK_CALIBRATE_FROZEN);
}
END_TEST

START_TEST(a_dead_hall_is_named)
{
    for (int dead = 1; dead <= 3; dead++) {
        cvk_rig_config halls = bench_with(dead, CVK_ROTOR_HALLS, 0);
        halls.rotor_sensor.hall_dead = dead;
        fails_with(&halls, NULL, 0, CVK_CALIBRATE_HALL_DEAD);
    }
}
END_TEST

START_TEST(too_little_current_is_named)
{
    cvk_rig_config mixer = bench_with(2, CVK_ROTOR_ABSOLUTE, 0);
    const double torque_nm = 1.5 * mixer.motor.pole_pairs * mixer.motor.flux_linkage_wb *
                             (double)mixer.tune.limit.current_a;
    const cvk_rig_scenario hand = with_event(CVK_LOAD_BRAKE, 0.45 * torque_nm),
                           vice = with_event(CVK_LOAD_BRAKE, 0.75 * torque_nm);
    open_bench(&mixer, 3, 0);
    cvk_rig_set_scenario(sim.rig, &hand);
    calibrate(); /* it takes more by itself, within the limit */
    ck_assert_msg(now->calibration == CVK_CALIBRATE_DONE, "%s",
                  cvk_calibration_reason_text((cvk_calibration_reason)now->calibration_reason));
    cvk_sim_close(&sim);
    fails_with(&mixer, &vice, 0, CVK_CALIBRATE_BLOCKED);
    mixer.tune.limit.current_a *= 0.01f; /* not even a rocking */
    fails_with(&mixer, NULL, 0, CVK_CALIBRATE_BLOCKED);
}
END_TEST

/* One after the other: the rotor still turns when the second is asked for. */
START_TEST(a_rotor_that_runs_out_is_no_load)
{
    const cvk_rig_config blower = bench_with(0, CVK_ROTOR_HALLS, 0);
    const cvk_request off = {.mode = CVK_MODE_OFF}, again = {.mode = CVK_MODE_CALIBRATE};
    open_bench(&blower, 3, 0);
    calibrate();
    const cvk_request *const requests[] = {&off, &again};
    for (int n = 0; n < 2; n++) {
        ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, requests[n], NULL), CVK_OK);
        for (int k = 0; k < 5; k++) {
            (void)cvk_sim_step(&sim);
        }
    }
    ck_assert_double_gt(fabs(cvk_rig_state_of(sim.rig)->speed_mech_rad_s), 5.0);
    calibrate();
    ck_assert_msg(now->calibration == CVK_CALIBRATE_DONE, "%s",
                  cvk_calibration_reason_text((cvk_calibration_reason)now->calibration_reason));
    cvk_sim_close(&sim);
}
END_TEST

START_TEST(a_load_that_pulls_is_named)
{
    cvk_rig_config mixer = bench_with(2, CVK_ROTOR_ABSOLUTE, 0);
    const double torque_nm = 1.5 * mixer.motor.pole_pairs * mixer.motor.flux_linkage_wb *
                             (double)mixer.tune.limit.current_a;
    const cvk_rig_scenario weight = with_event(CVK_LOAD_CONSTANT, 0.1 * torque_nm);
    fails_with(&mixer, &weight, 0, CVK_CALIBRATE_LOAD);
    const cvk_rig_scenario driven = with_event(CVK_LOAD_DRIVEN, 20.0);
    fails_with(&mixer, &driven, 0, CVK_CALIBRATE_LOAD);
}
END_TEST

START_TEST(a_rotor_that_does_not_follow_is_named)
{
    const cvk_rig_config mixer = bench_with(2, CVK_ROTOR_ABSOLUTE, 0);
    fails_with(&mixer, NULL, 3, CVK_CALIBRATE_NOT_FOLLOWING); /* it has 7 pole pairs */
}
END_TEST

START_TEST(no_current_is_named)
{
    const cvk_rig_config mixer = bench_with(2, CVK_ROTOR_ABSOLUTE, 0);
    const cvk_request request = {.mode = CVK_MODE_CALIBRATE};
    const cvk_readings none = {.current_valid = CVK_ALL_CURRENTS_VALID, .bus_v = 24.0f};
    open_bench(&mixer, 3, 0);
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, NULL), CVK_OK);
    for (int k = 0; k < 40000 && now->calibration < CVK_CALIBRATE_DONE; k++) {
        ck_assert_int_eq(cvk_drive_refresh(&sim.drive, CVK_SIM_OWNER), CVK_OK);
        (void)cvk_drive_control(&sim.drive, &none); /* motor wires off */
    }
    ck_assert_int_eq(now->calibration_reason, CVK_CALIBRATE_NO_CURRENT);
    cvk_sim_close(&sim);
}
END_TEST

/* The sensor's wires are exchanged while it runs: half of the sweeps go one way, half the other. */
START_TEST(a_direction_reversed_half_way_is_named)
{
    const cvk_rig_config table = bench_with(3, CVK_ROTOR_SINCOS, 0);
    open_bench(&table, 3, 0);
    const cvk_request request = {.mode = CVK_MODE_CALIBRATE};
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, NULL), CVK_OK);
    double duty[3] = {0.5, 0.5, 0.5};
    while (now->calibration < CVK_CALIBRATE_DONE && now->fault == CVK_FAULT_NONE) {
        const cvk_rig_sample s = cvk_rig_read(sim.rig);
        cvk_readings r = {.current_valid = CVK_ALL_CURRENTS_VALID, .bus_v = (float)s.bus_v};
        r.current_a =
            (cvk_abc){(float)s.current_a[0], (float)s.current_a[1], (float)s.current_a[2]};
        const bool exchanged = now->calibration >= CVK_CALIBRATE_SETTLE_AGAIN;
        r.rotor.sin_v = (float)(exchanged ? s.cos_v : s.sin_v);
        r.rotor.cos_v = (float)(exchanged ? s.sin_v : s.cos_v);
        ck_assert_int_eq(cvk_drive_refresh(&sim.drive, CVK_SIM_OWNER), CVK_OK);
        const cvk_abc next = cvk_drive_control(&sim.drive, &r);
        cvk_rig_advance(sim.rig, duty);
        duty[0] = (double)next.a;
        duty[1] = (double)next.b;
        duty[2] = (double)next.c;
    }
    ck_assert_int_eq(now->calibration_reason, CVK_CALIBRATE_REVERSED);
    cvk_sim_close(&sim);
}
END_TEST

/* What it needs is asked for at the door; and a new request in between cuts it short. */
START_TEST(it_needs_a_sensor_and_pole_pairs)
{
    const cvk_rig_config mixer = bench_with(2, CVK_ROTOR_ABSOLUTE, 0);
    const cvk_request request = {.mode = CVK_MODE_CALIBRATE}, off = {.mode = CVK_MODE_OFF};
    cvk_refusal why = {0};
    open_bench(&mixer, 1, 0);
    cvk_settings s = *cvk_drive_settings(&sim.drive);
    s.motor.pole_pairs = 0;
    ck_assert_int_eq(cvk_drive_stage(&sim.drive, &s, NULL), CVK_OK);
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, &why),
                     CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "motor.pole_pairs");
    (void)cvk_sim_step(&sim);
    s.rotor.kind = CVK_ROTOR_NONE;
    ck_assert_int_eq(cvk_drive_stage(&sim.drive, &s, NULL), CVK_OK);
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, &why),
                     CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "rotor.kind");
    cvk_sim_close(&sim);
    open_bench(&mixer, 1, 0);
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, NULL), CVK_OK);
    for (int k = 0; k < 20000; k++) {
        (void)cvk_sim_step(&sim);
    }
    ck_assert_int_ge(now->calibration, CVK_CALIBRATE_SETTLE);
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &off, NULL), CVK_OK);
    (void)cvk_sim_step(&sim);
    ck_assert_int_eq(now->calibration, CVK_CALIBRATE_IDLE);
    ck_assert_int_eq(now->bridge_on, 0);
    cvk_sim_close(&sim);
}
END_TEST

/* A second one begins anew, also when the drive was off, released and claimed in between without a
 * control call. */
START_TEST(it_can_be_done_again)
{
    const cvk_rig_config table = bench_with(3, CVK_ROTOR_ABSOLUTE, 0);
    const cvk_request request = {.mode = CVK_MODE_CALIBRATE}, off = {.mode = CVK_MODE_OFF};
    open_bench(&table, 1, 0);
    calibrate();
    ck_assert_int_eq(now->calibration, CVK_CALIBRATE_DONE);
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &off, NULL), CVK_OK);
    ck_assert_int_eq(cvk_drive_release(&sim.drive, CVK_SIM_OWNER), CVK_OK);
    ck_assert_int_eq(cvk_drive_claim(&sim.drive, CVK_SIM_OWNER, 1.0f), CVK_OK);
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, NULL), CVK_OK);
    (void)cvk_sim_step(&sim);
    ck_assert_int_eq(now->calibration, CVK_CALIBRATE_RISE);
    ck_assert_int_eq(cvk_drive_release(&sim.drive, CVK_SIM_OWNER), CVK_OK);
    (void)cvk_sim_step(&sim);
    ck_assert_int_eq(now->calibration, CVK_CALIBRATE_IDLE);
    ck_assert_int_eq(now->bridge_on, 0);
    cvk_sim_close(&sim);
}
END_TEST

static void add_tests(TCase *tests)
{
    tcase_add_test(tests, it_finds_an_absolute_sensor);
    tcase_add_test(tests, it_finds_an_encoder);
    tcase_add_test(tests, it_finds_a_sincos_sensor);
    tcase_add_test(tests, it_finds_halls);
    tcase_add_test(tests, a_blocked_shaft_is_named);
    tcase_add_test(tests, an_unplugged_sensor_is_named);
    tcase_add_test(tests, a_dead_hall_is_named);
    tcase_add_test(tests, too_little_current_is_named);
    tcase_add_test(tests, a_rotor_that_runs_out_is_no_load);
    tcase_add_test(tests, a_load_that_pulls_is_named);
    tcase_add_test(tests, a_rotor_that_does_not_follow_is_named);
    tcase_add_test(tests, no_current_is_named);
    tcase_add_test(tests, a_direction_reversed_half_way_is_named);
    tcase_add_test(tests, it_needs_a_sensor_and_pole_pairs);
    tcase_add_test(tests, it_can_be_done_again);
}

int main(void)
{
    return run_suite("self-calibration", add_tests);
}
