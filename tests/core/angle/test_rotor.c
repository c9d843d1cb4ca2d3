/* SPDX-License-Identifier: Apache-2.0
 *
 * The decoders of the rotor sensors as angle sources: right at speed, either way, with the errors
 * that the settings name; no jump on bad codes, bounce, lost counts and pulled cables; and when a
 * stored offset may be used.
 */
#include "corvak/core/drive.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#define T 50e-6
#define TWO_PI 6.28318530717958647693
#define POLE_PAIRS 4

static void gate_enable(void *context, bool enable)
{
    (void)context;
    (void)enable;
}

static const cvk_port port = {.gate_enable = gate_enable};
static cvk_drive drive;
static const cvk_moment *now;

/* A rotor and its sensors, as their settings say they err. */
static struct bench {
    cvk_settings settings;
    double angle_mech_rad, speed_mech_rad_s;
    int32_t counter; /* where the encoder's count is when the shaft is at zero */
    int hall_state;
} b;

static cvk_settings sensor(cvk_rotor_kind kind)
{
    cvk_settings s = cvk_settings_default();
    s.motor = (cvk_motor_settings){POLE_PAIRS, 0.1f, 1e-4f, 1e-4f, 0.01f};
    s.rotor.kind = (int32_t)kind;
    s.rotor.counts = 4096;
    s.rotor.offset_rad = 1.0f;
    s.speed.gain_a_s = 0.1f;
    return s;
}

static void begin(const cvk_settings *s, double speed_mech_rad_s)
{
    const cvk_hardware hardware = cvk_hardware_default();
    b = (struct bench){.settings = *s, .speed_mech_rad_s = speed_mech_rad_s, .hall_state = -1};
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, s, NULL), CVK_OK);
    ck_assert_int_eq(cvk_drive_claim(&drive, 1, 3600.0f), CVK_OK);
    now = cvk_drive_now(&drive);
}

static double sign(void)
{
    return b.settings.rotor.reversed != 0 ? -1.0 : 1.0;
}

/* Angle that the sensor looks at, in its own count. */
static double own(double shaft_rad)
{
    return sign() * shaft_rad;
}

static double with_errors(double x)
{
    const cvk_rotor_settings *s = &b.settings.rotor;
    return x + (double)s->cosine_1_rad * cos(x) + (double)s->sine_1_rad * sin(x) +
           (double)s->cosine_2_rad * cos(2.0 * x) + (double)s->sine_2_rad * sin(2.0 * x);
}

static int code_of_sector(int sector)
{
    static const int codes[6] = {1, 3, 2, 6, 4, 5};
    return codes[(sector % 6 + 6) % 6];
}

/* The sector at an own angle, passing each edge where the settings place it. */
static int sector_at(double x, double way)
{
    const cvk_rotor_settings *s = &b.settings.rotor;
    const float late[6] = {s->hall_edge_1_rad, s->hall_edge_2_rad, s->hall_edge_3_rad,
                           s->hall_edge_4_rad, s->hall_edge_5_rad, s->hall_edge_6_rad};
    const double within = x - TWO_PI * floor(x / TWO_PI);
    int sector = 0;
    for (int n = 0; n < 6; n++) {
        const double edge =
            (n + 0.5) * TWO_PI / 6.0 + (double)late[n] + 0.5 * way * (double)s->hall_hysteresis_rad;
        sector = within >= edge ? n + 1 : sector;
    }
    return sector % 6;
}

static cvk_readings read_sensors(void)
{
    const cvk_rotor_settings *s = &b.settings.rotor;
    const double late = b.angle_mech_rad - (double)s->latency_s * b.speed_mech_rad_s;
    const double x = with_errors(own(late)), field = POLE_PAIRS * own(late);
    const double a = with_errors(field);
    cvk_readings r = {.current_valid = CVK_ALL_CURRENTS_VALID, .bus_v = 24.0f};
    r.rotor.absolute_mech_rad = (float)(x - TWO_PI * floor(x / TWO_PI));
    r.rotor.encoder_counts =
        (int32_t)(uint32_t)(int64_t)(floor(x / TWO_PI * s->counts) + (double)b.counter);
    r.rotor.sin_v = (float)((double)s->sin_offset_v +
                            (double)s->gain_ratio * sin(a + (double)s->quadrature_rad));
    r.rotor.cos_v = (float)((double)s->cos_offset_v + cos(a));
    r.rotor.hall = code_of_sector(sector_at(field, copysign(1.0, own(b.speed_mech_rad_s))));
    r.rotor.tachometer_v = (float)((double)s->tachometer_v_s * b.speed_mech_rad_s);
    return r;
}

