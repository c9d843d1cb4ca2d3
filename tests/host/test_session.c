/* SPDX-License-Identifier: Apache-2.0
 *
 * Sessions with the simulated controller, over the wire within the process: what a host sees, who
 * may command, changes, steps, and what happens when one end is gone.
 */
#include "corvak/host/change.h"
#include "corvak/host/gains.h"
#include "corvak/host/measured_step.h"
#include "corvak/host/self_calibration.h"
#include "corvak/link/messages.h"
#include "corvak/sim/wire.h"
#include "sensorless.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#define LEASE_S 0.3

static cvk_rig_config bench;
static cvk_sim_controller *controller;
static cvk_session first, second;

static void open_session(cvk_session *session)
{
    cvk_wire wire;
    ck_assert_int_eq(cvk_sim_wire_open(&wire, controller, false), CVK_OK);
    ck_assert_int_eq(cvk_session_open(session, &wire), CVK_OK);
}

static void make_bench(void)
{
    bench = bench_with_gains("wheel", 3);
}

static void set_up(void)
{
    ck_assert_int_eq(cvk_sim_controller_open(&controller, &bench, 4, NULL), CVK_OK);
    open_session(&first);
}

static void tear_down(void)
{
    cvk_session_close(&second);
    cvk_session_close(&first);
    cvk_sim_controller_close(controller);
}

static const cvk_moment *now(void)
{
    return cvk_sim_controller_now(controller);
}

static cvk_request turning(double rad_s)
{
    return (cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = (float)rad_s};
}

/* The wheel runs without a sensor. */
static cvk_request start(void)
{
    const cvk_request rest = {.mode = CVK_MODE_REST}, speed = turning(180.0);
    ck_assert_int_eq(cvk_session_claim(&first, LEASE_S), CVK_OK);
    ck_assert_int_eq(cvk_session_request(&first, &rest), CVK_OK);
    ck_assert_int_eq(cvk_session_wait(&first, 0.4), CVK_OK);
    ck_assert_int_eq(cvk_session_request(&first, &speed), CVK_OK);
    ck_assert_int_eq(cvk_session_wait(&first, 5.0), CVK_OK);
    ck_assert_int_eq(now()->start_phase, CVK_START_RUN);
    ck_assert_float_eq_tol(now()->angle.speed_rad_s, 180.0f, 3.0f);
    return speed;
}

static unsigned place_of(const char *key)
{
    const int n = cvk_session_parameter_named(&first, key);
    ck_assert_int_ge(n, 0);
    return (unsigned)n;
}

START_TEST(the_tables_come_from_the_controller)
{
    ck_assert_uint_eq(first.parameters, cvk_parameter_count());
    ck_assert_uint_eq(first.signals, cvk_signal_count());
    for (unsigned n = 0; n < first.parameters; n++) {
        const cvk_parameter *own = cvk_parameter_at(n), *theirs = &first.parameter[n].row;
        ck_assert_str_eq(theirs->section, own->section);
        ck_assert_str_eq(theirs->name, own->name);
        ck_assert_float_eq(theirs->preset, own->preset);
        ck_assert_float_eq(theirs->factor, own->factor);
        ck_assert_float_eq(
            first.value[n],
            cvk_parameter_get(cvk_drive_settings(&cvk_sim_controller_inside(controller)->drive),
                              own));
    }
    ck_assert_str_eq(first.name, "wheel");
    ck_assert_str_eq(cvk_session_state_text(&first, "mode", CVK_MODE_SPEED), "speed");
    ck_assert_ptr_null(cvk_session_state_text(&first, "mode", 99));
}
END_TEST

