/* SPDX-License-Identifier: Apache-2.0
 *
 * The averaged inverter: each leg's mean voltage over a control period, dead time and diodes
 * included. Also what both inverters share: wiring, sendable duties, a short between wires, the
 * windows of a single shunt.
 */
#include "parts.h"

/* Fastest time constant against one integration step: keeps the Runge-Kutta error far below the
 * converters' resolution. */
#define LARGEST_STEP 0.5
#define LEAST_CROSSOVER_A 1e-3
/* The current that moves a leg counts as it is a third of the way on, which is two thirds of its
 * mean lateness, with a quarter of what the leg's own way does to it. */
#define COUNTS (2.0 / 3)
#define OWN_WAY 0.25
#define SHORT_OHM 0.01

const int *cvk_order(cvk_rig_phases phases)
{
    static const int orders_of[][3] = {{0, 1, 2}, {1, 2, 0}, {2, 0, 1},
                                       {0, 2, 1}, {1, 0, 2}, {2, 1, 0}};
    return orders_of[phases];
}

double cvk_rig_crossover_current(const cvk_rig_config *config)
{
    const cvk_rig_inverter *inverter = &config->inverter;
    double across_a =
        inverter->dead_time_s > 0.0
            ? config->supply.bus_v * inverter->output_capacitance_f / inverter->dead_time_s
            : 0.0;
    return cvk_larger(LEAST_CROSSOVER_A, across_a);
}

/* What saturation leaves of an axis' inductance at the trip current. */
static double least_inductance(const cvk_rig_config *config, double d_a, double q_a)
{
    double near_d, near_q, far_d, far_q;
    cvk_rig_flux_at(config, 0.98 * d_a, 0.98 * q_a, &near_d, &near_q);
    cvk_rig_flux_at(config, d_a, q_a, &far_d, &far_q);
    return hypot(far_d - near_d, far_q - near_q) / (0.02 * cvk_larger(d_a, q_a));
}

double cvk_rig_wanted_steps(const cvk_rig_config *config)
{
    /* as far as currents are seen, or trip */
    const double trip_a =
        cvk_smaller((double)config->tune.protect.trip_current_a, config->sensing.current_range_a);
    double low_h =
        cvk_smaller(least_inductance(config, trip_a, 0.0), least_inductance(config, 0.0, trip_a));
    double slope = cvk_rig_visible_resistance(config) +
                   cvk_rig_dead_time_voltage(config) * 0.5 / cvk_rig_crossover_current(config);
    double rate_hz = config->inverter.pwm_hz * config->inverter.updates_per_period;
    return ceil(slope / (low_h * rate_hz * LARGEST_STEP));
}

void cvk_inverter_derive(cvk_rig *rig)
{
    const cvk_rig_inverter *inverter = &rig->config.inverter;
    cvk_rig_derived *d = &rig->derived;
    d->period_s = 1.0 / (inverter->pwm_hz * inverter->updates_per_period);
    for (int n = 0; n < 3; n++) {
        d->leg_phase[n] = cvk_order((cvk_rig_phases)rig->config.wiring.phases)[n];
    }
    d->dead_duty = inverter->dead_time_s * inverter->pwm_hz;
    d->dead_v = cvk_rig_dead_time_voltage(&rig->config);
    d->crossover_a = cvk_rig_crossover_current(&rig->config);
    d->half_inv_crossover = 0.5 / d->crossover_a;
    d->per_output_farad = 1.0 / inverter->output_capacitance_f;
    d->steps = (int)cvk_clamp(cvk_rig_wanted_steps(&rig->config), 1.0, CVK_RIG_MOST_STEPS);
}

void cvk_sendable(const cvk_rig *rig, const double duty[3], double sent[3])
{
    double least = rig->config.inverter.minimum_pulse_s * rig->config.inverter.pwm_hz;
    for (int n = 0; n < 3; n++) {
        sent[n] = cvk_clamp(duty[n], 0.0, 1.0);
        sent[n] = sent[n] < least ? 0.0 : (1.0 - sent[n] < least ? 1.0 : sent[n]);
    }
}

double cvk_short_draw(cvk_rig *rig, const double share[3], const double node_v[3])
{
    const cvk_rig_acting *a = &rig->acting;
    double ohm = 2.0 * rig->config.inverter.switch_resistance_ohm + SHORT_OHM;
    double volts = 0.0, shares = 0.0;
    for (int n = 0; n < 3; n++) {
        int phase = rig->derived.leg_phase[n];
        double sign = phase == a->short_from ? 1.0 : (phase == a->short_to ? -1.0 : 0.0);
        volts += sign * node_v[n];
        shares += sign * share[n];
    }
    rig->short_a = volts / ohm;
    return shares * rig->short_a;
}

void cvk_leg_currents(const cvk_rig *rig, double leg_a[3])
{
    double phase[3];
    cvk_to_phases(cvk_current_now(rig), phase);
    if (rig->acting.short_from >= 0) {
        phase[rig->acting.short_from] += rig->short_a;
        phase[rig->acting.short_to] -= rig->short_a;
    }
    for (int n = 0; n < 3; n++) {
        leg_a[n] = phase[rig->derived.leg_phase[n]];
    }
}

