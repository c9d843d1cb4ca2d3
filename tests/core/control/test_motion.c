/* SPDX-License-Identifier: Apache-2.0
 *
 * Moves by a rotor sensor on a shaft that is nothing but inertia and friction: where it gets to,
 * how gently, and whether it still knows after a thousand turns.
 */
#include "corvak/core/drive.h"
#include "suite.h"

#include <math.h>

#define T 50e-6
#define POLES 4
#define TWO_PI 6.28318530717958647693
#define REACH 1500.0 /* electrical acceleration per A */

typedef struct shaft {
    double turned_rad, speed_rad_s; /* mechanical, any number of turns; electrical */
    double fastest, hardest, jerkiest, overshoot;
    double before_rad_s2;
} shaft;

static cvk_drive drive;
static const cvk_moment *now;

static void gates(void *context, bool on)
{
    (void)context;
    (void)on;
}

static const cvk_port port = {.gate_enable = gates};

static cvk_settings table(void)
{
    cvk_settings s = cvk_settings_default();
    /* without a flux linkage no observer looks at voltages that this shaft does not make */
    s.motor = (cvk_motor_settings){POLES, 0.5f, 1e-3f, 1e-3f, 0.0f};
    s.rotor.kind = CVK_ROTOR_ABSOLUTE;
    s.rotor.bandwidth_hz = 400.0f;
    s.limit.current_a = 4.0f;
    s.protect = (cvk_protect_settings){10.0f, 10.0f, 40.0f};
    s.speed = (cvk_speed_settings){.gain_a_s = 0.1f,
                                   .integral_gain_a = 4.0f,
                                   .current_a = 3.0f,
                                   .acceleration_rad_s2 = 2000.0f,
                                   .jerk_rad_s3 = 1e5f,
                                   .feedforward_a_s2 = (float)(1.0 / REACH)};
    s.position = (cvk_position_settings){.gain_per_s = 40.0f, .speed_rad_s = 400.0f};
    return s;
}

static void begin(const cvk_settings *settings, shaft *s)
{
    const cvk_hardware hardware = cvk_hardware_default();
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, settings, NULL), CVK_OK);
    ck_assert_int_eq(cvk_drive_claim(&drive, 1, 3600.0f), CVK_OK);
    now = cvk_drive_now(&drive);
    *s = (shaft){0};
}

static void ask(cvk_request request)
{
    cvk_refusal why = {0};
    ck_assert_msg(cvk_drive_request(&drive, 1, &request, &why) == CVK_OK, "%s", why.field);
}

static void go_to(double mech_rad)
{
    const double turns = floor(mech_rad / TWO_PI);
    ask((cvk_request){.mode = CVK_MODE_POSITION,
                      .position_turns = (int32_t)turns,
                      .position_mech_rad = (float)(mech_rad - TWO_PI * turns)});
}

static void run(shaft *s, double length_s, double load_a)
{
    const int calls = (int)ceil(length_s / T);
    for (int n = 0; n < calls; n++) {
        cvk_readings read = {.current_valid = CVK_ALL_CURRENTS_VALID, .bus_v = 24.0f};
        const double electrical = remainder(POLES * s->turned_rad, TWO_PI);
        read.rotor.absolute_mech_rad = (float)remainder(s->turned_rad, TWO_PI);
        const cvk_ab i = cvk_park_inverse(now->current_set_a, cvk_rotation_of((float)electrical));
        read.current_a = cvk_clarke_inverse(i);
        const float set_before = now->speed_set_rad_s;
        cvk_drive_control(&drive, &read);
        ck_assert_int_eq(now->fault, CVK_FAULT_NONE);
        s->speed_rad_s += T * REACH * ((double)now->current_set_a.q - load_a);
        s->turned_rad += T * s->speed_rad_s / POLES;
        const double pushed = ((double)now->speed_set_rad_s - (double)set_before) / T;
        s->hardest = fmax(s->hardest, fabs(pushed));
        s->fastest = fmax(s->fastest, fabs(s->speed_rad_s));
    }
}

static double counted(void)
{
    return TWO_PI * now->position_turns + (double)now->position_mech_rad;
}

/* There and back, over any distance, without running past it. */
START_TEST(a_move_ends_where_it_should)
{
    static const double goals[] = {0.02, 0.7853981, 3.0, -40.0, 200.0};
    const cvk_settings settings = table();
    shaft s;
    begin(&settings, &s);
    for (size_t n = 0; n < sizeof goals / sizeof goals[0]; n++) {
        const double from = s.turned_rad, way = goals[n] - from;
        double farthest = 0.0;
        go_to(goals[n]);
        for (int k = 0; k < 40; k++) {
            run(&s, fabs(way) * POLES / 400.0 / 20.0 + 0.05, 0.0);
            farthest = fmax(farthest, (s.turned_rad - goals[n]) * copysign(1.0, way));
        }
        ck_assert_double_eq_tol(s.turned_rad, goals[n], 0.002);
        ck_assert_double_eq_tol(counted(), goals[n], 0.002);
        ck_assert_msg(farthest < 0.01, "to %g: %g rad past it", goals[n], farthest);
    }
    ck_assert_double_lt(s.fastest, 1.05 * 400.0);
}
END_TEST

