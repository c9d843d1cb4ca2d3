/* SPDX-License-Identifier: Apache-2.0
 *
 * Without a rotor sensor: from recordings to a motor that turns, and what happens when it cannot.
 */
#include "corvak/host/ladder.h"
#include "corvak/sim/device.h"
#include "recording.h"
#include "sensorless.h"
#include "suite.h"

#include <math.h>

#define DEGREES (180.0 / 3.14159265358979323846)

static const char *const motors[] = {"wheel", "mixer", "blower", "table"};

/* Start, middle speed, reversal and stop, with gains from the motor's own card, untouched. */
START_TEST(every_studio_motor_runs_without_a_sensor)
{
    cvk_rig_config bench = bench_with_gains(motors[_i], 3);
    const cvk_run_plan plan = there_and_back(&bench, 0.6);
    for (int fidelity = 0; fidelity < 2; fidelity++) {
        cvk_run run;
        bench.inverter.fidelity = fidelity;
        ck_assert_int_eq(run_bench(&bench, 5, &plan, &run), CVK_OK);
        ck_assert_msg(all_reached(&run, &plan), "%s: %s", motors[_i], cvk_fault_text(run.fault));
        ck_assert_msg(run.angle_rms_rad < 3.0 / DEGREES, "%s: %.1f deg rms", motors[_i],
                      DEGREES * run.angle_rms_rad);
        ck_assert_double_gt(run.angle_s, 2.0); /* it was judged */
        ck_assert_double_lt(run.largest_current_a, 1.3 * (double)bench.tune.limit.current_a);
        ck_assert_double_eq_tol(run.result[1].mean_rad_s, run.result[1].wanted_rad_s,
                                0.01 * fabs(run.result[1].wanted_rad_s));
    }
}
END_TEST

typedef struct stage {
    cvk_device device;
    double tripped_s;
} stage;

static bool note_the_fault(void *context, const cvk_device_row *row, const cvk_bench_truth *truth)
{
    stage *s = context;
    if (row->value[CVK_RUN_ROW_FAULT] > 0.0f && isnan(s->tripped_s)) {
        s->tripped_s = row->time_s;
        ck_assert_float_eq(row->value[CVK_RUN_ROW_BRIDGE_ON], 0.0f);
    }
    (void)truth;
    return true;
}

/* Somebody holds the shaft: the start is noticed to have failed, named, and leaves no current. */
START_TEST(a_blocked_start_fails_without_current)
{
    cvk_rig_config bench = bench_with_gains(motors[_i], 3);
    const cvk_run_plan plan = there_and_back(&bench, 0.6);
    static cvk_rig_scenario blocked = {.count = 1};
    stage s = {.tripped_s = NAN};
    cvk_run run;
    blocked.item[0] = cvk_rig_event_default(CVK_LOAD_BLOCKED);
    ck_assert_int_eq(cvk_sim_device_open(&s.device, &bench, 4, false, NULL), CVK_OK);
    cvk_rig_set_scenario(cvk_sim_device_inside(&s.device)->rig, &blocked);
    ck_assert_int_eq(cvk_run_device(&s.device, &plan, note_the_fault, &s, &run), CVK_STOPPED);
    ck_assert_msg(run.fault == CVK_FAULT_START || run.fault == CVK_FAULT_ANGLE, "%s: %s",
                  motors[_i], cvk_fault_text(run.fault));
    ck_assert(isfinite(s.tripped_s));
    static const char *const looked_at[] = {"ia", "bridge_on"};
    cvk_device_row row = {.time_s = 0.0};
    ck_assert_int_eq(cvk_device_begin(&s.device, looked_at, 2, 0.0), CVK_OK);
    for (int n = 0; n < 2000; n++) { /* it stays off, and the current is gone */
        ck_assert_int_eq(cvk_device_next(&s.device, &row), CVK_OK);
        ck_assert_float_eq(row.value[1], 0.0f);
    }
    ck_assert_float_lt(fabsf(row.value[0]), 0.1f * bench.tune.limit.current_a);
    cvk_device_close(&s.device);
}
END_TEST

