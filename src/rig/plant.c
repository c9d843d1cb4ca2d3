/* SPDX-License-Identifier: Apache-2.0
 *
 * One step of winding and shaft. The flux linkage is integrated by Kutta's third-order rule along a
 * predicted path of the angle, speed and angle by Simpson's rule over the torques that come out at
 * its start, middle and end. The magnets' flux is computed at the end of the path and interpolated
 * at its middle. tests/rig/test_physics.c shows the order of the whole.
 */
#include "parts.h"

/* A piece of a period counts as brief below this share of it and this electrical angle. */
#define BRIEF_SHARE 0.1
#define BRIEF_RAD 1e-3
#define TINY_SHARE                                                                                 \
    0.01 /* and as tiny below this one: the slope at its start, less what                          \
            the winding's decay makes of it, will do */

typedef struct node {
    cvk_vec slope; /* of the flux linkage, V */
    cvk_vec i;     /* magnetising current */
    cvk_vec dead;  /* share of the dead time's voltage that each phase loses */
} node;

double cvk_dead_share(const cvk_rig_derived *d, double current_a)
{
    double size = fabs(current_a);
    double share =
        size < d->crossover_a ? size * d->half_inv_crossover : 1.0 - 0.5 * d->crossover_a / size;
    return current_a < 0.0 ? -share : share;
}

/* The same of a leg's two edges: the ripple takes from the current where the leg rises and adds
 * where it falls. A rise loses in full while the current flows into the motor, a fall while
 * it flows out. */
static double edges_share(const cvk_rig_derived *d, double current_a, double rise_a, double fall_a)
{
    const double rises_a = current_a - rise_a, falls_a = current_a + fall_a;
    return (rises_a < 0.0 ? cvk_dead_share(d, rises_a) : 0.0) +
           (falls_a > 0.0 ? cvk_dead_share(d, falls_a) : 0.0);
}

static void add_voltage(const cvk_rig *rig, const cvk_terminals *at, node *n)
{
    const cvk_rig_derived *d = &rig->derived;
    cvk_vec v = rig->state.bus_v * at->share + at->fixed_v;
    n->dead = 0.0;
    if (at->dead[0] + at->dead[1] + at->dead[2] > 0.0) {
        double i[3], share[3];
        cvk_to_phases(n->i, i);
        for (int k = 0; k < 3; k++) {
            share[k] = at->dead[k] * edges_share(d, i[k], at->rise_a[k], at->fall_a[k]);
        }
        n->dead = cvk_from_phases(share);
        v -= d->dead_v * n->dead;
    }
    n->slope = d->weaken * (v - d->resistance_ohm * n->i);
}

static node evaluate(const cvk_rig *rig, const cvk_terminals *at, cvk_vec flux_wb,
                     const cvk_rig_rotor *rotor)
{
    node n = {.i = cvk_current_of(&rig->derived, flux_wb, rotor)};
    add_voltage(rig, at, &n);
    return n;
}

/* The same at the present flux and angle. */
static node evaluate_now(const cvk_rig *rig, const cvk_terminals *at)
{
    node n = {.i = cvk_current_now(rig)};
    add_voltage(rig, at, &n);
    return n;
}

double cvk_motor_torque(const cvk_rig *rig, cvk_vec own_dq_wb, cvk_vec current_a,
                        const cvk_rig_rotor *rotor)
{
    cvk_vec i_dq = current_a * conj(cvk_vec_of(rotor->electrical));
    double own = cimag(conj(own_dq_wb) * i_dq);
    double magnets = cvk_dot(current_a, cvk_vec_of(rotor->slope_wb));
    return 1.5 * (rig->config.motor.pole_pairs * own + magnets) - rotor->cogging_nm;
}

/* ---- shaft ---------------------------------------------------------------------------------- */

static double load_torque(const cvk_rig *rig, double angle, double speed)
{
    const cvk_rig_acting *a = &rig->acting;
    return a->fan_nm_s2 * speed * fabs(speed) - a->constant_nm +
           a->unbalance_nm * sin(angle - a->unbalance_angle_mech_rad);
}

static cvk_shaft_rates rates_at(const cvk_rig *rig, double motor_nm, double friction_nm,
                                const cvk_shaft_point *p)
{
    const cvk_rig_shaft *shaft = &rig->config.shaft;
    const cvk_rig_derived *d = &rig->derived;
    double drag = (shaft->friction_viscous_nm_s + d->circulating_nm_s) * p->speed;
    double net = motor_nm - friction_nm - drag;
    cvk_shaft_rates r = {.drag_w = (drag + friction_nm) * p->speed};
    bool two = d->inv_load_inertia > 0.0;
    double outside = 0.0;
    if (rig->acting.any_load) {
        outside = two ? load_torque(rig, p->load_angle, p->load_speed)
                      : load_torque(rig, p->angle, p->speed);
        r.load_w = outside * (two ? p->load_speed : p->speed);
    }
    if (two) {
        double slip = p->speed - p->load_speed;
        double coupling = shaft->coupling_nm_rad * (p->angle - p->load_angle);
        r.drag_w += shaft->coupling_nm_s * slip * slip;
        coupling += shaft->coupling_nm_s * slip;
        net -= coupling;
        r.load = (coupling - outside) * d->inv_load_inertia;
    } else {
        net -= outside;
    }
    r.rotor = net * d->inv_inertia;
    return r;
}

