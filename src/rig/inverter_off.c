/* SPDX-License-Identifier: Apache-2.0
 *
 * The bridge off: currents die out through the diodes, a rotor that turns fast enough rectifies
 * into the bus, and otherwise the winding carries no current. Small steps with the set of
 * conducting diodes fixed in each; a phase whose current changes its sign stops conducting.
 */
#include "parts.h"

#define PIECES 16 /* of a control period while a diode conducts */
#define TINY_A 1e-9

/* What the iron takes while the terminals are open: a small current that brakes. */
static cvk_vec iron_current(const cvk_rig *rig)
{
    return -rig->derived.inv_iron * rig->state.speed_mech_rad_s * cvk_vec_of(rig->rotor.slope_wb);
}

static void show(cvk_rig *rig, const double phase_v[3])
{
    double node_v[3];
    for (int n = 0; n < 3; n++) {
        node_v[n] = phase_v[rig->derived.leg_phase[n]];
    }
    rig->scope(rig->scope_context, rig, rig->time_s, node_v);
}

/* The nodes float about half the bus. */
static void show_coast(cvk_rig *rig)
{
    double v[3];
    cvk_to_phases(cvk_vec_of(rig->rotor.slope_wb) * rig->state.speed_mech_rad_s, v);
    for (int n = 0; n < 3; n++) {
        v[n] += 0.5 * rig->state.bus_v;
    }
    show(rig, v);
}

static void coast(cvk_rig *rig, double dt_s)
{
    if (rig->scope != NULL) {
        show_coast(rig);
    }
    cvk_vec i = iron_current(rig);
    double torque = cvk_motor_torque(rig, 0.0, i, &rig->rotor);
    rig->meter.iron_j +=
        -dt_s * 1.5 * rig->state.speed_mech_rad_s * cvk_dot(i, cvk_vec_of(rig->rotor.slope_wb));
    cvk_shaft_coast(rig, torque, dt_s);
    cvk_set_flux(rig, cvk_vec_of(rig->rotor.flux_wb));
    cvk_supply_step(rig, 0.0, dt_s);
}

/* Node voltages by motor phase, and which phases conduct. */
static void diode_nodes(const cvk_rig *rig, const double i[3], const double emf[3], double node[3],
                        bool conducts[3])
{
    const double drop = rig->config.inverter.diode_drop_v, top = rig->state.bus_v + drop;
    int high = 0, low = 0, count = 0;
    for (int n = 0; n < 3; n++) {
        conducts[n] = fabs(i[n]) > TINY_A;
        count += conducts[n];
        high = emf[n] > emf[high] ? n : high;
        low = emf[n] < emf[low] ? n : low;
    }
    if (count == 0 && emf[high] - emf[low] > top + drop) {
        conducts[high] = conducts[low] = true;
    }
    double star = 0.0;
    int on = 0;
    for (int n = 0; n < 3; n++) {
        if (conducts[n]) {
            bool from_below = i[n] > 0.0 || (count == 0 && n == low);
            node[n] = from_below ? -drop : top;
            star += node[n] - emf[n];
            on++;
        }
    }
    star = on > 0 ? star / on : 0.0;
    for (int n = 0; n < 3; n++) {
        if (!conducts[n]) {
            double floating = star + emf[n];
            node[n] = cvk_clamp(floating, -drop, top);
            conducts[n] = on > 0 && node[n] != floating && n != rig->acting.open_phase;
        }
    }
}

/* True while any diode conducts. */
static bool diode_piece(cvk_rig *rig, double dt_s)
{
    double i[3], emf[3], node[3] = {0.0, 0.0, 0.0}, after[3];
    bool conducts[3], zero[3];
    cvk_vec current = cvk_current_now(rig);
    cvk_to_phases(current, i);
    cvk_to_phases(cvk_vec_of(rig->rotor.slope_wb) * rig->state.speed_mech_rad_s, emf);
    diode_nodes(rig, i, emf, node, conducts);
    if (!conducts[0] && !conducts[1] && !conducts[2]) {
        return false;
    }
    if (rig->scope != NULL) {
        show(rig, node);
    }
    cvk_vec flux = cvk_flux_now(rig);
    double torque = cvk_motor_torque(rig, cvk_own_flux(flux, &rig->rotor), current, &rig->rotor);
    cvk_shaft_coast(rig, torque, dt_s);
    cvk_set_flux(rig,
                 flux + dt_s * (cvk_from_phases(node) - rig->derived.resistance_ohm * current));
    cvk_to_phases(cvk_current_now(rig), after);
    double charge = 0.0;
    for (int n = 0; n < 3; n++) {
        zero[n] = !conducts[n] || after[n] * i[n] < 0.0 ||
                  (fabs(i[n]) <= TINY_A && after[n] * (node[n] > 0.0 ? -1.0 : 1.0) < 0.0);
        double mean = 0.5 * (i[n] + (zero[n] ? 0.0 : after[n]));
        charge += dt_s * (node[n] > 0.5 * rig->state.bus_v ? mean : 0.0);
        rig->meter.inverter_j += dt_s * rig->config.inverter.diode_drop_v * fabs(mean);
    }
    rig->meter.copper_j +=
        dt_s * 1.5 * rig->config.motor.resistance_ohm * cvk_dot(current, current);
    cvk_zero_phases(rig, zero);
    cvk_supply_step(rig, charge, dt_s);
    return true;
}

void cvk_inverter_off(cvk_rig *rig, double dt_s)
{
    double left = dt_s, piece = rig->derived.period_s / PIECES;
    rig->short_a = 0.0;
    while (left > 0.0) {
        double h = cvk_smaller(piece, left);
        if (!diode_piece(rig, h)) {
            h = left; /* nothing conducts at the start of this piece: one step for the rest */
            coast(rig, h);
        }
        left -= h;
        rig->time_s += h; /* the caller knows when the period ends */
    }
    for (int n = 0; n < 3; n++) { /* whoever comes back finds both switches off */
        rig->leg[n] = (cvk_rig_leg){.high = rig->leg[n].high,
                                    .dead = rig->config.inverter.dead_time_s > 0.0,
                                    .dead_left_s = rig->config.inverter.dead_time_s,
                                    .node_v = 0.5 * rig->state.bus_v};
    }
}
