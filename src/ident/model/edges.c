/* SPDX-License-Identifier: Apache-2.0
 *
 * Pulses in the middle of each period, their common part such that the longest and the shortest
 * leave alike: T (1 - duty) / 2 after the period's start a leg is told to rise, as long before its
 * end to fall. It does so late: by the dead time where a diode holds it, by half the time in which
 * its current moves it where that is less. That current counts as it is a third of that time after
 * the command (area under a node that a current moves which changes at a steady rate), with a
 * quarter of what the node's own way adds to the rate. Until then the legs that went before have
 * driven the winding, and the mean voltage, which the motor takes, has not come: what flux linkage
 * that leaves is kept for each row, seen along the phase and across it.
 */
#include "edges.h"

#include "math/parallel.h"

#include <math.h>

#define HALF_SQRT3 0.86602540378443864676
#define PART_ROWS 8192u
#define ROUNDS 3         /* lateness makes the currents that make it */
#define COUNTS (2.0 / 3) /* of the lateness, which is half of the time in which the node moves */
#define OWN_WAY 0.25
#define MOST_DEAD 0.1 /* of a period: what a fit on its way takes for the dead time */

/* Unlike fmin() and fmax() never a call. */
static double smaller(double a, double b)
{
    return a < b ? a : b;
}

static double larger(double a, double b)
{
    return a > b ? a : b;
}

/* A period of three legs. */
typedef struct period {
    double length_s, bus_v;
    double share[3]; /* of it before a leg's command to rise, and after that to fall */
    double late_s[2][3], rise_s[3], fall_s[3]; /* by so much late (rise, fall) they do: then */
    double taken_v[3];                         /* phase voltages, means */
} period;

/* Flux linkages by the legs, less the mean's, while leg n moves. */
static void flux_at(const period *p, int n, bool falls, double x[3])
{
    const double late_s = p->late_s[falls][n];
    const double t = (falls ? p->fall_s[n] : p->rise_s[n]) - (1.0 - COUNTS) * late_s;
    for (int k = 0; k < 3; k++) {
        x[k] = p->bus_v * larger(0.0, smaller(t, p->fall_s[k]) - p->rise_s[k]) - p->taken_v[k] * t;
    }
    const double own_s = OWN_WAY * COUNTS * late_s;
    x[n] = p->bus_v * (falls ? t - p->rise_s[n] - own_s : own_s) - p->taken_v[n] * t;
}

static double along(const double x[3], int n)
{
    return x[n] - (x[0] + x[1] + x[2]) * (1.0 / 3.0);
}

static double across(const double x[3], int n)
{
    return (x[(n + 1) % 3] - x[(n + 2) % 3]) * (0.5 / HALF_SQRT3);
}

/* A leg of which the shares of its loss are known that fall on its rise and its fall. */
static void move_leg(period *p, int n, double dead_s, double rise, double fall)
{
    const double command_s = p->share[n] * p->length_s;
    p->late_s[0][n] = dead_s * (1.0 - rise);
    p->late_s[1][n] = dead_s * (1.0 - fall);
    p->rise_s[n] = command_s + p->late_s[0][n];
    p->fall_s[n] = p->length_s - command_s + p->late_s[1][n];
}

/* What the currents at the commands lose, and so when the legs go and what the motor is left.
 * `ends_a` are the phases' currents at the period's start and end. */
static void next_round(period *p, const cvk_loss *loss, const double command_v[3], double dead_s,
                       double own_v, double ends_a[2][3])
{
    const double per_knee = 1.0 / loss->knee_a;
    double lost[3], rise[3], fall[3], x[3];
    for (int n = 0; n < 3; n++) {
        const double way_a = (ends_a[1][n] - ends_a[0][n]) * p->share[n];
        flux_at(p, n, false, x);
        const double rise_a = ends_a[0][n] + way_a + loss->per_h * along(x, n);
        flux_at(p, n, true, x);
        const double fall_a = ends_a[1][n] - way_a + loss->per_h * along(x, n);
        rise[n] = cvk_curve_at(larger(0.0, -rise_a) * per_knee, loss->curve);
        fall[n] = cvk_curve_at(larger(0.0, fall_a) * per_knee, loss->curve);
        lost[n] = own_v * (fall[n] - rise[n]);
    }
    for (int n = 0; n < 3; n++) {
        move_leg(p, n, dead_s, rise[n], fall[n]);
        p->taken_v[n] = command_v[n] - along(lost, n);
    }
}

static void write_edges(const period *p, cvk_edge edges[3])
{
    double x[3];
    for (int n = 0; n < 3; n++) {
        flux_at(p, n, false, x);
        edges[n].rise_wb[0] = along(x, n);
        edges[n].rise_wb[1] = across(x, n);
        flux_at(p, n, true, x);
        edges[n].fall_wb[0] = along(x, n);
        edges[n].fall_wb[1] = across(x, n);
        edges[n].off = 0.5 - p->share[n];
    }
}

/* While only the longest leg is high the bus gives the current of its phase, while only the
 * shortest is low that of the other two; `off` is half a duty. */
static cvk_sag sag_of(const cvk_edge edges[3])
{
    cvk_sag out = {0.0, 0.0, 0.0};
    int high = 0, low = 0;
    for (int n = 1; n < 3; n++) {
        high = edges[n].off > edges[high].off ? n : high;
        low = edges[n].off <= edges[low].off ? n : low;
    }
    if (high == low) {
        return out;
    }
    const double middle = edges[3 - high - low].off;
    const double weight[] = {4.0 / 3 * (edges[high].off - middle),
                             4.0 / 3 * (middle - edges[low].off)};
    for (int n = 0; n < 2; n++) {
        const double *u = cvk_phase_axis[n == 0 ? high : low];
        out.aa += weight[n] * u[0] * u[0];
        out.ab += weight[n] * u[0] * u[1];
        out.bb += weight[n] * u[1] * u[1];
    }
    return out;
}

