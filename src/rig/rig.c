/* SPDX-License-Identifier: Apache-2.0
 *
 * The rig as a whole: drawing it by its seed, what the scenario does now, one control period.
 */
#include "parts.h"

#include "corvak/core/units.h"
#include "random.h"

#include <stdlib.h>

cvk_status cvk_rig_init(cvk_rig *rig, const cvk_rig_config *config, uint64_t seed)
{
    cvk_status status = cvk_rig_check(config, NULL);
    if (status != CVK_OK) {
        return status;
    }
    if (cvk_rig_contradiction(config) != NULL || cvk_rig_too_fast(config) != NULL) {
        return CVK_OUT_OF_RANGE;
    }
    *rig = (cvk_rig){.config = cvk_rig_effective(config)};
    rig->state.bus_v = rig->config.supply.bus_v;
    rig->state.winding_degc = rig->config.motor.ambient_degc;
    cvk_rig_random_seed(&rig->random, seed);
    cvk_sensing_draw(rig);
    for (int n = 0; n < CVK_RIG_MAGNET_ORDERS; n++) {
        rig->magnet_phase_rad[n] = 0.5 * CVK_TWO_PI_WIDE * cvk_rig_random_even(&rig->random);
    }
    rig->state.angle_mech_rad = 0.5 * CVK_TWO_PI_WIDE * cvk_rig_random_even(&rig->random);
    rig->state.load_angle_mech_rad = rig->state.angle_mech_rad;
    rig->derived.inv_inertia = 1.0 / rig->config.shaft.inertia_kg_m2;
    rig->derived.inv_load_inertia = rig->config.shaft.load_inertia_kg_m2 > 0.0
                                        ? 1.0 / rig->config.shaft.load_inertia_kg_m2
                                        : 0.0;
    cvk_motor_derive(rig);
    cvk_inverter_derive(rig);
    cvk_switched_derive(rig);
    cvk_supply_derive(rig);
    cvk_sensors_draw(rig);
    cvk_gate_reset(rig);
    cvk_rig_act(rig);
    cvk_rig_place(rig, rig->state.angle_mech_rad);
    return CVK_OK;
}

cvk_status cvk_rig_open(cvk_rig **rig, const cvk_rig_config *config, uint64_t seed)
{
    *rig = malloc(sizeof **rig);
    if (*rig == NULL) {
        return CVK_NO_MEMORY;
    }
    const cvk_status status = cvk_rig_init(*rig, config, seed);
    if (status != CVK_OK) {
        free(*rig);
        *rig = NULL;
    }
    return status;
}

void cvk_rig_close(cvk_rig *rig)
{
    free(rig);
}

void cvk_rig_place(cvk_rig *rig, double angle_mech_rad)
{
    rig->state.angle_mech_rad = rig->state.load_angle_mech_rad = angle_mech_rad;
    rig->rotor = cvk_rotor_at(rig, angle_mech_rad);
    cvk_set_flux(rig, cvk_vec_of(rig->rotor.flux_wb));
}

void cvk_rig_spin(cvk_rig *rig, double speed_mech_rad_s, double load_speed_mech_rad_s)
{
    rig->state.speed_mech_rad_s = speed_mech_rad_s;
    rig->state.load_speed_mech_rad_s = load_speed_mech_rad_s;
}

double cvk_rig_time_s(const cvk_rig *rig)
{
    return rig->time_s;
}

const cvk_rig_state *cvk_rig_state_of(const cvk_rig *rig)
{
    return &rig->state;
}

const cvk_rig_config *cvk_rig_config_of(const cvk_rig *rig)
{
    return &rig->config;
}

bool cvk_rig_bridge_is_on(const cvk_rig *rig)
{
    return rig->bridge_on;
}

void cvk_rig_pass_time(cvk_rig *rig, double time_s)
{
    rig->time_s += time_s;
}

void cvk_rig_true_channel(const cvk_rig *rig, int leg, double *gain, double *offset_a)
{
    *gain = rig->current[leg].gain;
    *offset_a = rig->current[leg].offset;
}

void cvk_rig_start_meter(cvk_rig *rig)
{
    rig->meter = (cvk_rig_meter){.on = true};
}

