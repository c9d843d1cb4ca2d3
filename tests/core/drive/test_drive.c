/* SPDX-License-Identifier: Apache-2.0
 *
 * The drive and the excitations on a port that only records what it is told.
 */
#include "corvak/core/drive.h"
#include "corvak/core/programs.h"
#include "suite.h"

#include <math.h>
#include <string.h>

typedef struct gate {
    bool on;
    int changes;
} gate;

static void gate_enable(void *context, bool enable)
{
    gate *g = context;
    g->on = enable;
    g->changes++;
}

static const cvk_readings calm = {.current_a = {0.1f, -0.05f, -0.05f},
                                  .current_valid = CVK_ALL_CURRENTS_VALID,
                                  .bus_v = 24.0f,
                                  .winding_degc = 25.0f};

static gate the_gate;
static cvk_port port = {.context = &the_gate, .gate_enable = gate_enable};
static cvk_drive drive;
static const cvk_moment *now;

static cvk_settings wheel(void)
{
    cvk_settings s = cvk_settings_default();
    s.motor = (cvk_motor_settings){12, 0.17f, 320e-6f, 470e-6f, 0.0215f};
    s.rotor.kind = CVK_ROTOR_ABSOLUTE;
    s.limit.current_a = 14.0f;
    s.protect.trip_current_a = 25.0f;
    s.protect.bus_min_v = 15.0f;
    s.protect.bus_max_v = 32.0f;
    s.speed.gain_a_s = 0.4f;
    s.speed.integral_gain_a = 2.0f;
    s.speed.current_a = 10.0f;
    return s;
}

static void setup_with(const cvk_settings *settings, const cvk_hardware *hardware)
{
    the_gate = (gate){0};
    ck_assert_int_eq(cvk_drive_init(&drive, &port, hardware, settings, NULL), CVK_OK);
    ck_assert_int_eq(cvk_drive_claim(&drive, 1, 3600.0f), CVK_OK);
    now = cvk_drive_now(&drive);
}

static void setup(void)
{
    const cvk_settings settings = wheel();
    const cvk_hardware hardware = cvk_hardware_default();
    setup_with(&settings, &hardware);
}

static void ask(cvk_request request)
{
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &request, NULL), CVK_OK);
}

START_TEST(starts_with_the_bridge_off)
{
    ck_assert_int_eq(the_gate.changes, 1);
    ck_assert(!the_gate.on);
    cvk_drive_control(&drive, &calm);
    ck_assert(!the_gate.on);
}
END_TEST

START_TEST(a_request_turns_the_bridge_on_and_off)
{
    ask((cvk_request){.mode = CVK_MODE_VOLTAGE, .voltage_v = {6.0f, 0}});
    cvk_abc duties = cvk_drive_control(&drive, &calm);
    ck_assert(the_gate.on);
    ck_assert_float_eq_tol((duties.a - duties.b) * 24.0f, 9.0f, 1e-4f);
    ask((cvk_request){.mode = CVK_MODE_OFF});
    cvk_drive_control(&drive, &calm);
    ck_assert(!the_gate.on);
}
END_TEST

/* Nothing that is no number gets in, and what was asked for before still counts. */
START_TEST(a_request_that_is_no_number_is_refused)
{
    const cvk_request bad[] = {
        {.mode = CVK_MODE_VOLTAGE, .voltage_v = {NAN, 0.0f}},
        {.mode = CVK_MODE_VOLTAGE, .voltage_v = {0.0f, INFINITY}},
        {.mode = CVK_MODE_CURRENT, .current_a = {0.0f, NAN}},
        {.mode = CVK_MODE_SPEED, .speed_rad_s = -INFINITY},
        {.mode = CVK_MODE_COUNT},
    };
    ask((cvk_request){.mode = CVK_MODE_VOLTAGE, .voltage_v = {6.0f, 0.0f}});
    for (size_t n = 0; n < sizeof bad / sizeof bad[0]; n++) {
        cvk_refusal why = {0};
        ck_assert_int_eq(cvk_drive_request(&drive, 1, &bad[n], &why), CVK_OUT_OF_RANGE);
        ck_assert_ptr_nonnull(why.field);
        const cvk_abc duties = cvk_drive_control(&drive, &calm);
        ck_assert_float_eq_tol((duties.a - duties.b) * 24.0f, 9.0f, 1e-4f);
    }
}
END_TEST

/* A mode whose parameters are not known is refused, and says which. */
START_TEST(what_is_not_known_is_named)
{
    cvk_settings settings = cvk_settings_default();
    const cvk_hardware hardware = cvk_hardware_default();
    const cvk_request current = {.mode = CVK_MODE_CURRENT}, speed = {.mode = CVK_MODE_SPEED};
    cvk_refusal why = {0};
    setup_with(&settings, &hardware);
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &current, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "motor.inductance_d_h");
    settings.motor.inductance_d_h = settings.motor.inductance_q_h = 1e-4f;
    setup_with(&settings, &hardware);
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &speed, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "motor.pole_pairs");
    settings.angle.source = CVK_BY_OBSERVER;
    setup_with(&settings, &hardware);
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &speed, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "motor.flux_linkage_wb");
}
END_TEST

/* From an imposed voltage to a current: what was predicted before the voltage ruled is forgotten,
 * so that the first voltage asked for is that of a controller that starts anew. */