static double true_angle(void)
{
    return POLE_PAIRS * b.angle_mech_rad + (double)b.settings.rotor.offset_rad;
}

static const cvk_angle *source(void)
{
    return &now->source[CVK_ANGLE_ROTOR];
}

/* One period; `spoil` may change what is read. Returns the error of the angle. */
static double step(void (*spoil)(cvk_rotor_readings *))
{
    cvk_readings r = read_sensors();
    if (spoil != NULL) {
        spoil(&r.rotor);
    }
    cvk_drive_control(&drive, &r);
    const double error = remainder((double)source()->angle_rad - true_angle(), TWO_PI);
    b.angle_mech_rad += T * b.speed_mech_rad_s;
    return error;
}

/* The largest error after the filter has settled. */
static double largest_error(double length_s)
{
    double most = 0.0;
    for (int k = 0; k < (int)(length_s / T); k++) {
        const double error = fabs(step(NULL));
        most = k * T > 0.2 ? fmax(most, error) : most;
    }
    return most;
}

static const cvk_rotor_kind kinds[] = {CVK_ROTOR_ABSOLUTE, CVK_ROTOR_ENCODER, CVK_ROTOR_SINCOS,
                                       CVK_ROTOR_HALLS};

/* Every kind, either way, either direction of count: no lag, no offset. */
START_TEST(the_angle_is_right_at_speed)
{
    static const double most_rad[] = {0.002, 0.01, 0.002, 0.06};
    for (int n = 0; n < 4; n++) {
        for (int turn = 0; turn < 4; turn++) {
            cvk_settings s = sensor(kinds[n]);
            s.rotor.reversed = turn / 2;
            begin(&s, turn % 2 == 0 ? 40.0 : -40.0);
            const double error = largest_error(0.6);
            ck_assert_msg(error < most_rad[n], "kind %d, turn %d: %g rad", kinds[n], turn, error);
            ck_assert_int_eq(source()->reason, CVK_ANGLE_FINE);
            ck_assert_float_gt(source()->quality, 0.9f);
            ck_assert_double_eq_tol((double)source()->speed_rad_s, POLE_PAIRS * b.speed_mech_rad_s,
                                    n == 3 ? 6.0 : 2.0);
        }
    }
}
END_TEST

/* The errors that a calibration finds are taken off; without the settings they would stay. */
START_TEST(known_errors_are_taken_off)
{
    for (int n = 0; n < 4; n++) {
        cvk_settings s = sensor(kinds[n]);
        const bool halls = kinds[n] == CVK_ROTOR_HALLS;
        s.rotor.latency_s = halls ? 0.0f : 120e-6f;
        s.rotor.cosine_1_rad = halls ? 0.0f : 0.02f;
        s.rotor.sine_2_rad = halls ? 0.0f : -0.03f;
        s.rotor.sin_offset_v = 0.2f;
        s.rotor.cos_offset_v = -0.1f;
        s.rotor.gain_ratio = 1.3f;
        s.rotor.quadrature_rad = 0.15f;
        s.rotor.hall_edge_1_rad = 0.15f;
        s.rotor.hall_edge_4_rad = -0.1f;
        s.rotor.hall_hysteresis_rad = 0.12f;
        s.rotor.bandwidth_hz = 400.0f;
        begin(&s, 50.0);
        const double error = largest_error(0.6);
        ck_assert_msg(error < (halls ? 0.06 : 0.012), "kind %d: %g rad", kinds[n], error);
        cvk_settings plain = sensor(kinds[n]);
        plain.rotor.bandwidth_hz = 400.0f;
        begin(&plain, 50.0);
        b.settings = s; /* the sensors err as before, the drive does not know */
        ck_assert_double_gt(largest_error(0.6), halls ? 0.08 : 0.05);
    }
}
END_TEST

