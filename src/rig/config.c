/* SPDX-License-Identifier: Apache-2.0
 *
 * The table of everything a rig file can set: range, preset, the switch that turns it off, and what
 * it means. The checks and the switches are driven by it.
 */
#include "corvak/rig/config.h"

#include "parts.h"

#include <stddef.h>
#include <string.h>

static const char *const off_on[] = {"off", "on", NULL};
static const char *const yes_no[] = {"yes", "no", NULL};
static const char *const no_yes[] = {"no", "yes", NULL};
static const char *const windings[] = {"star", "delta", NULL};
static const char *const fidelities[] = {"averaged", "switched", NULL};
static const char *const supplies[] = {"battery", "bench", NULL};
static const char *const sensings[] = {"inline", "three_shunts", "two_shunts", "single_shunt",
                                       NULL};
static const char *const orders[] = {"abc", "bca", "cab", "acb", "bac", "cba", NULL};
static const char *const sensors[] = CVK_SENSOR_NAMES;
static const char *const halls[] = {"none", "a", "b", "c", NULL};
static const char *const overcurrents[] = {"cycle", "latch", NULL};

#define AT(section, name) offsetof(cvk_rig_config, section.name)

/* must be given */
#define NEED(section, name, low, high, meaning)                                                    \
    {                                                                                              \
#section, #name, AT(section, name), low, high, NAN, NULL, NULL, meaning                    \
    }
/* may be left out */
#define MAY(section, name, preset, low, high, meaning)                                             \
    {                                                                                              \
#section, #name, AT(section, name), low, high, preset, NULL, NULL, meaning                 \
    }
/* an imperfection with its switch */
#define FLAW(section, name, preset, low, high, off_by, meaning)                                    \
    {                                                                                              \
#section, #name, AT(section, name), low, high, preset, NULL, #off_by, meaning              \
    }
#define PICK(section, name, names, meaning)                                                        \
    {                                                                                              \
#section, #name, AT(section, name), 0, 0, 0, names, NULL, meaning                          \
    }
#define SWITCH(name, meaning)                                                                      \
    {                                                                                              \
        "imperfections", #name, AT(imperfections, name), 0, 0, 1, off_on, NULL, meaning            \
    }

