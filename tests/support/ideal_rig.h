/* SPDX-License-Identifier: Apache-2.0
 *
 * A rig without imperfections; each test adds what it needs.
 */
#ifndef CORVAK_TESTS_IDEAL_RIG_H
#define CORVAK_TESTS_IDEAL_RIG_H

#include "corvak/rig/config.h"

static inline cvk_rig_config ideal_rig(void)
{
    cvk_rig_config config = cvk_rig_config_default();
    config.name[0] = 'i';
    config.motor.pole_pairs = 4;
    config.rotor_sensor.calibrated = 1;
    config.motor.resistance_ohm = 0.5;
    config.motor.inductance_d_h = 1e-3;
    config.motor.inductance_q_h = 1.5e-3;
    config.motor.flux_linkage_wb = 0.01;
    config.shaft = (cvk_rig_shaft){.inertia_kg_m2 = 1e-3, .coupling_nm_rad = 1.0};
    config.inverter.pwm_hz = 20000;
    config.inverter.dead_time_s = 0.0;
    config.inverter.switch_resistance_ohm = 0.0;
    config.inverter.diode_drop_v = 0.0;
    config.supply.bus_v = 24.0;
    config.supply.resistance_ohm = 0.0;
    config.sensing = (cvk_rig_sensing){
        .adc_bits = 24, .current_range_a = 100, .voltage_range_v = 100, .ringing_decay_s = 3e-7};
    config.tune.motor = (cvk_motor_settings){4, 0.5f, 1e-3f, 1e-3f, 0.01f};
    config.tune.limit.current_a = 10.0f;
    config.tune.protect = (cvk_protect_settings){50.0f, 12.0f, 36.0f};
    config.tune.current.bandwidth_hz = 500.0f;
    config.tune.speed.gain_a_s = config.tune.speed.integral_gain_a = 0.1f;
    config.tune.program = (cvk_program_settings){400.0f, 0.2f};
    return config;
}

#endif
