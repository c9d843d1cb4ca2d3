/* SPDX-License-Identifier: Apache-2.0
 *
 * Random cases without a rotor sensor, a few of each kind: bench_sensorless has a hundred. Every
 * imperfection on, averaged and switched.
 */
#include "random_start.h"
#include "recording.h"
#include "sensorless.h"
#include "sensorless_case.h"
#include "suite.h"

#include <math.h>

#define DEGREES (180.0 / 3.14159265358979323846)

static const char *const motors[] = {"wheel", "mixer", "blower", "table"};
enum { EACH = 1 };

static void check(const cvk_rig_config *bench, sensorless_what what, unsigned k)
{
    const sensorless_outcome o = sensorless_case(bench, what, k);
    const double limit_a = (double)bench->tune.limit.current_a;
    ck_assert_msg(o.good, "%s, %s, case %u: %s; %s", bench->name, sensorless_names[what], k,
                  cvk_fault_text(o.fault), cvk_start_reason_text(o.reason));
    if (what == CASE_START || what == CASE_LOADED) {
        ck_assert_msg(o.backward_rad < 190.0 / DEGREES, "%s: %.0f deg backward", bench->name,
                      DEGREES * o.backward_rad);
    }
    if (what == CASE_CATCH) {
        ck_assert_double_lt(o.caught_a, 0.2 * limit_a);
    }
    if (what == CASE_BLIND && bench->motor.pole_pairs > 1.0) {
        /* the blower's few microhenry let more flow in one period at full speed */
        ck_assert_double_lt(o.caught_a, 0.2 * limit_a);
    }
    ck_assert_double_lt(o.angle_rms_rad, (what == CASE_ANGLE ? 3.0 : 8.0) / DEGREES);
    ck_assert_double_lt(o.current_a, 1.15 * limit_a);
}

START_TEST(random_cases)
{
    cvk_rig_config bench = bench_with_gains(motors[_i], 2);
    for (int f = 0; f < 2; f++) {
        bench.inverter.fidelity = f;
        for (int what = 0; what < CASE_TURNS; what++) {
            for (unsigned k = 0; k < EACH; k++) {
                check(&bench, (sensorless_what)what, 50u + k);
            }
        }
    }
}
END_TEST

/* A thousand turns at full speed, and no electrical turn is lost. */
START_TEST(turns_are_counted_without_a_sensor)
{
    const cvk_rig_config bench = bench_with_gains("blower", 2);
    const sensorless_outcome o = sensorless_case(&bench, CASE_TURNS, 50u);
    ck_assert(o.good);
    ck_assert_double_lt(o.slip_mech_rad, 2.0 / DEGREES);
}
END_TEST

static double share_within(const double rows[10], const double within[10], int from, int to)
{
    double all = 0.0, right = 0.0;
    for (int bin = from; bin <= to; bin++) {
        all += rows[bin];
        right += within[bin];
    }
    return right / all;
}

/* A high quality is kept to: it is a probability. Rows of a run hang together, so this is rough. */
START_TEST(a_quality_is_a_probability)
{
    double rows[10] = {0.0}, within[10] = {0.0};
    for (int m = 0; m < 4; m++) {
        const cvk_rig_config bench = bench_with_gains(motors[m], 2);
        for (unsigned k = 0; k < 6; k++) {
            const sensorless_outcome o =
                sensorless_case(&bench, k % 2 == 0 ? CASE_TORQUE : CASE_REVERSE, 300u + k);
            for (int bin = 0; bin < 10; bin++) {
                rows[bin] += o.rows[bin];
                within[bin] += o.within[bin];
            }
        }
    }
    ck_assert_double_gt(rows[9], 1e5);
    ck_assert_double_ge(share_within(rows, within, 9, 9), 0.98);
    ck_assert_double_ge(share_within(rows, within, 8, 8), 0.8);
}
END_TEST

/* The same of motors that nobody knew, loaded, cold to hot; and what is called doubtful is: else
 * nobody would start. */
START_TEST(a_quality_is_a_probability_on_any_motor)
{
    double rows[10] = {0.0}, within[10] = {0.0};
    const random_start_options options = {.most_load = 0.8};
    for (unsigned n = 0; n < 24; n++) {
        const random_start s = start_random_motor(2000u + n, &options);
        for (int bin = 0; bin < 10; bin++) {
            rows[bin] += s.rows[bin];
            within[bin] += s.within[bin];
        }
    }
    ck_assert_double_ge(share_within(rows, within, 9, 9), 0.98);
    ck_assert_double_ge(share_within(rows, within, 8, 8), 0.8);
    ck_assert_double_le(share_within(rows, within, 3, 7), 0.85);
}
END_TEST

/* Motors far outside the studio, with the gains of cards that are off, under up to 80 % of the
 * limit's torque, at 0 to 120 degC: they run, turn round and stop, and a held one is named so.
 * bench_starts draws hundreds. */
