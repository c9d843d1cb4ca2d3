/* SPDX-License-Identifier: Apache-2.0
 *
 * The switched inverter, edge by edge: the period is cut at every instant at which something
 * changes (a PWM edge, the end of a dead time, a node that arrives at a diode), and in between the
 * legs' voltages are constant. While both switches of a leg are off, its current carries the node
 * over, charging the output capacitance, until a diode holds it.
 */
#include "parts.h"

#define LEAST_S 1e-12
#define FINE_PIECES 8.0     /* of a dead time, */
#define FINE_CHANGES 4.0    /* for currents below so many times what they change by in it, */
#define TURNS_CHANGES 1.5   /* a held node moves only when its current turns round */
#define FINE_CROSSOVERS 8.0 /* or what carries a node across so many times as fast as need be */
#define LEAST_V 1e-3        /* by which the bus may move while a node rests on it */

typedef struct edges {
    double at_s[2]; /* when the command of a leg changes; infinite: it does not */
    int next;
} edges;

void cvk_switched_derive(cvk_rig *rig)
{
    const cvk_rig_config *config = &rig->config;
    cvk_rig_derived *d = &rig->derived;
    const double change_a =
        config->supply.bus_v * cvk_larger(d->inv_ld, d->inv_lq) * config->inverter.dead_time_s;
    d->turns_below_a = TURNS_CHANGES * change_a;
    d->fine_below_a = cvk_smaller(FINE_CROSSOVERS * d->crossover_a, FINE_CHANGES * change_a);
}

/* When a leg's command changes within the control period, and what it is at the start. */
static edges edges_of(const cvk_rig *rig, int leg, double duty, bool *high_at_start)
{
    const double half = 0.5 / rig->config.inverter.pwm_hz;
    double rise = cvk_rise_s(rig, leg, duty), fall = rise + 2.0 * half * duty;
    edges e = {{INFINITY, INFINITY}, 0};
    if (duty <= 0.0 || duty >= 1.0) {
        *high_at_start = duty >= 1.0;
        return e;
    }
    bool both = rig->config.inverter.updates_per_period == 1.0;
    *high_at_start = !both && rig->second_half;
    if (both) {
        e.at_s[0] = rise;
        e.at_s[1] = fall;
    } else {
        e.at_s[0] = rig->second_half ? fall - half : rise;
    }
    return e;
}

static void command(cvk_rig *rig, cvk_rig_leg *leg, bool high)
{
    if (leg->high != high) {
        leg->node_v = leg->dead ? leg->node_v : (leg->high ? rig->state.bus_v : 0.0);
        leg->high = high;
        leg->dead = rig->config.inverter.dead_time_s > 0.0;
        leg->dead_left_s = rig->config.inverter.dead_time_s;
    }
}

/* Does the node of a dead leg rest on a diode? */
static bool is_held(const cvk_rig *rig, const cvk_rig_leg *leg, double current_a)
{
    const double drop = rig->config.inverter.diode_drop_v;
    return (leg->node_v <= -drop + LEAST_V && current_a >= 0.0) ||
           (leg->node_v >= rig->state.bus_v + drop - LEAST_V && current_a <= 0.0);
}

/* Longest piece until something happens in this leg. A small current changes, and may turn round,
 * while it moves the node: then pieces are short. */
static double piece_of(const cvk_rig *rig, const cvk_rig_leg *leg, double current_a)
{
    if (!leg->dead) {
        return INFINITY;
    }
    double piece = leg->dead_left_s;
    const bool held = is_held(rig, leg, current_a);
    if (fabs(current_a) < (held ? rig->derived.turns_below_a : rig->derived.fine_below_a)) {
        piece = cvk_smaller(piece, rig->config.inverter.dead_time_s / FINE_PIECES);
    }
    if (!held) {
        const cvk_rig_inverter *inverter = &rig->config.inverter;
        double goal =
            current_a > 0.0 ? -inverter->diode_drop_v : rig->state.bus_v + inverter->diode_drop_v;
        double slew = -current_a * rig->derived.per_output_farad;
        double arrival = slew != 0.0 ? (goal - leg->node_v) / slew : INFINITY;
        piece = arrival > LEAST_S ? cvk_smaller(piece, arrival) : piece;
    }
    return cvk_larger(piece, LEAST_S);
}

/* Where a dead leg's node will be after dt. */
static double node_after(const cvk_rig *rig, const cvk_rig_leg *leg, double current_a, double dt_s)
{
    const cvk_rig_inverter *inverter = &rig->config.inverter;
    double node = leg->node_v - current_a * dt_s * rig->derived.per_output_farad;
    return cvk_clamp(node, -inverter->diode_drop_v, rig->state.bus_v + inverter->diode_drop_v);
}

/* Mean voltage of a leg over the piece: a share of the bus, and what a diode adds. */
static void leg_voltage(const cvk_rig *rig, const cvk_rig_leg *leg, double current_a, double dt_s,
                        double *share, double *fixed_v)
{
    const double bus_v = rig->state.bus_v;
    if (!leg->dead) {
        *share = leg->high ? 1.0 : 0.0;
        *fixed_v = 0.0;
        return;
    }
    double mean = 0.5 * (leg->node_v + node_after(rig, leg, current_a, dt_s));
    *share = cvk_clamp(mean / bus_v, 0.0, 1.0);
    *fixed_v = mean - *share * bus_v;
    if (is_held(rig, leg, current_a)) {
        *fixed_v -= cvk_diode_excess(rig) * current_a;
    }
}