/* A row's period as it is commanded: legs that move at once and lose nothing. */
static period commanded(const cvk_waveforms *s, size_t row)
{
    period p = {.length_s = s->pwm_period_s, .bus_v = s->bus_v * s->bus_share[row]};
    double *v = p.taken_v;
    cvk_to_three(s->v_alpha[row], s->v_beta[row], v);
    const double middle =
        0.5 * (larger(larger(v[0], v[1]), v[2]) + smaller(smaller(v[0], v[1]), v[2]));
    for (int n = 0; n < 3; n++) {
        const double share = 0.5 - (v[n] - middle) / p.bus_v;
        p.share[n] = 0.5 * smaller(larger(share, 0.0), 1.0);
        move_leg(&p, n, 0.0, 0.0, 0.0);
    }
    return p;
}

/* Moves the legs as the currents do that flow while the duties of the row act. */
static void move_late(period *p, const cvk_waveforms *s, size_t row, const cvk_loss *loss)
{
    const double dead_s = p->length_s * smaller(loss->dead_time_voltage_v / s->bus_v, MOST_DEAD);
    const double own_v = loss->dead_time_voltage_v * s->bus_share[row];
    const double command_v[3] = {p->taken_v[0], p->taken_v[1], p->taken_v[2]};
    double ends_a[2][3];
    for (int e = 0; e < 2; e++) {
        const size_t then = cvk_row_before(row, -loss->delay - e, (cvk_span){0, s->rows});
        cvk_to_three(s->i_alpha[then], s->i_beta[then], ends_a[e]);
    }
    for (int round = 0; round < ROUNDS; round++) {
        next_round(p, loss, command_v, dead_s, own_v, ends_a);
    }
}

void cvk_find_edges(const cvk_waveforms *s, cvk_span rows, const cvk_loss *loss)
{
    const bool lossy = loss->dead_time_voltage_v > 0.0 && loss->per_h > 0.0;
    for (size_t k = rows.begin; k < rows.end && s->legs != NULL; k++) {
        period p = commanded(s, k);
        if (lossy) {
            move_late(&p, s, k, loss);
        }
        write_edges(&p, s->legs[k].edge);
        s->legs[k].bus = sag_of(s->legs[k].edge);
    }
}

/* All rows, part by part. */
typedef struct share {
    const cvk_waveforms *s;
    const cvk_loss *loss;
} share;

static bool find_part(void *context, size_t n)
{
    const share *all = context;
    cvk_find_edges(all->s, cvk_part((cvk_span){0, all->s->rows}, n, PART_ROWS), all->loss);
    return true;
}

void cvk_find_all_edges(const cvk_waveforms *s, const cvk_loss *loss, int threads)
{
    share all = {s, loss};
    (void)cvk_for_each(cvk_parts((cvk_span){0, s->rows}, PART_ROWS), threads, find_part, &all);
}

cvk_axes cvk_axes_of(const cvk_belief *belief)
{
    const bool known =
        cvk_belief_knows(belief, CVK_B_L_D, 0.3) && cvk_belief_knows(belief, CVK_B_L_Q, 0.3);
    if (belief->flat || !known) {
        return (cvk_axes){0.0, 0.0};
    }
    const double d = 0.5 / belief->mean[CVK_B_L_D], q = 0.5 / belief->mean[CVK_B_L_Q];
    return (cvk_axes){d + q, d - q};
}

cvk_loss cvk_loss_of(const cvk_belief *belief)
{
    return (cvk_loss){.dead_time_voltage_v =
                          belief->knee_a > 0.0 ? belief->mean[CVK_B_DEAD_TIME] : 0.0,
                      .knee_a = belief->knee_a,
                      .curve = belief->curve,
                      .per_h = cvk_axes_of(belief).per_h,
                      .delay = lround(belief->mean[CVK_B_DELAY])};
}

double complex cvk_own_share(const cvk_waveforms *s, double complex current_a, size_t acting,
                             double knee_a, int curve, cvk_axes axes)
{
    double u[2], rise_a[3], fall_a[3];
    const bool rippled = s->legs != NULL && axes.per_h > 0.0;
    if (rippled) {
        cvk_ripple_at(s->legs[acting].edge, axes.per_h, creal(axes.unlike_per_h),
                      cimag(axes.unlike_per_h), rise_a, fall_a);
    }
    if (rippled) {
        double phase_a[3];
        cvk_to_three(creal(current_a), cimag(current_a), phase_a);
        cvk_edges_vector(phase_a, 1.0 / knee_a, curve, rise_a, fall_a, u);
    } else {
        cvk_curve_vector(creal(current_a), cimag(current_a), 1.0 / knee_a, curve, u);
    }
    return s->bus_share[acting] * (u[0] + I * u[1]);
}

double complex cvk_own_share_at(const cvk_waveforms *s, size_t row, double knee_a, cvk_axes axes,
                                const cvk_belief *belief)
{
    const long delay = lround(belief->mean[CVK_B_DELAY]);
    const size_t acting = cvk_row_before(row, delay, (cvk_span){0, s->rows});
    const double complex current_a = s->i_alpha[row] + I * s->i_beta[row];
    return cvk_own_share(s, current_a, acting, knee_a, belief->curve, axes);
}