/* ---- what goes wrong ------------------------------------------------------------------------ */

static unsigned draw;

static unsigned next(void)
{
    draw = draw * 1664525u + 1013904223u;
    return draw >> 16;
}

static cvk_rotor_readings held;

static void bad_codes(cvk_rotor_readings *r)
{
    r->hall = next() % 4u == 0u ? (next() % 2u == 0u ? 0 : 7) : r->hall;
}

/* Any code for a quarter of the readings: loose contacts. */
static void wild_codes(cvk_rotor_readings *r)
{
    r->hall = next() % 6u == 0u ? (int32_t)(next() % 8u) : r->hall;
}

static void wild_angles(cvk_rotor_readings *r)
{
    r->absolute_mech_rad =
        next() % 6u == 0u ? 1e-3f * (float)(next() % 6283u) : r->absolute_mech_rad;
}

static void no_numbers(cvk_rotor_readings *r)
{
    r->absolute_mech_rad = next() % 5u == 0u ? NAN : r->absolute_mech_rad;
    r->sin_v = next() % 5u == 0u ? NAN : r->sin_v;
}

/* A counter that is set to something else. */
static void reset_counter(cvk_rotor_readings *r)
{
    static int32_t added;
    added += next() % 400u == 0u ? 123457 : 0;
    r->encoder_counts += added;
}

static void pulled(cvk_rotor_readings *r)
{
    r->hall = 7;
    r->sin_v = 0.02f;
    r->cos_v = -0.01f;
    r->absolute_mech_rad = 6.2827f;
    r->encoder_counts = held.encoder_counts;
}

/* The largest change of the angle from call to call, beyond what the speed makes. */
static double largest_jump(double length_s, void (*spoil)(cvk_rotor_readings *))
{
    const double going = POLE_PAIRS * b.speed_mech_rad_s * T;
    double most = 0.0;
    for (int k = 0; k < (int)(length_s / T); k++) {
        const double before = (double)source()->angle_rad;
        (void)step(spoil);
        most = fmax(most, fabs(remainder((double)source()->angle_rad - before - going, TWO_PI)));
    }
    return most;
}

START_TEST(bad_readings_make_no_jump)
{
    static const struct {
        cvk_rotor_kind kind;
        void (*spoil)(cvk_rotor_readings *);
        double most_error_rad;
    } cases[] = {{CVK_ROTOR_HALLS, bad_codes, 0.1},      {CVK_ROTOR_HALLS, wild_codes, 0.7},
                 {CVK_ROTOR_ABSOLUTE, wild_angles, 0.3}, {CVK_ROTOR_ABSOLUTE, no_numbers, 0.02},
                 {CVK_ROTOR_SINCOS, no_numbers, 0.02},   {CVK_ROTOR_ENCODER, reset_counter, 0.02}};
    for (size_t n = 0; n < sizeof cases / sizeof cases[0]; n++) {
        const cvk_settings s = sensor(cases[n].kind);
        double error = 0.0;
        draw = 7u + (unsigned)n;
        begin(&s, 60.0);
        (void)largest_error(0.4);
        const double jump = largest_jump(0.5, cases[n].spoil);
        ck_assert_msg(jump < 0.07, "case %zu: the angle jumps by %g rad", n, jump);
        for (int k = 0; k < 2000; k++) {
            error = fmax(error, fabs(step(cases[n].spoil)));
        }
        ck_assert_msg(error < cases[n].most_error_rad, "case %zu: %g rad", n, error);
    }
}
END_TEST

/* Bounce: after each edge the code goes back and forth for some readings. */
static void bounce(cvk_rotor_readings *r)
{
    static int32_t before, edge;
    edge = r->hall != held.hall ? 3 : edge - 1;
    before = r->hall != held.hall ? held.hall : before;
    held.hall = r->hall;
    r->hall = edge > 0 && next() % 2u == 0u ? before : r->hall;
}

START_TEST(bouncing_halls_cost_little)
{
    const cvk_settings s = sensor(CVK_ROTOR_HALLS);
    begin(&s, 30.0);
    (void)largest_error(0.4);
    held.hall = read_sensors().rotor.hall;
    double error = 0.0;
    for (int k = 0; k < 10000; k++) {
        error = fmax(error, fabs(step(bounce)));
    }
    ck_assert_double_lt(error, 0.15);
}
END_TEST

