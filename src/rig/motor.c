/* SPDX-License-Identifier: Apache-2.0
 *
 * The motor: what its magnets put through the windings, how its inductances saturate, and what
 * temperature does to it. The electrical state is the flux linkage in the stationary frame,
 * d psi/dt = v - R i, with psi = (own flux of the currents, rotor frame) turned + magnet flux. The
 * magnet flux is a function of the mechanical angle, so that unequal magnets and harmonics are
 * consistent in back-EMF and torque.
 */
#include "parts.h"

#define REFERENCE_DEGC 25.0

static cvk_rig_rotor rotor_from(const cvk_rig *rig, double angle_rad, cvk_vec m, cvk_vec e)
{
    const cvk_rig_motor *motor = &rig->config.motor;
    const double p = motor->pole_pairs, flux = rig->derived.flux_linkage_wb;
    double ripple = 0.0, ripple_slope = 0.0;
    if (motor->magnet_spread > 0.0) {
        cvk_vec power = m;
        for (int n = 0; n < CVK_RIG_MAGNET_ORDERS; n++, power *= m) {
            cvk_vec part = cvk_vec_of(rig->derived.magnet[n]) * power;
            ripple += creal(part);
            ripple_slope -= (n + 1) * cimag(part);
        }
    }
    cvk_vec e2 = e * e, e4 = e2 * e2, e6 = e4 * e2;
    cvk_vec h5 = motor->emf_harmonic_5 * conj(e4 * e), h7 = motor->emf_harmonic_7 * (e6 * e);
    return (cvk_rig_rotor){
        .angle_mech_rad = angle_rad,
        .mech = cvk_vector_from(m),
        .electrical = cvk_vector_from(e),
        .flux_wb = cvk_vector_from(flux * (e * (1.0 + ripple) + h5 + h7)),
        .slope_wb = cvk_vector_from(flux * (e * (ripple_slope + I * (p * (1.0 + ripple))) +
                                            I * (p * (7.0 * h7 - 5.0 * h5)))),
        .cogging_nm = rig->config.shaft.cogging_nm * cimag(e6),
    };
}

static cvk_vec turn_of(double angle_rad)
{
    return cos(angle_rad) + I * sin(angle_rad);
}

/* The same by a power series, for |angle| below 0.8: within 1e-12 */
static cvk_vec small_turn_of(double x)
{
    const double y = x * x, z = y * y;
    double c = 1.0 - y * (1.0 / 2.0) + z * (1.0 / 24.0 - y * (1.0 / 720.0)) +
               z * z * (1.0 / 40320.0 - y * (1.0 / 3628800.0) + z * (1.0 / 479001600.0));
    double s = 1.0 - y * (1.0 / 6.0) + z * (1.0 / 120.0 - y * (1.0 / 5040.0)) +
               z * z * (1.0 / 362880.0 - y * (1.0 / 39916800.0));
    return c + I * (x * s);
}

cvk_rig_rotor cvk_rotor_at(const cvk_rig *rig, double angle_mech_rad)
{
    return rotor_from(rig, angle_mech_rad, turn_of(angle_mech_rad),
                      turn_of(rig->config.motor.pole_pairs * angle_mech_rad));
}

cvk_rig_rotor cvk_rotor_turned(const cvk_rig *rig, const cvk_rig_rotor *from, double by_mech_rad,
                               cvk_vec *half)
{
    const double angle_rad = from->angle_mech_rad + by_mech_rad;
    const double half_e_rad = 0.5 * rig->config.motor.pole_pairs * by_mech_rad;
    if (!(fabs(half_e_rad) < 0.8)) {
        *half = turn_of(half_e_rad);
        return cvk_rotor_at(rig, angle_rad);
    }
    *half = small_turn_of(half_e_rad);
    cvk_vec m = cvk_vec_of(from->mech);
    if (rig->config.motor.magnet_spread > 0.0) {
        m *= small_turn_of(by_mech_rad);
    }
    return rotor_from(rig, angle_rad, m, cvk_vec_of(from->electrical) * (*half * *half));
}