START_TEST(a_mode_change_leaves_no_stale_prediction)
{
    cvk_readings flowing = calm;
    flowing.current_a = (cvk_abc){8.0f, -4.0f, -4.0f};
    const cvk_request current = {.mode = CVK_MODE_CURRENT}, voltage = {.mode = CVK_MODE_VOLTAGE};
    ask(current);
    for (int n = 0; n < 20; n++) {
        cvk_drive_control(&drive, &calm);
    }
    ask(voltage);
    for (int n = 0; n < 20; n++) {
        cvk_drive_control(&drive, &flowing);
    }
    ask(current);
    const cvk_abc after = cvk_drive_control(&drive, &flowing);
    setup();
    ask(voltage);
    cvk_drive_control(&drive, &flowing);
    ask(current);
    const cvk_abc fresh = cvk_drive_control(&drive, &flowing);
    ck_assert_float_eq_tol(after.a, fresh.a, 1e-6f);
    ck_assert_float_eq_tol(after.b, fresh.b, 1e-6f);
}
END_TEST

/* The bridge is off in the very call that sees a bad sample, and stays off until it is cleared. */
START_TEST(a_fault_stops_in_the_same_call)
{
    static const struct {
        cvk_abc current_a;
        float bus_v;
        cvk_fault fault;
    } bad[] = {
        {{NAN, 0, 0}, 24.0f, CVK_FAULT_SAMPLE},    {{0, INFINITY, 0}, 24.0f, CVK_FAULT_SAMPLE},
        {{0, 0, 0}, NAN, CVK_FAULT_SAMPLE},        {{0, 0, -26.0f}, 24.0f, CVK_FAULT_OVERCURRENT},
        {{0, 0, 0}, 14.0f, CVK_FAULT_BUS_VOLTAGE}, {{0, 0, 0}, 33.0f, CVK_FAULT_BUS_VOLTAGE},
    };
    for (size_t n = 0; n < sizeof bad / sizeof bad[0]; n++) {
        cvk_readings sample = calm;
        sample.current_a = bad[n].current_a;
        sample.bus_v = bad[n].bus_v;
        setup();
        ask((cvk_request){.mode = CVK_MODE_VOLTAGE});
        cvk_drive_control(&drive, &calm);
        ck_assert(the_gate.on);
        cvk_drive_control(&drive, &sample);
        ck_assert(!the_gate.on);
        ck_assert_int_eq(now->fault, bad[n].fault);
        ck_assert_str_ne(cvk_fault_text((cvk_fault)now->fault), "unknown fault");
        cvk_drive_control(&drive, &calm);
        ck_assert(!the_gate.on);
        ck_assert_int_eq(cvk_drive_clear_fault(&drive, 1), CVK_OK);
        cvk_drive_control(&drive, &calm);
        ck_assert(!the_gate.on); /* what was asked for before is over */
        ck_assert_int_eq(now->request.mode, CVK_MODE_OFF);
        ask((cvk_request){.mode = CVK_MODE_VOLTAGE});
        cvk_drive_control(&drive, &calm);
        ck_assert(the_gate.on);
    }
}
END_TEST

/* A port whose power stage switches off by itself says so with the readings. */
START_TEST(a_stage_that_tripped_is_a_fault_and_nothing_starts_on_it)
{
    const cvk_request voltage = {.mode = CVK_MODE_VOLTAGE};
    cvk_readings tripped = calm;
    cvk_refusal why = {0};
    tripped.stage_tripped = 1;
    ask(voltage);
    cvk_drive_control(&drive, &calm);
    cvk_drive_control(&drive, &tripped);
    ck_assert(!the_gate.on);
    ck_assert_int_eq(now->fault, CVK_FAULT_STAGE);
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &voltage, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.against, cvk_fault_text(CVK_FAULT_STAGE));
    ask((cvk_request){.mode = CVK_MODE_OFF});
    ck_assert_int_eq(cvk_drive_clear_fault(&drive, 1), CVK_OK);
    cvk_drive_control(&drive, &tripped); /* still */
    ck_assert_int_eq(now->fault, CVK_FAULT_STAGE);
}
END_TEST

/* What is soldered is stronger than settings; and no set-point goes beyond the bus. */
START_TEST(no_setting_lifts_a_hard_ceiling)
{
    const cvk_settings settings = wheel();
    cvk_settings high = settings;
    cvk_hardware hardware = cvk_hardware_default();
    cvk_refusal why = {0};
    hardware.current_range_a = 80.0f;
    hardware.bus_range_v = 40.0f;
    setup_with(&settings, &hardware);
    high.protect.trip_current_a = 2000.0f;
    ck_assert_int_eq(cvk_drive_stage(&drive, &high, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "protect.trip_current_a");
    high = settings;
    high.protect.bus_max_v = 60.0f;
    ck_assert_int_eq(cvk_drive_stage(&drive, &high, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "protect.bus_max_v");
    hardware.stage_current_a = 20.0f;
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, &settings, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.against, "the power stage");
    setup();
    const float most = 32.0f * 0.6366f / 0.0215f; /* six steps of the highest bus */
    const cvk_request bad[] = {{.mode = CVK_MODE_VOLTAGE, .voltage_v = {33.0f, 0.0f}},
                               {.mode = CVK_MODE_SPEED, .speed_rad_s = 1.01f * most},
                               {.mode = CVK_MODE_SPEED, .speed_rad_s = -1.01f * most}};
    for (size_t n = 0; n < sizeof bad / sizeof bad[0]; n++) {
        ck_assert_int_eq(cvk_drive_request(&drive, 1, &bad[n], &why), CVK_OUT_OF_RANGE);
    }
    ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 0.99f * most});
    high = settings;
    high.speed.feedforward_a_s2 = 0.01f; /* an acceleration's current is known, and none is given */
    ck_assert_int_eq(cvk_settings_check(&high, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "speed.acceleration_rad_s2");
}
END_TEST

