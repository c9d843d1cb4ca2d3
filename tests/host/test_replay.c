/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs of the simulated bench through the observers.
 */
#include "corvak/host/replay.h"
#include "corvak/ident/estimate.h"
#include "recording.h"
#include "sensorless.h"
#include "suite.h"

#include <math.h>

#define DEGREES (180.0 / 3.14159265358979323846)

static cvk_rig_config bench;
static recording spin;
static cvk_replay_rows rows;
static cvk_estimate findings;

static void read_rows(double pole_pairs)
{
    const cvk_estimate_options options = cvk_estimate_options_default();
    ck_assert_int_eq(cvk_replay_rows_from_log(&rows, &spin.log, &options, pole_pairs, &findings),
                     CVK_OK);
}

/* Once for all: each test is a process of its own. */
static void record_spin(void)
{
    bench = bench_with_gains("wheel", 4);
    bench.tune.angle.source = CVK_BY_ROTOR_SENSOR; /* the spin itself; then it is replayed */
    record(&spin, &bench, "spin", 9, true);
    bench.tune.angle.source = CVK_BY_OBSERVER;
}

static void forget(void)
{
    cvk_replay_rows_free(&rows);
    recording_free(&spin);
}

/* Each is near the sensor, also where the spin turns round (the worst is there),
 * and says so; the sensor's offset, which no log names, is found. */
START_TEST(observers_are_near_the_sensor)
{
    cvk_replay replay;
    cvk_replay_trace trace;
    read_rows(bench.motor.pole_pairs);
    ck_assert_int_eq(cvk_replay_run(&rows, &bench.tune, 7u, 500, &replay, &trace, NULL), CVK_OK);
    ck_assert_int_eq(replay.reference, CVK_REPLAY_FITTED);
    for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
        const cvk_replay_result *r = &replay.result[kind];
        ck_assert_msg(r->error_95_rad < (kind == CVK_OBSERVER_FLUX ? 25.0 : 12.0) / DEGREES,
                      "observer %d: %.1f deg", kind, DEGREES * r->error_95_rad);
        ck_assert_double_gt(r->judged_s, 0.5);
        ck_assert_double_gt(r->within_share, 0.95);
        ck_assert_double_le(r->mean_quality, r->within_share + 0.02);
        /* the back-EMF's has no memory: while the spin turns round it is anywhere, so half a turn
         * times half of those rows is in its mean */
        const double astray = kind == CVK_OBSERVER_EMF ? 90.0 * (1.0 - r->within_share) : 0.0;
        ck_assert_double_lt(fabs(r->error_mean_rad), (2.0 + astray) / DEGREES);
    }
    ck_assert_uint_gt(trace.points, 400);
    cvk_replay_trace_free(&trace);
}
END_TEST

/* A sensor that counts the other way is the same sensor. */
START_TEST(a_reversed_sensor_is_seen_through)
{
    cvk_replay forward, backward;
    read_rows(bench.motor.pole_pairs);
    ck_assert_int_eq(cvk_replay_run(&rows, &bench.tune, 1u, 0, &forward, NULL, NULL), CVK_OK);
    for (size_t k = 0; k < rows.rows; k++) {
        rows.angle_rad[k] = 1.0 - rows.angle_rad[k];
    }
    ck_assert_int_eq(cvk_replay_run(&rows, &bench.tune, 1u, 0, &backward, NULL, NULL), CVK_OK);
    ck_assert_int_eq(backward.direction, -forward.direction);
    ck_assert_double_eq_tol(backward.result[0].error_rms_rad, forward.result[0].error_rms_rad,
                            1e-3);
}
END_TEST

/* Without an angle they are held against each other. */
START_TEST(without_a_sensor_they_are_compared)
{
    cvk_replay replay;
    read_rows(0.0);
    ck_assert_int_eq(cvk_replay_run(&rows, &bench.tune, 7u, 0, &replay, NULL, NULL), CVK_OK);
    ck_assert_int_eq(replay.reference, CVK_REPLAY_CONSENSUS);
    ck_assert_double_lt(replay.result[CVK_OBSERVER_KALMAN].error_95_rad, 15.0 / DEGREES);
}
END_TEST

static bool stop_soon(void *context, double share)
{
    (void)share;
    return ++*(int *)context < 20;
}

/* Bad settings come back to good ones, and whoever waits can stop it. */
START_TEST(a_search_finds_better_settings)
{
    static cvk_search found;
    cvk_settings bad = bench.tune;
    read_rows(bench.motor.pole_pairs);
    bad.observer.tracking_bandwidth_rad_s /= 8.0f;
    bad.observer.bandwidth_rad_s = 1.0f;
    ck_assert_int_eq(cvk_replay_search(&rows, &bad,
                                       &(cvk_search_wish){CVK_OBSERVER_FLUX, NULL, NULL, NULL},
                                       &found, NULL),
                     CVK_OK);
    ck_assert_msg(found.after_rad < 0.5 * found.before_rad, "%.2f deg before, %.2f deg after",
                  DEGREES * found.before_rad, DEGREES * found.after_rad);
    ck_assert_float_gt(found.best.observer.tracking_bandwidth_rad_s,
                       2.0f * bad.observer.tracking_bandwidth_rad_s);
    int calls = 0;
    ck_assert_int_eq(
        cvk_replay_search(&rows, &bad,
                          &(cvk_search_wish){CVK_OBSERVER_FLUX, NULL, stop_soon, &calls}, &found,
                          NULL),
        CVK_STOPPED);
    ck_assert_int_eq(calls, 20);
}
END_TEST

START_TEST(what_cannot_be_judged_is_said)
{
    static cvk_search found;
    cvk_replay replay;
    cvk_settings s = bench.tune;
    read_rows(0.0);
    s.observer.least_speed_rad_s = 20000.0f;
    s.start.speed_rad_s = 20000.0f;
    ck_assert_int_eq(cvk_replay_run(&rows, &s, 1u, 0, &replay, NULL, NULL), CVK_NOT_IN_LOG);
    ck_assert_int_eq(cvk_replay_search(&rows, &bench.tune,
                                       &(cvk_search_wish){CVK_OBSERVER_EMF, NULL, NULL, NULL},
                                       &found, NULL),
                     CVK_NOT_IN_LOG);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, record_spin, forget);
    tcase_add_test(tests, observers_are_near_the_sensor);
    tcase_add_test(tests, a_reversed_sensor_is_seen_through);
    tcase_add_test(tests, without_a_sensor_they_are_compared);
    tcase_add_test(tests, a_search_finds_better_settings);
    tcase_add_test(tests, what_cannot_be_judged_is_said);
}

int main(void)
{
    return run_suite("replay", add);
}