void cvk_rotor_nudge(const cvk_rig *rig, cvk_rig_rotor *rotor, double by_mech_rad)
{
    const double p = rig->config.motor.pole_pairs, by_e = p * by_mech_rad;
    const cvk_vec turn = 1.0 - 0.5 * by_e * by_e + I * by_e;
    const cvk_vec flux = cvk_vec_of(rotor->flux_wb), slope = cvk_vec_of(rotor->slope_wb);
    rotor->angle_mech_rad += by_mech_rad;
    rotor->mech = cvk_vector_from(cvk_vec_of(rotor->mech) * (1.0 + I * by_mech_rad));
    rotor->electrical = cvk_vector_from(cvk_vec_of(rotor->electrical) * turn);
    rotor->flux_wb = cvk_vector_from(flux + by_mech_rad * (slope - 0.5 * by_e * p * flux));
    rotor->slope_wb = cvk_vector_from(slope * turn);
}

/* Scale of an axis whose incremental inductance halves at this current:
 * 3 b u + 3 u^2 = 1 there, and the current is u (1 + 1.5 b u + u^2) / (scale L). */
static double saturation_scale(double half_current_a, double inductance_h, double bias)
{
    if (half_current_a <= 0.0) {
        return 0.0;
    }
    double u = (sqrt(9.0 * bias * bias + 12.0) - 3.0 * bias) / 6.0;
    return u * (1.0 + u * (1.5 * bias + u)) / (half_current_a * inductance_h);
}

/* Power that the third harmonic's current takes in a closed delta, over squared speed. The three
 * coils in series see three times the coil's third harmonic; a coil has sqrt(3) times the flux and
 * three times the resistance and inductance of the star's phase. */
static double circulating_drag(const cvk_rig_motor *motor)
{
    double per_rad_s =
        SQRT3 * 3.0 * motor->pole_pairs * motor->emf_harmonic_3 * motor->flux_linkage_wb;
    return motor->winding == CVK_WINDING_DELTA
               ? 1.5 * per_rad_s * per_rad_s / (3.0 * motor->resistance_ohm)
               : 0.0;
}

static void set_temperature(cvk_rig *rig)
{
    const cvk_rig_motor *motor = &rig->config.motor;
    cvk_rig_derived *d = &rig->derived;
    double above_k = rig->state.winding_degc - REFERENCE_DEGC;
    d->resistance_ohm = motor->resistance_ohm * (1.0 + motor->copper_per_k * above_k) +
                        rig->config.inverter.switch_resistance_ohm;
    d->flux_linkage_wb = motor->flux_linkage_wb * (1.0 - motor->magnet_per_k * above_k);
    d->weaken = 1.0 / (1.0 + d->resistance_ohm * d->inv_iron);
}

void cvk_motor_derive(cvk_rig *rig)
{
    const cvk_rig_motor *motor = &rig->config.motor;
    cvk_rig_derived *d = &rig->derived;
    d->inv_ld = 1.0 / motor->inductance_d_h;
    d->inv_lq = 1.0 / motor->inductance_q_h;
    d->bias = motor->saturation_bias;
    d->cross = motor->cross_saturation;
    d->scale_d = saturation_scale(motor->saturation_d_a, motor->inductance_d_h, d->bias);
    d->scale_q = saturation_scale(motor->saturation_q_a, motor->inductance_q_h, 0.0);
    d->inv_iron = motor->iron_loss_ohm > 0.0 ? 1.0 / motor->iron_loss_ohm : 0.0;
    d->circulating_nm_s = circulating_drag(motor);
    for (int n = 0; n < CVK_RIG_MAGNET_ORDERS; n++) {
        d->magnet[n] =
            cvk_vector_from(motor->magnet_spread / (n + 1) * turn_of(rig->magnet_phase_rad[n]));
    }
    set_temperature(rig);
}