static const cvk_rig_field fields[] = {
    NEED(motor, pole_pairs, 1, 50, "pole pairs, a whole number"),
    NEED(motor, resistance_ohm, 1e-4, 100, "winding resistance, one phase of the star, 25 degC"),
    NEED(motor, inductance_d_h, 5e-7, 0.5, "inductance along the magnet flux, small current"),
    NEED(motor, inductance_q_h, 5e-7, 0.5, "inductance across the magnet flux, small current"),
    NEED(motor, flux_linkage_wb, 1e-5, 5, "peak flux linkage of one phase, 25 degC"),
    FLAW(motor, emf_harmonic_3, 0, -0.3, 0.3, harmonics, "third harmonic, circulates in a delta"),
    FLAW(motor, emf_harmonic_5, 0, -0.2, 0.2, harmonics, "fifth harmonic, share of the flux"),
    FLAW(motor, emf_harmonic_7, 0, -0.2, 0.2, harmonics, "seventh harmonic, share of the flux"),
    FLAW(motor, magnet_spread, 0, 0, 0.2, unequal_magnets, "once-per-turn pattern, share of flux"),
    PICK(motor, winding, windings, "how the coils are joined; values stay those of the star"),
    FLAW(motor, saturation_d_a, 0, 0, 1e4, saturation, "current that halves inductance d; 0 none"),
    FLAW(motor, saturation_q_a, 0, 0, 1e4, saturation, "current that halves inductance q; 0 none"),
    FLAW(motor, saturation_bias, 0, 0, 0.8, saturation, "how far the magnet saturates the d axis"),
    FLAW(motor, cross_saturation, 0, 0, 0.3, saturation, "how far d flux lowers inductance q"),
    FLAW(motor, iron_loss_ohm, 0, 0, 1e6, iron_loss, "resistance beside the back-EMF; 0 no loss"),
    MAY(motor, winding_k_w, 1, 1e-3, 1e3, "thermal resistance, winding to ambient"),
    MAY(motor, winding_j_k, 100, 1e-2, 1e6, "heat capacity of the winding"),
    MAY(motor, ambient_degc, 25, -40, 150, "ambient, and the winding's temperature at the start"),
    FLAW(motor, copper_per_k, 0, 0, 0.01, heating, "resistance per K; copper has 0.0039"),
    FLAW(motor, magnet_per_k, 0, 0, 0.005, heating, "loss of flux per K; NdFeB has 0.0011"),

    NEED(shaft, inertia_kg_m2, 1e-9, 100, "inertia of rotor and load"),
    FLAW(shaft, friction_coulomb_nm, NAN, 0, 100, friction, "friction at any speed"),
    FLAW(shaft, friction_viscous_nm_s, NAN, 0, 100, friction, "friction per mechanical rad/s"),
    FLAW(shaft, friction_static_nm, 0, 0, 100, friction, "breakaway torque; 0 as Coulomb"),
    FLAW(shaft, cogging_nm, NAN, 0, 100, cogging, "cogging torque, amplitude"),
    FLAW(shaft, load_inertia_kg_m2, 0, 0, 100, compliance, "second mass behind a coupling; 0 none"),
    MAY(shaft, coupling_nm_rad, 100, 1e-6, 1e9, "stiffness of the coupling"),
    MAY(shaft, coupling_nm_s, 0, 0, 1e6, "damping of the coupling"),

    PICK(inverter, fidelity, fidelities, "switched: every edge; averaged: fast"),
    NEED(inverter, pwm_hz, 2000, 200000, "PWM frequency"),
    MAY(inverter, updates_per_period, 1, 1, 2, "control calls per PWM period, 1 or 2"),
    FLAW(inverter, dead_time_s, NAN, 0, 5e-6, dead_time, "both switches of a leg are off"),
    FLAW(inverter, minimum_pulse_s, 0, 0, 5e-6, minimum_pulse, "shorter pulses are not sent"),
    MAY(inverter, output_capacitance_f, 2e-10, 1e-11, 1e-6, "of one leg, moved by the current"),
    FLAW(inverter, switch_resistance_ohm, NAN, 0, 1, device_drops, "on-resistance of one switch"),
    FLAW(inverter, diode_drop_v, NAN, 0, 2, device_drops, "voltage of a conducting diode"),
    FLAW(inverter, diode_resistance_ohm, 0, 0, 1, device_drops, "of it; 0: as of the switch"),

    PICK(supply, kind, supplies, "a bench supply takes no current back"),
    NEED(supply, bus_v, 5, 100, "open-circuit voltage of the supply"),
    FLAW(supply, resistance_ohm, NAN, 0, 5, supply_sag, "source resistance of the supply"),
    FLAW(supply, cable_inductance_h, 0, 0, 1e-3, supply_sag, "of the leads to the inverter"),
    MAY(supply, capacitor_f, 1e-3, 1e-6, 1, "bus capacitor at the inverter"),
    FLAW(supply, capacitor_resistance_ohm, 0, 0, 1, supply_sag, "in series with that"),
    MAY(supply, current_limit_a, 0, 0, 1e4, "of a bench supply; 0 none"),

    PICK(sensing, current_sensing, sensings, "where currents are measured"),
    FLAW(sensing, adc_bits, NAN, 8, 24, quantisation, "resolution of every converter channel"),
    NEED(sensing, current_range_a, 0.1, 2000, "currents are read from -range to +range"),
    FLAW(sensing, amplifier_lag_s, 0, 0, 1e-5, amplifier_lag, "age of a current reading"),
    FLAW(sensing, amplifier_range_a, 0, 0, 4000, amplifier_range, "amplifier's end; 0 no limit"),
    FLAW(sensing, current_noise_a, NAN, 0, 100, current_noise, "noise of a current reading, rms"),
    FLAW(sensing, current_offset_a, NAN, 0, 100, current_offset, "bound of a channel's offset"),
    FLAW(sensing, current_drift_a_s, 0, 0, 10, current_drift, "bound of the offset's drift"),
    FLAW(sensing, current_gain_tolerance, NAN, 0, 0.2, current_gain, "bound of the gain error"),
    FLAW(sensing, ringing_a, 0, 0, 1000, ringing, "error right after an edge of the own leg"),
    MAY(sensing, ringing_decay_s, 3e-7, 1e-9, 1e-4, "ringing falls by e in this time"),
    FLAW(sensing, settling_s, 0, 0, 2e-5, settling, "a shunt must carry its current this long"),
    PICK(sensing, terminal_voltages, yes_no, "terminals are measured, bridge off"),
    NEED(sensing, voltage_range_v, 5, 200, "voltages are read from 0 to range"),
    FLAW(sensing, voltage_noise_v, NAN, 0, 10, voltage_noise, "noise of a voltage reading, rms"),
    FLAW(sensing, voltage_gain_tolerance, NAN, 0, 0.2, voltage_gain, "bound of the gain error"),
    FLAW(sensing, temperature_noise_k, 0, 0, 20, temperature_error, "noise of temperature, rms"),
    FLAW(sensing, temperature_offset_k, 0, -50, 50, temperature_error, "error of temperature"),

    PICK(wiring, phases, orders, "motor phases on inverter legs a, b, c"),
    PICK(wiring, sensor_reversed, no_yes, "rotor sensors count against the motor"),
    PICK(wiring, hall_wires, orders, "halls on hall inputs a, b, c"),

    PICK(rotor_sensor, kind, sensors, "what the controller uses"),
    PICK(rotor_sensor, all_fitted, no_yes, "every kind of sensor is there to be logged"),
    PICK(rotor_sensor, calibrated, no_yes, "the controller knows its direction and offset"),
    MAY(rotor_sensor, counts, 0, 0, 1e7, "per turn (encoder: four per line); 0 unlimited"),
    FLAW(rotor_sensor, noise_mech_rad, 0, 0, 0.1, absolute_noise, "absolute: noise, rms"),
    MAY(rotor_sensor, offset_mech_rad, 0, -7, 7, "reading at electrical angle zero"),
    FLAW(rotor_sensor, harmonic_1_mech_rad, 0, -0.3, 0.3, absolute_harmonics,
         "absolute: error once per turn"),
    FLAW(rotor_sensor, harmonic_2_mech_rad, 0, -0.3, 0.3, absolute_harmonics,
         "absolute: error twice per turn"),
    FLAW(rotor_sensor, latency_s, 0, 0, 1e-3, absolute_latency, "absolute: age of the reading"),
    MAY(rotor_sensor, index, 1, 0, 1, "encoder: 1 with an index mark, 0 without"),
    FLAW(rotor_sensor, eccentricity_mech_rad, 0, -0.3, 0.3, encoder_eccentricity,
         "encoder: error once per turn"),
    FLAW(rotor_sensor, missing_share, 0, 0, 0.5, encoder_missing, "encoder: share of lost counts"),
    MAY(rotor_sensor, periods_per_turn, 0, 0, 128, "sin/cos: 0 for one per pole pair"),
    MAY(rotor_sensor, amplitude_v, 1, 0.01, 10, "sin/cos: amplitude"),
    FLAW(rotor_sensor, centre_offset_v, 0, 0, 5, sincos_ellipse, "sin/cos: bound of the offsets"),
    FLAW(rotor_sensor, gain_mismatch, 0, 0, 0.5, sincos_ellipse, "sin/cos: bound, share"),
    FLAW(rotor_sensor, quadrature_rad, 0, 0, 0.5, sincos_ellipse, "sin/cos: bound"),
    FLAW(rotor_sensor, harmonic_3, 0, -0.3, 0.3, sincos_harmonic, "sin/cos: third harmonic, share"),
    FLAW(rotor_sensor, sincos_noise_v, 0, 0, 1, sincos_noise, "sin/cos: noise, rms"),
    FLAW(rotor_sensor, hall_misplacement_e_rad, 0, 0, 0.5, hall_misplacement,
         "halls: bound of each one's place, electrical"),
    FLAW(rotor_sensor, hall_hysteresis_e_rad, 0, 0, 0.5, hall_hysteresis,
         "halls: full width, electrical"),
    FLAW(rotor_sensor, hall_bounce_s, 0, 0, 1e-2, hall_bounce, "halls: random this long at edges"),
    {"rotor_sensor", "hall_dead", AT(rotor_sensor, hall_dead), 0, 0, 0, halls, "hall_dead",
     "halls: one that never changes"},
    MAY(rotor_sensor, tachometer_v_s, 0.01, 1e-6, 100, "tachometer: V per mechanical rad/s"),
    FLAW(rotor_sensor, tachometer_ripple, 0, 0, 0.5, tachometer_ripple, "tachometer: share"),
    FLAW(rotor_sensor, tachometer_noise_v, 0, 0, 10, tachometer_noise, "tachometer: noise, rms"),

    MAY(gate_driver, overcurrent_a, 0, 0, 4000, "full scale of the comparator; 0 no comparator"),
    PICK(gate_driver, overcurrent_mode, overcurrents, "cycle: limits each period; latch: stops"),
    MAY(gate_driver, hot_degc, 150, 0, 300, "winding temperature of the over-temperature bit"),

    FLAW(inputs, pulse_noise_s, 0, 0, 1e-3, input_noise, "pedal pulse: noise of its length, rms"),
    FLAW(inputs, pulse_loss, 0, 0, 1, input_loss, "share of pulses that do not arrive"),
    FLAW(inputs, pedal_noise_v, 0, 0, 5, input_noise, "analogue pedal: noise, rms"),
    FLAW(inputs, digital_loss, 0, 0, 1, input_loss, "share of digital set-points that are lost"),

    SWITCH(saturation, "inductances fall with current"),
    SWITCH(harmonics, "back-EMF is not a pure sine"),
    SWITCH(unequal_magnets, "back-EMF has a once-per-turn pattern"),
    SWITCH(cogging, "torque ripple without current"),
    SWITCH(iron_loss, "loss and drag in the iron"),
    SWITCH(heating, "temperature changes resistance and flux"),
    SWITCH(friction, "friction of all kinds"),
    SWITCH(compliance, "second mass; off: it is rigidly joined"),
    SWITCH(dead_time, "dead time takes voltage"),
    SWITCH(device_drops, "switches and diodes drop voltage"),
    SWITCH(minimum_pulse, "short pulses are swallowed"),
    SWITCH(supply_sag, "bus voltage follows the load"),
    SWITCH(current_noise, "noise of current readings"),
    SWITCH(current_offset, "offsets of current channels"),
    SWITCH(current_drift, "offsets wander"),
    SWITCH(current_gain, "gain errors of current channels"),
    SWITCH(amplifier_lag, "current readings are late"),
    SWITCH(amplifier_range, "current amplifiers saturate"),
    SWITCH(ringing, "readings ring after an edge"),
    SWITCH(settling, "shunt windows can be too short"),
    SWITCH(quantisation, "converters have steps"),
    SWITCH(voltage_noise, "noise of voltage readings"),
    SWITCH(voltage_gain, "gain errors of voltage channels"),
    SWITCH(temperature_error, "noise and offset of the temperature"),
    SWITCH(absolute_noise, "absolute sensor: noise"),
    SWITCH(absolute_harmonics, "absolute sensor: errors once and twice per turn"),
    SWITCH(absolute_latency, "absolute sensor: old readings"),
    SWITCH(encoder_eccentricity, "encoder: error once per turn"),
    SWITCH(encoder_missing, "encoder: lost counts"),
    SWITCH(sincos_ellipse, "sin/cos: offsets, gains, quadrature"),
    SWITCH(sincos_harmonic, "sin/cos: third harmonic"),
    SWITCH(sincos_noise, "sin/cos: noise"),
    SWITCH(hall_misplacement, "halls: not 120 degrees apart"),
    SWITCH(hall_hysteresis, "halls: switch late"),
    SWITCH(hall_bounce, "halls: bounce"),
    SWITCH(hall_dead, "halls: one is dead"),
    SWITCH(tachometer_ripple, "tachometer: ripple"),
    SWITCH(tachometer_noise, "tachometer: noise"),
    SWITCH(input_noise, "set-point wires: noise"),
    SWITCH(input_loss, "set-point wires: losses"),
};