START_TEST(one_commands_and_the_others_watch)
{
    open_session(&second);
    const cvk_request rest = {.mode = CVK_MODE_REST};
    ck_assert_int_eq(cvk_session_claim(&first, LEASE_S), CVK_OK);
    ck_assert_int_eq(cvk_session_claim(&second, LEASE_S), CVK_BUSY);
    ck_assert_ptr_nonnull(strstr(second.text, "link 1"));
    ck_assert_int_eq(cvk_session_request(&second, &rest), CVK_NOT_OWNER);
    const cvk_session_change change = {place_of("speed.gain_a_s"), 0.7f};
    ck_assert_int_eq(cvk_session_adopt(&second, &change, 1, NULL), CVK_NOT_OWNER);
    const unsigned vdc = (unsigned)cvk_session_signal_named(&second, "vdc");
    float bus_v;
    ck_assert_int_eq(cvk_session_look(&second, &vdc, 1, &bus_v), CVK_OK);
    ck_assert_float_eq_tol(bus_v, 24.0f, 3.0f);
    ck_assert_int_eq(cvk_session_hand_over(&first, second.number), CVK_OK);
    ck_assert_int_eq(cvk_session_request(&first, &rest), CVK_NOT_OWNER);
    ck_assert_int_eq(cvk_session_request(&second, &rest), CVK_OK);
}
END_TEST

START_TEST(somebody_elses_change_is_noticed)
{
    open_session(&second);
    const cvk_session_change mine = {place_of("speed.gain_a_s"), 0.7f},
                             theirs = {place_of("speed.integral_gain_a"), 3.0f};
    ck_assert_int_eq(cvk_session_claim(&second, LEASE_S), CVK_OK);
    ck_assert_int_eq(cvk_session_adopt(&second, &theirs, 1, NULL), CVK_OK);
    ck_assert_int_eq(cvk_session_wait(&second, 0.01), CVK_OK);
    ck_assert_int_eq(cvk_session_release(&second), CVK_OK);
    ck_assert_int_eq(cvk_session_claim(&first, LEASE_S), CVK_OK);
    ck_assert_int_eq(cvk_session_adopt(&first, &mine, 1, NULL), CVK_BUSY);
    ck_assert_int_eq(cvk_session_read_values(&first), CVK_OK);
    ck_assert_int_eq(cvk_session_adopt(&first, &mine, 1, NULL), CVK_OK);
    ck_assert_int_eq(cvk_session_wait(&first, 0.01), CVK_OK);
    const cvk_settings *s = cvk_drive_settings(&cvk_sim_controller_inside(controller)->drive);
    ck_assert_float_eq(s->speed.gain_a_s, 0.7f);
    ck_assert_float_eq(s->speed.integral_gain_a, 3.0f);
}
END_TEST

/* The host is killed: not a byte more from it. */
START_TEST(a_killed_host_leaves_a_controlled_stop)
{
    start();
    const double killed_s = cvk_sim_controller_time_s(controller);
    cvk_sim_controller_run(controller, killed_s + LEASE_S + 0.05);
    ck_assert_int_eq(now()->request.mode, CVK_MODE_STOP);
    ck_assert_int_eq(now()->fault, CVK_FAULT_NONE);
    cvk_sim_controller_run(controller, killed_s + 8.0);
    ck_assert_int_eq(now()->bridge_on, 0);
    ck_assert_int_eq(now()->fault, CVK_FAULT_NONE);
    /* and connecting again goes on where it was */
    ck_assert_int_eq(cvk_session_claim(&first, LEASE_S), CVK_OK);
    const cvk_request speed = turning(180.0);
    ck_assert_int_eq(cvk_session_request(&first, &speed), CVK_OK);
    ck_assert_int_eq(cvk_session_wait(&first, 5.0), CVK_OK);
    ck_assert_int_eq(now()->start_phase, CVK_START_RUN);
}
END_TEST

START_TEST(a_good_change_is_kept_with_what_it_did)
{
    start();
    cvk_change change = {.count = 1,
                         .item = {{place_of("speed.gain_a_s"), 0.3f}},
                         .terms = {.watch_s = 0.5f, .confirm_s = 1.0f}};
    ck_assert_int_eq(cvk_change_guarded(&first, &change), CVK_OK);
    ck_assert_int_eq(change.state, CVK_TRIAL_WAITING);
    ck_assert(change.on_trial);
    ck_assert_double_eq_tol(change.before.speed_rad_s, 180.0, 2.0);
    ck_assert_double_eq_tol(change.during.length_s, 0.5, 0.05);
    ck_assert_double_gt(change.during.quality, 0.8);
    ck_assert_double_lt(change.during.peak_a, (double)change.terms.current_a);
    ck_assert_int_eq(cvk_session_keep(&first), CVK_OK);
    ck_assert_int_eq(cvk_session_wait(&first, 2.0), CVK_OK);
    ck_assert_int_eq(now()->trial, CVK_TRIAL_KEPT);
    ck_assert_int_eq(cvk_session_read_values(&first), CVK_OK);
    ck_assert_float_eq(first.value[change.item[0].parameter], 0.3f);
}
END_TEST

