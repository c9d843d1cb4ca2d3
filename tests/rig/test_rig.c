/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated rig against closed-form physics, and its determinism.
 */
#include "corvak/sim/sim.h"
#include "ideal_rig.h"
#include "suite.h"

#include <math.h>
#include <string.h>

static cvk_rig *rig;

/* v = 3 V along the d axis at standstill: i = v/R (1 - exp(-t R/Ld)). */
START_TEST(current_step_is_exponential)
{
    cvk_rig_config config = ideal_rig();
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 3), CVK_OK);
    cvk_rig_hold_shaft(rig, true);
    cvk_rig_enable_bridge(rig, true);
    double angle = cvk_rig_electrical_angle(rig), duty[3];
    for (int n = 0; n < 3; n++) {
        duty[n] = 0.5 + 3.0 / 24.0 * cos(angle - n * 2.0 * 3.14159265358979 / 3.0);
    }
    for (int k = 1; k <= 200; k++) {
        double i[3];
        cvk_rig_advance(rig, duty);
        cvk_rig_true_current(rig, i);
        double alpha = (2 * i[0] - i[1] - i[2]) / 3, beta = (i[1] - i[2]) / sqrt(3.0);
        double expected = 3.0 / 0.5 * (1.0 - exp(-k * 50e-6 * 0.5 / 1e-3));
        /* a third-order step leaves (R T/L)^4 / 24 of the 6 A at each of them */
        ck_assert_double_eq_tol(alpha * cos(angle) + beta * sin(angle), expected, 1e-5);
        ck_assert_double_eq_tol(beta * cos(angle) - alpha * sin(angle), 0.0, 1e-6);
    }
}
END_TEST