START_TEST(the_first_cause_is_kept)
{
    cvk_readings overcurrent = calm, undervoltage = calm;
    overcurrent.current_a.a = 30.0f;
    undervoltage.bus_v = 1.0f;
    cvk_drive_control(&drive, &overcurrent);
    cvk_drive_control(&drive, &undervoltage);
    ck_assert_int_eq(now->fault, CVK_FAULT_OVERCURRENT);
}
END_TEST

START_TEST(bad_settings_and_hardware_are_refused_by_name)
{
    const cvk_hardware hardware = cvk_hardware_default(), nothing = {0};
    cvk_settings settings = wheel();
    cvk_refusal why = {0};
    settings.protect.bus_max_v = 10.0f;
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, &settings, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "protect.bus_max_v");
    ck_assert_str_eq(why.against, "protect.bus_min_v");
    settings = wheel();
    settings.protect.trip_current_a = 0.0f;
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, &settings, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "trip_current_a");
    settings = (cvk_settings){.motor = {0}};
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, &settings, &why), CVK_OUT_OF_RANGE);
    settings = wheel();
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &nothing, &settings, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "period_s");
    ck_assert_int_eq(cvk_drive_init(&drive, NULL, &hardware, &settings, &why), CVK_NULL_ARGUMENT);
}
END_TEST

/* Settings come into force whole, at the next call, and the loops go on from where they are. */
START_TEST(staged_settings_are_adopted_between_two_calls)
{
    cvk_settings settings = wheel();
    cvk_refusal why = {0};
    settings.current.bandwidth_hz = 1000.0f;
    ck_assert_int_eq(cvk_drive_stage(&drive, &settings, &why), CVK_OK);
    ck_assert_int_eq(cvk_drive_stage(&drive, &settings, &why), CVK_BUSY);
    ck_assert_float_eq(cvk_drive_settings(&drive)->current.bandwidth_hz, 1000.0f);
    ask((cvk_request){.mode = CVK_MODE_CURRENT, .current_a = {0.0f, 1.0f}});
    cvk_drive_control(&drive, &calm);
    ck_assert(the_gate.on);
    settings.current.bandwidth_hz = 900.0f; /* while it is on: only on trial */
    ck_assert_int_eq(cvk_drive_stage(&drive, &settings, &why), CVK_BRIDGE_IS_ON);
    ck_assert_str_eq(why.field, "bandwidth_hz");
    ask((cvk_request){.mode = CVK_MODE_OFF});
    cvk_drive_control(&drive, &calm);
    settings.current.bandwidth_hz = NAN;
    ck_assert_int_eq(cvk_drive_stage(&drive, &settings, &why), CVK_OUT_OF_RANGE);
    ck_assert_float_eq(cvk_drive_settings(&drive)->current.bandwidth_hz, 1000.0f);
    settings = wheel();
    settings.motor.pole_pairs = 4;
    ask((cvk_request){.mode = CVK_MODE_CURRENT, .current_a = {0.0f, 1.0f}});
    cvk_drive_control(&drive, &calm);
    ck_assert_int_eq(
        cvk_drive_try(&drive, 1, &settings, &(cvk_trial_terms){1.0f, 1.0f, 0, 0, 0}, &why),
        CVK_BRIDGE_IS_ON);
    ck_assert_str_eq(why.field, "pole_pairs");
    ask((cvk_request){.mode = CVK_MODE_OFF});
    cvk_drive_control(&drive, &calm);
    ck_assert_int_eq(cvk_drive_stage(&drive, &settings, &why), CVK_OK);
}
END_TEST

/* ---- a change on trial ----------------------------------------------------------------------- */

static const cvk_trial_terms brief = {.watch_s = 0.01f, .confirm_s = 0.02f};

/* The motor turns by current, and a change is on trial. */
static cvk_settings start_trial(cvk_trial_terms terms)
{
    cvk_settings settings = wheel();
    ask((cvk_request){.mode = CVK_MODE_CURRENT, .current_a = {0.0f, 1.0f}});
    cvk_drive_control(&drive, &calm);
    settings.current.bandwidth_hz = 777.0f;
    settings.limit.current_a *= 2.0f;
    settings.protect.trip_current_a *= 3.0f;
    ck_assert_int_eq(cvk_drive_try(&drive, 1, &settings, &terms, NULL), CVK_OK);
    cvk_drive_control(&drive, &calm);
    ck_assert_int_eq(cvk_drive_now(&drive)->trial, CVK_TRIAL_WATCHED);
    return settings;
}

static void call(int count, cvk_readings readings)
{
    for (int n = 0; n < count; n++) {
        ck_assert_int_eq(cvk_drive_refresh(&drive, 1), CVK_OK);
        cvk_drive_control(&drive, &readings);
    }
}

