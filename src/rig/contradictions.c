/* SPDX-License-Identifier: Apache-2.0
 *
 * Rigs whose fields are each in range, but contradict each other or cannot be simulated.
 */
#include "corvak/rig/config.h"

#include "parts.h"

#include <stddef.h>

#define SLOWEST_RAD_S 10.0 /* of the shaft: a motor that is slower without load is mistyped */

const char *cvk_rig_too_fast(const cvk_rig_config *config)
{
    const cvk_rig_motor *motor = &config->motor;
    const cvk_rig_shaft *shaft = &config->shaft;
    const double period_s = 1.0 / config->inverter.pwm_hz, p = motor->pole_pairs;
    double low_h = fmin(motor->inductance_d_h, motor->inductance_q_h);
    double spring =
        1.5 * pow(p * motor->flux_linkage_wb, 2.0) / low_h + 6.0 * p * shaft->cogging_nm;
    double no_load_rad_s = config->supply.bus_v / sqrt(3.0) / (p * motor->flux_linkage_wb);
    if (cvk_rig_wanted_steps(config) > CVK_RIG_MOST_STEPS) {
        return "the winding settles in far less than a PWM period (inductance, or what saturation "
               "leaves of it at protect.trip_current_a, against resistance and dead time): raise "
               "motor.inductance_d_h, inductance_q_h, saturation_d_a, saturation_q_a or "
               "inverter.pwm_hz";
    }
    if (sqrt(spring / shaft->inertia_kg_m2) * period_s > 1.0 ||
        shaft->friction_viscous_nm_s / shaft->inertia_kg_m2 * period_s > 1.0) {
        return no_load_rad_s < SLOWEST_RAD_S
                   ? "the magnet holds the rotor so stiffly that it swings within a PWM period: "
                     "motor.flux_linkage_wb is too large (it is in Wb, not mWb), or "
                     "shaft.inertia_kg_m2 too small, or inverter.pwm_hz"
                   : "shaft.inertia_kg_m2 is so small that the shaft swings or settles within a "
                     "PWM period: raise it, or inverter.pwm_hz";
    }
    if (config->tune.protect.trip_current_a * period_s / config->supply.capacitor_f >
        0.5 * config->supply.bus_v) {
        return "supply.capacitor_f is so small that protect.trip_current_a takes half the bus "
               "within a PWM period: raise it";
    }
    return NULL;
}

const char *cvk_rig_contradiction(const cvk_rig_config *config)
{
    const cvk_rig_motor *motor = &config->motor;
    const cvk_rig_inverter *inverter = &config->inverter;
    const cvk_rig_shaft *shaft = &config->shaft;
    double half_s = 0.5 / inverter->pwm_hz;
    if (motor->cross_saturation > 0.0 &&
        (motor->saturation_d_a == 0.0 || motor->saturation_q_a == 0.0)) {
        return "motor.cross_saturation needs saturation_d_a and saturation_q_a: give both";
    }
    if (inverter->updates_per_period == 2.0 &&
        config->sensing.current_sensing != CVK_SENSING_INLINE) {
        return "inverter.updates_per_period 2 needs sensing.current_sensing inline: at the "
               "carrier's peak no low-side shunt carries current";
    }
    if (inverter->dead_time_s > 0.2 * half_s || inverter->minimum_pulse_s > 0.2 * half_s) {
        return "inverter.dead_time_s and minimum_pulse_s may each take at most a tenth of the PWM "
               "period: shorten them or lower pwm_hz";
    }
    if (shaft->friction_static_nm != 0.0 &&
        shaft->friction_static_nm < shaft->friction_coulomb_nm) {
        return "shaft.friction_static_nm is below friction_coulomb_nm: a shaft breaks away at the "
               "Coulomb friction or above; 0 means as Coulomb";
    }
    if (shaft->load_inertia_kg_m2 > 0.0) {
        double ringing = sqrt(shaft->coupling_nm_rad *
                              (1.0 / shaft->inertia_kg_m2 + 1.0 / shaft->load_inertia_kg_m2));
        double damping =
            shaft->coupling_nm_s / fmin(shaft->inertia_kg_m2, shaft->load_inertia_kg_m2);
        if (ringing > 0.5 / half_s || damping > 0.5 / half_s) {
            return "the coupling rings or settles within a PWM period: lower shaft.coupling_nm_rad "
                   "or coupling_nm_s, or set load_inertia_kg_m2 to 0 and add it to inertia_kg_m2";
        }
    }
    if (config->rotor_sensor.counts == 0.0 &&
        (config->rotor_sensor.kind == CVK_ROTOR_ENCODER || config->rotor_sensor.all_fitted)) {
        return "an encoder needs rotor_sensor.counts: give its counts per turn (four per line)";
    }
    return NULL;
}