void cvk_motor_warm(cvk_rig *rig, double copper_w, double dt_s)
{
    const cvk_rig_motor *motor = &rig->config.motor;
    if (motor->copper_per_k == 0.0 && motor->magnet_per_k == 0.0) {
        return;
    }
    double cooling_w = (rig->state.winding_degc - motor->ambient_degc) / motor->winding_k_w;
    rig->state.winding_degc += dt_s * (copper_w - cooling_w) / motor->winding_j_k;
    set_temperature(rig);
    if (rig->state.speed_mech_rad_s == 0.0) { /* the magnets of a rotor that stands weaken, too */
        rig->rotor = cvk_rotor_at(rig, rig->state.angle_mech_rad);
        cvk_set_flux(rig, cvk_flux_now(rig));
    }
}

double cvk_field_j(const cvk_rig_derived *d, cvk_vec own_wb)
{
    double xd = creal(own_wb), xq = cimag(own_wb), u = xd * d->scale_d, w = xq * d->scale_q;
    return 1.5 * (0.5 * xd * xd * d->inv_ld * (1.0 + d->bias * u + 0.5 * u * u) +
                  0.5 * xq * xq * d->inv_lq * (1.0 + 0.5 * w * w + d->cross * u * (2.0 + u)));
}

/* Reciprocal incremental inductances: the derivative of cvk_current_dq(). */
static void stiffness(const cvk_rig_derived *d, cvk_vec own_wb, double *dd, double *qq, double *dq)
{
    double xd = creal(own_wb), xq = cimag(own_wb), u = xd * d->scale_d, w = xq * d->scale_q;
    *dd = d->inv_ld * (1.0 + u * (3.0 * d->bias + 3.0 * u)) +
          d->cross * d->inv_lq * d->scale_d * d->scale_d * xq * xq;
    *qq = d->inv_lq * (1.0 + 3.0 * w * w + d->cross * u * (2.0 + u));
    *dq = 2.0 * d->cross * d->inv_lq * d->scale_d * (1.0 + u) * xq;
}

static cvk_vec own_flux_of(const cvk_rig_derived *d, cvk_vec current_dq)
{
    cvk_vec x = creal(current_dq) / d->inv_ld + I * (cimag(current_dq) / d->inv_lq);
    for (int n = 0; n < 30 && d->scale_d + d->scale_q > 0.0; n++) {
        cvk_vec miss = current_dq - cvk_current_dq(d, x);
        double dd, qq, dq;
        stiffness(d, x, &dd, &qq, &dq);
        double det = dd * qq - dq * dq;
        x += (qq * creal(miss) - dq * cimag(miss)) / det +
             I * ((dd * cimag(miss) - dq * creal(miss)) / det);
    }
    return x;
}

cvk_vec cvk_flux_of(const cvk_rig_derived *d, cvk_vec current_a, const cvk_rig_rotor *rotor)
{
    cvk_vec e = cvk_vec_of(rotor->electrical);
    return own_flux_of(d, current_a * conj(e)) * e + cvk_vec_of(rotor->flux_wb);
}

void cvk_rig_flux_at(const cvk_rig_config *config, double d_a, double q_a, double *d_wb,
                     double *q_wb)
{
    static const cvk_rig blank;
    cvk_rig rig = blank;
    rig.config = cvk_rig_effective(config);
    rig.state.winding_degc = REFERENCE_DEGC;
    cvk_motor_derive(&rig);
    cvk_vec x = own_flux_of(&rig.derived, d_a + I * q_a);
    *d_wb = creal(x) + config->motor.flux_linkage_wb;
    *q_wb = cimag(x);
}

void cvk_rig_true_inductance(const cvk_rig *rig, double *d_h, double *q_h, double *cross_h)
{
    double dd, qq, dq;
    stiffness(&rig->derived, cvk_own_flux(cvk_flux_now(rig), &rig->rotor), &dd, &qq, &dq);
    double det = dd * qq - dq * dq;
    *d_h = qq / det;
    *q_h = dd / det;
    *cross_h = -dq / det;
}