static void assert_back(cvk_trial_reason reason)
{
    ck_assert_int_eq(cvk_drive_now(&drive)->trial, CVK_TRIAL_GONE_BACK);
    ck_assert_int_eq(cvk_drive_now(&drive)->trial_reason, reason);
    ck_assert_float_eq(cvk_drive_settings(&drive)->current.bandwidth_hz,
                       wheel().current.bandwidth_hz);
}

START_TEST(a_change_is_kept_by_its_owner_after_the_watch)
{
    const cvk_settings settings = start_trial(brief);
    ck_assert_int_eq(cvk_drive_keep(&drive, 1), CVK_BUSY);
    ck_assert_int_eq(cvk_drive_try(&drive, 1, &settings, &brief, NULL), CVK_BUSY);
    call(200, calm);
    ck_assert_int_eq(cvk_drive_now(&drive)->trial, CVK_TRIAL_WAITING);
    ck_assert_int_eq(cvk_drive_keep(&drive, 2), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_drive_keep(&drive, 1), CVK_OK);
    call(1, calm);
    ck_assert_int_eq(cvk_drive_now(&drive)->trial, CVK_TRIAL_KEPT);
    call(2000, calm);
    ck_assert_float_eq(cvk_drive_settings(&drive)->current.bandwidth_hz, 777.0f);
    ck_assert_int_eq(cvk_drive_keep(&drive, 1), CVK_NO_TRIAL);
}
END_TEST

START_TEST(a_change_that_nobody_keeps_goes_back)
{
    start_trial(brief);
    call(599, calm);
    ck_assert_int_eq(cvk_drive_now(&drive)->trial, CVK_TRIAL_WAITING);
    call(1, calm);
    assert_back(CVK_TRIAL_UNCONFIRMED);
}
END_TEST

START_TEST(a_current_beyond_its_guard_takes_a_change_back_at_once)
{
    cvk_trial_terms terms = brief;
    terms.current_a = 6.0f;
    start_trial(terms);
    cvk_readings high = calm;
    high.current_a = (cvk_abc){6.5f, -3.25f, -3.25f};
    call(1, high);
    assert_back(CVK_TRIAL_CURRENT);
    ck_assert_int_eq(cvk_drive_now(&drive)->fault, CVK_FAULT_NONE);
}
END_TEST

START_TEST(the_owner_takes_a_change_back_and_so_does_its_loss)
{
    start_trial(brief);
    ck_assert_int_eq(cvk_drive_take_back(&drive, 1), CVK_OK);
    call(1, calm);
    assert_back(CVK_TRIAL_TAKEN_BACK);
    start_trial(brief);
    ck_assert_int_eq(cvk_drive_release(&drive, 1), CVK_OK);
    cvk_drive_control(&drive, &calm);
    assert_back(CVK_TRIAL_OWNER_LOST);
}
END_TEST

/* What is raised counts only once it is kept: trip and limit of the settings before hold. */
START_TEST(raised_limits_count_only_when_kept)
{
    cvk_trial_terms terms = brief;
    terms.current_a = 1000.0f;
    start_trial(terms);
    const float trip_a = wheel().protect.trip_current_a, limit_a = wheel().limit.current_a;
    ask((cvk_request){.mode = CVK_MODE_CURRENT, .current_a = {0.0f, 1.5f * limit_a}});
    call(1, calm);
    ck_assert_float_eq_tol(cvk_drive_now(&drive)->current_set_a.q, limit_a, 1e-4f);
    cvk_readings high = calm;
    high.current_a = (cvk_abc){1.01f * trip_a, -0.5f * trip_a, -0.51f * trip_a};
    call(1, high);
    ck_assert_int_eq(cvk_drive_now(&drive)->fault, CVK_FAULT_OVERCURRENT);
    assert_back(CVK_TRIAL_FAULT);
    ck_assert(!the_gate.on);
    ck_assert_int_eq(cvk_drive_clear_fault(&drive, 1), CVK_OK);
    call(1, calm);
    start_trial(terms);
    ask((cvk_request){.mode = CVK_MODE_CURRENT, .current_a = {0.0f, 1.5f * limit_a}});
    call(200, calm);
    ck_assert_int_eq(cvk_drive_keep(&drive, 1), CVK_OK);
    call(1, calm);
    call(1, high);
    ck_assert_int_eq(cvk_drive_now(&drive)->fault, CVK_FAULT_NONE);
    ck_assert_float_eq_tol(cvk_drive_now(&drive)->current_set_a.q, 1.5f * limit_a, 1e-4f);
}
END_TEST

