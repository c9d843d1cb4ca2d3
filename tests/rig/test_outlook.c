/* SPDX-License-Identifier: Apache-2.0
 *
 * What a rig is expected to do, against closed forms and against the rig itself.
 */
#include "corvak/rig/outlook.h"
#include "corvak/sim/sim.h"
#include "ideal_rig.h"
#include "suite.h"

#include <math.h>
#include <string.h>

static cvk_rig_config plain(void)
{
    cvk_rig_config config = ideal_rig();
    config.sensing.adc_bits = 12;
    config.sensing.current_range_a = 20;
    config.sensing.voltage_range_v = 40;
    config.tune.protect.trip_current_a = 15;
    return config;
}

static cvk_rig_outlook outlook;

static bool doubts(const char *words)
{
    for (size_t n = 0; n < outlook.doubts; n++) {
        if (strstr(outlook.doubt[n], words) != NULL) {
            return true;
        }
    }
    return false;
}

START_TEST(plain_figures_are_the_textbook_ones)
{
    cvk_rig_config config = plain();
    cvk_rig_look_ahead(&config, &outlook);
    ck_assert_double_eq_tol(outlook.time_constant_d_s, 2e-3, 1e-12);
    ck_assert_double_eq_tol(outlook.time_constant_q_s, 3e-3, 1e-12);
    ck_assert_double_eq_tol(outlook.torque_limit_nm, 1.5 * 4 * 0.01 * 10, 1e-12);
    ck_assert_double_eq_tol(outlook.mechanical_time_constant_s, 1e-3 * 0.5 / (1.5 * 16e-4), 1e-9);
    ck_assert_double_eq_tol(outlook.depth[1].no_load_mech_rad_s, 24.0 / sqrt(3.0) / 0.01 / 4, 1e-6);
    ck_assert_double_eq_tol(outlook.off_mech_rad_s,
                            (double)config.tune.protect.bus_max_v / sqrt(3.0) / 0.01 / 4, 1e-6);
    ck_assert_double_eq_tol(outlook.radians_per_sample, 0.02, 1e-12);
    ck_assert_msg(outlook.doubts == 0, "%s", outlook.doubt[0]);
}
END_TEST

/* The loaded speed: the rig, held at that speed with the allowed q current, needs that voltage. */
START_TEST(loaded_speed_takes_the_whole_voltage)
{
    cvk_rig_config config = plain();
    cvk_rig_look_ahead(&config, &outlook);
    for (int n = 0; n < CVK_OUTLOOK_DEPTHS; n++) {
        double w = 4.0 * outlook.depth[n].loaded_mech_rad_s;
        double v_d = -w * 1.5e-3 * 10.0, v_q = 0.5 * 10.0 + w * 0.01;
        ck_assert_double_eq_tol(hypot(v_d, v_q), outlook.depth[n].phase_voltage_v, 1e-9);
        ck_assert_double_lt(outlook.depth[n].loaded_mech_rad_s,
                            outlook.depth[n].no_load_mech_rad_s);
    }
}
END_TEST

/* Half the inductance at the current that halves it. */
START_TEST(saturation_is_announced)
{
    cvk_rig_config config = plain();
    config.motor.saturation_q_a = 10;
    cvk_rig_look_ahead(&config, &outlook);
    ck_assert_double_eq_tol(outlook.loaded_inductance_q_h, 0.75e-3, 1e-6);
    ck_assert_double_eq_tol(outlook.loaded_inductance_d_h, 1e-3, 1e-9);
    ck_assert_double_eq(outlook.shunt_duty_limit, 1.0);
}
END_TEST

/* Ripple grows with the period and falls with the inductance; the capacitor carries about 0.65 of
 * the phase's rms current at worst (the known maximum of the published formula). */
START_TEST(ripple_currents_scale_as_known)
{
    cvk_rig_config config = plain();
    cvk_rig_look_ahead(&config, &outlook);
    double ripple = outlook.ripple_a, bound = 24.0 / 20000 / 1e-3 / 4.0;
    ck_assert_double_gt(ripple, 0.2 * bound);
    ck_assert_double_lt(ripple, bound);
    ck_assert_double_eq_tol(outlook.capacitor_ripple_a / (10.0 / sqrt(2.0)), 0.65, 0.01);
    config.inverter.pwm_hz = 40000;
    config.motor.inductance_d_h = 2e-3;
    config.motor.inductance_q_h = 2e-3;
    cvk_rig_look_ahead(&config, &outlook);
    ck_assert_double_eq_tol(outlook.ripple_a, ripple / 4.0, 1e-9);
}
END_TEST

START_TEST(implausible_rigs_are_doubted_with_a_cure)
{
    cvk_rig_config config = plain();
    config.tune.protect.trip_current_a = 30;
    config.tune.program.speed_rad_s = 19000;
    config.tune.motor.inductance_q_h = 1e-5;
    config.tune.current.bandwidth_hz = 5000;
    cvk_rig_look_ahead(&config, &outlook);
    ck_assert(doubts("beyond sensing.current_range_a 20"));
    ck_assert(doubts("beyond the no-load speed"));
    ck_assert(doubts("rad of electrical angle per sample"));
    ck_assert(doubts("inductance_q_h to be 1e-05"));
    ck_assert(doubts("at most pwm_hz / 16 = 1250"));

    config = plain();
    config.tune.limit.current_a = 14.99;
    config.motor.inductance_d_h = 1e-5;
    config.inverter.dead_time_s = 5e-6;
    config.motor.resistance_ohm = 0.01;
    config.supply.bus_v = 60;
    cvk_rig_look_ahead(&config, &outlook);
    ck_assert(doubts("it will trip in normal use"));
    ck_assert(doubts("resistance will be hard to see"));
    ck_assert(doubts("beyond sensing.voltage_range_v 40"));

    config = plain();
    config.tune.limit.current_a = 0.2;
    cvk_rig_look_ahead(&config, &outlook);
    ck_assert(doubts("counts of the converter"));

    config = plain();
    config.sensing.current_sensing = CVK_SENSING_THREE_SHUNTS;
    config.sensing.settling_s = 5e-6;
    config.sensing.amplifier_range_a = 12;
    config.gate_driver.overcurrent_a = 9;
    config.rotor_sensor.hall_dead = 1;
    cvk_rig_look_ahead(&config, &outlook);
    ck_assert_double_eq_tol(outlook.shunt_duty_limit, 0.8, 1e-12);
    ck_assert(doubts("blind above a duty of 0.80"));
    ck_assert(doubts("saturates below protect.trip_current_a 15"));
    ck_assert(doubts("cuts in below limit.current_a 10"));
    ck_assert(doubts("a hall does not move"));
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, plain_figures_are_the_textbook_ones);
    tcase_add_test(tests, loaded_speed_takes_the_whole_voltage);
    tcase_add_test(tests, saturation_is_announced);
    tcase_add_test(tests, ripple_currents_scale_as_known);
    tcase_add_test(tests, implausible_rigs_are_doubted_with_a_cure);
}

int main(void)
{
    return run_suite("outlook", add);
}