START_TEST(a_bad_gain_goes_back_by_itself_and_the_motor_runs_on)
{
    start();
    const float before = first.value[place_of("speed.gain_a_s")];
    cvk_change change = {.count = 1,
                         .item = {{place_of("speed.gain_a_s"), 20.0f}},
                         .terms = {.watch_s = 1.5f, .confirm_s = 1.0f}};
    ck_assert_int_eq(cvk_change_guarded(&first, &change), CVK_OK);
    ck_assert_int_eq(change.state, CVK_TRIAL_GONE_BACK);
    ck_assert_int_eq(change.reason, CVK_TRIAL_CURRENT);
    ck_assert_double_lt(change.during.length_s, 0.3);
    ck_assert_float_eq(first.value[place_of("speed.gain_a_s")], before);
    ck_assert_int_eq(cvk_session_wait(&first, 1.0), CVK_OK);
    ck_assert_int_eq(now()->fault, CVK_FAULT_NONE);
    ck_assert_float_eq_tol(now()->angle.speed_rad_s, 180.0f, 3.0f);
}
END_TEST

START_TEST(measured_steps_are_as_predicted)
{
    const cvk_request speed = start();
    cvk_measured_step step;
    ck_assert_int_eq(cvk_measure_current_step(&first, &speed, 2.0, false, &step), CVK_OK);
    ck_assert_uint_ge(step.repeats, 15);
    ck_assert_double_eq_tol(step.shape.rise_s, step.predicted_shape.rise_s,
                            0.15 * step.predicted_shape.rise_s);
    ck_assert_double_lt(step.shape.overshoot, 0.05);
    for (size_t n = 0; n < step.rows; n++) {
        ck_assert_double_eq_tol(step.measured[n], step.predicted[n], 0.25);
    }
    cvk_measured_step_free(&step);
    ck_assert_int_eq(
        cvk_measure_speed_step(&first, &speed, 24.0, 1.5, bench.shaft.inertia_kg_m2, &step),
        CVK_OK);
    ck_assert_double_eq_tol(step.to, 204.0, 1e-3);
    ck_assert_double_eq_tol(step.shape.rise_s, step.predicted_shape.rise_s,
                            0.1 * step.predicted_shape.rise_s);
    ck_assert_double_eq_tol(step.shape.overshoot, step.predicted_shape.overshoot, 0.06);
    ck_assert(!step.limited);
    /* a spring and a damper at the shaft: torque per angle and per speed */
    const cvk_settings *s = &bench.tune;
    const double per_a = 1.5 * s->motor.pole_pairs * (double)s->motor.flux_linkage_wb;
    ck_assert_double_eq_tol(step.stiffness_nm_rad,
                            per_a * (double)s->speed.integral_gain_a * s->motor.pole_pairs, 0.01);
    cvk_measured_step_free(&step);
    /* and the inertia that the step itself shows */
    ck_assert_int_eq(cvk_measure_speed_step(&first, &speed, -24.0, 1.5, NAN, &step), CVK_OK);
    ck_assert_double_eq_tol(step.from, 180.0, 2.0); /* where the step before began */
    const double true_inertia = bench.shaft.inertia_kg_m2;
    ck_assert_double_eq_tol(step.inertia_kg_m2, true_inertia, 0.1 * true_inertia);
    cvk_measured_step_free(&step);
}
END_TEST

START_TEST(a_step_beyond_the_limit_is_refused)
{
    const cvk_request speed = start();
    cvk_measured_step step;
    ck_assert_int_eq(cvk_measure_current_step(&first, &speed, 20.0, false, &step),
                     CVK_CONTRADICTION);
    ck_assert_ptr_nonnull(strstr(first.text, "a limit left 14 A"));
    cvk_measured_step_free(&step);
}
END_TEST