/* With viscous friction alone a coasting shaft slows down exponentially. */
START_TEST(coast_down_is_exponential)
{
    cvk_rig_config config = ideal_rig();
    config.shaft.friction_viscous_nm_s = 2e-3;
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
    cvk_rig_spin(rig, 50.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
    const double duty[3] = {0.5, 0.5, 0.5};
    for (int k = 0; k < 20000; k++) {
        cvk_rig_advance(rig, duty);
    }
    ck_assert_double_eq_tol(cvk_rig_state_of(rig)->speed_mech_rad_s, 50.0 * exp(-2.0), 1e-3);
}
END_TEST

/* Without load and friction the motor turns where the back-EMF meets the voltage. */
START_TEST(no_load_speed_meets_the_back_emf)
{
    cvk_rig_config config = ideal_rig();
    config.shaft.inertia_kg_m2 = 1e-5;
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
    cvk_rig_enable_bridge(rig, true);
    double duty[3];
    for (int k = 0; k < 40000; k++) { /* voltage of 2 V kept on the q axis */
        double angle = cvk_rig_electrical_angle(rig) + 0.5 * 3.14159265358979;
        for (int n = 0; n < 3; n++) {
            duty[n] = 0.5 + 2.0 / 24.0 * cos(angle - n * 2.0 * 3.14159265358979 / 3.0);
        }
        cvk_rig_advance(rig, duty);
    }
    ck_assert_double_eq_tol(cvk_rig_state_of(rig)->speed_mech_rad_s * 4 * 0.01, 2.0, 0.01);
}
END_TEST

/* Torque 1.5 p (flux iq + (Ld - Lq) id iq) accelerates the shaft. */
START_TEST(torque_accelerates_the_shaft)
{
    cvk_rig_config config = ideal_rig();
    config.shaft.inertia_kg_m2 = 10.0; /* hardly moves within the test */
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
    cvk_rig_enable_bridge(rig, true);
    double angle = cvk_rig_electrical_angle(rig) + 2.0, duty[3]; /* 2 rad ahead of d */
    for (int n = 0; n < 3; n++) {
        duty[n] = 0.5 + 2.0 / 24.0 * cos(angle - n * 2.0 * 3.14159265358979 / 3.0);
    }
    for (int k = 0; k < 2000; k++) {
        cvk_rig_advance(rig, duty); /* the current settles */
    }
    double before = cvk_rig_state_of(rig)->speed_mech_rad_s;
    for (int k = 0; k < 200; k++) {
        cvk_rig_advance(rig, duty);
    }
    double id = 4.0 * cos(2.0), iq = 4.0 * sin(2.0);
    double torque = 1.5 * 4 * (0.01 * iq + (1e-3 - 1.5e-3) * id * iq);
    ck_assert_double_eq_tol((cvk_rig_state_of(rig)->speed_mech_rad_s - before) / 0.01,
                            torque / 10.0, 2e-4);
}
END_TEST

/* Dead time takes t_dead f (Vdc + 2 Vf) off a phase that carries current, and gives it back where
 * the current is negative. */
START_TEST(dead_time_works_against_the_current)
{
    cvk_rig_config config = ideal_rig();
    config.inverter.dead_time_s = 1e-6;
    config.inverter.diode_drop_v = 0.7;
    ck_assert_double_eq_tol(cvk_rig_dead_time_voltage(&config), 0.02 * 25.4, 1e-12);
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
    cvk_rig_hold_shaft(rig, true);
    cvk_rig_enable_bridge(rig, true);
    const double duty[3] = {0.6, 0.45, 0.45};
    double i[3];
    for (int k = 0; k < 2000; k++) {
        cvk_rig_advance(rig, duty);
    }
    cvk_rig_true_current(rig, i);
    /* along phase a: 2/3 of 0.15 bus, less 2/3 of what phase a and the two others lose; at ten
     * times the current that gets the node across in the dead time, a twentieth is not lost */
    double across_a = 24.0 * config.inverter.output_capacitance_f / 1e-6;
    double lost = 2.0 - 0.5 * across_a / i[0] - across_a / i[0];
    double expected = 2.0 / 3.0 * (0.15 * 24.0 - lost * cvk_rig_dead_time_voltage(&config)) / 0.5;
    ck_assert_double_eq_tol(i[0], expected, 1e-3);
}
END_TEST

START_TEST(readings_show_gain_offset_and_quantisation)
{
    cvk_rig_config config = ideal_rig();
    config.sensing.adc_bits = 12;
    config.sensing.current_offset_a = 0.5;
    config.sensing.current_gain_tolerance = 0.01;
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 5), CVK_OK);
    cvk_rig_sample sample = cvk_rig_read(rig);
    double step = 200.0 / 4095.0;
    for (int n = 0; n < 3; n++) {
        double gain, offset_a;
        cvk_rig_true_channel(rig, n, &gain, &offset_a);
        ck_assert_double_eq_tol(sample.current_a[n], offset_a, 0.5 * step + 1e-9);
        double counts = (sample.current_a[n] + 100.0) / step;
        ck_assert_double_eq_tol(counts, round(counts), 1e-6);
        ck_assert_double_le(fabs(gain - 1.0), 0.01);
        ck_assert_double_le(fabs(offset_a), 0.5);
    }
}
END_TEST

/* Unequal magnets: the back-EMF's strength repeats once per revolution, not once per pole pair. */
START_TEST(unequal_magnets_repeat_once_per_revolution)
{
    cvk_rig_config config = ideal_rig();
    config.motor.magnet_spread = 0.02;
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 2), CVK_OK);
    cvk_rig_spin(rig, 100.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
    double strength[8], turn = 2.0 * 3.14159265358979 / 4.0;
    for (int n = 0; n < 8; n++) {
        cvk_rig_place(rig, 0.3 + n * turn);
        cvk_rig_sample s = cvk_rig_read(rig);
        double alpha = (2 * s.terminal_v[0] - s.terminal_v[1] - s.terminal_v[2]) / 3;
        strength[n] = hypot(alpha, (s.terminal_v[1] - s.terminal_v[2]) / sqrt(3.0));
    }
    double spread = 0.0;
    for (int n = 0; n < 4; n++) {
        ck_assert_double_eq_tol(strength[n], strength[n + 4], 1e-3);
        spread = fmax(spread, fabs(strength[n] / strength[0] - 1.0));
    }
    ck_assert_double_gt(spread, 0.005);
}
END_TEST