void cvk_zero_phases(cvk_rig *rig, const bool zero[3])
{
    double i[3];
    cvk_to_phases(cvk_current_now(rig), i);
    int count = zero[0] + zero[1] + zero[2];
    if (count == 1) {
        int z = zero[0] ? 0 : (zero[1] ? 1 : 2), x = (z + 1) % 3, y = (z + 2) % 3;
        double half = 0.5 * (i[x] - i[y]);
        i[z] = 0.0;
        i[x] = half;
        i[y] = -half;
    } else if (count > 1) {
        i[0] = i[1] = i[2] = 0.0;
    }
    if (count > 0) {
        cvk_set_flux(rig, cvk_flux_of(&rig->derived, cvk_from_phases(i), &rig->rotor));
    }
}

void cvk_open_phase(cvk_rig *rig)
{
    if (rig->acting.open_phase >= 0) {
        bool zero[3] = {false, false, false};
        zero[rig->acting.open_phase] = true;
        cvk_zero_phases(rig, zero);
    }
}

double cvk_rise_s(const cvk_rig *rig, int leg, double duty)
{
    const double share = 0.5 * (1.0 - duty);
    return cvk_clamp(share + rig->shift[leg], 0.0, 2.0 * share) / rig->config.inverter.pwm_hz;
}

cvk_shunt_plan cvk_plan_shunt(const cvk_rig *rig, const double duty[3])
{
    double rise_s[3], dead_s = rig->config.inverter.dead_time_s;
    int high = 0, low = 0;
    for (int n = 0; n < 3; n++) {
        rise_s[n] = cvk_rise_s(rig, n, duty[n]);
        high = rise_s[n] < rise_s[high] ? n : high;
        low = rise_s[n] >= rise_s[low] ? n : low;
    }
    if (high == low) { /* what is no number */
        high = 0;
        low = 2;
    }
    double rise[3] = {rise_s[high], rise_s[3 - high - low], rise_s[low]};
    /* at the end of each active vector, just before the next leg goes up */
    return (cvk_shunt_plan){.leg = {high, low},
                            .at_s = {rise[1], rise[2]},
                            .window_s = {rise[1] - rise[0] - dead_s, rise[2] - rise[1] - dead_s}};
}

/* What the pulses up to this instant have given more than their mean has, as current; its mean over
 * the period is zero, which shifted pulses see to in a few periods. The dead time
 * delays the rise of a leg that gives current, and the fall of one that takes it. */
static void ripple_at(const cvk_rig *rig, const double duty[3], const double leg_a[3], double at_s,
                      double ripple_a[3])
{
    const double period_s = rig->derived.period_s;
    double more_s[3], phase_a[3];
    for (int n = 0; n < 3; n++) {
        const double late_s =
            rig->derived.dead_duty * period_s * cvk_dead_share(&rig->derived, leg_a[n]);
        const double rise_s = cvk_rise_s(rig, n, duty[n]) + cvk_larger(0.0, late_s);
        const double high_s = duty[n] * period_s - late_s;
        const double centre = (rise_s + 0.5 * high_s) / period_s;
        more_s[n] = cvk_clamp(at_s - rise_s, 0.0, high_s) - high_s * at_s / period_s +
                    high_s * (centre - 0.5);
    }
    const cvk_vec more_wb = rig->state.bus_v * cvk_from_legs(rig, more_s);
    cvk_to_phases(cvk_current_of(&rig->derived, cvk_flux_now(rig) + more_wb, &rig->rotor) -
                      cvk_current_now(rig),
                  phase_a);
    for (int n = 0; n < 3; n++) {
        ripple_a[n] = phase_a[rig->derived.leg_phase[n]];
    }
}

/* Currents at the shunt's instants, from those at the ends of the period and the ripple. */
static void sample_shunt(cvk_rig *rig, const double duty[3], const double before[3])
{
    cvk_shunt_plan plan = cvk_plan_shunt(rig, duty);
    double after[3], ripple_a[3];
    cvk_leg_currents(rig, after);
    for (int k = 0; k < 2; k++) {
        int leg = plan.leg[k];
        double share = plan.at_s[k] / rig->derived.period_s;
        ripple_at(rig, duty, after, plan.at_s[k], ripple_a);
        rig->shunt_a[leg] = before[leg] + share * (after[leg] - before[leg]) + ripple_a[leg];
    }
}

/* Seconds of a high leg until `at_s`, less their mean's, with the pulses that the dead time leaves.
 * Leg n is on its way meanwhile: its own move counts a quarter. */