START_TEST(a_window_without_the_bus_is_refused_while_on)
{
    cvk_settings settings = wheel();
    cvk_refusal why = {0};
    ask((cvk_request){.mode = CVK_MODE_CURRENT, .current_a = {0.0f, 1.0f}});
    call(1, calm);
    settings.protect.bus_min_v = calm.bus_v + 1.0f;
    ck_assert_int_eq(cvk_drive_try(&drive, 1, &settings, &brief, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "protect.bus_min_v");
    call(1, calm);
    ck_assert(the_gate.on);
}
END_TEST

static unsigned kicks;

static void kick(void *context)
{
    (void)context;
    kicks++;
}

START_TEST(the_watchdog_is_kicked_only_while_control_calls_come)
{
    static cvk_port dog;
    cvk_hardware hardware = cvk_hardware_default();
    const cvk_settings settings = wheel();
    dog = port;
    dog.watchdog_kick = kick;
    ck_assert_int_eq(cvk_drive_init(&drive, &dog, &hardware, &settings, NULL), CVK_OK);
    kicks = 0;
    cvk_drive_control(&drive, &calm);
    cvk_drive_supervise(&drive);
    ck_assert_uint_eq(kicks, 1);
    cvk_drive_supervise(&drive);
    ck_assert_uint_eq(kicks, 1);
}
END_TEST

/* ---- owner and lease ------------------------------------------------------------------------- */

START_TEST(one_owner_at_a_time)
{
    const cvk_request voltage = {.mode = CVK_MODE_VOLTAGE};
    ck_assert_uint_eq(cvk_drive_owner(&drive), 1);
    ck_assert_int_eq(cvk_drive_claim(&drive, 2, 1.0f), CVK_BUSY);
    ck_assert_int_eq(cvk_drive_request(&drive, 2, &voltage, NULL), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_drive_clear_fault(&drive, 2), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_drive_rotor_aligned(&drive, 2), CVK_NOT_OWNER);
    ask(voltage);
    ck_assert_int_eq(cvk_drive_hand_over(&drive, 2, 3), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_drive_hand_over(&drive, 1, 2), CVK_OK);
    cvk_drive_control(&drive, &calm);
    ck_assert(the_gate.on); /* what was asked for goes on */
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &voltage, NULL), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_drive_release(&drive, 2), CVK_OK);
    cvk_drive_control(&drive, &calm);
    ck_assert(!the_gate.on);
    /* the next one does not inherit a request */
    ck_assert_int_eq(cvk_drive_claim(&drive, 3, 1.0f), CVK_OK);
    cvk_drive_control(&drive, &calm);
    ck_assert(!the_gate.on);
    ck_assert_int_eq(cvk_drive_claim(&drive, CVK_NOBODY, 1.0f), CVK_OUT_OF_RANGE);
    ck_assert_int_eq(cvk_drive_claim(&drive, 3, NAN), CVK_OUT_OF_RANGE);
}
END_TEST

/* Whoever it is: at once, or slowing down; the owner has to claim anew. */
START_TEST(anybody_may_stop)
{
    for (int at_once = 0; at_once < 2; at_once++) {
        setup();
        cvk_readings turns = calm;
        ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 100.0f});
        for (int n = 0; n < 40; n++) {
            turns.rotor.absolute_mech_rad += 100.0f / 12.0f * 50e-6f;
            cvk_drive_control(&drive, &turns);
        }
        ck_assert(the_gate.on);
        cvk_drive_stop(&drive, at_once != 0);
        turns.rotor.absolute_mech_rad += 100.0f / 12.0f * 50e-6f;
        cvk_drive_control(&drive, &turns);
        ck_assert_uint_eq(cvk_drive_owner(&drive), CVK_NOBODY);
        ck_assert_int_eq(now->request.mode == CVK_MODE_OFF, at_once);
        ck_assert(!the_gate.on || at_once == 0);
        ck_assert_int_eq(cvk_drive_refresh(&drive, 1), CVK_NOT_OWNER);
        ck_assert_int_eq(cvk_drive_claim(&drive, 1, 1.0f), CVK_OK);
        cvk_drive_control(&drive, &calm);
        ck_assert(!the_gate.on);
        ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 100.0f});
        cvk_drive_control(&drive, &calm);
        ck_assert(the_gate.on);
    }
}
END_TEST

/* The angle of a motor that nothing shows any more is not shown as known. */
START_TEST(after_a_fault_the_angle_is_not_known)
{
    cvk_settings settings = wheel();
    const cvk_hardware hardware = cvk_hardware_default();
    cvk_readings bad = calm;
    settings.motor.resistance_ohm = 0.17f;
    settings.angle.source = CVK_BY_OBSERVER;
    settings.rotor.kind = CVK_ROTOR_NONE;
    setup_with(&settings, &hardware);
    ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 100.0f});
    for (int n = 0; n < 4000; n++) {
        cvk_drive_control(&drive, &calm); /* the vector of a start: quality 1 */
    }
    ck_assert_float_eq(now->angle.quality, 1.0f);
    bad.current_a.a = 30.0f;
    cvk_drive_control(&drive, &bad);
    cvk_drive_control(&drive, &calm);
    ck_assert_float_eq(now->angle.quality, 0.0f);
    ck_assert_float_eq(now->angle.speed_rad_s, 0.0f);
    ck_assert_int_eq(now->angle.reason, CVK_ANGLE_OFF);
}
END_TEST

/* ---- measuring ------------------------------------------------------------------------------ */

/* Each phase that is not seen follows from the others; with two missing the last ones stand in. */
START_TEST(missing_currents_are_completed)
{
    cvk_readings read = calm;
    for (int missing = 0; missing < 3; missing++) {
        read.current_a = (cvk_abc){3.0f, -1.0f, -2.0f};
        read.current_valid = CVK_ALL_CURRENTS_VALID & ~(1 << missing);
        *(missing == 0   ? &read.current_a.a
          : missing == 1 ? &read.current_a.b
                         : &read.current_a.c) = 99.0f;
        cvk_drive_control(&drive, &read);
        ck_assert_float_eq_tol(now->phase_a.a, 3.0f, 1e-6f);
        ck_assert_float_eq_tol(now->phase_a.b, -1.0f, 1e-6f);
        ck_assert_float_eq_tol(now->phase_a.c, -2.0f, 1e-6f);
    }
    read.current_valid = 1;
    read.current_a = (cvk_abc){7.0f, 7.0f, 7.0f};
    cvk_drive_control(&drive, &read);
    ck_assert_float_eq_tol(now->phase_a.a, 3.0f, 1e-6f);
    ck_assert_int_eq(now->fault, CVK_FAULT_NONE);
}
END_TEST