START_TEST(random_motors_start)
{
    random_start_options options = {.most_load = 0.8, .switched = _i == 1, .blocked = _i == 2};
    const unsigned count = _i == 1 ? 6 : 20;
    unsigned good = 0;
    for (unsigned n = 0; n < count; n++) {
        const random_start s = start_random_motor((options.blocked ? 2110u : 2200u) + n, &options);
        const bool held = s.fault == CVK_FAULT_START && s.reason == CVK_START_BLOCKED;
        good += (options.blocked ? held : s.good) ? 1u : 0u;
        ck_assert_msg(s.current_a < 1.15 * (double)s.bench.tune.limit.current_a, "%u: %g A",
                      2200u + n, s.current_a);
    }
    ck_assert_uint_ge(good + count / 20u, count);
}
END_TEST

/* A large current along d leaves little of a salient motor's active flux, and an error of the angle
 * changes how long it is due to be. */
START_TEST(salient_motors_start_under_load)
{
    static const uint64_t numbers[] = {6031, 6070, 6122, 6170};
    const random_start_options options = {
        .most_load = 0.8, .least_saliency = 1.5, .most_saliency = 4.0};
    for (size_t n = 0; n < sizeof numbers / sizeof numbers[0]; n++) {
        const random_start s = start_random_motor(numbers[n], &options);
        ck_assert_msg(s.good, "%u: %s, %s", (unsigned)numbers[n], s.at,
                      cvk_start_reason_text(s.reason));
    }
}
END_TEST

/* Wherever the rotor of a light motor points, it goes back by hardly more than half a turn. */
START_TEST(a_start_goes_back_little)
{
    const cvk_rig_config bench = bench_with_gains(_i == 0 ? "mixer" : "blower", 2);
    for (unsigned k = 0; k < 16; k++) {
        check(&bench, CASE_START, 200u + k);
    }
}
END_TEST

/* The other observers start, turn and stop a motor too. */
START_TEST(any_observer_runs_the_wheel)
{
    cvk_rig_config bench = bench_with_gains("wheel", 2);
    bench.tune.observer.kind = _i;
    check(&bench, CASE_LOADED, 60u);
    check(&bench, CASE_REVERSE, 62u);
    if (_i == CVK_OBSERVER_KALMAN) { /* the back-EMF's needs more speed than that */
        check(&bench, CASE_ANGLE_10, 61u);
    }
}
END_TEST

/* From its own recordings to full speed one way and the other, with the gains as they come. */
static void runs_there_and_back(cvk_rig_config bench, double share, double most_deg)
{
    for (int f = 0; f < 2; f++) {
        cvk_run run;
        bench.inverter.fidelity = f;
        const cvk_run_plan plan = there_and_back(&bench, share);
        ck_assert_msg(run_bench(&bench, 5, &plan, &run) == CVK_OK && all_reached(&run, &plan),
                      "%s: %s", bench.name, cvk_fault_text(run.fault));
        ck_assert_msg(run.angle_rms_rad < most_deg / DEGREES, "%s: %.1f deg", bench.name,
                      DEGREES * run.angle_rms_rad);
        ck_assert_double_lt(run.largest_current_a, 1.15 * (double)bench.tune.limit.current_a);
    }
}

/* 4 uH and 5 mOhm at 20 kHz: the ripple is larger than the current. */
START_TEST(a_motor_of_microhenries_runs_at_20_khz)
{
    cvk_rig_config bench = studio_rig("blower");
    bench.motor.resistance_ohm = 0.005;
    bench.motor.inductance_d_h = 4.0e-6;
    bench.motor.inductance_q_h = 4.2e-6;
    bench.motor.flux_linkage_wb = 0.0015;
    bench.motor.pole_pairs = 2.0;
    bench.tune.motor.pole_pairs = 2;
    bench.motor.winding = CVK_WINDING_STAR;
    bench.inverter.pwm_hz = 20e3;
    runs_there_and_back(with_own_gains(&bench, 2), 0.6, 5.0);
}
END_TEST

/* The blower at 50 000 rpm, and with two pole pairs at 110 000 electrical rpm, reversed in full
 * run. */
START_TEST(very_fast_motors_turn_round)
{
    cvk_rig_config bench = studio_rig("blower");
    double speed = 5236.0;
    if (_i == 1) {
        bench.motor.pole_pairs = 2.0;
        bench.tune.motor.pole_pairs = 2;
        bench.motor.flux_linkage_wb = 0.00105;
        bench.motor.inductance_d_h = 5.0e-6;
        bench.motor.inductance_q_h = 5.4e-6;
        speed = 11519.0;
    }
    const double rated = sensorless_rated(&bench);
    runs_there_and_back(with_own_gains(&bench, 2), speed / rated, 5.0);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, random_cases, 0, 4);
    tcase_add_test(tests, turns_are_counted_without_a_sensor);
    tcase_add_test(tests, a_quality_is_a_probability);
    tcase_add_test(tests, a_quality_is_a_probability_on_any_motor);
    tcase_add_loop_test(tests, random_motors_start, 0, 3);
    tcase_add_test(tests, salient_motors_start_under_load);
    tcase_add_loop_test(tests, a_start_goes_back_little, 0, 2);
    tcase_add_test(tests, a_motor_of_microhenries_runs_at_20_khz);
    tcase_add_loop_test(tests, very_fast_motors_turn_round, 0, 2);
    tcase_add_loop_test(tests, any_observer_runs_the_wheel, 1, 3);
}

int main(void)
{
    return run_suite("sensorless", add);
}
