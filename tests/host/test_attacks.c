/* SPDX-License-Identifier: Apache-2.0
 *
 * What a careless or hostile host may do to a running motor, on all the studio's motors, averaged
 * and switched: no current goes beyond the trip and what a control period adds, no speed beyond 1.2
 * times what was asked for, and whoever leaves, the motor comes to rest.
 */
#include "live_motor.h"
#include "suite.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const char *const motors[] = {"wheel", "blower", "mixer", "table"};
#ifdef __SANITIZE_ADDRESS__
enum { BENCHES = 1 }; /* ten times slower then */
#else
enum { BENCHES = 8 };
#endif
static const cvk_trial_terms nothing_named = {.watch_s = 0.5f, .confirm_s = 2.0f};

static live_motor motor;
static cvk_session *owner;
static cvk_session watcher;

static void open_bench(int number)
{
    live_open(&motor, motors[number / 2], number % 2, 7);
    owner = &motor.session;
    motor.largest_a = motor.fastest_rad_s = 0.0;
}

static void open_watcher(void)
{
    cvk_wire wire;
    ck_assert_int_eq(cvk_sim_wire_open(&wire, motor.controller, false), CVK_OK);
    ck_assert_int_eq(cvk_session_open(&watcher, &wire), CVK_OK);
}

static void assert_bounds(const char *what)
{
    const double trip_a = (double)motor.bench.tune.protect.trip_current_a;
    ck_assert_msg(motor.largest_a <= trip_a + live_rise_a(&motor), "%s, %s: %g A", motor.bench.name,
                  what, motor.largest_a);
    ck_assert_msg(motor.fastest_rad_s <= 1.2 * fabs((double)motor.speed_rad_s),
                  "%s, %s: %g rad/s, asked for %g", motor.bench.name, what, motor.fastest_rad_s,
                  (double)motor.speed_rad_s);
}

static double ramp_s(void)
{
    return 3.0 * fabs((double)motor.speed_rad_s /
                      (double)motor.bench.tune.speed.acceleration_rad_s2) +
           3.0;
}

static cvk_session_change times(const char *key, float factor)
{
    const unsigned place = (unsigned)cvk_session_parameter_named(owner, key);
    return (cvk_session_change){place, owner->value[place] * factor};
}

/* ---- who may, and for how long --------------------------------------------------------------- */

START_TEST(nobody_is_left_with_a_motor_that_nobody_can_stop)
{
    open_bench(_i);
    ck_assert_int_eq(cvk_session_claim(owner, 3600.0), CVK_OUT_OF_RANGE);
    ck_assert_int_eq(cvk_session_hand_over(owner, 99), CVK_CONTRADICTION);
    ck_assert_ptr_nonnull(strstr(owner->text, "nobody is on that link"));
    open_watcher();
    ck_assert_int_eq(cvk_session_hand_over(owner, watcher.number), CVK_OK);
    /* the one who has it now does not know, and its lease is not refreshed */
    live_advance(&motor, 0.6 + ramp_s());
    ck_assert(live_rests(&motor));
    ck_assert_int_eq(motor.session.state.bridge_on, false);
    live_start(&motor);
    motor.fastest_rad_s = 0.0; /* a start may overshoot */
    const cvk_request stop = {.mode = CVK_MODE_STOP},
                      turn = {.mode = CVK_MODE_SPEED, .speed_rad_s = 2000.0f};
    ck_assert_int_ne(cvk_session_request(&watcher, &turn), CVK_OK);
    ck_assert_int_eq(cvk_session_request(&watcher, &stop), CVK_OK); /* anybody may */
    live_advance(&motor, ramp_s());
    ck_assert(live_rests(&motor));
    ck_assert(!owner->owner);
    cvk_session_close(&watcher);
    assert_bounds("owner and lease");
    live_close(&motor);
}
END_TEST

START_TEST(who_only_watches_changes_nothing)
{
    open_bench(_i);
    open_watcher();
    const cvk_session_change trip = {
        (unsigned)cvk_session_parameter_named(owner, "protect.trip_current_a"), 2000.0f};
    ck_assert_int_eq(cvk_session_adopt(&watcher, &trip, 1, NULL), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_session_adopt(&watcher, &trip, 1, &nothing_named), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_session_release(owner), CVK_OK);
    live_advance(&motor, ramp_s());
    ck_assert_int_eq(cvk_session_adopt(&watcher, &trip, 1, NULL), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_session_claim(owner, 0.5), CVK_OK);
    ck_assert_int_eq(cvk_session_adopt(owner, &trip, 1, NULL),
                     CVK_CONTRADICTION); /* its owner neither */
    cvk_session_close(&watcher);
    assert_bounds("trip");
    live_close(&motor);
}
END_TEST

