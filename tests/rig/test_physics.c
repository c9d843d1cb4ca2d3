/* SPDX-License-Identifier: Apache-2.0
 *
 * The rig's physics as a whole: energy, order of the integrator, the two inverters against each
 * other, saturation, losses, two masses.
 */
#include "corvak/rig/comparison.h"
#include "corvak/sim/sim.h"
#include "ideal_rig.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#define PI 3.14159265358979323846

static const char *const studio[] = {"wheel", "blower", "mixer", "table"};
static cvk_sim sim;
static cvk_excitation program;
static cvk_rig *rig;

static void drive_cycle(const cvk_rig_config *config, const char *excitation)
{
    cvk_sim_close(&sim);
    ck_assert_int_eq(cvk_sim_init(&sim, config, 5, NULL), CVK_OK);
    ck_assert_int_eq(cvk_sim_start(&sim, cvk_program_named(excitation), &program, NULL), CVK_OK);
}

static double energy_lost_j(const cvk_rig_meter *m)
{
    return m->supply_j + m->inverter_j + m->copper_j + m->iron_j + m->friction_j + m->load_j;
}

/* Over a drive cycle with everything on: what the source gave is lost or stored, within 0.1 %. */
START_TEST(energy_is_balanced)
{
    cvk_rig_config config = studio_rig(studio[_i / 2]);
    config.inverter.fidelity = _i % 2;
    drive_cycle(&config, "duty");
    cvk_rig_scenario load = {.count = 1};
    load.item[0] = cvk_rig_event_default(CVK_LOAD_FAN);
    load.item[0].value[0] = 0.2 * config.tune.limit.current_a * config.motor.flux_linkage_wb;
    load.item[0].value[1] = config.tune.program.speed_rad_s / config.motor.pole_pairs;
    cvk_rig_set_scenario(sim.rig, &load);
    cvk_rig_start_meter(sim.rig);
    double stored_j = cvk_rig_stored_j(sim.rig);
    while (!cvk_excitation_finished(&program)) {
        cvk_sim_step(&sim);
    }
    ck_assert_int_eq(cvk_drive_now(&sim.drive)->fault, CVK_FAULT_NONE);
    stored_j = cvk_rig_stored_j(sim.rig) - stored_j;
    const cvk_rig_meter *m = cvk_rig_meter_of(sim.rig);
    double missing = m->source_j - energy_lost_j(m) - stored_j;
    ck_assert_double_gt(m->load_j, 0.0);
    ck_assert_msg(fabs(missing) < 1e-3 * m->source_j, "%g of %g J are missing", missing,
                  m->source_j);
}
END_TEST

/* Turns an unloaded salient motor by a held voltage for 20 ms with steps of 1/pwm; its flux then.
 */