enum { FIELDS = sizeof fields / sizeof fields[0] };

const cvk_rig_field *cvk_rig_fields(unsigned *count)
{
    *count = FIELDS;
    return fields;
}

static bool is_choice(const cvk_rig_field *field)
{
    return field->names != NULL;
}

double cvk_rig_field_value(const cvk_rig_config *config, const cvk_rig_field *field)
{
    const void *place = (const char *)config + field->offset;
    return is_choice(field) ? (double)*(const int *)place : *(const double *)place;
}

void cvk_rig_field_set(cvk_rig_config *config, const cvk_rig_field *field, double value)
{
    void *place = (char *)config + field->offset;
    if (is_choice(field)) {
        *(int *)place = (int)value;
    } else {
        *(double *)place = value;
    }
}

cvk_rig_config cvk_rig_config_default(void)
{
    cvk_rig_config config = {.name = "", .tune = cvk_settings_default()};
    for (unsigned n = 0; n < FIELDS; n++) {
        cvk_rig_field_set(&config, &fields[n], fields[n].preset);
    }
    return config;
}

static int names_of(const cvk_rig_field *field)
{
    int count = 0;
    while (field->names[count] != NULL) {
        count++;
    }
    return count;
}

static bool in_range(const cvk_rig_field *field, double value)
{
    static const unsigned whole[] = {AT(motor, pole_pairs), AT(inverter, updates_per_period),
                                     AT(rotor_sensor, index), AT(rotor_sensor, periods_per_turn)};
    if (is_choice(field)) {
        return value >= 0.0 && value < names_of(field);
    }
    for (unsigned n = 0; n < sizeof whole / sizeof whole[0]; n++) {
        if (field->offset == whole[n] && value != floor(value)) {
            return false;
        }
    }
    return value >= field->low && value <= field->high;
}