static cvk_sim sims[2];
static cvk_excitation programs[2];

/* The same seed gives the same bytes; another seed does not. */
START_TEST(same_seed_same_run)
{
    cvk_rig_config config = ideal_rig();
    config.sensing.current_noise_a = 0.1;
    config.sensing.adc_bits = 12;
    for (int other = 0; other < 2; other++) {
        for (int n = 0; n < 2; n++) {
            cvk_sim_close(&sims[n]);
            ck_assert_int_eq(cvk_sim_init(&sims[n], &config, (uint64_t)(7 + n * other), NULL),
                             CVK_OK);
            ck_assert_int_eq(
                cvk_sim_start(&sims[n], cvk_program_named("standstill"), &programs[n], NULL),
                CVK_OK);
        }
        int different = 0;
        for (int k = 0; k < 5000; k++) {
            cvk_sim_row a = cvk_sim_step(&sims[0]), b = cvk_sim_step(&sims[1]);
            different += a.sample.current_a[0] != b.sample.current_a[0] ||
                         a.sample.current_a[1] != b.sample.current_a[1] ||
                         a.sample.current_a[2] != b.sample.current_a[2];
        }
        ck_assert_msg(other ? different > 4000 : different == 0, "other %d: %d rows differ", other,
                      different);
    }
}
END_TEST

START_TEST(spin_reaches_its_speeds)
{
    cvk_rig_config config = ideal_rig();
    config.shaft.friction_viscous_nm_s = 1e-4;
    config.shaft.inertia_kg_m2 = 2e-4;
    ck_assert_int_eq(cvk_sim_init(&sims[0], &config, 1, NULL), CVK_OK);
    ck_assert_int_eq(cvk_sim_start(&sims[0], cvk_program_named("spin"), &programs[0], NULL),
                     CVK_OK);
    double fastest = 0.0, slowest = 0.0;
    while (!cvk_excitation_finished(&programs[0])) {
        cvk_sim_step(&sims[0]);
        fastest = fmax(fastest, cvk_rig_state_of(sims[0].rig)->speed_mech_rad_s);
        slowest = fmin(slowest, cvk_rig_state_of(sims[0].rig)->speed_mech_rad_s);
    }
    ck_assert_int_eq(cvk_drive_now(&sims[0].drive)->fault, CVK_FAULT_NONE);
    ck_assert_double_gt(fastest, 0.95 * 400.0 / 4.0);
    ck_assert_double_lt(slowest, -0.8 * 400.0 / 4.0);
}
END_TEST

START_TEST(unknown_excitation_and_bad_rig_are_refused)
{
    cvk_rig_config config = ideal_rig();
    const cvk_rig_field *field = NULL;
    ck_assert_int_eq(cvk_sim_init(&sims[0], &config, 1, NULL), CVK_OK);
    ck_assert_ptr_null(cvk_program_named("waltz"));
    config.motor.pole_pairs = 2.5;
    ck_assert_int_eq(cvk_rig_check(&config, &field), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(field->name, "pole_pairs");
    config = ideal_rig();
    config.shaft.inertia_kg_m2 = NAN;
    ck_assert_int_eq(cvk_rig_check(&config, &field), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(field->name, "inertia_kg_m2");
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OUT_OF_RANGE);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, current_step_is_exponential);
    tcase_add_test(tests, coast_down_is_exponential);
    tcase_add_test(tests, no_load_speed_meets_the_back_emf);
    tcase_add_test(tests, torque_accelerates_the_shaft);
    tcase_add_test(tests, dead_time_works_against_the_current);
    tcase_add_test(tests, readings_show_gain_offset_and_quantisation);
    tcase_add_test(tests, unequal_magnets_repeat_once_per_revolution);
    tcase_add_test(tests, same_seed_same_run);
    tcase_add_test(tests, spin_reaches_its_speeds);
    tcase_add_test(tests, unknown_excitation_and_bad_rig_are_refused);
}

int main(void)
{
    return run_suite("rig", add);
}