/* At rest, with all legs at half duty, what is read is the offset: from then on it is taken off. */
START_TEST(offsets_are_found_at_rest)
{
    cvk_readings read = calm;
    ask((cvk_request){.mode = CVK_MODE_REST});
    for (int n = 0; n < 4100 && now->rest_done == 0; n++) { /* 0.2 s */
        const float ripple = n % 2 == 0 ? 0.05f : -0.05f;
        read.current_a = (cvk_abc){0.4f + ripple, -0.3f - ripple, 0.1f};
        const cvk_abc duty = cvk_drive_control(&drive, &read);
        ck_assert_float_eq(duty.a, 0.5f);
        ck_assert_float_eq(duty.c, 0.5f);
    }
    ck_assert_int_eq(now->rest_done, 1);
    ck_assert_float_eq_tol(now->offset_a.a, 0.4f, 1e-3f);
    ck_assert_float_eq_tol(now->offset_a.b, -0.3f, 1e-3f);
    ask((cvk_request){.mode = CVK_MODE_OFF});
    read.current_a = (cvk_abc){1.4f, -1.3f, 0.1f};
    cvk_drive_control(&drive, &read);
    ck_assert_float_eq_tol(now->phase_a.a, 1.0f, 2e-3f);
}
END_TEST

/* Currents that swing while they should rest are no offset: somebody turns the shaft. */
START_TEST(a_turning_shaft_spoils_the_rest)
{
    cvk_readings read = calm;
    ask((cvk_request){.mode = CVK_MODE_REST});
    for (int n = 0; n < 4100 && now->fault == CVK_FAULT_NONE; n++) {
        const float swing = 6.0f * sinf(0.01f * (float)n);
        read.current_a = (cvk_abc){swing, -swing, 0.0f};
        cvk_drive_control(&drive, &read);
    }
    ck_assert_int_eq(now->fault, CVK_FAULT_REST);
    ck_assert(!the_gate.on);
    ck_assert_float_eq(now->offset_a.a, 0.0f);
}
END_TEST

/* A low-side shunt gets its window, and the voltage stays; where it cannot stay, that is known. */
START_TEST(windows_are_kept_and_what_they_take_is_known)
{
    const cvk_settings settings = wheel();
    cvk_hardware hardware = cvk_hardware_default();
    hardware.current_sensing = CVK_CURRENTS_LOW_SIDE;
    hardware.window_s = 2.5e-6f;
    setup_with(&settings, &hardware);
    const float most = 1.0f - 2.1f * 2.5e-6f / 50e-6f;
    for (int n = 1; n <= 13; n++) {
        const float length_v = 1.0f * (float)n;
        ask((cvk_request){.mode = CVK_MODE_VOLTAGE, .voltage_v = {length_v, 0.0f}});
        const cvk_abc d = cvk_drive_control(&drive, &calm);
        ck_assert_float_le(d.a, most + 1e-6f);
        ck_assert_float_ge(d.b, 0.0f);
        const cvk_ab made = cvk_clarke((cvk_abc){24.0f * d.a, 24.0f * d.b, 24.0f * d.c});
        ck_assert_float_eq_tol(now->voltage_made_v.alpha, made.alpha, 1e-3f);
        if (1.5f * length_v / 24.0f < most) {
            ck_assert_float_eq_tol(made.alpha, length_v, 1e-3f);
        }
    }
}
END_TEST

/* ---- the speed loop -------------------------------------------------------------------------- */

/* A shaft under torque proportional to the q current, which follows its set-point at once. */
typedef struct turntable {
    double angle_mech_rad, speed_rad_s; /* speed: electrical */
    float highest;
} turntable;

static void turn(turntable *t, float load_a, int periods)
{
    for (int n = 0; n < periods; n++) {
        const double angle = 12.0 * t->angle_mech_rad;
        cvk_readings read = calm;
        const cvk_dq set = now->current_set_a;
        read.rotor.absolute_mech_rad = (float)t->angle_mech_rad;
        const cvk_ab i = cvk_park_inverse(set, cvk_rotation_of((float)remainder(angle, 6.2831853)));
        read.current_a = cvk_clarke_inverse(i);
        cvk_drive_control(&drive, &read);
        ck_assert_int_eq(now->fault, CVK_FAULT_NONE);
        ck_assert_float_le(fabsf(now->current_set_a.q), 10.0f);
        t->speed_rad_s += 50e-6 * 50.0 * (double)(now->current_set_a.q - load_a);
        t->angle_mech_rad = fmod(t->angle_mech_rad + 50e-6 * t->speed_rad_s / 12.0, 6.283185307);
        t->highest = fmaxf(t->highest, (float)t->speed_rad_s);
    }
}

