/* SPDX-License-Identifier: Apache-2.0
 *
 * The turning fit on a motor that no rig has made: a second model with its own integration and its
 * own controller, ideal but for noise of the currents. What is estimated must lie near the truth
 * and within its interval.
 */
#include "corvak/ident/estimate.h"
#include "noise.h"
#include "suite.h"

#include <complex.h>
#include <math.h>
#include <stdint.h>
#include <string.h>

enum { ROWS = 30000, FINE = 20 };
#define TWO_PI 6.283185307179586
#define PERIOD_S 100e-6

typedef struct other_motor {
    double r, l_d, l_q, flux, inertia, friction;
    int pole_pairs;
    double current_a, speed_rad_s; /* of the run: largest torque current, electrical speed */
    double noise_a;
} other_motor;

static const other_motor motors[] = {
    {0.9, 2.0e-3, 3.0e-3, 0.03, 4e-4, 1e-4, 4, 4.0, 500.0, 0.01},
    {0.05, 60e-6, 60e-6, 0.004, 1e-3, 2e-5, 7, 20.0, 1500.0, 0.05},
    {3.0, 8e-3, 14e-3, 0.12, 2e-3, 1e-3, 10, 2.0, 300.0, 0.005},
    {0.012, 12e-6, 18e-6, 0.0012, 5e-5, 1e-6, 2, 15.0, 2500.0, 0.1},
};

/* As much voltage across the inductance as half of the back-EMF, half a radian per sample. */
static const other_motor hard_motors[] = {
    {0.012, 12e-6, 18e-6, 0.0012, 5e-5, 1e-6, 2, 40.0, 5000.0, 0.1},
    {0.012, 12e-6, 18e-6, 0.0012, 5e-5, 1e-6, 2, 15.0, 5000.0, 0.1},
};

static double column[7][ROWS]; /* t, ia ib ic, va vb vc */
static cvk_estimate result;

typedef struct shaft_state {
    double complex psi; /* rotor frame */
    double theta, omega;
} shaft_state;

static double complex current_of(const other_motor *m, double complex psi)
{
    return (creal(psi) - m->flux) / m->l_d + I * cimag(psi) / m->l_q;
}

/* One sampling period with a voltage held in the stationary frame, in small midpoint steps. */
static void advance(const other_motor *m, shaft_state *s, double complex v)
{
    const double h = PERIOD_S / FINE;
    for (int n = 0; n < FINE; n++) {
        double complex half = s->psi;
        for (int pass = 0; pass < 2; pass++) {
            double complex i = current_of(m, half);
            double angle = s->theta + (pass == 0 ? 0.0 : 0.5 * h * s->omega);
            double complex slope = v * cexp(-I * angle) - m->r * i - I * s->omega * half;
            half = s->psi + (pass == 0 ? 0.5 : 1.0) * h * slope;
        }
        double complex i = current_of(m, half);
        double torque = 1.5 * m->pole_pairs * cimag(conj(half) * i);
        double drag = m->friction * s->omega / m->pole_pairs;
        s->psi = half;
        s->theta += h * s->omega;
        s->omega += h * m->pole_pairs * (torque - drag) / m->inertia;
    }
}

/* Torque back and forth between the speed and half of it, with some current along d: what the
 * controller wants, in the rotor frame. */
static double complex wanted(const other_motor *m, const shaft_state *s, double *push, size_t row)
{
    if (s->omega > m->speed_rad_s) {
        *push = -1.0;
    } else if (s->omega < 0.5 * m->speed_rad_s) {
        *push = 1.0;
    }
    double along = (row / 700) % 3 == 0 ? -0.4 * m->current_a : 0.0;
    return along + I * *push * m->current_a * (0.3 + 0.7 * (double)((row / 400) % 2));
}

