/* SPDX-License-Identifier: Apache-2.0
 *
 * Motor, averaged inverter and shaft. The electrical state is the flux linkage in the stationary
 * frame, d psi/dt = v - R i, with psi = Ld id + Lq iq (as a vector) + magnet flux. The magnet flux
 * is a function of the mechanical angle, so that unequal magnets and harmonics are consistent in
 * back-EMF and torque: torque = 1.5 (p (Ld - Lq) id iq + Re(conj(i) d flux/d angle)).
 * Integrated by the classical fourth-order Runge-Kutta rule.
 */
#include "physics.h"

#include <math.h>

/* Below this speed Coulomb friction acts in part: keeps a resting shaft numerically at rest. */
#define FRICTION_SPEED_RAD_S 0.02

cvk_magnet_flux cvk_rig_magnet_flux(const cvk_rig *rig, double angle_rad)
{
    const cvk_rig_motor *motor = &rig->config.motor;
    const double p = motor->pole_pairs;
    double electrical_rad = p * angle_rad;
    cvk_vec e1 = cos(electrical_rad) + I * sin(electrical_rad);
    cvk_vec e2 = e1 * e1;
    cvk_vec e5c = conj(e2 * e2 * e1);
    cvk_vec e7 = conj(e5c) * e2;

    double ripple = 0.0, ripple_slope = 0.0;
    for (int n = 0; n < CVK_RIG_MAGNET_ORDERS && motor->magnet_spread > 0.0; n++) {
        double order = n + 1;
        double phase = order * angle_rad + rig->magnet_phase_rad[n];
        ripple += motor->magnet_spread / order * cos(phase);
        ripple_slope -= motor->magnet_spread * sin(phase);
    }
    double h5 = motor->emf_harmonic_5, h7 = motor->emf_harmonic_7;
    cvk_magnet_flux m = {
        .flux_wb = motor->flux_linkage_wb * (e1 * (1.0 + ripple) + h5 * e5c + h7 * e7),
        .slope_wb = motor->flux_linkage_wb * (e1 * (ripple_slope + I * p * (1.0 + ripple)) -
                                              I * 5.0 * p * h5 * e5c + I * 7.0 * p * h7 * e7),
        .electrical = e1,
    };
    return m;
}

cvk_vec cvk_rig_current_of(const cvk_rig_motor *motor, cvk_vec flux_wb, const cvk_magnet_flux *m)
{
    cvk_vec own = (flux_wb - m->flux_wb) * conj(m->electrical);
    return (creal(own) / motor->inductance_d_h + I * (cimag(own) / motor->inductance_q_h)) *
           m->electrical;
}

cvk_vec cvk_rig_flux_of(const cvk_rig_motor *motor, cvk_vec current_a, const cvk_magnet_flux *m)
{
    cvk_vec dq = current_a * conj(m->electrical);
    return (creal(dq) * motor->inductance_d_h + I * (cimag(dq) * motor->inductance_q_h)) *
               m->electrical +
           m->flux_wb;
}

void cvk_rig_to_phases(cvk_vec v, double phase[3])
{
    const double half_sqrt3 = 0.86602540378443864676;
    phase[0] = creal(v);
    phase[1] = -0.5 * creal(v) + half_sqrt3 * cimag(v);
    phase[2] = -0.5 * creal(v) - half_sqrt3 * cimag(v);
}

static cvk_vec from_phases(const double phase[3])
{
    const double inv_sqrt3 = 0.57735026918962576451;
    return (2.0 * phase[0] - phase[1] - phase[2]) / 3.0 + I * inv_sqrt3 * (phase[1] - phase[2]);
}

/* Average voltage at the terminals over a period: duty times bus, less the switch's drop and what
 * the dead time and the diodes take. */
static cvk_vec inverter_voltage(const cvk_rig *rig, const double duty[3], cvk_vec current_a)
{
    const cvk_rig_inverter *inverter = &rig->config.inverter;
    const double lost_v =
        inverter->dead_time_s * inverter->pwm_hz * (rig->bus_v + 2.0 * inverter->diode_drop_v);
    double i[3], v[3];
    cvk_rig_to_phases(current_a, i);
    for (int n = 0; n < 3; n++) {
        double share = fmax(-1.0, fmin(1.0, i[n] / inverter->soft_current_a));
        v[n] = duty[n] * rig->bus_v - inverter->switch_resistance_ohm * i[n] - lost_v * share;
    }
    return from_phases(v);
}

