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

/* The rise of phase n's leg. */
static cvk_edge edge_of(const double v[3], const double rise_s[3], double bus_v, double period_s,
                        int n)
{
    static const double turn[3][2] = {{1.0, 0.0}, {-0.5, HALF_SQRT3}, {-0.5, -HALF_SQRT3}};
    double x[3];
    for (int k = 0; k < 3; k++) {
        x[k] = bus_v * larger(0.0, rise_s[n] - rise_s[k]) - v[k] * rise_s[n];
    }
    const double alpha = (2.0 * x[0] - x[1] - x[2]) / 3.0,
                 beta = (x[1] - x[2]) / (2.0 * HALF_SQRT3);
    return (cvk_edge){.along_wb = alpha * turn[n][0] + beta * turn[n][1],
                      .across_wb = beta * turn[n][0] - alpha * turn[n][1],
                      .off = 0.5 - rise_s[n] / period_s};
}

void cvk_find_edges(const cvk_signals *s, cvk_span rows, double dead_time_voltage_v, double knee_a,
                    int curve, long delay)
{
    const cvk_span all = {0, s->rows};
    const double half_s = 0.5 * s->pwm_period_s;
    for (size_t k = rows.begin; k < rows.end && s->edges != NULL; k++) {
        const double bus_v = s->bus_v * s->bus_share[k];
        const size_t then = cvk_row_before(k, -delay, all);
        double v[3], own[2] = {0.0, 0.0}, rise_s[3];
        if (dead_time_voltage_v > 0.0) {
            cvk_curve_vector(s->i_alpha[then], s->i_beta[then], 1.0 / knee_a, curve, own);
        }
        const double own_v = dead_time_voltage_v * s->bus_share[k];
        cvk_to_three(s->v_alpha[k] - own_v * own[0], s->v_beta[k] - own_v * own[1], v);
        const double middle = 0.5 * (larger(larger(v[0], v[1]), v[2]) + smaller(smaller(v[0], v[1]), v[2]));
        for (int n = 0; n < 3; n++) {
            rise_s[n] = half_s * smaller(larger(0.5 - (v[n] - middle) / bus_v, 0.0), 1.0);
        }
        for (int n = 0; n < 3; n++) {
            s->edges[3 * k + (size_t)n] = edge_of(v, rise_s, bus_v, s->pwm_period_s, n);
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
    const bool rippled = s->edges != NULL && axes.per_h > 0.0;
    if (rippled) {
        cvk_ripple_at(s->edges + 3 * acting, axes.per_h, creal(axes.unlike_per_h),
                      cimag(axes.unlike_per_h), ripple_a);
    }
    if (rippled) {
        double phase_a[3];
        cvk_to_three(creal(current_a), cimag(current_a), phase_a);
        cvk_edges_vector(phase_a, 1.0 / knee_a, curve, ripple_a, u);
    } else {
        cvk_curve_vector(creal(current_a), cimag(current_a), 1.0 / knee_a, curve, u);
    }
    return s->bus_share[acting] * (u[0] + I * u[1]);
}
