/* SPDX-License-Identifier: Apache-2.0
 *
 * Current control against a double-precision salient motor that turns at a fixed speed, integrated
 * in fine steps, with the controller's timing: a voltage computed from sample k acts from k+1.
 */
#include "corvak/core/current_control.h"
#include "suite.h"

#include <complex.h>
#include <math.h>

#define PERIOD 50e-6

typedef struct plant {
    double resistance, l_d, l_q, flux, speed;
    double angle;
    double complex psi; /* stationary */
} plant;

static double complex plant_current(const plant *m)
{
    double complex own = m->psi * cexp(-I * m->angle) - m->flux;
    return (creal(own) / m->l_d + I * cimag(own) / m->l_q) * cexp(I * m->angle);
}

static void plant_advance(plant *m, double complex v)
{
    const int steps = 200;
    const double h = PERIOD / steps;
    for (int n = 0; n < steps; n++) { /* midpoint rule */
        double complex slope = v - m->resistance * plant_current(m);
        plant mid = *m;
        mid.psi += 0.5 * h * slope;
        mid.angle += 0.5 * h * m->speed;
        m->psi += h * (v - m->resistance * plant_current(&mid));
        m->angle += h * m->speed;
    }
}

static plant plant_at(double speed)
{
    plant m = {.resistance = 0.17, .l_d = 320e-6, .l_q = 470e-6, .flux = 0.0215, .speed = speed};
    m.psi = m.flux;
    return m;
}

/* The controller under test, with the voltage that acts until the next sample. */
typedef struct controller {
    cvk_current_constants constants;
    cvk_current_control state;
} controller;

static controller control_for(const plant *m, double model_error)
{
    controller control = {.state = {.primed = false}};
    const cvk_current_control_config config = {
        .period_s = (float)PERIOD,
        .bandwidth_hz = 800.0f,
        .resistance_ohm = (float)(m->resistance * (1.0 + model_error)),
        .inductance_d_h = (float)(m->l_d * (1.0 - model_error)),
        .inductance_q_h = (float)(m->l_q * (1.0 + model_error)),
        .flux_linkage_wb = (float)(m->flux * (1.0 - model_error)),
    };
    ck_assert_int_eq(cvk_current_control_prepare(&control.constants, &config, NULL), CVK_OK);
    return control;
}

/* One period of the loop; returns the current in the rotor frame at the sample. */
static double complex loop_once(plant *m, controller *control, double complex *acting,
                                cvk_dq setpoint, double limit_v)
{
    double complex i = plant_current(m);
    const cvk_ab sampled = {(float)creal(i), (float)cimag(i)};
    const cvk_ab acts = {(float)creal(*acting), (float)cimag(*acting)};
    cvk_ab next = cvk_current_control_step(
        &control->state, &control->constants, setpoint, sampled, acts,
        cvk_rotation_of((float)remainder(m->angle, 2.0 * 3.14159265358979)), (float)m->speed);
    double complex v = (double)next.alpha + I * (double)next.beta;
    v *= cabs(v) > limit_v ? limit_v / cabs(v) : 1.0;
    double complex seen = i * cexp(-I * m->angle);
    plant_advance(m, *acting);
    *acting = v;
    return seen;
}

/* Starts each run in the steady state of a turning motor without current. */
static double complex settle(plant *m, controller *control, int periods)
{
    double complex acting = I * m->speed * m->flux * cexp(I * (m->angle + 0.5 * m->speed * PERIOD));
    for (int n = 0; n < periods; n++) {
        loop_once(m, control, &acting, (cvk_dq){0.0f, 0.0f}, 1e9);
    }
    return acting;
}

/* With the right model, a step of iq follows 1 - (1 - alpha)^n two samples late and id stays at
 * zero, at every speed up to 0.6 rad per sample. */
START_TEST(step_follows_the_design_at_any_speed)
{
    static const double speeds[] = {0.0, 1000.0, -6000.0, 12000.0};
    for (size_t s = 0; s < sizeof speeds / sizeof speeds[0]; s++) {
        plant m = plant_at(speeds[s]);
        controller control = control_for(&m, 0.0);
        double complex acting = settle(&m, &control, 400);
        double alpha = 1.0 - exp(-2.0 * 3.14159265358979 * 800.0 * PERIOD);
        for (int n = 0; n < 60; n++) {
            double complex i = loop_once(&m, &control, &acting, (cvk_dq){0.0f, 10.0f}, 1e9);
            double expected = n < 2 ? 0.0 : 10.0 * (1.0 - pow(1.0 - alpha, n - 1));
            ck_assert_msg(fabs(cimag(i) - expected) < 0.25, "speed %g sample %d: iq %g, not %g",
                          speeds[s], n, cimag(i), expected);
            ck_assert_msg(fabs(creal(i)) < 0.25, "speed %g sample %d: id %g", speeds[s], n,
                          creal(i));
        }
    }
}
END_TEST

/* A model that is 20 % off in everything still settles on the set-point. */
START_TEST(wrong_model_leaves_no_error)
{
    plant m = plant_at(3000.0);
    controller control = control_for(&m, 0.2);
    double complex acting = settle(&m, &control, 2000), i = 0.0;
    for (int n = 0; n < 4000; n++) {
        i = loop_once(&m, &control, &acting, (cvk_dq){-3.0f, 8.0f}, 1e9);
    }
    ck_assert_double_eq_tol(creal(i), -3.0, 0.02);
    ck_assert_double_eq_tol(cimag(i), 8.0, 0.02);
}
END_TEST

/* After a long time against the voltage limit, the current comes back without overshoot: nothing
 * has wound up. */
START_TEST(limited_voltage_does_not_wind_up)
{
    plant m = plant_at(300.0);
    controller control = control_for(&m, 0.0);
    double complex acting = settle(&m, &control, 400), i = 0.0;
    for (int n = 0; n < 4000; n++) { /* out of reach: 300 A would need 51 V */
        i = loop_once(&m, &control, &acting, (cvk_dq){0.0f, 300.0f}, 12.0);
    }
    ck_assert_double_gt(cimag(i), 20.0);
    double least = 1e9;
    for (int n = 0; n < 2000; n++) {
        i = loop_once(&m, &control, &acting, (cvk_dq){0.0f, 5.0f}, 12.0);
        least = fmin(least, cimag(i));
    }
    ck_assert_double_eq_tol(cimag(i), 5.0, 0.05);
    ck_assert_double_gt(least, 4.5);
}
END_TEST

START_TEST(bad_config_is_refused_by_name)
{
    cvk_current_constants constants;
    cvk_refusal why = {0};
    cvk_current_control_config config = {0};
    ck_assert_int_eq(cvk_current_control_prepare(&constants, &config, &why), CVK_OUT_OF_RANGE);
    config = (cvk_current_control_config){50e-6f, 5000.0f, 0.1f, 1e-4f, 1e-4f, 0.01f, false};
    ck_assert_int_eq(cvk_current_control_prepare(&constants, &config, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "bandwidth_hz");
    ck_assert_float_eq_tol(why.high, 1250.0f, 1.0f);
    config.bandwidth_hz = 500.0f;
    config.inductance_q_h = -1.0f;
    ck_assert_int_eq(cvk_current_control_prepare(&constants, &config, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "inductance_q_h");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, step_follows_the_design_at_any_speed);
    tcase_add_test(tests, wrong_model_leaves_no_error);
    tcase_add_test(tests, limited_voltage_does_not_wind_up);
    tcase_add_test(tests, bad_config_is_refused_by_name);
}

int main(void)
{
    return run_suite("current control", add);
}