/* Fills the columns; the log starts once the motor turns. */
static cvk_log simulate(const other_motor *m, uint32_t seed)
{
    shaft_state s = {.psi = m->flux, .theta = 0.4, .omega = 0.5 * m->speed_rad_s};
    const double gain = 300.0; /* bandwidth of the current loop, rad/s */
    double complex integral = 0.0, acting = 0.0;
    double push = 1.0;
    lcg = seed;
    for (size_t row = 0; row < ROWS; row++) {
        const double complex i = current_of(m, s.psi);
        const double complex stationary = i * cexp(I * s.theta);
        const double complex error = wanted(m, &s, &push, row) - i;
        integral += PERIOD_S * gain * m->r * error;
        double complex v = integral + gain * (m->l_d * creal(error) + I * m->l_q * cimag(error)) +
                           I * s.omega * s.psi;
        v *= cexp(I * (s.theta + 1.5 * PERIOD_S * s.omega)); /* where it will act */
        column[0][row] = (double)row * PERIOD_S;
        for (int n = 0; n < 3; n++) {
            double complex axis = cexp(-I * (n * TWO_PI / 3.0));
            column[1 + n][row] = creal(stationary * axis) + m->noise_a * noise();
            column[4 + n][row] = 12.0 + creal(v * axis);
        }
        advance(m, &s, acting); /* the voltage of the sample before */
        acting = v;
    }
    cvk_log log = cvk_log_empty("other");
    log.rows = ROWS;
    log.column[CVK_COLUMN_T] = column[0];
    for (int n = 0; n < 3; n++) {
        log.column[CVK_COLUMN_IA + n] = column[1 + n];
        log.column[CVK_COLUMN_VA + n] = column[4 + n];
    }
    return log;
}

static void assert_near(cvk_card_key key, double truth, double per_cent)
{
    const cvk_card_entry *entry = &result.card.entry[key];
    ck_assert_msg(entry->known, "%s is missing: %s", cvk_card_key_name(key), entry->missing);
    double off = 100.0 * (entry->value / truth - 1.0);
    ck_assert_msg(fabs(off) <= per_cent, "%s is %g, %.2f %% off", cvk_card_key_name(key),
                  entry->value, off);
    ck_assert_msg(truth >= entry->statistical_low && truth <= entry->statistical_high,
                  "%s: %g is outside %g .. %g", cvk_card_key_name(key), truth,
                  entry->statistical_low, entry->statistical_high);
}

START_TEST(another_motor_is_estimated)
{
    const other_motor *m = &motors[_i];
    const cvk_log log = simulate(m, 1000u + (uint32_t)_i);
    const cvk_log *logs[] = {&log};
    const cvk_estimate_options options = {0.0, 0.0, 500.0, 0.0, 0, 1, NULL};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
    assert_near(CVK_CARD_RESISTANCE, m->r, 1.5);
    assert_near(CVK_CARD_INDUCTANCE_D, m->l_d, 3.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, m->l_q, 3.0);
    assert_near(CVK_CARD_FLUX_LINKAGE, m->flux, 0.5);
    ck_assert_double_eq_tol(result.card.entry[CVK_CARD_DELAY].value, 1.0, 0.1);
}
END_TEST

/* Where the log shows little, the intervals say so: they are wide and hold the truth. */
START_TEST(a_hard_motor_is_estimated_within_wide_intervals)
{
    const other_motor *m = &hard_motors[_i];
    const cvk_log log = simulate(m, 77u + (uint32_t)_i);
    const cvk_log *logs[] = {&log};
    const cvk_estimate_options options = {0.0, 0.0, 500.0, 0.0, 0, 1, NULL};
    const double truths[] = {m->r, m->l_d, m->l_q, m->flux};
    cvk_status status = cvk_estimate_logs(logs, 1, &options, &result);
    ck_assert(status == CVK_OK || status == CVK_NOT_IN_LOG);
    for (int key = 0; key <= CVK_CARD_FLUX_LINKAGE; key++) {
        const cvk_card_entry *entry = &result.card.entry[key];
        ck_assert_msg(entry->known, "%s: %s", cvk_card_key_name((cvk_card_key)key), entry->missing);
        ck_assert_msg(truths[key] >= entry->low && truths[key] <= entry->high,
                      "%s: %g is outside %g .. %g", cvk_card_key_name((cvk_card_key)key),
                      truths[key], entry->low, entry->high);
    }
}
END_TEST

/* Sanitizers look at the code, not at the figures: a few motors show it to them. */
#ifdef __SANITIZE_ADDRESS__
#define SHARE 3
#else
#define SHARE 1
#endif
#define SOME(list) ((int)((sizeof(list) / sizeof(list)[0] + SHARE - 1) / SHARE))

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, a_hard_motor_is_estimated_within_wide_intervals, 0,
                        SOME(hard_motors));
    tcase_add_loop_test(tests, another_motor_is_estimated, 0, SOME(motors));
}

int main(void)
{
    return run_suite("other motor", add);
}