START_TEST(a_fault_ends_what_was_asked_for)
{
    open_bench(_i);
    cvk_rig_scenario dip = {.count = 1};
    dip.item[0] = cvk_rig_event_default(CVK_MISHAP_BROWN_OUT);
    dip.item[0].value[0] = 9.5; /* below the window */
    cvk_rig_set_scenario(cvk_sim_controller_inside(motor.controller)->rig, &dip);
    live_advance(&motor, 0.3);
    ck_assert_int_eq(owner->state.fault, CVK_FAULT_BUS_VOLTAGE);
    const float frozen = cvk_sim_controller_now(motor.controller)->angle.quality;
    ck_assert_float_eq(frozen, 0.0f);
    dip.count = 0;
    cvk_rig_set_scenario(cvk_sim_controller_inside(motor.controller)->rig, &dip);
    live_advance(&motor, 0.2);
    ck_assert_int_eq(cvk_session_clear_fault(owner), CVK_OK);
    live_advance(&motor, 0.5);
    ck_assert_int_eq(owner->state.fault, CVK_FAULT_NONE);
    ck_assert_int_eq(owner->state.bridge_on, false);
    assert_bounds("fault");
    live_start(&motor);
    live_close(&motor);
}
END_TEST

/* ---- guards that nobody named ---------------------------------------------------------------- */

static void attack(const char *key, float factor, bool keeps)
{
    const cvk_session_change change = times(key, factor);
    char what[64];
    snprintf(what, sizeof what, "%s x %g", key, (double)factor);
    motor.largest_a = motor.fastest_rad_s = 0.0;
    const cvk_status status = cvk_session_adopt(owner, &change, 1, &nothing_named);
    if (status == CVK_OK) {
        live_advance(&motor, 0.6);
        if (keeps && owner->state.trial == CVK_TRIAL_WAITING) {
            ck_assert_int_eq(cvk_session_keep(owner), CVK_OK);
        }
        live_advance(&motor, 2.5);
        ck_assert_int_eq(cvk_session_read_values(owner), CVK_OK);
    }
    if (getenv("SHOW") != NULL) {
        fprintf(stderr,
                "%s %s: %s, %s, now %g: %.2f of the trip, %.2f of the speed, quality %.2f, %s\n",
                motor.bench.name, what,
                status == CVK_OK ? cvk_trial_state_text((cvk_trial_state)owner->state.trial)
                                 : owner->text,
                cvk_trial_reason_text((cvk_trial_reason)owner->state.trial_reason),
                (double)owner->value[change.parameter],
                motor.largest_a / (double)motor.bench.tune.protect.trip_current_a,
                motor.fastest_rad_s / fabs((double)motor.speed_rad_s),
                (double)cvk_sim_controller_now(motor.controller)->angle.quality,
                cvk_fault_text((cvk_fault)owner->state.fault));
    }
    assert_bounds(what);
}

START_TEST(guards_hold_that_nobody_named)
{
    static const struct {
        const char *key;
        float factor;
    } bad[] = {{"motor.flux_linkage_wb", 1.77f},
               {"motor.flux_linkage_wb", 0.55f},
               {"start.speed_rad_s", 5.0f},
               {"current.bandwidth_hz", 4.0f},
               {"current.bandwidth_hz", 0.05f},
               {"motor.inductance_q_h", 1.9f},
               {"motor.inductance_d_h", 0.55f},
               {"speed.gain_a_s", 50.0f},
               {"observer.tracking_bandwidth_rad_s", 0.05f}};
    open_bench(_i);
    for (size_t n = 0; n < sizeof bad / sizeof bad[0]; n++) {
        attack(bad[n].key, bad[n].factor, false);
        if (!live_turns(&motor)) {
            live_start(&motor);
        }
    }
    live_close(&motor);
}
END_TEST

/* Kept whenever it may be kept; then the other way round. */
START_TEST(many_small_steps_do_not_lead_where_one_would_not)
{
    open_bench(_i);
    for (int step = 0; step < 10; step++) {
        attack("motor.flux_linkage_wb", _i % 4 < 2 ? 0.85f : 1.18f, true);
    }
    const float q = cvk_sim_controller_now(motor.controller)->angle.quality;
    ck_assert_msg(q > 0.6f, "%s: quality %g", motor.bench.name, (double)q);
    motor.speed_rad_s = -motor.speed_rad_s;
    const cvk_request back = {.mode = CVK_MODE_SPEED, .speed_rad_s = motor.speed_rad_s};
    ck_assert_int_eq(cvk_session_request(owner, &back), CVK_OK);
    live_advance(&motor, 2.0 * ramp_s() + 2.0);
    ck_assert_msg(live_turns(&motor), "%s: %s", motor.bench.name,
                  cvk_fault_text((cvk_fault)owner->state.fault));
    assert_bounds("ten steps");
    live_close(&motor);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, nobody_is_left_with_a_motor_that_nobody_can_stop, 0, BENCHES);
    tcase_add_loop_test(tests, who_only_watches_changes_nothing, 0, BENCHES);
    tcase_add_loop_test(tests, a_fault_ends_what_was_asked_for, 0, BENCHES);
    tcase_add_loop_test(tests, guards_hold_that_nobody_named, 0, BENCHES);
    tcase_add_loop_test(tests, many_small_steps_do_not_lead_where_one_would_not, 0, BENCHES);
}

int main(void)
{
    return run_suite("attacks", add);
}