/* The shaft takes its current from the set-point, so no observer could believe the voltages. */
static void setup_turntable(void)
{
    cvk_settings settings = wheel();
    const cvk_hardware hardware = cvk_hardware_default();
    settings.motor.flux_linkage_wb = 0.0f;
    setup_with(&settings, &hardware);
}

START_TEST(the_speed_loop_carries_a_load_without_error)
{
    turntable t = {0};
    setup_turntable();
    ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 100.0f});
    turn(&t, 0.0f, 40000);
    turn(&t, 3.0f, 60000);
    ck_assert_double_eq_tol(t.speed_rad_s, 100.0, 0.2);
}
END_TEST

/* Seconds against the limit leave nothing behind that would push the speed past its set-point. */
START_TEST(the_speed_loop_does_not_wind_up)
{
    turntable t = {0};
    cvk_settings settings = wheel();
    const cvk_hardware hardware = cvk_hardware_default();
    settings.speed.integral_gain_a = 0.4f;
    settings.speed.current_a = 2.0f;
    setup_with(&settings, &hardware);
    ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 400.0f});
    turn(&t, 0.0f, 200000);
    ck_assert_double_eq_tol(t.speed_rad_s, 400.0, 2.0);
    ck_assert_float_lt(t.highest, 1.05f * 400.0f);
}
END_TEST

/* The set-point moves as fast as it may, and a stop ends with the bridge off. */
START_TEST(a_stop_is_controlled_and_ends_off)
{
    turntable t = {0};
    cvk_settings settings = wheel();
    const cvk_hardware hardware = cvk_hardware_default();
    settings.speed.acceleration_rad_s2 = 200.0f;
    setup_with(&settings, &hardware);
    ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 100.0f});
    turn(&t, 0.0f, 5000);
    ck_assert_float_eq_tol(now->speed_set_rad_s, 50.0f, 0.5f);
    turn(&t, 0.0f, 40000);
    ask((cvk_request){.mode = CVK_MODE_STOP});
    turn(&t, 0.0f, 2000);
    ck_assert(the_gate.on);
    ck_assert_float_eq_tol(now->speed_set_rad_s, 80.0f, 0.5f);
    ck_assert_double_lt(t.speed_rad_s, 90.0);
    turn(&t, 0.0f, 40000);
    ck_assert(!the_gate.on);
    ck_assert_double_lt(fabs(t.speed_rad_s), 5.0);
}
END_TEST

/* ---- excitations ----------------------------------------------------------------------------- */

/* Steps a standstill program on a resistor: current follows the voltage at once. */
static float run_on_resistor(cvk_excitation *x, float resistance, float *largest, unsigned *rows)
{
    cvk_ab i = {0.0f, 0.0f};
    float sum_alpha = 0.0f;
    *largest = 0.0f;
    *rows = 0;
    while (!cvk_excitation_finished(x) && *rows < 200000u) {
        cvk_request command = cvk_excitation_next(x, i);
        i = (cvk_ab){command.voltage_v.alpha / resistance, command.voltage_v.beta / resistance};
        *largest = fmaxf(*largest, hypotf(i.alpha, i.beta));
        sum_alpha += i.alpha;
        (*rows)++;
    }
    return sum_alpha;
}

/* From 5 mOhm to 8 ohm the program finds its voltage by itself and stays within the limit. */
START_TEST(standstill_finds_its_voltage)
{
    static const float resistances[] = {0.005f, 0.05f, 0.5f, 8.0f};
    static const float limits[] = {60.0f, 20.0f, 10.0f, 1.2f};
    for (int n = 0; n < 4; n++) {
        cvk_excitation x;
        float largest;
        unsigned rows;
        cvk_excitation_config config = cvk_excitation_config_default(50e-6f, limits[n], 24.0f);
        ck_assert_int_eq(cvk_program_write(cvk_program_named("standstill"), &x, &config, NULL),
                         CVK_OK);
        run_on_resistor(&x, resistances[n], &largest, &rows);
        ck_assert(cvk_excitation_finished(&x));
        ck_assert_float_le(largest, limits[n]);
        ck_assert_float_ge(largest, 0.8f * limits[n]);
        ck_assert_uint_le(rows, (unsigned)(cvk_excitation_length_s(&x) / 50e-6f) + 30u);
    }
}
END_TEST

START_TEST(finished_program_switches_off)
{
    cvk_excitation x;
    float largest;
    unsigned rows;
    cvk_excitation_config config = cvk_excitation_config_default(50e-6f, 10.0f, 24.0f);
    ck_assert_int_eq(cvk_program_write(cvk_program_named("standstill"), &x, &config, NULL), CVK_OK);
    run_on_resistor(&x, 0.5f, &largest, &rows);
    ck_assert_int_eq(cvk_excitation_next(&x, (cvk_ab){0, 0}).mode, CVK_MODE_OFF);
    ck_assert(!cvk_excitation_recorded(&x));
}
END_TEST

START_TEST(coast_is_recorded_with_the_bridge_off_only)
{
    cvk_excitation x;
    cvk_excitation_config config = cvk_excitation_config_default(50e-6f, 10.0f, 24.0f);
    ck_assert_int_eq(cvk_program_write(cvk_program_named("coast"), &x, &config, NULL), CVK_OK);
    unsigned recorded = 0;
    while (!cvk_excitation_finished(&x)) {
        cvk_request command = cvk_excitation_next(&x, (cvk_ab){0, 0});
        if (cvk_excitation_recorded(&x)) {
            ck_assert_int_eq(command.mode, CVK_MODE_OFF);
            recorded++;
        }
    }
    ck_assert_uint_ge(recorded, 6000);
}
END_TEST