/* The angle goes on for a while, its quality falls to nothing within 20 ms, and the reason says
 * what happened. */
START_TEST(a_pulled_cable_is_named)
{
    static const struct {
        cvk_rotor_kind kind;
        float amplitude_v;
        cvk_angle_reason reason;
    } cases[] = {{CVK_ROTOR_HALLS, 0.0f, CVK_ANGLE_BAD_READING},
                 {CVK_ROTOR_SINCOS, 1.0f, CVK_ANGLE_BAD_READING}};
    for (size_t n = 0; n < sizeof cases / sizeof cases[0]; n++) {
        cvk_settings s = sensor(cases[n].kind);
        s.rotor.amplitude_v = cases[n].amplitude_v;
        begin(&s, 60.0);
        (void)largest_error(0.4);
        held = read_sensors().rotor;
        ck_assert_double_lt(largest_jump(0.005, pulled), 1e-3);
        ck_assert_float_gt(source()->quality, 0.5f);
        ck_assert_double_lt(largest_jump(0.02, pulled), 1e-3);
        ck_assert_float_eq(source()->quality, 0.0f);
        ck_assert_int_eq(source()->reason, cases[n].reason);
        (void)largest_error(0.5); /* plugged in again, with the bridge off */
        ck_assert_int_eq(source()->reason, CVK_ANGLE_FINE);
        ck_assert_double_lt(fabs(step(NULL)), 0.06);
    }
}
END_TEST

/* A frozen reading while the rotor turns fast. */
START_TEST(a_frozen_reading_is_named)
{
    for (int n = 0; n < 2; n++) {
        cvk_settings s = sensor(kinds[n]);
        s.rotor.bandwidth_hz = 30.0f;
        begin(&s, 400.0);
        (void)largest_error(0.4);
        held = read_sensors().rotor;
        bool named = false;
        for (int k = 0; k < 100 && !named; k++) {
            cvk_readings r = read_sensors();
            r.rotor.encoder_counts = held.encoder_counts;
            r.rotor.absolute_mech_rad = held.absolute_mech_rad;
            cvk_drive_control(&drive, &r);
            named = source()->reason == CVK_ANGLE_STUCK || source()->reason == CVK_ANGLE_JUMPED;
        }
        ck_assert_msg(named, "kind %d", kinds[n]);
    }
}
END_TEST

/* A counter of 32 bits that goes beyond its end is no movement. */
START_TEST(a_counter_may_wrap_around)
{
    cvk_settings s = sensor(CVK_ROTOR_ENCODER);
    s.rotor.counts = 5000; /* does not divide 2^32 */
    begin(&s, 40.0);
    b.counter = 2147483647 - 3000;
    b.settings.rotor.offset_rad = 0.0f;
    double first = NAN, most = 0.0;
    for (int k = 0; k < 12000; k++) {
        const double error = step(NULL);
        first = k == 4000 ? error : first;
        most = k >= 4000 ? fmax(most, fabs(remainder(error - first, TWO_PI))) : most;
    }
    ck_assert_double_lt(most, 0.01);
}
END_TEST

START_TEST(a_tachometer_tells_the_speed_alone)
{
    cvk_settings s = sensor(CVK_ROTOR_TACHOMETER);
    cvk_refusal why = {0};
    s.rotor.tachometer_v_s = 0.05f;
    begin(&s, -70.0);
    (void)step(NULL);
    ck_assert_float_eq_tol(source()->speed_rad_s, -70.0f * POLE_PAIRS, 0.1f);
    ck_assert_float_eq(source()->quality, 0.0f);
    ck_assert_int_eq(source()->reason, CVK_ANGLE_SPEED_ONLY);
    const cvk_request speed = {.mode = CVK_MODE_SPEED, .speed_rad_s = 100.0f};
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &speed, &why), CVK_CONTRADICTION);
    ck_assert_ptr_nonnull(strstr(why.reason, "speed alone"));
}
END_TEST

/* ---- index and validity ---------------------------------------------------------------------- */

static const cvk_request turn = {.mode = CVK_MODE_SPEED, .speed_rad_s = 10.0f};