/* Wherever the rotor points, also the very other way, where one vector alone gives no torque. */
START_TEST(any_place_of_the_rotor_starts)
{
    const double place = 2.0 * 3.14159265358979 * _i / 8.0;
    cvk_rig_config bench = bench_with_gains("wheel", 3);
    cvk_run_plan plan = there_and_back(&bench, 0.3);
    cvk_device device;
    cvk_run run;
    plan.count = 1;
    plan.length_s = plan.item[1].from_s;
    ck_assert_int_eq(cvk_sim_device_open(&device, &bench, 6, false, NULL), CVK_OK);
    cvk_rig_place(cvk_sim_device_inside(&device)->rig, place / bench.motor.pole_pairs);
    ck_assert_msg(cvk_run_device(&device, &plan, NULL, NULL, &run) == CVK_OK &&
                      all_reached(&run, &plan),
                  "from %.2f rad: %s", place, cvk_fault_text(run.fault));
    cvk_device_close(&device);
}
END_TEST

/* Nothing jumps when the observer takes over and hands back: neither the current nor the speed. */
typedef struct jumps {
    double before_a[3], largest_a;
    int phase, changes;
    bool was_on;
} jumps;

static bool watch_jumps(void *context, const cvk_device_row *row, const cvk_bench_truth *truth)
{
    jumps *j = context;
    if ((int)row->value[CVK_RUN_ROW_START_PHASE] != j->phase) {
        j->changes++;
        j->phase = (int)row->value[CVK_RUN_ROW_START_PHASE];
    }
    for (int n = 0; n < 3; n++) {
        const double step = fabs(truth->current_a[n] - j->before_a[n]);
        if (row->time_s > 0.3 && row->value[CVK_RUN_ROW_BRIDGE_ON] > 0.0f && j->was_on) {
            j->largest_a = fmax(j->largest_a, step);
        }
        j->before_a[n] = truth->current_a[n];
    }
    j->was_on = row->value[CVK_RUN_ROW_BRIDGE_ON] > 0.0f;
    return true;
}

START_TEST(the_handover_does_not_jump)
{
    cvk_rig_config bench = bench_with_gains("wheel", 3);
    const cvk_run_plan plan = there_and_back(&bench, 0.3);
    cvk_device device;
    jumps j = {.phase = CVK_START_IDLE};
    cvk_run run;
    ck_assert_int_eq(cvk_sim_device_open(&device, &bench, 6, false, NULL), CVK_OK);
    ck_assert_int_eq(cvk_run_device(&device, &plan, watch_jumps, &j, &run), CVK_OK);
    cvk_device_close(&device);
    ck_assert_int_ge(j.changes, 6); /* align, turn, run, yield, turn, run, ... */
    /* from one sample to the next, 14 A being allowed: the loop's own pace, not a jump */
    ck_assert_msg(j.largest_a < 0.1 * 14.0, "a phase jumps by %g A", j.largest_a);
}
END_TEST

/* A controller of which nobody knows the truth: a rotor that the vector holds is not seen, so the
 * lowest usable speed is where the observer takes over. */
START_TEST(behind_a_link_a_held_rotor_is_not_seen)
{
    const cvk_rig_config bench = bench_with_gains("wheel", 3);
    cvk_ladder_options options = cvk_ladder_options_default();
    cvk_ladder ladder;
    cvk_device device;
    options.rated_rad_s = there_and_back(&bench, 0.3).rated_rad_s;
    options.spacing_s = 1e-3;
    ck_assert_int_eq(cvk_sim_device_open(&device, &bench, 6, false, NULL), CVK_OK);
    device.bench.truth = NULL;
    ck_assert_int_eq(cvk_ladder_walk(&device, &options, NULL, NULL, &ladder), CVK_OK);
    cvk_device_close(&device);
    const cvk_rung *last = &ladder.rung[ladder.count - 1];
    ck_assert(!last->seen && !last->usable);
    ck_assert_double_gt(last->run.by_vector, 0.5);
    ck_assert_double_ge(ladder.farthest_rad_s, 0.5 * (double)bench.tune.start.speed_rad_s);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, every_studio_motor_runs_without_a_sensor, 0, 4);
    tcase_add_loop_test(tests, a_blocked_start_fails_without_current, 0, 4);
    tcase_add_loop_test(tests, any_place_of_the_rotor_starts, 0, 8);
    tcase_add_test(tests, the_handover_does_not_jump);
    tcase_add_test(tests, behind_a_link_a_held_rotor_is_not_seen);
}

int main(void)
{
    return run_suite("run", add);
}