START_TEST(bad_excitation_config_is_refused_by_name)
{
    cvk_excitation x;
    cvk_refusal why = {0};
    cvk_excitation_config config = cvk_excitation_config_default(50e-6f, -1.0f, 24.0f);
    ck_assert_int_eq(cvk_program_write(cvk_program_named("spin"), &x, &config, &why),
                     CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "current_limit_a");
    config = cvk_excitation_config_default(50e-6f, 5.0f, 24.0f);
    config.square_half_s = 1e-6f;
    ck_assert_int_eq(cvk_program_write(cvk_program_named("standstill"), &x, &config, &why),
                     CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "square_half_s");
    ck_assert_int_eq(cvk_program_write(cvk_program_named("coast"), NULL, &config, &why),
                     CVK_NULL_ARGUMENT);
}
END_TEST

/* A lost pedal: the motor slows down along its ramp and is off, instead of turning on and on. */
START_TEST(a_lease_that_runs_out_ends_in_a_controlled_stop)
{
    turntable t = {0};
    cvk_settings settings = wheel();
    const cvk_hardware hardware = cvk_hardware_default();
    settings.speed.acceleration_rad_s2 = 200.0f;
    setup_with(&settings, &hardware);
    ck_assert_int_eq(cvk_drive_claim(&drive, 1, 0.1f), CVK_OK);
    for (int n = 0; n < 40; n++) { /* refreshed by asking */
        ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 100.0f});
        turn(&t, 0.0f, 1000);
    }
    ck_assert_double_gt(t.speed_rad_s, 95.0);
    turn(&t, 0.0f, 900); /* 95 ms since: still owned */
    ck_assert_uint_eq(cvk_drive_owner(&drive), 1);
    ck_assert_float_eq_tol(now->speed_set_rad_s, 100.0f, 0.1f);
    turn(&t, 0.0f, 3000);
    ck_assert_uint_eq(cvk_drive_owner(&drive), CVK_NOBODY);
    ck_assert(the_gate.on); /* it slows down, */
    ck_assert_float_lt(now->speed_set_rad_s, 80.0f);
    turn(&t, 0.0f, 40000); /* and is off */
    ck_assert(!the_gate.on);
    ck_assert_double_lt(fabs(t.speed_rad_s), 5.0);
    ck_assert_int_eq(cvk_drive_refresh(&drive, 1), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_drive_claim(&drive, 2, 1.0f), CVK_OK);
    turn(&t, 0.0f, 10);
    ck_assert(!the_gate.on);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_checked_fixture(tests, setup, NULL);
    tcase_add_test(tests, starts_with_the_bridge_off);
    tcase_add_test(tests, a_request_turns_the_bridge_on_and_off);
    tcase_add_test(tests, a_request_that_is_no_number_is_refused);
    tcase_add_test(tests, what_is_not_known_is_named);
    tcase_add_test(tests, a_mode_change_leaves_no_stale_prediction);
    tcase_add_test(tests, a_fault_stops_in_the_same_call);
    tcase_add_test(tests, the_first_cause_is_kept);
    tcase_add_test(tests, a_stage_that_tripped_is_a_fault_and_nothing_starts_on_it);
    tcase_add_test(tests, no_setting_lifts_a_hard_ceiling);
    tcase_add_test(tests, after_a_fault_the_angle_is_not_known);
    tcase_add_test(tests, bad_settings_and_hardware_are_refused_by_name);
    tcase_add_test(tests, staged_settings_are_adopted_between_two_calls);
    tcase_add_test(tests, a_change_is_kept_by_its_owner_after_the_watch);
    tcase_add_test(tests, a_change_that_nobody_keeps_goes_back);
    tcase_add_test(tests, a_current_beyond_its_guard_takes_a_change_back_at_once);
    tcase_add_test(tests, the_owner_takes_a_change_back_and_so_does_its_loss);
    tcase_add_test(tests, raised_limits_count_only_when_kept);
    tcase_add_test(tests, a_window_without_the_bus_is_refused_while_on);
    tcase_add_test(tests, the_watchdog_is_kicked_only_while_control_calls_come);
    tcase_add_test(tests, one_owner_at_a_time);
    tcase_add_test(tests, anybody_may_stop);
    tcase_add_test(tests, a_lease_that_runs_out_ends_in_a_controlled_stop);
    tcase_add_test(tests, missing_currents_are_completed);
    tcase_add_test(tests, offsets_are_found_at_rest);
    tcase_add_test(tests, a_turning_shaft_spoils_the_rest);
    tcase_add_test(tests, windows_are_kept_and_what_they_take_is_known);
    tcase_add_test(tests, the_speed_loop_carries_a_load_without_error);
    tcase_add_test(tests, the_speed_loop_does_not_wind_up);
    tcase_add_test(tests, a_stop_is_controlled_and_ends_off);
    tcase_add_test(tests, standstill_finds_its_voltage);
    tcase_add_test(tests, finished_program_switches_off);
    tcase_add_test(tests, coast_is_recorded_with_the_bridge_off_only);
    tcase_add_test(tests, bad_excitation_config_is_refused_by_name);
}

int main(void)
{
    return run_suite("drive", add);
}