static double flux_after(double pwm_hz)
{
    cvk_rig_config config = ideal_rig();
    config.inverter.pwm_hz = pwm_hz;
    config.motor.saturation_q_a = 20;
    config.shaft.inertia_kg_m2 = 2e-5;
    config.shaft.friction_viscous_nm_s = 1e-4;
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
    cvk_rig_place(rig, 0.3);
    cvk_rig_spin(rig, 150.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
    cvk_rig_enable_bridge(rig, true);
    const double duty[3] = {0.6, 0.45, 0.45};
    for (int k = 0; k < (int)(0.02 * pwm_hz + 0.5); k++) {
        cvk_rig_advance(rig, duty);
    }
    return cvk_rig_state_of(rig)->flux_alpha_wb;
}

/* Half the step, an eighth of the error: third order. */
START_TEST(the_integrator_is_of_third_order)
{
    double exact = flux_after(200000);
    double coarse = fabs(flux_after(5000) - exact), fine = fabs(flux_after(10000) - exact),
           finest = fabs(flux_after(20000) - exact);
    ck_assert_msg(coarse / fine > 6.0 && coarse / fine < 12.0, "%g, %g", coarse, fine);
    ck_assert_msg(fine / finest > 6.0 && fine / finest < 12.0, "%g, %g", fine, finest);
}
END_TEST

/* Mean currents agree within 1 %, or within what 1 % of the dead time's voltage drives, where
 * neither ripple nor the legs' charge blurs the crossing: beyond five times the current that just
 * carries a node across (docs/theory.md). */
START_TEST(the_two_inverters_agree)
{
    cvk_rig_config config = studio_rig(studio[_i]);
    static cvk_rig_comparison c;
    ck_assert_int_eq(cvk_rig_compare_inverters(&config, &c), CVK_OK);
    const double little_a =
        0.01 * cvk_rig_dead_time_voltage(&config) / cvk_rig_visible_resistance(&config);
    int compared = 0;
    for (size_t n = 0; n < c.points; n++) {
        const cvk_rig_comparison_point *p = &c.point[n];
        if (fabs(p->switched_a) > fmax(5.0 * c.crossover_a, 0.5 * p->ripple_a + c.crossover_a)) {
            const double off_a = fabs(p->averaged_a - p->switched_a);
            ck_assert_msg(off_a < 0.01 * fabs(p->switched_a) || off_a < little_a, "%g A, %g A",
                          p->averaged_a, p->switched_a);
            compared++;
        }
    }
    ck_assert_int_ge(compared, 8);
}
END_TEST

/* Of a winding whose current decays by a fifth in a period: pulses of a few per cent of a period
 * drive no more than their mean voltage does. */
START_TEST(a_quick_winding_obeys_ohm)
{
    static const double inductance_h[] = {10e-6, 20e-6, 60e-6};
    cvk_rig_config config = ideal_rig();
    config.inverter.dead_time_s = 0.0;
    config.inverter.pwm_hz = 40e3;
    config.motor.resistance_ohm = 0.1;
    config.motor.inductance_d_h = config.motor.inductance_q_h = inductance_h[_i];
    static cvk_rig_comparison c;
    ck_assert_int_eq(cvk_rig_compare_inverters(&config, &c), CVK_OK);
    for (size_t n = 0; n < c.points; n++) {
        const double wanted_a = c.point[n].voltage_v / cvk_rig_visible_resistance(&config);
        ck_assert_double_eq_tol(c.point[n].averaged_a, wanted_a, 1e-3 * fabs(wanted_a) + 1e-6);
        ck_assert_double_eq_tol(c.point[n].switched_a, wanted_a, 1e-3 * fabs(wanted_a) + 1e-6);
    }
}
END_TEST

/* Turning, the two inverters still bring a motor to the same speed with the same current. */
START_TEST(the_two_inverters_agree_when_turning)
{
    double torque_current[2], speed[2];
    for (int fidelity = 0; fidelity < 2; fidelity++) {
        cvk_rig_config config = studio_rig("mixer");
        config.inverter.fidelity = fidelity;
        config.imperfections.iron_loss = 0; /* ripple heats the iron in the switched one only */
        drive_cycle(&config, "duty");
        torque_current[fidelity] = 0.0;
        while (cvk_rig_time_s(sim.rig) < 1.6) {
            cvk_sim_step(&sim);
            if (cvk_rig_time_s(sim.rig) > 1.4) {
                double i[3];
                cvk_rig_true_current(sim.rig, i);
                torque_current[fidelity] += i[0] * i[0] + i[1] * i[1] + i[2] * i[2];
            }
        }
        speed[fidelity] = cvk_rig_state_of(sim.rig)->speed_mech_rad_s;
    }
    ck_assert_double_eq_tol(speed[0] / speed[1], 1.0, 1e-3);
    ck_assert_double_eq_tol(sqrt(torque_current[0] / torque_current[1]), 1.0, 0.01);
}
END_TEST

/* The switched current ripple and the capacitor's are those of the textbook: phase a swings by
 * v (1 - d) T d / L about its mean; the capacitor carries what the supply does not. */
START_TEST(ripple_is_that_of_the_textbook)
{
    cvk_rig_config config = ideal_rig();
    config.inverter.dead_time_s = 0.0;
    config.supply.resistance_ohm = 5.0; /* the supply's current is smooth */
    config.supply.capacitor_f = 0.1;
    static cvk_rig_comparison c;
    ck_assert_int_eq(cvk_rig_compare_inverters(&config, &c), CVK_OK);
    const cvk_rig_comparison_point *p = &c.point[c.points - 1];
    double share = p->voltage_v / 24.0 * 1.5; /* difference of the duties */
    /* two pulses a period, each of (share/2) T at 2/3 of the bus */
    double pulse_a = 2.0 / 3.0 * 24.0 * (1.0 - share) * 0.5 * share * 50e-6 / 1e-3;
    ck_assert_double_eq_tol(p->ripple_a / pulse_a, 1.0, 0.05);
    /* the supply has not yet followed: the capacitor gives the whole pulses */
    double rms_a = fabs(p->switched_a) * sqrt(share);
    ck_assert_double_eq_tol(p->capacitor_ripple_a / rms_a, 1.0, 0.05);
}
END_TEST

/* Saturation: inductances are the slopes of the flux map, and the map is reciprocal. */
START_TEST(the_flux_map_is_consistent)
{
    cvk_rig_config config = ideal_rig();
    config.motor.saturation_d_a = 15;
    config.motor.saturation_q_a = 10;
    config.motor.saturation_bias = 0.3;
    config.motor.cross_saturation = 0.1;
    const double h = 1e-3;
    for (int d = -2; d <= 2; d++) {
        for (int q = -2; q <= 2; q++) {
            const double d_a = 4.0 * d, q_a = 4.0 * q;
            double f[4][2];
            cvk_rig_flux_at(&config, d_a - h, q_a, &f[0][0], &f[0][1]);
            cvk_rig_flux_at(&config, d_a + h, q_a, &f[1][0], &f[1][1]);
            cvk_rig_flux_at(&config, d_a, q_a - h, &f[2][0], &f[2][1]);
            cvk_rig_flux_at(&config, d_a, q_a + h, &f[3][0], &f[3][1]);
            double cross_dq = (f[3][0] - f[2][0]) / (2 * h),
                   cross_qd = (f[1][1] - f[0][1]) / (2 * h);
            ck_assert_double_eq_tol(cross_dq, cross_qd, 1e-9);
            ck_assert_double_gt((f[1][0] - f[0][0]) / (2 * h), 0.1e-3);
            ck_assert_double_gt((f[3][1] - f[2][1]) / (2 * h), 0.1e-3);
        }
    }
    double d_h, q_h, cross_h, at_zero[2], beside[2];
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
    cvk_rig_true_inductance(rig, &d_h, &q_h, &cross_h);
    ck_assert_double_eq_tol(d_h, 1e-3, 1e-12);
    ck_assert_double_eq_tol(q_h, 1.5e-3, 1e-12);
    ck_assert_double_eq_tol(cross_h, 0.0, 1e-12);
    cvk_rig_flux_at(&config, 0, 0, &at_zero[0], &at_zero[1]);
    cvk_rig_flux_at(&config, 0, 8, &beside[0], &beside[1]);
    ck_assert_double_eq_tol(at_zero[0], 0.01, 1e-12);
    ck_assert_double_lt(beside[0], at_zero[0]); /* q current weakens the magnet's flux */
}
END_TEST

/* A coasting shaft's deceleration, as a torque. */
static double coasting_drag(const cvk_rig_config *config)
{
    const double duty[3] = {0.5, 0.5, 0.5};
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, config, 1), CVK_OK);
    cvk_rig_spin(rig, 100.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
    for (int k = 0; k < 200; k++) {
        cvk_rig_advance(rig, duty);
    }
    return (100.0 - cvk_rig_state_of(rig)->speed_mech_rad_s) / 0.01 * config->shaft.inertia_kg_m2;
}