static double breakaway_nm(const cvk_rig *rig)
{
    const cvk_rig_shaft *shaft = &rig->config.shaft;
    return cvk_larger(shaft->friction_static_nm, shaft->friction_coulomb_nm) + rig->acting.brake_nm;
}

/* Dry friction during this step, against the motion; a resting shaft breaks away or stays. */
static double dry_friction(cvk_rig *rig, double motor_nm, const cvk_shaft_point *p)
{
    double sliding = rig->config.shaft.friction_coulomb_nm + rig->acting.brake_nm;
    double toward = p->speed;
    if (p->speed == 0.0) {
        double net = rates_at(rig, motor_nm, 0.0, p).rotor * rig->config.shaft.inertia_kg_m2;
        double hold = breakaway_nm(rig);
        rig->state.stuck = hold > 0.0 && fabs(net) <= hold;
        toward = net;
    } else {
        rig->state.stuck = false;
    }
    return toward > 0.0 ? sliding : (toward < 0.0 ? -sliding : 0.0);
}

static cvk_shaft_point ahead(const cvk_shaft_point *p, const cvk_shaft_rates *r, double t)
{
    double half = 0.5 * t * t;
    return (cvk_shaft_point){p->angle + t * p->speed + half * r->rotor, p->speed + t * r->rotor,
                             p->load_angle + t * p->load_speed + half * r->load,
                             p->load_speed + t * r->load};
}

/* Where the shaft will be in the middle and at the end, from the torque at the start. */
cvk_shaft_step cvk_shaft_predict(cvk_rig *rig, double motor_nm, double h)
{
    const cvk_rig_state *x = &rig->state;
    cvk_shaft_step s = {.start = {x->angle_mech_rad, x->speed_mech_rad_s, x->load_angle_mech_rad,
                                  x->load_speed_mech_rad_s}};
    if (rig->shaft_held || rig->acting.blocked || rig->acting.driven) {
        s.imposed = rig->acting.driven && !rig->shaft_held;
        s.rests = !s.imposed;
        s.start.speed = s.imposed ? rig->acting.driven_mech_rad_s : 0.0;
        s.first = rates_at(rig, 0.0, 0.0, &s.start);
        s.first.rotor = 0.0;
    } else {
        s.friction_nm = dry_friction(rig, motor_nm, &s.start);
        s.rests = rig->state.stuck;
        s.first = rates_at(rig, motor_nm, s.friction_nm, &s.start);
        s.first.rotor = s.rests ? 0.0 : s.first.rotor;
    }
    s.middle = ahead(&s.start, &s.first, 0.5 * h);
    s.end = ahead(&s.start, &s.first, h);
    return s;
}

/* Simpson's rule over the three torques. Speeds in the middle and at the end are known better once
 * the torques are: the drag follows them. */
void cvk_shaft_finish(cvk_rig *rig, const cvk_shaft_step *s, double middle_nm, double end_nm,
                      double h)
{
    cvk_rig_state *x = &rig->state;
    const double sixth = h / 6.0;
    const bool given = s->rests || s->imposed;
    cvk_shaft_point middle = s->middle, end = s->end;
    cvk_shaft_rates a = s->first, b, c;
    for (int pass = 0; pass < 2; pass++) {
        b = rates_at(rig, middle_nm, s->friction_nm, &middle);
        c = rates_at(rig, end_nm, s->friction_nm, &end);
        if (given) {
            b.rotor = c.rotor = 0.0;
        }
        const double early = h / 24.0; /* integral of the parabola over the first half */
        middle.speed = s->start.speed + early * (5.0 * a.rotor + 8.0 * b.rotor - c.rotor);
        middle.load_speed = s->start.load_speed + early * (5.0 * a.load + 8.0 * b.load - c.load);
        end.speed = s->start.speed + sixth * (a.rotor + 4.0 * b.rotor + c.rotor);
        end.load_speed = s->start.load_speed + sixth * (a.load + 4.0 * b.load + c.load);
    }
    x->angle_mech_rad = s->start.angle + h * (s->start.speed + sixth * (a.rotor + 2.0 * b.rotor));
    x->speed_mech_rad_s = end.speed;
    if (rig->derived.inv_load_inertia > 0.0) {
        x->load_angle_mech_rad =
            s->start.load_angle + h * (s->start.load_speed + sixth * (a.load + 2.0 * b.load));
        x->load_speed_mech_rad_s = end.load_speed;
    }
    if (x->speed_mech_rad_s * s->start.speed < 0.0 && breakaway_nm(rig) > 0.0 && !given) {
        x->speed_mech_rad_s = 0.0; /* it came to rest; the next step decides whether it stays */
    }
    if (rig->meter.on) {
        rig->meter.friction_j += sixth * (a.drag_w + 4.0 * b.drag_w + c.drag_w);
        rig->meter.load_j += sixth * (a.load_w + 4.0 * b.load_w + c.load_w);
    }
}

