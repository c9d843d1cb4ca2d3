/* SPDX-License-Identifier: Apache-2.0
 *
 * The table of everything a rig file can set, with ranges, and the check against it.
 */
#include "corvak/rig/rig.h"

#include <math.h>
#include <stddef.h>

#define FIELD(section, name, low, high, meaning)                                                   \
    {                                                                                              \
#section, #name, offsetof(cvk_rig_config, section.name), low, high, meaning                \
    }

static const cvk_rig_field fields[] = {
    FIELD(motor, pole_pairs, 1, 50, "pole pairs, a whole number"),
    FIELD(motor, resistance_ohm, 1e-4, 100, "winding resistance, one phase of the star"),
    FIELD(motor, inductance_d_h, 5e-7, 0.5, "inductance along the magnet flux"),
    FIELD(motor, inductance_q_h, 5e-7, 0.5, "inductance across the magnet flux"),
    FIELD(motor, flux_linkage_wb, 1e-5, 5, "peak flux linkage of one phase"),
    FIELD(motor, emf_harmonic_5, -0.2, 0.2, "fifth flux harmonic, share of the fundamental"),
    FIELD(motor, emf_harmonic_7, -0.2, 0.2, "seventh flux harmonic, share of the fundamental"),
    FIELD(motor, magnet_spread, 0, 0.2, "once-per-revolution pattern, share of the flux"),
    FIELD(shaft, inertia_kg_m2, 1e-9, 100, "inertia of rotor and load"),
    FIELD(shaft, friction_coulomb_nm, 0, 100, "friction torque that does not depend on speed"),
    FIELD(shaft, friction_viscous_nm_s, 0, 100, "friction torque per mechanical rad/s"),
    FIELD(shaft, cogging_nm, 0, 100, "cogging torque, amplitude"),
    FIELD(inverter, pwm_hz, 2000, 200000, "PWM frequency, also the control rate"),
    FIELD(inverter, dead_time_s, 0, 5e-6, "time for which both switches of a leg are off"),
    FIELD(inverter, switch_resistance_ohm, 0, 1, "on-resistance of one switch"),
    FIELD(inverter, diode_drop_v, 0, 2, "voltage of a conducting diode"),
    FIELD(inverter, soft_current_a, 1e-3, 100, "below this current the dead time acts in part"),
    FIELD(supply, bus_v, 5, 100, "open-circuit voltage of the supply"),
    FIELD(supply, resistance_ohm, 0, 5, "source resistance of the supply"),
    FIELD(sensing, adc_bits, 8, 24, "resolution of every converter channel"),
    FIELD(sensing, current_range_a, 0.1, 2000, "currents are read from -range to +range"),
    FIELD(sensing, current_noise_a, 0, 100, "noise of a current reading, rms"),
    FIELD(sensing, current_offset_a, 0, 100, "bound of a channel's offset"),
    FIELD(sensing, current_gain_tolerance, 0, 0.2, "bound of a current channel's gain error"),
    FIELD(sensing, voltage_range_v, 5, 200, "voltages are read from 0 to range"),
    FIELD(sensing, voltage_noise_v, 0, 10, "noise of a voltage reading, rms"),
    FIELD(sensing, voltage_gain_tolerance, 0, 0.2, "bound of a voltage channel's gain error"),
    FIELD(rotor_sensor, counts, 0, 1e7, "counts per turn; 0 for unlimited resolution"),
    FIELD(rotor_sensor, noise_mech_rad, 0, 0.1, "noise of a reading, rms"),
    FIELD(rotor_sensor, offset_mech_rad, -7, 7, "reading at electrical angle zero"),
    FIELD(drive, current_limit_a, 0.01, 1000, "allowed phase current, peak"),
    FIELD(drive, trip_current_a, 0.01, 2000, "phase current that switches the bridge off"),
    FIELD(drive, bandwidth_hz, 1, 10000, "bandwidth of the current loop"),
    FIELD(drive, resistance_ohm, 0, 100, "what the controller believes"),
    FIELD(drive, inductance_d_h, 1e-7, 1, "what the controller believes"),
    FIELD(drive, inductance_q_h, 1e-7, 1, "what the controller believes"),
    FIELD(drive, flux_linkage_wb, 0, 10, "what the controller believes; 0 when not known"),
    FIELD(drive, speed_gain_a_s, 0, 1000, "speed loop: A per electrical rad/s"),
    FIELD(drive, speed_integral_gain_a, 0, 1e5, "speed loop: A per electrical rad/s per s"),
    FIELD(drive, speed_rad_s, 1, 20000, "highest electrical speed of a spin"),
    FIELD(drive, plateau_s, 0.01, 100, "length of one plateau of a spin"),
};

const cvk_rig_field *cvk_rig_fields(unsigned *count)
{
    *count = sizeof fields / sizeof fields[0];
    return fields;
}

cvk_status cvk_rig_check(const cvk_rig_config *config, const cvk_rig_field **field)
{
    for (unsigned n = 0; n < sizeof fields / sizeof fields[0]; n++) {
        double value = *(const double *)(const void *)((const char *)config + fields[n].offset);
        bool whole =
            fields[n].offset != offsetof(cvk_rig_config, motor.pole_pairs) || value == floor(value);
        if (!(value >= fields[n].low && value <= fields[n].high && whole)) {
            if (field != NULL) {
                *field = &fields[n];
            }
            return CVK_OUT_OF_RANGE;
        }
    }
    return CVK_OK;
}

double cvk_rig_visible_resistance(const cvk_rig_config *config)
{
    return config->motor.resistance_ohm + config->inverter.switch_resistance_ohm;
}

double cvk_rig_dead_time_voltage(const cvk_rig_config *config)
{
    return config->inverter.dead_time_s * config->inverter.pwm_hz *
           (config->supply.bus_v + 2.0 * config->inverter.diode_drop_v);
}