const cvk_rig_meter *cvk_rig_meter_of(const cvk_rig *rig)
{
    return &rig->meter;
}

void cvk_rig_set_scenario(cvk_rig *rig, const cvk_rig_scenario *scenario)
{
    rig->scenario = *scenario;
    cvk_rig_watch_events(rig);
    cvk_rig_act(rig);
}

void cvk_rig_hold_shaft(cvk_rig *rig, bool held)
{
    rig->shaft_held = held;
    if (held) {
        rig->state.speed_mech_rad_s = 0.0;
    }
}

void cvk_rig_enable_bridge(cvk_rig *rig, bool on)
{
    rig->bridge_on = on;
}

cvk_rig_sample cvk_rig_read(cvk_rig *rig)
{
    cvk_rig_sample sample;
    cvk_sensing_read(rig, &sample);
    cvk_sensors_read(rig, &sample);
    cvk_inputs_read(rig, &sample);
    rig->sensors.last = sample;
    return sample;
}

/* Heat in the winding from the current at the start of the period. */
static void warm(cvk_rig *rig)
{
    cvk_vec i = cvk_current_now(rig);
    double copper_w = 1.5 * cvk_dot(i, i) *
                      (rig->derived.resistance_ohm - rig->config.inverter.switch_resistance_ohm);
    cvk_motor_warm(rig, copper_w, rig->derived.period_s);
}

void cvk_rig_shift(cvk_rig *rig, const double shift[3])
{
    for (int n = 0; n < 3; n++) {
        rig->shift[n] = shift[n];
    }
}

void cvk_rig_advance(cvk_rig *rig, const double duty[3])
{
    const double period_s = rig->derived.period_s, start_s = rig->time_s;
    if (rig->scenario.count > 0) {
        cvk_rig_watch_events(rig);
        cvk_rig_act(rig);
    }
    warm(rig);
    if (cvk_gate_blocks(rig) || !rig->bridge_on) {
        cvk_inverter_off(rig, period_s);
    } else {
        double sent[3];
        cvk_sendable(rig, duty, sent);
        if (rig->config.inverter.fidelity == CVK_FIDELITY_SWITCHED) {
            cvk_inverter_switched(rig, sent);
        } else {
            cvk_inverter_averaged(rig, sent);
        }
        rig->duty[0] = sent[0];
        rig->duty[1] = sent[1];
        rig->duty[2] = sent[2];
    }
    rig->second_half = rig->config.inverter.updates_per_period == 2.0 && !rig->second_half;
    rig->meter.time_s += period_s;
    rig->time_s = start_s + period_s;
}

double cvk_rig_electrical_angle(const cvk_rig *rig)
{
    double turns = rig->config.motor.pole_pairs * rig->state.angle_mech_rad / CVK_TWO_PI_WIDE;
    return CVK_TWO_PI_WIDE * (turns - floor(turns));
}

void cvk_rig_true_current(const cvk_rig *rig, double current_a[3])
{
    cvk_leg_currents(rig, current_a);
}

double cvk_rig_stored_j(const cvk_rig *rig)
{
    const cvk_rig_state *x = &rig->state;
    const cvk_rig_config *c = &rig->config;
    double twist = x->angle_mech_rad - x->load_angle_mech_rad;
    double stored = cvk_field_j(&rig->derived, cvk_own_flux(cvk_flux_now(rig), &rig->rotor));
    stored += 0.5 * c->shaft.inertia_kg_m2 * x->speed_mech_rad_s * x->speed_mech_rad_s;
    if (c->shaft.load_inertia_kg_m2 > 0.0) {
        stored += 0.5 * c->shaft.load_inertia_kg_m2 * x->load_speed_mech_rad_s *
                      x->load_speed_mech_rad_s +
                  0.5 * c->shaft.coupling_nm_rad * twist * twist;
    }
    stored -= c->shaft.cogging_nm / (6.0 * c->motor.pole_pairs) *
              cos(6.0 * c->motor.pole_pairs * x->angle_mech_rad);
    stored += 0.5 * c->supply.capacitor_f * x->bus_v * x->bus_v;
    return stored + 0.5 * c->supply.cable_inductance_h * x->supply_a * x->supply_a;
}