void cvk_shaft_coast(cvk_rig *rig, double motor_nm, double dt_s)
{
    cvk_shaft_step s = cvk_shaft_predict(rig, motor_nm, dt_s);
    cvk_shaft_finish(rig, &s, motor_nm, motor_nm, dt_s);
    cvk_vec half;
    rig->rotor = cvk_rotor_turned(rig, &rig->rotor,
                                  rig->state.angle_mech_rad - rig->rotor.angle_mech_rad, &half);
}

/* ---- the step ------------------------------------------------------------------------------- */

static double bus_current(const cvk_rig *rig, const cvk_terminals *at, const node *n)
{
    cvk_vec i = n->i + rig->derived.inv_iron * n->slope;
    return 1.5 * cvk_dot(at->share - rig->derived.dead_duty * n->dead, i);
}

static void meter_losses(cvk_rig *rig, const cvk_terminals *at, const node *n, double weight_s)
{
    const cvk_rig_derived *d = &rig->derived;
    double switch_ohm = rig->config.inverter.switch_resistance_ohm;
    cvk_vec i = n->i + d->inv_iron * n->slope;
    double square = 1.5 * cvk_dot(i, i);
    cvk_vec fixed = at->fixed_v - (d->dead_v - rig->state.bus_v * d->dead_duty) * n->dead;
    rig->meter.copper_j += weight_s * square * (d->resistance_ohm - switch_ohm);
    rig->meter.inverter_j += weight_s * (square * switch_ohm - 1.5 * cvk_dot(fixed, i));
    rig->meter.iron_j += weight_s * 1.5 * d->inv_iron * cvk_dot(n->slope, n->slope);
}

/* The rotor half way between two of its places. Flux by cubic interpolation from both ends' values
 * and slopes; the slope, seen from the rotor, as the mean of both ends'. */
static cvk_rig_rotor rotor_between(const cvk_rig_rotor *from, const cvk_rig_rotor *to, cvk_vec half)
{
    const double by = to->angle_mech_rad - from->angle_mech_rad;
    cvk_vec e0 = cvk_vec_of(from->electrical), e1 = cvk_vec_of(to->electrical), e = e0 * half;
    cvk_vec s0 = cvk_vec_of(from->slope_wb), s1 = cvk_vec_of(to->slope_wb);
    cvk_vec flux =
        0.5 * (cvk_vec_of(from->flux_wb) + cvk_vec_of(to->flux_wb)) + 0.125 * by * (s0 - s1);
    return (cvk_rig_rotor){.angle_mech_rad = from->angle_mech_rad + 0.5 * by,
                           .electrical = cvk_vector_from(e),
                           .flux_wb = cvk_vector_from(flux),
                           .slope_wb = cvk_vector_from(0.5 * e * (s0 * conj(e0) + s1 * conj(e1))),
                           .cogging_nm = 0.5 * (from->cogging_nm + to->cogging_nm)};
}

static double torque_of_flux(const cvk_rig *rig, cvk_vec flux_wb, const cvk_rig_rotor *rotor)
{
    cvk_vec own = cvk_own_flux(flux_wb, rotor);
    cvk_vec i = cvk_current_dq(&rig->derived, own) * cvk_vec_of(rotor->electrical);
    return cvk_motor_torque(rig, own, i, rotor);
}

double cvk_torque_now(const cvk_rig *rig)
{
    return cvk_motor_torque(rig, cvk_vec_of(rig->own_wb), cvk_vec_of(rig->now_a), &rig->rotor);
}

/* The flux by Kutta's rule while the rotor turns on by `by_mech_rad`, in the middle of the time by
 * `middle_rad` more than half of it. Leaves the torques in the middle and at the end. */