static void high_until(const cvk_rig *rig, const double command_s[3], int n, bool falls,
                       double more_s[3])
{
    const double period_s = 1.0 / rig->config.inverter.pwm_hz;
    const double late_s = COUNTS * (falls ? rig->late_fall_s[n] : rig->late_rise_s[n]);
    const double at_s = (falls ? period_s - command_s[n] : command_s[n]) + late_s;
    for (int k = 0; k < 3; k++) {
        const double rise_s = command_s[k] + rig->late_rise_s[k];
        const double fall_s = period_s - command_s[k] + rig->late_fall_s[k];
        const double high_s = k != n  ? cvk_larger(0.0, cvk_smaller(at_s, fall_s) - rise_s)
                              : falls ? at_s - rise_s - OWN_WAY * late_s
                                      : OWN_WAY * late_s;
        more_s[k] = high_s - (fall_s - rise_s) * at_s / period_s;
    }
}

/* How late a leg moves, on average over its way, that `current_a` carries over; less than nothing:
 * a diode holds it. */
static double lateness(const cvk_rig *rig, double current_a)
{
    return rig->config.inverter.dead_time_s *
           (1.0 - cvk_dead_share(&rig->derived, cvk_larger(0.0, current_a)));
}

/* By how much each motor phase's current lies below its mean where its leg has been told to rise,
 * and above where to fall: what the other legs have made of it, which move late themselves. */
static void ripple_at_edges(cvk_rig *rig, const double duty[3], cvk_terminals *at)
{
    const double half_s = 0.5 / rig->config.inverter.pwm_hz;
    const double command_s[3] = {half_s * (1.0 - duty[0]), half_s * (1.0 - duty[1]),
                                 half_s * (1.0 - duty[2])};
    const cvk_vec flux = cvk_flux_now(rig), now = cvk_current_now(rig);
    double leg_a[3];
    cvk_leg_currents(rig, leg_a);
    for (int n = 0; n < 3; n++) {
        const int phase = rig->derived.leg_phase[n];
        double more_s[3], phase_a[3];
        for (int falls = 0; falls < 2; falls++) {
            high_until(rig, command_s, n, falls == 1, more_s);
            const cvk_vec there = flux + rig->state.bus_v * cvk_from_legs(rig, more_s);
            cvk_to_phases(cvk_current_of(&rig->derived, there, &rig->rotor) - now, phase_a);
            if (falls == 1) {
                at->fall_a[phase] = phase_a[phase];
            } else {
                at->rise_a[phase] = -phase_a[phase];
            }
        }
    }
    for (int n = 0; n < 3; n++) {
        const int phase = rig->derived.leg_phase[n];
        rig->late_rise_s[n] = lateness(rig, at->rise_a[phase] - leg_a[n]);
        rig->late_fall_s[n] = lateness(rig, at->fall_a[phase] + leg_a[n]);
    }
}

double cvk_diode_excess(const cvk_rig *rig)
{
    const cvk_rig_inverter *inverter = &rig->config.inverter;
    return inverter->diode_resistance_ohm > 0.0
               ? inverter->diode_resistance_ohm - inverter->switch_resistance_ohm
               : 0.0;
}

/* Mean voltage that each leg loses to the resistances of the bus capacitor, while it and others are
 * high together, and of the diodes, which conduct in both dead times. */
static void resistive_losses(const cvk_rig *rig, const double duty[3], double fixed_v[3])
{
    const double capacitor_ohm = rig->config.supply.capacitor_resistance_ohm;
    const double diode_ohm = 2.0 * rig->derived.dead_duty * cvk_diode_excess(rig);
    double i[3];
    cvk_leg_currents(rig, i);
    for (int n = 0; n < 3; n++) {
        double drawn_a = -duty[n] * rig->state.supply_a;
        for (int k = 0; k < 3; k++) {
            drawn_a += cvk_smaller(duty[n], duty[k]) * i[k];
        }
        fixed_v[n] = -capacitor_ohm * drawn_a - diode_ohm * i[n];
    }
}

void cvk_inverter_averaged(cvk_rig *rig, const double duty[3])
{
    double fixed_v[3];
    const bool single = rig->config.sensing.current_sensing == CVK_SENSING_SINGLE_SHUNT;
    double before[3] = {0.0, 0.0, 0.0};
    if (single) {
        cvk_leg_currents(rig, before);
    }
    resistive_losses(rig, duty, fixed_v);
    cvk_terminals at = {.share = cvk_from_legs(rig, duty), .fixed_v = cvk_from_legs(rig, fixed_v)};
    for (int n = 0; n < 3; n++) {
        at.dead[rig->derived.leg_phase[n]] = duty[n] > 0.0 && duty[n] < 1.0 ? 1.0 : 0.0;
    }
    ripple_at_edges(rig, duty, &at);
    double charge = 0.0;
    if (rig->acting.short_from >= 0) {
        const double bus_v = rig->state.bus_v;
        const double v[3] = {duty[0] * bus_v, duty[1] * bus_v, duty[2] * bus_v};
        charge = rig->derived.period_s * cvk_short_draw(rig, duty, v);
    }
    const double h = rig->derived.period_s / rig->derived.steps;
    for (int n = 0; n < rig->derived.steps; n++) {
        charge += cvk_motion_step(rig, &at, h);
        cvk_open_phase(rig);
    }
    cvk_supply_step(rig, charge, rig->derived.period_s);
    if (single) {
        sample_shunt(rig, duty, before);
    }
}