START_TEST(a_step_needs_a_running_motor)
{
    cvk_measured_step step;
    const cvk_request off = {.mode = CVK_MODE_OFF};
    ck_assert_int_eq(cvk_measure_current_step(&first, &off, 2.0, false, &step), CVK_CONTRADICTION);
    ck_assert_ptr_nonnull(strstr(first.text, "start it first"));
    cvk_measured_step_free(&step);
}
END_TEST

START_TEST(shapes_of_known_curves)
{
    enum { ROWS = 2000 };
    static double y[ROWS];
    for (int n = 0; n < ROWS; n++) { /* second order, damping 0.5: overshoot 16.3 % */
        const double t = 0.01 * n, w = sqrt(0.75);
        y[n] = 3.0 - 2.0 * exp(-0.5 * t) * (cos(w * t) + 0.5 / w * sin(w * t));
    }
    const cvk_step_shape s = cvk_step_shape_of(y, ROWS, 0.01, 1.0, 3.0);
    ck_assert_double_eq_tol(s.overshoot, 0.163, 0.001);
    ck_assert_double_eq_tol(s.rise_s, 1.64, 0.02);
    ck_assert_double_eq_tol(s.settling_s, 5.29, 0.05);
    const cvk_step_shape down = cvk_step_shape_of(y, 100, 0.01, 1.0, 3.0);
    ck_assert(isnan(down.settling_s) && isnan(down.rise_s));
}
END_TEST

/* ---- other ends ------------------------------------------------------------------------------ */

/* A wire whose other end says `speech` to whatever it is told. */
static const uint8_t *speech;
static size_t speech_length;
static double clock_s;
static bool one_frame_a_time;

static int hear(void *context, uint8_t *bytes, size_t room, double timeout_s)
{
    (void)context;
    clock_s += fmax(timeout_s, 1e-3);
    size_t count = speech_length < room ? speech_length : room;
    for (size_t n = 1; one_frame_a_time && n < count; n++) {
        count = speech[n] == '~' ? n + 1 : count;
    }
    memcpy(bytes, speech, count);
    speech += count;
    speech_length -= count;
    return (int)count;
}

static bool take(void *context, const uint8_t *bytes, size_t count)
{
    (void)context;
    (void)bytes;
    return count > 0;
}

static double now_s(void *context)
{
    (void)context;
    return clock_s;
}

static void close_it(void *context)
{
    (void)context;
}

static const cvk_wire talker = {.read = hear, .write = take, .now_s = now_s, .close = close_it};

START_TEST(something_else_at_the_other_end)
{
    static const char http[] = "HTTP/1.1 400 Bad Request\r\nServer: kettle\r\n\r\n";
    cvk_session session;
    speech = (const uint8_t *)http;
    speech_length = sizeof http - 1;
    ck_assert_int_eq(cvk_session_open(&session, &talker), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(session.text, "does not answer as a Corvak controller"));
    cvk_session_close(&session);
}
END_TEST

/* A name that would write to the terminal, and a refusal without a reason. */
START_TEST(a_name_with_control_characters_and_a_refusal_of_nothing)
{
    corvak_FromController m = corvak_FromController_init_zero;
    static uint8_t wire[2 * CVK_FRAME_BYTES_MAX];
    cvk_session session;
    m.id = 1;
    m.which_what = corvak_FromController_identity_tag;
    m.what.identity = (corvak_Identity){.protocol = 1,
                                        .name = "a\033[2Jb",
                                        .owner = 2,
                                        .parameters = 1,
                                        .signals = 1,
                                        .period_s = 1e-4f};
    speech_length = cvk_write_from_controller(&m, wire, sizeof wire);
    m = (corvak_FromController)corvak_FromController_init_zero;
    m.id = 2;
    m.which_what = corvak_FromController_refused_tag;
    speech_length += cvk_write_from_controller(&m, wire + speech_length, CVK_FRAME_BYTES_MAX);
    speech = wire;
    one_frame_a_time = true;
    ck_assert_int_eq(cvk_session_open(&session, &talker), CVK_BAD_FORMAT);
    one_frame_a_time = false;
    ck_assert_str_eq(session.name, "a?[2Jb");
    ck_assert_ptr_nonnull(strstr(session.text, "could not be understood")); /* refused, not done */
    cvk_session_close(&session);
}
END_TEST