static double flux_step(cvk_rig *rig, const cvk_terminals *at, double h, double by_mech_rad,
                        double middle_rad, double *middle_nm, double *end_nm)
{
    const double sixth = h / 6.0;
    const cvk_vec psi = cvk_flux_now(rig);
    const bool turns = by_mech_rad != 0.0;
    cvk_vec half = 1.0;
    const cvk_rig_rotor end =
        turns ? cvk_rotor_turned(rig, &rig->rotor, by_mech_rad, &half) : rig->rotor;
    cvk_rig_rotor middle = turns ? rotor_between(&rig->rotor, &end, half) : rig->rotor;
    if (turns) {
        cvk_rotor_nudge(rig, &middle, middle_rad);
    }
    const node a = evaluate_now(rig, at);
    const node b = evaluate(rig, at, psi + 0.5 * h * a.slope, &middle);
    node c = evaluate(rig, at, psi + h * (2.0 * b.slope - a.slope), &end);
    *middle_nm =
        torque_of_flux(rig, psi + h / 24.0 * (5.0 * a.slope + 8.0 * b.slope - c.slope), &middle);
    rig->rotor = end;
    cvk_set_flux(rig, psi + sixth * (a.slope + 4.0 * b.slope + c.slope));
    *end_nm = cvk_torque_now(rig);
    c.i = cvk_current_now(rig); /* the rule's last stage is a trial, not where the flux ends */
    if (rig->meter.on) {
        meter_losses(rig, at, &a, sixth);
        meter_losses(rig, at, &b, 4.0 * sixth);
        meter_losses(rig, at, &c, sixth);
    }
    return sixth *
           (bus_current(rig, at, &a) + 4.0 * bus_current(rig, at, &b) + bus_current(rig, at, &c));
}

double cvk_motion_step(cvk_rig *rig, const cvk_terminals *at, double dt_s)
{
    double middle_nm, end_nm;
    const cvk_shaft_step s = cvk_shaft_predict(rig, cvk_torque_now(rig), dt_s);
    const double by = s.end.angle - s.start.angle;
    const double charge = flux_step(rig, at, dt_s, by, s.middle.angle - s.start.angle - 0.5 * by,
                                    &middle_nm, &end_nm);
    cvk_shaft_finish(rig, &s, middle_nm, end_nm, dt_s);
    if (!s.rests) {
        cvk_rotor_nudge(rig, &rig->rotor, rig->state.angle_mech_rad - s.end.angle);
        cvk_set_flux(rig, cvk_flux_now(rig));
    }
    return charge;
}

/* Short against everything but the switching: the mean of the slopes at both ends, the rotor moved
 * along its tangent. Without the second one a pulse that makes most of a voltage drives too much:
 * the resistance would look smaller by half of what the winding's current decays in it. Pieces of a
 * dead time are too tiny for that. */
static double brief_flux_step(cvk_rig *rig, const cvk_terminals *at, double h, double by_mech_rad)
{
    const cvk_rig_derived *d = &rig->derived;
    const cvk_vec psi = cvk_flux_now(rig);
    const node a = evaluate_now(rig, at);
    if (by_mech_rad != 0.0) {
        cvk_rotor_nudge(rig, &rig->rotor, by_mech_rad);
    }
    const double decay = 0.5 * h * d->weaken * d->resistance_ohm * 0.5 * (d->inv_ld + d->inv_lq);
    cvk_vec slope = (1.0 - decay) * a.slope;
    if (h > TINY_SHARE * d->period_s) {
        cvk_set_flux(rig, psi + h * a.slope);
        slope = 0.5 * (a.slope + evaluate_now(rig, at).slope);
    }
    cvk_set_flux(rig, psi + h * slope);
    if (rig->meter.on) {
        const node b = evaluate_now(rig, at);
        meter_losses(rig, at, &a, 0.5 * h);
        meter_losses(rig, at, &b, 0.5 * h);
    }
    cvk_vec mean = 0.5 * (a.i + cvk_current_now(rig)) + d->inv_iron * slope;
    return h * 1.5 * cvk_dot(at->share, mean);
}

double cvk_motion_piece(cvk_rig *rig, const cvk_terminals *at, double dt_s, double speed_mech_rad_s,
                        double *impulse_nms)
{
    const double by = speed_mech_rad_s * dt_s, before_nm = cvk_torque_now(rig);
    double charge, middle_nm, end_nm;
    if (dt_s < BRIEF_SHARE * rig->derived.period_s &&
        fabs(by) * rig->config.motor.pole_pairs < BRIEF_RAD) {
        charge = brief_flux_step(rig, at, dt_s, by);
        *impulse_nms += 0.5 * dt_s * (before_nm + cvk_torque_now(rig));
        return charge;
    }
    charge = flux_step(rig, at, dt_s, by, 0.0, &middle_nm, &end_nm);
    *impulse_nms += dt_s / 6.0 * (before_nm + 4.0 * middle_nm + end_nm);
    return charge;
}
