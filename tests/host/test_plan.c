/* SPDX-License-Identifier: Apache-2.0
 *
 * The plan: it names a recording that shows what is unknown, keeps the limits, and says when there
 * is nothing to gain.
 */
#include "corvak/host/plan.h"
#include "recording.h"
#include "corvak/sim/plan_bench.h"
#include "suite.h"

#include <math.h>
#include <string.h>

static cvk_plan plan;
static int calls;
static double last_share;

static void on_progress(double share)
{
    ck_assert_double_ge(share, last_share);
    last_share = share;
    calls++;
}

static cvk_status plan_on(const cvk_rig_config *rig, const cvk_log *const *logs, size_t count,
                          const cvk_plan_limits *limits, void (*progress)(double share))
{
    cvk_sim_plan_bench own = {.rig = rig, .seed = 20261};
    const cvk_plan_bench bench = cvk_plan_on_sim(&own);
    return cvk_plan_next(&bench, &rig->tune, logs, count, limits, progress, &plan);
}

/* With nothing known the first recording shows something at all. */
START_TEST(the_first_recording_shows_much)
{
    cvk_rig_config rig = studio_rig("wheel");
    const cvk_plan_limits limits = {.time_s = 4.5, .rotor_sensor = true};
    calls = 0;
    last_share = 0.0;
    ck_assert_int_eq(plan_on(&rig, NULL, 0, &limits, on_progress), CVK_OK);
    ck_assert_int_ge(plan.best, 0);
    ck_assert_int_eq(calls, (int)plan.options);
    ck_assert_double_eq_tol(last_share, 1.0, 1e-12);
    const cvk_plan_option *best = &plan.option[plan.best];
    ck_assert(best->possible);
    ck_assert_double_le(best->length_s, limits.time_s);
    ck_assert_double_gt(best->gain, 5.0);
    for (int k = 0; k < CVK_PLAN_KEYS; k++) {
        ck_assert_double_eq(plan.before.width[k], 1.0);
    }
}
END_TEST

/* After a standstill run, what only turning shows is next; the limits are kept. */
START_TEST(what_is_unknown_comes_next)
{
    cvk_rig_config rig = studio_rig("mixer");
    recording r;
    record(&r, &rig, "standstill", 2, false);
    const cvk_log *logs[] = {&r.log};
    const cvk_plan_limits limits = {.current_a = 12.0, .speed_rad_s = 600.0, .time_s = 5.0};
    ck_assert_int_eq(plan_on(&rig, logs, 1, &limits, NULL), CVK_OK);
    ck_assert_int_ge(plan.best, 0);
    ck_assert_str_ne(plan.option[plan.best].excitation, "standstill");
    ck_assert_double_le(plan.current_a, 12.0);
    ck_assert_double_le(plan.speed_rad_s, 600.0);
    ck_assert_double_lt(plan.before.width[0], 0.023); /* resistance is known */
    ck_assert(plan.widest == CVK_CARD_FLUX_LINKAGE || plan.widest == CVK_CARD_POLE_PAIRS ||
              plan.widest == CVK_CARD_INERTIA);
    for (size_t n = 0; n < plan.options; n++) {
        ck_assert(!plan.option[n].possible || plan.option[n].length_s <= limits.time_s);
    }
    recording_free(&r);
}
END_TEST

/* A drive that trips ends the recording, which then is no option. */
START_TEST(a_recording_ends_at_a_fault)
{
    static const char *const excitations[] = {"coast", "spin"};
    cvk_rig_config rig = studio_rig("wheel");
    rig.tune.protect.bus_min_v = 25.5f; /* the battery sags below it */
    for (int n = 0; n < 2; n++) {
        cvk_recording recorded;
        cvk_excitation program;
        cvk_sim sim;
        ck_assert_int_eq(cvk_sim_init(&sim, &rig, 3, NULL), CVK_OK);
        ck_assert_int_eq(cvk_sim_start(&sim, cvk_program_named(excitations[n]), &program, NULL),
                         CVK_OK);
        ck_assert_int_eq(cvk_sim_record(&recorded, &sim, false), CVK_STOPPED);
        cvk_sim_close(&sim);
        ck_assert_uint_lt(recorded.log.rows, 20000u);
        cvk_recording_free(&recorded);
    }
    const cvk_plan_limits limits = {.time_s = 8.0};
    ck_assert_int_eq(plan_on(&rig, NULL, 0, &limits, NULL), CVK_OK);
    for (size_t n = 0; n < plan.options; n++) {
        ck_assert(!plan.option[n].possible || strcmp(plan.option[n].excitation, "spin") != 0);
    }
}
END_TEST

/* Two updates a period make twice as many rows. */
START_TEST(double_update_is_recorded_whole)
{
    cvk_rig_config rig = studio_rig("wheel");
    rig.inverter.updates_per_period = 2;
    rig.sensing.current_sensing = CVK_SENSING_INLINE;
    recording r;
    record(&r, &rig, "standstill", 2, false);
    const double length_s =
        r.log.column[CVK_COLUMN_T][r.log.rows - 1] - r.log.column[CVK_COLUMN_T][0];
    ck_assert_double_gt(length_s, 0.5);
    ck_assert_double_eq_tol((double)r.log.rows / length_s, 40e3, 400.0);
    recording_free(&r);
}
END_TEST

START_TEST(no_time_no_plan)
{
    cvk_rig_config rig = studio_rig("wheel");
    const cvk_plan_limits limits = {.time_s = 0.01};
    ck_assert_int_eq(plan_on(&rig, NULL, 0, &limits, NULL), CVK_OK);
    ck_assert_int_eq(plan.best, -1);
    ck_assert_int_eq(cvk_plan_next(NULL, NULL, NULL, 0, &limits, NULL, &plan), CVK_NULL_ARGUMENT);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, the_first_recording_shows_much);
    tcase_add_test(tests, what_is_unknown_comes_next);
    tcase_add_test(tests, a_recording_ends_at_a_fault);
    tcase_add_test(tests, double_update_is_recorded_whole);
    tcase_add_test(tests, no_time_no_plan);
}

int main(void)
{
    return run_suite("plan", add);
}