static bool refused_with(const char *words)
{
    cvk_refusal why = {0};
    const cvk_status status = cvk_drive_request(&drive, 1, &turn, &why);
    return status == CVK_CONTRADICTION && strcmp(why.field, "rotor.startup") == 0 &&
           strstr(why.reason, words) != NULL;
}

START_TEST(a_stored_offset_is_used_only_where_it_holds)
{
    cvk_settings s = sensor(CVK_ROTOR_ENCODER);
    begin(&s, 0.0);
    (void)step(NULL);
    ck_assert(refused_with("begin anywhere at power-up"));
    ck_assert_int_eq(now->rotor_known, 0);
    s.rotor.startup = CVK_ROTOR_INDEX;
    begin(&s, 0.0);
    ck_assert(refused_with("index mark has not gone by"));
    s.rotor.startup = CVK_ROTOR_CALIBRATE;
    for (int n = 0; n < 4; n++) { /* whatever the sensor: asked for is asked for */
        s.rotor.kind = (int32_t)kinds[n];
        begin(&s, 0.0);
        ck_assert(refused_with("after each power-up"));
        ck_assert_int_eq(cvk_drive_rotor_aligned(&drive, 1), CVK_OK);
        ck_assert_int_eq(cvk_drive_request(&drive, 1, &turn, NULL), CVK_OK);
    }
    s = sensor(CVK_ROTOR_ABSOLUTE);
    begin(&s, 0.0);
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &turn, NULL), CVK_OK);
    (void)step(NULL);
    ck_assert_int_eq(now->rotor_known, 1);
}
END_TEST

static void with_mark(cvk_rotor_readings *r)
{
    const double place = 2.0, x = b.angle_mech_rad, before = x - T * b.speed_mech_rad_s;
    r->index_passed = floor((x - place) / TWO_PI) != floor((before - place) / TWO_PI) ? 1 : 0;
}

/* The counter begins anywhere; from the mark on the angle is right. Lost counts are put right at
 * the next mark, and without a jump. */
START_TEST(an_index_mark_gives_the_position)
{
    static int lost;
    cvk_settings s = sensor(CVK_ROTOR_ENCODER);
    s.rotor.startup = CVK_ROTOR_INDEX;
    s.rotor.index_rad = 2.0f;
    begin(&s, 30.0);
    b.counter = 1234;
    double error = 0.0;
    for (int k = 0; k < 20000; k++) {
        error = step(with_mark);
        if (k * T > 0.06 && k * T < 0.065) {
            ck_assert_int_eq(now->rotor_known, 0);
        }
    }
    ck_assert_int_eq(now->rotor_known, 1);
    ck_assert_double_lt(fabs(error), 0.02);
    ck_assert_int_eq(cvk_drive_request(&drive, 1, &turn, NULL), CVK_OK);
    b.counter -= 20; /* lost */
    lost = 20;
    for (int k = 0; k < 100; k++) {
        error = step(with_mark);
    }
    ck_assert_double_gt(fabs(error), 0.8 * lost * POLE_PAIRS * TWO_PI / 4096.0);
    for (int k = 0; k < 10000; k++) {
        const double before = (double)source()->angle_rad;
        error = step(with_mark);
        ck_assert_double_lt(fabs(remainder((double)source()->angle_rad - before, TWO_PI)), 0.03);
    }
    ck_assert_double_lt(fabs(error), 0.02);
}
END_TEST

static void add_tests(TCase *tests)
{
    tcase_add_test(tests, the_angle_is_right_at_speed);
    tcase_add_test(tests, known_errors_are_taken_off);
    tcase_add_test(tests, bad_readings_make_no_jump);
    tcase_add_test(tests, bouncing_halls_cost_little);
    tcase_add_test(tests, a_pulled_cable_is_named);
    tcase_add_test(tests, a_frozen_reading_is_named);
    tcase_add_test(tests, a_counter_may_wrap_around);
    tcase_add_test(tests, a_tachometer_tells_the_speed_alone);
    tcase_add_test(tests, a_stored_offset_is_used_only_where_it_holds);
    tcase_add_test(tests, an_index_mark_gives_the_position);
}

int main(void)
{
    return run_suite("rotor", add_tests);
}