/* Iron loss brakes by 1.5 (p flux)^2 w / R; the third harmonic brakes a delta, not a star. */
START_TEST(losses_brake_a_coasting_motor)
{
    cvk_rig_config config = ideal_rig();
    config.motor.iron_loss_ohm = 50.0;
    ck_assert_double_eq_tol(coasting_drag(&config), 1.5 * 16e-4 * 100.0 / 50.0, 1e-5);
    config = ideal_rig();
    config.motor.emf_harmonic_3 = 0.1;
    ck_assert_double_lt(fabs(coasting_drag(&config)), 1e-12);
    config.motor.winding = CVK_WINDING_DELTA;
    double loop = sqrt(3.0) * 3.0 * 4.0 * 0.1 * 0.01;
    ck_assert_double_eq_tol(coasting_drag(&config), 1.5 * loop * loop / 1.5 * 100.0, 2e-3);
}
END_TEST

/* The winding warms as a first-order body, and its resistance with it. */
START_TEST(the_winding_warms)
{
    cvk_rig_config config = ideal_rig();
    config.motor.copper_per_k = 0.0039;
    config.motor.winding_k_w = 2.0;
    config.motor.winding_j_k = 0.5;
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
    cvk_rig_place(rig, 0.0);
    cvk_rig_hold_shaft(rig, true);
    cvk_rig_enable_bridge(rig, true);
    const double duty[3] = {0.55, 0.475, 0.475};
    for (int k = 0; k < 200000; k++) { /* ten time constants */
        cvk_rig_advance(rig, duty);
    }
    double i[3], above = cvk_rig_state_of(rig)->winding_degc - 25.0;
    cvk_rig_true_current(rig, i);
    double r = 0.5 * (1.0 + 0.0039 * above);
    ck_assert_double_eq_tol(i[0], 2.0 / 3.0 * 0.075 * 24.0 / r, 1e-3);
    ck_assert_double_eq_tol(above, 2.0 * 1.5 * r * i[0] * i[0], 0.01);
    ck_assert_double_gt(above, 5.0);
}
END_TEST

