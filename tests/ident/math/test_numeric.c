/* SPDX-License-Identifier: Apache-2.0
 *
 * The small numeric helpers, on matrices whose answers are known; beliefs that are merged; the flux
 * circle on windows that were computed, not recorded.
 */
#include "math/numeric.h"
#include "model/belief.h"
#include "turning/circle.h"

#include "suite.h"

#include <math.h>
#include <string.h>

START_TEST(inverses_and_roots)
{
    double a[4] = {4.0, 1.0, 1.0, 3.0}, w[4], root[4] = {4.0, 1.0, 1.0, 3.0};
    ck_assert(cvk_invert_spd(2, a));
    ck_assert_double_eq_tol(a[0], 3.0 / 11.0, 1e-15);
    ck_assert_double_eq_tol(a[1], -1.0 / 11.0, 1e-15);
    ck_assert_double_eq_tol(a[2], a[1], 1e-15);
    ck_assert_double_eq_tol(a[3], 4.0 / 11.0, 1e-15);
    double none[4] = {1.0, 2.0, 2.0, 1.0};
    ck_assert(!cvk_invert_spd(2, none)); /* not positive definite */
    ck_assert(cvk_whitening(2, root, w));
    for (int r = 0; r < 2; r++) { /* W'W is the inverse */
        for (int c = 0; c < 2; c++) {
            ck_assert_double_eq_tol(w[r] * w[c] + w[2 + r] * w[2 + c], a[2 * r + c], 1e-14);
        }
    }
}
END_TEST

START_TEST(a_deviation_is_widened_and_correlations_stay)
{
    double cov[4] = {4.0, 3.0, 3.0, 9.0};
    cvk_widen(2, cov, 0, 2.0);
    ck_assert_double_eq_tol(cov[0], 16.0, 1e-14);
    ck_assert_double_eq_tol(cov[3], 9.0, 1e-14);
    ck_assert_double_eq_tol(cov[1] / sqrt(cov[0] * cov[3]), 0.5, 1e-14);
    ck_assert_double_eq_tol(cov[1], cov[2], 1e-14);
}
END_TEST

START_TEST(medians_least_squares_and_student)
{
    double odd[] = {5.0, 1.0, 3.0}, even[] = {4.0, 1.0, 3.0, 2.0};
    ck_assert_double_eq(cvk_median(odd, 3), 3.0);
    ck_assert_double_eq(cvk_median(even, 4), 2.5);
    ck_assert(isnan(cvk_median(odd, 0)));
    double a[] = {1.0, 0.0, 1.0, 1.0, 1.0, 2.0}, b[] = {1.0, 3.0, 5.0}; /* 1 + 2 x */
    ck_assert(cvk_least_squares(3, 2, a, b));
    ck_assert_double_eq_tol(b[0], 1.0, 1e-13);
    ck_assert_double_eq_tol(b[1], 2.0, 1e-13);
    ck_assert_double_eq_tol(cvk_student95(1.0), 12.706, 0.13);
    ck_assert_double_eq_tol(cvk_student95(10.0), 2.228, 0.01);
    ck_assert_double_eq_tol(cvk_student95(1e6), 1.960, 0.001);
}
END_TEST

static cvk_belief wide(void)
{
    cvk_belief b;
    memset(&b, 0, sizeof b);
    for (int k = 0; k < CVK_B_COUNT; k++) {
        b.mean[k] = 1.0;
        b.cov[k * (CVK_B_COUNT + 1)] = 1e6;
    }
    b.dof = 100.0;
    return b;
}

/* Two independent measurements: the mean weighed by information, the variances' parallel. */
START_TEST(beliefs_merge_by_information)
{
    cvk_belief a = wide(), b = wide();
    const int k = CVK_B_FLUX, at = k * (CVK_B_COUNT + 1);
    a.mean[k] = 2.0;
    a.cov[at] = 0.04;
    b.mean[k] = 3.0;
    b.cov[at] = 0.01;
    cvk_belief_note(&b, k, "log", "circle");
    ck_assert(cvk_belief_merge(&a, &b));
    ck_assert_double_eq_tol(a.mean[k], 2.8, 1e-9);
    ck_assert_double_eq_tol(a.cov[at], 0.008, 1e-9);
    ck_assert_ptr_nonnull(strstr(a.from[k], "log"));
    ck_assert(cvk_belief_knows(&a, k, 0.05));
    ck_assert(!cvk_belief_knows(&a, CVK_B_RESISTANCE, 0.05));
    cvk_belief_doubt(&a, k, 0.09);
    ck_assert_double_eq_tol(cvk_belief_deviation(&a, k), 0.3, 1e-9);
}
END_TEST

/* Windows of a motor with R, L, flux linkage, at several speeds both ways, with currents of both
 * axes: what the circle is to find when the winding is known, and when it is not. */
static cvk_windows computed(double ohm, double l_d, double l_q, double flux)
{
    cvk_windows w = {.count = 0};
    for (int n = 0; n < 24; n++) {
        const double omega = (n % 2 == 0 ? 1.0 : -1.0) * (100.0 + 20.0 * n);
        const double i_d = -2.0 + (n % 3), i_q = 0.5 * (n % 5) - 1.0;
        const double complex i = i_d + I * i_q;
        const double complex psi = flux + l_d * i_d + I * l_q * i_q;
        w.window[w.count++] = (cvk_window){.omega = omega,
                                           .period_s = 5e-5,
                                           .duration_s = 0.1,
                                           .current_a = i,
                                           .voltage_v = ohm * i + I * omega * psi,
                                           .rotor_ratio = NAN};
    }
    return w;
}

START_TEST(the_circle_finds_the_magnets)
{
    static cvk_windows w;
    w = computed(0.2, 3e-4, 5e-4, 0.02);
    cvk_belief b = wide();
    b.mean[CVK_B_DEAD_TIME] = b.mean[CVK_B_DELAY] = b.mean[CVK_B_SQUARE_Q] = 0.0;
    const double known[] = {0.2, 3e-4, 5e-4};
    for (int k = 0; k < CVK_B_COUNT; k++) {
        b.cov[k * (CVK_B_COUNT + 1)] = 1e-12;
    }
    for (int k = CVK_B_RESISTANCE; k <= CVK_B_L_Q; k++) {
        b.mean[k] = known[k];
        b.cov[k * (CVK_B_COUNT + 1)] = pow(1e-3 * known[k], 2.0);
    }
    b.mean[CVK_B_FLUX] = 0.05; /* far off, and nothing known of it */
    b.cov[CVK_B_FLUX * (CVK_B_COUNT + 1)] = 1.0;
    ck_assert_int_eq(cvk_fit_circle(&w, &b), CVK_OK);
    ck_assert_double_eq_tol(b.mean[CVK_B_FLUX], 0.02, 1e-7);
    ck_assert_double_lt(cvk_circle_spread(&w, &b), 1e-4);
    ck_assert(cvk_any_current(&w));
    ck_assert(cvk_shows_back_emf(&w));
    w = computed(0.2, 4e-4, 4e-4, 0.0); /* no magnets: nothing but a winding */
    ck_assert(!cvk_shows_back_emf(&w));
    w.count = 2;
    ck_assert_int_eq(cvk_fit_circle(&w, &b), CVK_NOT_IN_LOG);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, inverses_and_roots);
    tcase_add_test(tests, a_deviation_is_widened_and_correlations_stay);
    tcase_add_test(tests, medians_least_squares_and_student);
    tcase_add_test(tests, beliefs_merge_by_information);
    tcase_add_test(tests, the_circle_finds_the_magnets);
}

int main(void)
{
    return run_suite("numeric", add);
}
