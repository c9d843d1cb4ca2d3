/* SPDX-License-Identifier: Apache-2.0
 *
 * Frames and modulation, judged against double-precision references.
 */
#include "corvak/core/frames.h"
#include "corvak/core/status.h"
#include "corvak/core/svm.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#define PI 3.14159265358979323846

/* A balanced set of amplitude X at angle phi must become the vector X (cos phi, sin phi). */
START_TEST(clarke_keeps_the_amplitude)
{
    for (int n = 0; n < 360; n++) {
        double phi = n * PI / 180.0, amplitude = 7.5;
        cvk_abc x = {(float)(amplitude * cos(phi)), (float)(amplitude * cos(phi - 2 * PI / 3)),
                     (float)(amplitude * cos(phi + 2 * PI / 3))};
        cvk_ab v = cvk_clarke(x);
        ck_assert_double_eq_tol((double)v.alpha, amplitude * cos(phi), 2e-6);
        ck_assert_double_eq_tol((double)v.beta, amplitude * sin(phi), 2e-6);
    }
}
END_TEST

START_TEST(clarke_ignores_what_the_phases_share)
{
    cvk_ab a = cvk_clarke((cvk_abc){1.0f, -2.0f, 3.0f});
    cvk_ab b = cvk_clarke((cvk_abc){11.0f, 8.0f, 13.0f});
    ck_assert_float_eq_tol(a.alpha, b.alpha, 1e-5f);
    ck_assert_float_eq_tol(a.beta, b.beta, 1e-5f);
}
END_TEST

START_TEST(transforms_undo_each_other)
{
    for (int n = -400; n < 400; n++) {
        float angle = 0.0173f * (float)n;
        cvk_rotation frame = cvk_rotation_of(angle);
        cvk_ab v = {3.0f, -4.0f};
        cvk_ab back = cvk_park_inverse(cvk_park(v, frame), frame);
        ck_assert_float_eq_tol(back.alpha, v.alpha, 3e-6f);
        ck_assert_float_eq_tol(back.beta, v.beta, 3e-6f);
        cvk_ab again = cvk_clarke(cvk_clarke_inverse(v));
        ck_assert_float_eq_tol(again.alpha, v.alpha, 3e-6f);
        ck_assert_float_eq_tol(again.beta, v.beta, 3e-6f);
    }
}
END_TEST

/* Current along the magnet flux is d current. */
START_TEST(park_puts_the_frame_on_d)
{
    float angle = 1.1f;
    cvk_dq x = cvk_park((cvk_ab){2.0f * cosf(angle), 2.0f * sinf(angle)}, cvk_rotation_of(angle));
    ck_assert_float_eq_tol(x.d, 2.0f, 1e-6f);
    ck_assert_float_eq_tol(x.q, 0.0f, 1e-6f);
}
END_TEST

START_TEST(wrap_keeps_the_direction)
{
    for (int n = -100000; n <= 100000; n += 37) {
        double angle = 0.01 * n;
        float wrapped = cvk_wrap_angle((float)angle);
        ck_assert_float_ge(wrapped, -CVK_PI - 1e-4f);
        ck_assert_float_le(wrapped, CVK_PI + 1e-4f);
        ck_assert_double_eq_tol(cos((double)wrapped), cos((double)(float)angle), 3e-4);
    }
}
END_TEST

/* Inside the hexagon the duties make exactly the vector that was asked for. */
START_TEST(svm_makes_the_vector)
{
    const float bus = 24.0f;
    for (int n = 0; n < 360; n += 5) {
        for (int size = 0; size <= 10; size++) {
            float length = bus / CVK_SQRT3 * 0.0999f * (float)size;
            float angle = (float)n * CVK_PI / 180.0f;
            cvk_ab wanted = {length * cosf(angle), length * sinf(angle)};
            cvk_svm_output out = cvk_svm(wanted, bus, CVK_DEPTH_HEXAGON);
            cvk_ab made = cvk_clarke(out.duties);
            ck_assert_float_eq_tol(made.alpha * bus, wanted.alpha, 2e-5f);
            ck_assert_float_eq_tol(made.beta * bus, wanted.beta, 2e-5f);
            ck_assert_float_eq(out.voltage_v.alpha, wanted.alpha);
        }
    }
}
END_TEST