/* Speeds and moves keep acceleration and jerk; without a jerk limit only the acceleration. */
START_TEST(acceleration_and_jerk_are_kept)
{
    const cvk_settings settings = table();
    shaft s;
    begin(&settings, &s);
    ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 300.0f});
    run(&s, 0.005, 0.0); /* half a millisecond per 50 rad/s^2 of the jerk */
    ck_assert_double_le(s.hardest, 1.05 * 1e5 * 0.005);
    run(&s, 0.5, 0.0);
    ck_assert_double_eq_tol(s.speed_rad_s, 300.0, 3.0);
    ck_assert_double_le(s.hardest, 1.02 * 2000.0);
    ck_assert_double_lt(s.fastest, 1.03 * 300.0);
}
END_TEST

/* A thousand turns, and then to and fro over the place where the electrical angle wraps. */
START_TEST(nothing_slips_over_a_thousand_turns)
{
    cvk_settings settings = table();
    settings.position.speed_rad_s = 8000.0f;
    settings.speed.acceleration_rad_s2 = 4000.0f;
    shaft s;
    begin(&settings, &s);
    go_to(1000.0 * TWO_PI);
    run(&s, 12.0, 0.2);
    ck_assert_double_eq_tol(s.turned_rad, 1000.0 * TWO_PI, 0.01);
    ck_assert_int_eq(now->position_turns, s.turned_rad < 1000.0 * TWO_PI ? 999 : 1000);
    const double half = 3.14159265358979 / POLES;
    for (int k = 0; k < 40; k++) {
        go_to(1000.0 * TWO_PI + half + (k % 2 == 0 ? 2e-4 : -2e-4));
        run(&s, 0.05, 0.2);
        ck_assert_double_eq_tol(counted(), s.turned_rad, 0.005);
    }
}
END_TEST

/* A load is carried without error, but a spring gives way to it by its stiffness. */
START_TEST(a_load_moves_a_spring_only)
{
    cvk_settings settings = table();
    shaft s;
    begin(&settings, &s);
    go_to(1.0);
    run(&s, 0.5, 0.0);
    run(&s, 2.0, 0.5);
    ck_assert_double_eq_tol(s.turned_rad, 1.0, 0.001);
    settings.position.spring = 1;
    begin(&settings, &s);
    go_to(1.0);
    run(&s, 0.5, 0.0);
    run(&s, 2.0, 0.5);
    const double stiffness = 0.1 * 40.0 * POLES; /* A per mechanical rad */
    ck_assert_double_eq_tol(s.turned_rad, 1.0 - 0.5 / stiffness, 0.003);
}
END_TEST

/* As fast as the limit allows, and then the winding is shorted, with the bridge on. */
START_TEST(a_brake_is_short_and_stays)
{
    const cvk_settings settings = table();
    shaft s;
    begin(&settings, &s);
    ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 300.0f});
    run(&s, 0.6, 0.0);
    ask((cvk_request){.mode = CVK_MODE_BRAKE});
    run(&s, 1.1 * 300.0 / (REACH * 3.0), 0.0);
    ck_assert_double_lt(fabs(s.speed_rad_s), 0.12 * 300.0);
    run(&s, 0.2, 0.0);
    ck_assert_int_eq(now->bridge_on, 1);
    ck_assert_float_eq_tol(now->duty.a, now->duty.b, 1e-6f);
    ck_assert_float_eq_tol(now->duty.b, now->duty.c, 1e-6f);
    ask((cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = 50.0f});
    run(&s, 0.5, 0.0);
    ck_assert_double_eq_tol(s.speed_rad_s, 50.0, 2.0);
}
END_TEST

START_TEST(what_a_mode_lacks_is_named)
{
    cvk_settings settings = table();
    cvk_refusal why = {0};
    shaft s;
    settings.position.gain_per_s = 0.0f;
    begin(&settings, &s);
    const cvk_request move = {.mode = CVK_MODE_POSITION, .position_mech_rad = 1.0f};
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &move, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "position.gain_per_s");
    const cvk_request torque = {.mode = CVK_MODE_TORQUE, .torque_nm = 0.1f};
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &torque, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "motor.flux_linkage_wb");
    const cvk_request far = {.mode = CVK_MODE_POSITION, .position_turns = 2000000};
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &far, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "position_turns");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, a_move_ends_where_it_should);
    tcase_add_test(tests, acceleration_and_jerk_are_kept);
    tcase_add_test(tests, nothing_slips_over_a_thousand_turns);
    tcase_add_test(tests, a_load_moves_a_spring_only);
    tcase_add_test(tests, a_brake_is_short_and_stays);
    tcase_add_test(tests, what_a_mode_lacks_is_named);
}

int main(void)
{
    return run_suite("motion", add);
}