cvk_status cvk_rig_check(const cvk_rig_config *config, const cvk_rig_field **field)
{
    for (unsigned n = 0; n < FIELDS; n++) {
        if (!in_range(&fields[n], cvk_rig_field_value(config, &fields[n]))) {
            if (field != NULL) {
                *field = &fields[n];
            }
            return CVK_OUT_OF_RANGE;
        }
    }
    return CVK_OK;
}

bool cvk_rig_switch(cvk_rig_config *config, const char *imperfection, bool on)
{
    bool found = false;
    for (unsigned n = 0; n < FIELDS; n++) {
        if (strcmp(fields[n].section, "imperfections") == 0 &&
            (strcmp(imperfection, "all") == 0 || strcmp(imperfection, fields[n].name) == 0)) {
            cvk_rig_field_set(config, &fields[n], on);
            found = true;
        }
    }
    return found;
}

static bool is_on(const cvk_rig_config *config, const char *imperfection)
{
    for (unsigned n = 0; n < FIELDS; n++) {
        if (strcmp(fields[n].section, "imperfections") == 0 &&
            strcmp(fields[n].name, imperfection) == 0) {
            return cvk_rig_field_value(config, &fields[n]) != 0.0;
        }
    }
    return true;
}

cvk_rig_config cvk_rig_effective(const cvk_rig_config *config)
{
    cvk_rig_config effective = *config;
    if (!config->imperfections.compliance) {
        effective.shaft.inertia_kg_m2 += config->shaft.load_inertia_kg_m2;
    }
    for (unsigned n = 0; n < FIELDS; n++) {
        if (fields[n].imperfection != NULL && !is_on(config, fields[n].imperfection)) {
            cvk_rig_field_set(&effective, &fields[n], 0.0);
        }
    }
    return effective;
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