/* Outside, the direction stays, duties stay in 0..1, and the output tells what was made. */
START_TEST(svm_shortens_to_the_hexagon)
{
    const float bus = 24.0f;
    for (int n = 0; n < 360; n++) {
        float angle = (float)n * CVK_PI / 180.0f;
        cvk_ab wanted = {40.0f * cosf(angle), 40.0f * sinf(angle)};
        cvk_svm_output out = cvk_svm(wanted, bus, CVK_DEPTH_HEXAGON);
        const float duties[] = {out.duties.a, out.duties.b, out.duties.c};
        for (int phase = 0; phase < 3; phase++) {
            ck_assert_float_ge(duties[phase], 0.0f);
            ck_assert_float_le(duties[phase], 1.0f);
        }
        cvk_ab made = cvk_clarke(out.duties);
        ck_assert_float_eq_tol(made.alpha * bus, out.voltage_v.alpha, 1e-4f);
        ck_assert_float_eq_tol(made.beta * bus, out.voltage_v.beta, 1e-4f);
        float length = hypotf(out.voltage_v.alpha, out.voltage_v.beta);
        ck_assert_float_ge(length, bus / CVK_SQRT3 - 1e-3f);
        ck_assert_float_le(length, bus * 2.0f / 3.0f + 1e-3f);
        ck_assert_float_eq_tol(out.voltage_v.alpha * wanted.beta, out.voltage_v.beta * wanted.alpha,
                               2e-3f);
    }
}
END_TEST

/* Sine and cosine from one polynomial: as good as a float can be within a turn or two. */
START_TEST(sine_and_cosine_are_those_of_the_library)
{
    for (int n = -4000; n <= 4000; n++) {
        const float angle = 0.00314159f * (float)n;
        const cvk_rotation r = cvk_rotation_of(angle);
        ck_assert_double_eq_tol((double)r.cosine, cos((double)angle), 3e-7);
        ck_assert_double_eq_tol((double)r.sine, sin((double)angle), 3e-7);
    }
    const cvk_rotation far = cvk_rotation_of(-628.0f);
    ck_assert_double_eq_tol((double)far.sine, sin(-628.0), 1e-4);
}
END_TEST

START_TEST(angle_of_a_vector)
{
    for (int n = -180; n <= 180; n++) {
        const double angle = n * PI / 180.0;
        const float seen = cvk_angle_of((float)(3.0 * cos(angle)), (float)(3.0 * sin(angle)));
        ck_assert_double_eq_tol(remainder((double)seen - angle, 2 * PI), 0.0, 2e-5);
    }
    ck_assert_float_eq(cvk_angle_of(0.0f, 0.0f), 0.0f);
}
END_TEST

START_TEST(every_status_has_a_text)
{
    for (int s = 0; s < CVK_STATUS_COUNT; s++) {
        const char *text = cvk_status_text((cvk_status)s);
        ck_assert_ptr_nonnull(text);
        ck_assert_str_ne(text, "unknown status");
    }
    ck_assert_str_eq(cvk_status_text((cvk_status)99), "unknown status");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, sine_and_cosine_are_those_of_the_library);
    tcase_add_test(tests, angle_of_a_vector);
    tcase_add_test(tests, clarke_keeps_the_amplitude);
    tcase_add_test(tests, clarke_ignores_what_the_phases_share);
    tcase_add_test(tests, transforms_undo_each_other);
    tcase_add_test(tests, park_puts_the_frame_on_d);
    tcase_add_test(tests, wrap_keeps_the_direction);
    tcase_add_test(tests, svm_makes_the_vector);
    tcase_add_test(tests, svm_shortens_to_the_hexagon);
    tcase_add_test(tests, every_status_has_a_text);
}

int main(void)
{
    return run_suite("frames", add);
}