static double shaft_torque(const cvk_rig *rig, cvk_vec current_a, const cvk_magnet_flux *m,
                           double angle_rad, double speed_rad_s)
{
    const cvk_rig_motor *motor = &rig->config.motor;
    const cvk_rig_shaft *shaft = &rig->config.shaft;
    cvk_vec dq = current_a * conj(m->electrical);
    double reluctance =
        motor->pole_pairs * (motor->inductance_d_h - motor->inductance_q_h) * creal(dq) * cimag(dq);
    double torque = 1.5 * (reluctance + creal(conj(current_a) * m->slope_wb));
    torque -= shaft->friction_viscous_nm_s * speed_rad_s;
    torque -= shaft->friction_coulomb_nm * tanh(speed_rad_s / FRICTION_SPEED_RAD_S);
    torque -= shaft->cogging_nm * sin(6.0 * motor->pole_pairs * angle_rad);
    return torque;
}

typedef struct slope {
    cvk_vec flux;
    double speed, angle;
} slope;

static slope slope_at(const cvk_rig *rig, const double duty[3], cvk_vec flux_wb, double angle_rad,
                      double speed_rad_s)
{
    cvk_magnet_flux m = cvk_rig_magnet_flux(rig, angle_rad);
    cvk_vec i = cvk_rig_current_of(&rig->config.motor, flux_wb, &m);
    slope s = {.angle = speed_rad_s};
    s.flux = inverter_voltage(rig, duty, i) - rig->config.motor.resistance_ohm * i;
    if (!rig->shaft_held) {
        s.speed =
            shaft_torque(rig, i, &m, angle_rad, speed_rad_s) / rig->config.shaft.inertia_kg_m2;
    }
    return s;
}

void cvk_rig_integrate(cvk_rig *rig, const double duty[3], double dt_s)
{
    cvk_rig_state *x = &rig->state;
    cvk_vec psi = x->flux_alpha_wb + I * x->flux_beta_wb;
    const double h = 0.5 * dt_s;
    slope a = slope_at(rig, duty, psi, x->angle_mech_rad, x->speed_mech_rad_s);
    slope b = slope_at(rig, duty, psi + h * a.flux, x->angle_mech_rad + h * a.angle,
                       x->speed_mech_rad_s + h * a.speed);
    slope c = slope_at(rig, duty, psi + h * b.flux, x->angle_mech_rad + h * b.angle,
                       x->speed_mech_rad_s + h * b.speed);
    slope d = slope_at(rig, duty, psi + dt_s * c.flux, x->angle_mech_rad + dt_s * c.angle,
                       x->speed_mech_rad_s + dt_s * c.speed);
    const double sixth = dt_s / 6.0;
    psi += sixth * (a.flux + 2.0 * b.flux + 2.0 * c.flux + d.flux);
    x->flux_alpha_wb = creal(psi);
    x->flux_beta_wb = cimag(psi);
    x->angle_mech_rad += sixth * (a.angle + 2.0 * b.angle + 2.0 * c.angle + d.angle);
    x->speed_mech_rad_s += sixth * (a.speed + 2.0 * b.speed + 2.0 * c.speed + d.speed);
}

void cvk_rig_integrate_off(cvk_rig *rig, double dt_s)
{
    const cvk_rig_motor *motor = &rig->config.motor;
    cvk_rig_state *x = &rig->state;
    cvk_magnet_flux m = cvk_rig_magnet_flux(rig, x->angle_mech_rad);
    cvk_vec i = cvk_rig_current_of(motor, x->flux_alpha_wb + I * x->flux_beta_wb, &m);
    /* the diodes put about 2/3 of the bus against the current until it is gone */
    double fall_a =
        2.0 / 3.0 * rig->bus_v / fmax(motor->inductance_d_h, motor->inductance_q_h) * dt_s;
    double length_a = cabs(i);
    i = length_a > fall_a ? i * (1.0 - fall_a / length_a) : 0.0;
    if (!rig->shaft_held) {
        double h = 0.5 * dt_s;
        double mid_angle = x->angle_mech_rad + h * x->speed_mech_rad_s;
        double mid_speed = x->speed_mech_rad_s +
                           h * shaft_torque(rig, i, &m, x->angle_mech_rad, x->speed_mech_rad_s) /
                               rig->config.shaft.inertia_kg_m2;
        cvk_magnet_flux mid = cvk_rig_magnet_flux(rig, mid_angle);
        x->angle_mech_rad += dt_s * mid_speed;
        x->speed_mech_rad_s += dt_s * shaft_torque(rig, i, &mid, mid_angle, mid_speed) /
                               rig->config.shaft.inertia_kg_m2;
    }
    m = cvk_rig_magnet_flux(rig, x->angle_mech_rad);
    cvk_vec psi = cvk_rig_flux_of(motor, i, &m);
    x->flux_alpha_wb = creal(psi);
    x->flux_beta_wb = cimag(psi);
}
