/* SPDX-License-Identifier: Apache-2.0
 *
 * Pulses in the middle of each period, their common part such that the longest and the shortest
 * leave alike: T (1 - duty) / 2 after the period's start a leg rises. Until then the legs that rose
 * before have driven the winding, and the mean voltage, which the motor takes, has not come: what
 * flux linkage is short of its mean there is kept for each row, seen along the phase (alpha) and
 * across it. The fall is its mirror image.
 */
#include "edges.h"

#include <math.h>

#define HALF_SQRT3 0.86602540378443864676

/* Unlike fmin() and fmax() never a call. */
static double smaller(double a, double b)
{
    return a < b ? a : b;
}

static double larger(double a, double b)
{
    return a > b ? a : b;
}

static void to_phases(double alpha, double beta, double out[3])
{
    out[0] = alpha;
    out[1] = -0.5 * alpha + HALF_SQRT3 * beta;
    out[2] = -0.5 * alpha - HALF_SQRT3 * beta;
}

/* Flux linkage at the rise of phase n's leg, turned by minus the phase's direction. */
static void edge_of(const double v[3], const double rise_s[3], double bus_v, int n, double out[2])
{
    static const double turn[3][2] = {{1.0, 0.0}, {-0.5, HALF_SQRT3}, {-0.5, -HALF_SQRT3}};
    double x[3];
    for (int k = 0; k < 3; k++) {
        x[k] = bus_v * larger(0.0, rise_s[n] - rise_s[k]) - v[k] * rise_s[n];
    }
    const double alpha = (2.0 * x[0] - x[1] - x[2]) / 3.0,
                 beta = (x[1] - x[2]) / (2.0 * HALF_SQRT3);
    out[0] = alpha * turn[n][0] + beta * turn[n][1];
    out[1] = beta * turn[n][0] - alpha * turn[n][1];
}

void cvk_find_edges(const cvk_signals *s, cvk_span rows, double dead_time_voltage_v, double knee_a,
                    int curve, long delay)
{
    const cvk_span all = {0, s->rows};
    const double half_s = 0.5 * s->pwm_period_s;
    for (size_t k = rows.begin; k < rows.end && s->edge_wb != NULL; k++) {
        const double bus_v = s->bus_v * s->bus_share[k];
        const size_t then = cvk_row_before(k, -delay, all);
        double v[3], own[2] = {0.0, 0.0}, rise_s[3];
        if (dead_time_voltage_v > 0.0) {
            cvk_curve_vector(s->i_alpha[then], s->i_beta[then], 1.0 / knee_a, curve, own);
        }
        const double own_v = dead_time_voltage_v * s->bus_share[k];
        to_phases(s->v_alpha[k] - own_v * own[0], s->v_beta[k] - own_v * own[1], v);
        const double middle = 0.5 * (larger(larger(v[0], v[1]), v[2]) + smaller(smaller(v[0], v[1]), v[2]));
        for (int n = 0; n < 3; n++) {
            rise_s[n] = half_s * smaller(larger(0.5 - (v[n] - middle) / bus_v, 0.0), 1.0);
        }
        for (int n = 0; n < 3; n++) {
            edge_of(v, rise_s, bus_v, n, s->edge_wb + 6 * k + 2 * n);
        }
    }
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

double complex cvk_own_share(const cvk_signals *s, double complex current_a, size_t acting,
                             double knee_a, int curve, cvk_axes axes)
{
    double u[2], ripple_a[3];
    const bool rippled = s->edge_wb != NULL && axes.per_h > 0.0;
    if (rippled) {
        cvk_ripple_at(s->edge_wb + 6 * acting, axes.per_h, creal(axes.unlike_per_h),
                      cimag(axes.unlike_per_h), ripple_a);
    }
    cvk_edges_vector(creal(current_a), cimag(current_a), 1.0 / knee_a, curve,
                     rippled ? ripple_a : NULL, u);
    return s->bus_share[acting] * (u[0] + I * u[1]);
}