/* A shaft at rest stays until the breakaway torque is reached, and slides with less. */
START_TEST(static_friction_holds_and_lets_go)
{
    cvk_rig_config config = ideal_rig();
    config.shaft.friction_coulomb_nm = 0.1;
    config.shaft.friction_static_nm = 0.2;
    cvk_rig_scenario pull = {.count = 1};
    pull.item[0] = cvk_rig_event_default(CVK_LOAD_CONSTANT);
    const double duty[3] = {0.5, 0.5, 0.5};
    const double torques[] = {0.15, 0.19, 0.21};
    for (int n = 0; n < 3; n++) {
        pull.item[0].value[0] = torques[n];
        cvk_rig_close(rig);
        ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
        cvk_rig_set_scenario(rig, &pull);
        for (int k = 0; k < 2000; k++) {
            cvk_rig_advance(rig, duty);
        }
        double expected = torques[n] < 0.2 ? 0.0 : (torques[n] - 0.1) / 1e-3 * 0.1;
        ck_assert_double_eq_tol(cvk_rig_state_of(rig)->speed_mech_rad_s, expected, 0.01);
    }
}
END_TEST

/* Two masses on a spring swing at sqrt(k (1/J1 + 1/J2)). */
START_TEST(two_masses_ring_at_their_resonance)
{
    cvk_rig_config config = ideal_rig();
    config.shaft.load_inertia_kg_m2 = 5e-4;
    config.shaft.coupling_nm_rad = 10.0;
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, &config, 1), CVK_OK);
    cvk_rig_spin(rig, cvk_rig_state_of(rig)->speed_mech_rad_s, 1.0);
    const double duty[3] = {0.5, 0.5, 0.5};
    double slip = -1.0, resonance = sqrt(10.0 * (1e3 + 2e3));
    int crossings = 0;
    for (int k = 0; k < 20000; k++) {
        cvk_rig_advance(rig, duty);
        double now =
            cvk_rig_state_of(rig)->speed_mech_rad_s - cvk_rig_state_of(rig)->load_speed_mech_rad_s;
        crossings += now * slip < 0.0;
        slip = now;
    }
    ck_assert_double_eq_tol(crossings / 2.0, resonance / (2.0 * PI), 1.0);
    double momentum = 1e-3 * cvk_rig_state_of(rig)->speed_mech_rad_s +
                      5e-4 * cvk_rig_state_of(rig)->load_speed_mech_rad_s;
    ck_assert_double_eq_tol(momentum, 5e-4, 1e-9);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, energy_is_balanced, 0, 8);
    tcase_add_test(tests, the_integrator_is_of_third_order);
    tcase_add_loop_test(tests, the_two_inverters_agree, 0, 4);
    tcase_add_loop_test(tests, a_quick_winding_obeys_ohm, 0, 3);
    tcase_add_test(tests, the_two_inverters_agree_when_turning);
    tcase_add_test(tests, ripple_is_that_of_the_textbook);
    tcase_add_test(tests, the_flux_map_is_consistent);
    tcase_add_test(tests, losses_brake_a_coasting_motor);
    tcase_add_test(tests, the_winding_warms);
    tcase_add_test(tests, static_friction_holds_and_lets_go);
    tcase_add_test(tests, two_masses_ring_at_their_resonance);
}

int main(void)
{
    return run_suite("physics", add);
}