/* The bus behind its capacitor's resistance: lower while legs draw from it. */
static void sag(const cvk_rig *rig, const double share[3], const double i[3], double fixed_v[3])
{
    const double drawn_a = share[0] * i[0] + share[1] * i[1] + share[2] * i[2];
    const double less_v =
        rig->config.supply.capacitor_resistance_ohm * (drawn_a - rig->state.supply_a);
    for (int n = 0; n < 3; n++) {
        fixed_v[n] -= share[n] * less_v;
    }
}

/* One piece, during which no leg changes. `i` are the legs' currents, at its start and then at its
 * end. */
static void run_piece(cvk_rig *rig, double i[3], double dt_s, double speed_mech_rad_s,
                      double *impulse_nms)
{
    double share[3], fixed_v[3], node_v[3], shown_v[3], before[3] = {i[0], i[1], i[2]};
    for (int n = 0; n < 3; n++) {
        leg_voltage(rig, &rig->leg[n], i[n], dt_s, &share[n], &fixed_v[n]);
    }
    sag(rig, share, i, fixed_v);
    for (int n = 0; n < 3; n++) {
        node_v[n] = share[n] * rig->state.bus_v + fixed_v[n];
        /* the winding's step counts the switch as resistance; a probe sees its drop */
        double ohm = rig->leg[n].dead ? 0.0 : rig->config.inverter.switch_resistance_ohm;
        shown_v[n] = node_v[n] - ohm * i[n];
    }
    if (rig->scope != NULL) {
        rig->scope(rig->scope_context, rig, rig->time_s, shown_v);
    }
    const cvk_terminals at = {.share = cvk_from_legs(rig, share),
                              .fixed_v = cvk_from_legs(rig, fixed_v)};
    double charge = cvk_motion_piece(rig, &at, dt_s, speed_mech_rad_s, impulse_nms);
    cvk_open_phase(rig);
    if (rig->acting.short_from >= 0) {
        charge += dt_s * cvk_short_draw(rig, share, node_v);
    }
    cvk_supply_gather(rig, charge, dt_s);
    cvk_leg_currents(rig, i);
    for (int n = 0; n < 3; n++) {
        cvk_rig_leg *leg = &rig->leg[n];
        if (leg->dead) {
            leg->node_v = node_after(rig, leg, 0.5 * (before[n] + i[n]), dt_s);
            leg->dead_left_s -= dt_s;
            leg->dead = leg->dead_left_s > LEAST_S;
        }
    }
    rig->time_s += dt_s;
}

/* The comparator looks at every piece; in cycle mode it ends the period. */
static bool too_much(const double i[3], double limit_a)
{
    return limit_a > 0.0 && cvk_largest(i) > limit_a;
}

/* The shaft through the time that the pieces took, under their mean torque. */
static void finish_shaft(cvk_rig *rig, const cvk_shaft_step *s, double first_nm, double impulse_nms,
                         double dt_s)
{
    double rest_nm = (6.0 * impulse_nms / dt_s - first_nm) / 5.0;
    cvk_shaft_finish(rig, s, rest_nm, rest_nm, dt_s);
    rig->rotor = cvk_rotor_at(rig, rig->state.angle_mech_rad);
    cvk_set_flux(rig, cvk_flux_now(rig));
}

/* Edges that are due, and samples of a single shunt. */
static void pass_events(cvk_rig *rig, edges e[3], const cvk_shunt_plan *plan, int *sampled,
                        const double i[3], double t)
{
    for (; *sampled < 2 && t >= plan->at_s[*sampled]; ++*sampled) {
        rig->shunt_a[plan->leg[*sampled]] = i[plan->leg[*sampled]];
    }
    for (int n = 0; n < 3; n++) {
        while (e[n].next < 2 && t >= e[n].at_s[e[n].next]) {
            command(rig, &rig->leg[n], !rig->leg[n].high);
            e[n].next++;
        }
    }
}

void cvk_inverter_switched(cvk_rig *rig, const double duty[3])
{
    const double period = rig->derived.period_s, start_s = rig->time_s;
    const double first_nm = cvk_torque_now(rig), limit_a = cvk_gate_limit_a(rig);
    const bool single = rig->config.sensing.current_sensing == CVK_SENSING_SINGLE_SHUNT;
    const cvk_shunt_plan plan = cvk_plan_shunt(rig, duty);
    const cvk_shaft_step shaft = cvk_shaft_predict(rig, first_nm, period);
    edges e[3];
    int sampled = single ? 0 : 2;
    double t = 0.0, impulse_nms = 0.0, i[3];
    for (int n = 0; n < 3; n++) {
        bool high;
        e[n] = edges_of(rig, n, duty[n], &high);
        command(rig, &rig->leg[n], high);
    }
    cvk_leg_currents(rig, i);
    while (t < period - LEAST_S && !too_much(i, limit_a)) {
        double stop = sampled < 2 ? cvk_smaller(period, cvk_larger(plan.at_s[sampled], t)) : period;
        for (int n = 0; n < 3; n++) {
            stop = e[n].next < 2 ? cvk_smaller(stop, e[n].at_s[e[n].next]) : stop;
            stop = cvk_smaller(stop, t + piece_of(rig, &rig->leg[n], i[n]));
        }
        if (stop > t) {
            double speed = shaft.start.speed + shaft.first.rotor * 0.5 * (t + stop);
            run_piece(rig, i, stop - t, shaft.rests ? 0.0 : speed, &impulse_nms);
        }
        t = stop;
        pass_events(rig, e, &plan, &sampled, i, t);
    }
    cvk_supply_settle(rig);
    if (t > 0.0) {
        finish_shaft(rig, &shaft, first_nm, impulse_nms, t);
    }
    if (t < period - LEAST_S) {
        rig->gate_register[CVK_GATE_EVENTS] |= CVK_GATE_EVENT_OVERCURRENT;
        cvk_inverter_off(rig, period - t);
    }
    rig->time_s = start_s + period;
}