START_TEST(another_protocol_version)
{
    corvak_FromController m = corvak_FromController_init_zero;
    uint8_t wire[CVK_FRAME_BYTES_MAX];
    cvk_session session;
    m.id = 1;
    m.which_what = corvak_FromController_identity_tag;
    m.what.identity.protocol = 2;
    speech = wire;
    speech_length = cvk_write_from_controller(&m, wire, sizeof wire);
    ck_assert_int_eq(cvk_session_open(&session, &talker), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(session.text, "speaks protocol 2, and"));
    cvk_session_close(&session);
}
END_TEST

static int phases;

static void count_phase(void *context, const char *text)
{
    (void)context;
    ck_assert_ptr_nonnull(text);
    phases++;
}

static bool after_three(void *context)
{
    (void)context;
    return phases >= 3;
}

/* Calibrated and adopted; cut short the motor is off. */
START_TEST(a_controller_calibrates_for_its_host)
{
    cvk_self_calibration found;
    const cvk_self_calibration_calls calls = {.phase = count_phase},
                                     cut = {.phase = count_phase, .stops = after_three};
    double direction, offset_rad;
    cvk_rig_calibration(cvk_sim_controller_inside(controller)->rig, &direction, &offset_rad);
    phases = 0;
    ck_assert_int_eq(cvk_self_calibrate(&first, &cut, &found), CVK_OK);
    ck_assert_int_eq(found.end, CVK_SELF_CALIBRATION_STOPPED);
    ck_assert_int_eq(now()->bridge_on, 0);
    phases = 0;
    ck_assert_int_eq(cvk_self_calibrate(&first, &calls, &found), CVK_OK);
    ck_assert_msg(found.end == CVK_SELF_CALIBRATED, "%s", found.why);
    ck_assert_int_ge(phases, 8);
    ck_assert_int_eq(found.direction, (int)direction);
    ck_assert_double_lt(fabs(remainder(found.offset_rad - offset_rad, 2.0 * 3.14159265358979)),
                        found.half_rad);
    ck_assert_int_eq(now()->bridge_on, 0);
    ck_assert_int_eq(cvk_self_calibration_adopt(&first, &found), CVK_OK);
    ck_assert_int_eq(cvk_session_read_values(&first), CVK_OK);
    ck_assert_double_eq_tol(cvk_session_value(&first, "rotor.offset_rad"), found.offset_rad, 1e-6);
    cvk_self_calibration_item item[CVK_SELF_CALIBRATION_ITEMS];
    ck_assert_uint_eq(cvk_self_calibration_items(&found, item), 2);
    found.halls = true;
    ck_assert_uint_eq(cvk_self_calibration_items(&found, item), 8);
    ck_assert_str_eq(item[7].key, "rotor.hall_edge_6_rad");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, make_bench, NULL);
    tcase_add_checked_fixture(tests, set_up, tear_down);
    tcase_add_test(tests, the_tables_come_from_the_controller);
    tcase_add_test(tests, one_commands_and_the_others_watch);
    tcase_add_test(tests, somebody_elses_change_is_noticed);
    tcase_add_test(tests, a_killed_host_leaves_a_controlled_stop);
    tcase_add_test(tests, a_good_change_is_kept_with_what_it_did);
    tcase_add_test(tests, a_bad_gain_goes_back_by_itself_and_the_motor_runs_on);
    tcase_add_test(tests, measured_steps_are_as_predicted);
    tcase_add_test(tests, a_step_beyond_the_limit_is_refused);
    tcase_add_test(tests, a_step_needs_a_running_motor);
    tcase_add_test(tests, a_controller_calibrates_for_its_host);
    tcase_add_test(tests, shapes_of_known_curves);
    tcase_add_test(tests, something_else_at_the_other_end);
    tcase_add_test(tests, another_protocol_version);
    tcase_add_test(tests, a_name_with_control_characters_and_a_refusal_of_nothing);
}

int main(void)
{
    return run_suite("session", add);
}
