/* SPDX-License-Identifier: Apache-2.0
 *
 * Exact discretisation of L di/dt = v - R i - u(i): v is piecewise constant and changes inside the
 * sample period at the delay's fraction; the inverter's own voltage u and what saturation leaves of
 * L are taken at the middle of a step. See docs/theory.md section 4.
 *
 * This loop is where estimation spends its time: lanes are the innermost index, so that the
 * compiler can use vector instructions. One lane is simulated alone when only the misfit is asked.
 */
#include "standstill_model.h"

#include "inverter_curve.h"
#include "wide.h"

#include <math.h>

#define LANES CVK_SM_LANES
#define HALF_SQRT3 0.86602540378443864676
#define MOST_STEPS 3
#define LARGEST_STEP 0.5 /* of the fastest time constant, in one step */

/* Everything about the lanes that does not change from row to row, one array per coefficient. A
 * period is simulated in `steps` equal steps. */
typedef struct coefficients {
    double phi_aa[LANES], phi_ab[LANES], phi_bb[LANES];    /* current to current, over a step */
    double gain_aa[LANES], gain_ab[LANES], gain_bb[LANES]; /* voltage to current, over a step */
    double old_share[MOST_STEPS][LANES]; /* of each step in which the voltage before still acts */
    double dead_v[LANES], per_knee[LANES], offset_a[LANES], offset_b[LANES];
    double axis_a[LANES], axis_b[LANES]; /* direction of the high-inductance axis x */
    double square_x[LANES], square_y[LANES], linear_y[LANES];
    long delay; /* whole periods */
    int steps;
} coefficients;

static bool possible(const double p[CVK_SM_COUNT])
{
    double saliency = hypot(p[CVK_SM_L_COS], p[CVK_SM_L_SIN]);
    return p[CVK_SM_L_MEAN] - saliency > 0.0 && p[CVK_SM_RESISTANCE] > 0.0 &&
           isfinite(p[CVK_SM_L_MEAN] + saliency) && isfinite(p[CVK_SM_DELAY]);
}

/* Enough steps that neither the winding's time constant nor the inverter's bend is crossed in one.
 */
static int steps_for(const double p[CVK_SM_COUNT], double period_s)
{
    double low = p[CVK_SM_L_MEAN] - hypot(p[CVK_SM_L_COS], p[CVK_SM_L_SIN]);
    double slope = p[CVK_SM_RESISTANCE] + fabs(p[CVK_SM_DEAD_TIME]) * exp(-p[CVK_SM_LOG_KNEE]);
    double wanted = ceil(slope * period_s / (LARGEST_STEP * low));
    return wanted < 1.0 ? 1 : (wanted > MOST_STEPS ? MOST_STEPS : (int)wanted);
}

static void prepare(coefficients *k, int n, const double p[CVK_SM_COUNT], double period_s)
{
    double saliency = hypot(p[CVK_SM_L_COS], p[CVK_SM_L_SIN]), r = p[CVK_SM_RESISTANCE];
    double step_s = period_s / k->steps;
    double phi_x = exp(-r * step_s / (p[CVK_SM_L_MEAN] + saliency));
    double phi_y = exp(-r * step_s / (p[CVK_SM_L_MEAN] - saliency));
    double gain_x = (1.0 - phi_x) / r, gain_y = (1.0 - phi_y) / r;
    /* direction of the high-inductance axis x: twice its angle is atan2(sin, cos) */
    double c = saliency > 0.0 ? p[CVK_SM_L_COS] / saliency : 1.0;
    double s = saliency > 0.0 ? p[CVK_SM_L_SIN] / saliency : 0.0;
    double xx = 0.5 * (1.0 + c), yy = 0.5 * (1.0 - c), xy = 0.5 * s;
    k->phi_aa[n] = phi_x * xx + phi_y * yy;
    k->phi_bb[n] = phi_x * yy + phi_y * xx;
    k->phi_ab[n] = (phi_x - phi_y) * xy;
    k->gain_aa[n] = gain_x * xx + gain_y * yy;
    k->gain_bb[n] = gain_x * yy + gain_y * xx;
    k->gain_ab[n] = (gain_x - gain_y) * xy;
    double old_steps = (p[CVK_SM_DELAY] - (double)k->delay) * k->steps;
    for (int j = 0; j < k->steps; j++) {
        k->old_share[j][n] = fmin(fmax(old_steps - j, 0.0), 1.0);
    }
    k->axis_a[n] = sqrt(xx);
    k->axis_b[n] = copysign(sqrt(yy), s);
    k->square_x[n] = p[CVK_SM_SQUARE_X];
    k->square_y[n] = p[CVK_SM_SQUARE_Y];
    k->linear_y[n] = p[CVK_SM_LINEAR_Y];
    k->dead_v[n] = p[CVK_SM_DEAD_TIME];
    k->per_knee[n] = exp(-p[CVK_SM_LOG_KNEE]);
    k->offset_a[n] = p[CVK_SM_OFFSET_ALPHA];
    k->offset_b[n] = p[CVK_SM_OFFSET_BETA];
}

/* Phase currents over the knee, and the curve's widths there. */
typedef struct phases {
    double x[3][LANES], width[3][LANES];
} phases;

INLINED void phases_at(const coefficients *k, int lanes, int curve, const double ia[LANES],
                       const double ib[LANES], phases *out)
{
    for (int n = 0; n < lanes; n++) {
        const double a = k->per_knee[n] * ia[n], along = -0.5 * a;
        const double across = k->per_knee[n] * HALF_SQRT3 * ib[n];
        out->x[0][n] = a;
        out->x[1][n] = along + across;
        out->x[2][n] = along - across;
        out->width[0][n] = cvk_curve_width(a, curve);
        out->width[1][n] = cvk_curve_width(along + across, curve);
        out->width[2][n] = cvk_curve_width(along - across, curve);
    }
}

/* Where a step leads under the inverter's mean voltage on the way from `from` to `to`; what
 * saturates moves by more. `unhindered`: where it leads without both. */
INLINED void arrive(const coefficients *k, int lanes, double bus_share, const phases *from,
                    const phases *to, double unhindered[2][LANES], const double ia[LANES],
                    const double ib[LANES], double to_a[LANES], double to_b[LANES])
{
    for (int n = 0; n < lanes; n++) {
        double u[3];
        for (int m = 0; m < 3; m++) {
            u[m] = (from->x[m][n] + to->x[m][n]) / (from->width[m][n] + to->width[m][n]);
        }
        double dead_v = bus_share * k->dead_v[n];
        double u_alpha = dead_v * (2.0 * u[0] - u[1] - u[2]) * (1.0 / 3.0);
        double u_beta = dead_v * (u[1] - u[2]) * (0.5 / HALF_SQRT3);
        double next_a = unhindered[0][n] - k->gain_aa[n] * u_alpha - k->gain_ab[n] * u_beta;
        double next_b = unhindered[1][n] - k->gain_ab[n] * u_alpha - k->gain_bb[n] * u_beta;
        double move_a = next_a - ia[n], move_b = next_b - ib[n];
        double mid_a = 0.5 * (ia[n] + to_a[n]), mid_b = 0.5 * (ib[n] + to_b[n]);
        double x = k->axis_a[n] * mid_a + k->axis_b[n] * mid_b;
        double y = k->axis_a[n] * mid_b - k->axis_b[n] * mid_a;
        double more_x = k->square_x[n] * x * x * (k->axis_a[n] * move_a + k->axis_b[n] * move_b);
        double more_y = y * (k->linear_y[n] + k->square_y[n] * y) *
                        (k->axis_a[n] * move_b - k->axis_b[n] * move_a);
        to_a[n] = next_a + k->axis_a[n] * more_x - k->axis_b[n] * more_y;
        to_b[n] = next_b + k->axis_b[n] * more_x + k->axis_a[n] * more_y;
    }
}

/* One step for all lanes: the inverter's voltage is taken at the present current first, then as its
 * mean on the way to where that leads (Heun). */
INLINED void advance(const coefficients *k, int lanes, int curve, int step, const double v_new[2],
                     const double v_old[2], double bus_share, double ia[LANES], double ib[LANES])
{
    double unhindered[2][LANES], to_a[LANES], to_b[LANES];
    phases from, to;
    for (int n = 0; n < lanes; n++) {
        double old = k->old_share[step][n];
        double va = v_new[0] + old * (v_old[0] - v_new[0]);
        double vb = v_new[1] + old * (v_old[1] - v_new[1]);
        unhindered[0][n] =
            k->phi_aa[n] * ia[n] + k->phi_ab[n] * ib[n] + k->gain_aa[n] * va + k->gain_ab[n] * vb;
        unhindered[1][n] =
            k->phi_ab[n] * ia[n] + k->phi_bb[n] * ib[n] + k->gain_ab[n] * va + k->gain_bb[n] * vb;
        to_a[n] = ia[n];
        to_b[n] = ib[n];
    }
    phases_at(k, lanes, curve, ia, ib, &from);
    arrive(k, lanes, bus_share, &from, &from, unhindered, ia, ib, to_a, to_b);
    phases_at(k, lanes, curve, to_a, to_b, &to);
    arrive(k, lanes, bus_share, &from, &to, unhindered, ia, ib, to_a, to_b);
    for (int n = 0; n < lanes; n++) {
        ia[n] = to_a[n];
        ib[n] = to_b[n];
    }
}

/* Constant arguments in each call let the compiler specialise the loops. */
INLINED void advance_curve(const coefficients *k, int lanes, int curve, int step,
                           const double v_new[2], const double v_old[2], double bus_share,
                           double ia[LANES], double ib[LANES])
{
    switch (curve) {
    case CVK_CURVE_SOFT:
        advance(k, lanes, CVK_CURVE_SOFT, step, v_new, v_old, bus_share, ia, ib);
        break;
    case CVK_CURVE_CHARGE:
        advance(k, lanes, CVK_CURVE_CHARGE, step, v_new, v_old, bus_share, ia, ib);
        break;
    case CVK_CURVE_ROUND:
        advance(k, lanes, CVK_CURVE_ROUND, step, v_new, v_old, bus_share, ia, ib);
        break;
    case CVK_CURVE_TANH:
        advance(k, lanes, CVK_CURVE_TANH, step, v_new, v_old, bus_share, ia, ib);
        break;
    case CVK_CURVE_ARC:
        advance(k, lanes, CVK_CURVE_ARC, step, v_new, v_old, bus_share, ia, ib);
        break;
    default:
        advance(k, lanes, CVK_CURVE_CLIPPED, step, v_new, v_old, bus_share, ia, ib);
        break;
    }
}

WIDE bool cvk_sm_simulate(const cvk_signals *s, cvk_span rows, size_t warm_up, int curve, int lanes,
                          const double *const lane[], double *const out[])
{
    coefficients k = {.delay = (long)floor(lane[0][CVK_SM_DELAY]),
                      .steps = steps_for(lane[0], s->period_s)};
    double ia[LANES], ib[LANES];
    for (int n = 0; n < LANES; n++) { /* unused lanes repeat the first */
        const double *p = lane[n < lanes ? n : 0];
        if (!possible(p)) {
            return false;
        }
        prepare(&k, n, p, s->period_s);
        ia[n] = s->i_alpha[rows.begin] - k.offset_a[n];
        ib[n] = s->i_beta[rows.begin] - k.offset_b[n];
    }
    for (size_t row = rows.begin; row < rows.end; row++) {
        if (row >= rows.begin + warm_up) {
            size_t at = 2 * (row - rows.begin - warm_up);
            for (int n = 0; n < lanes; n++) {
                out[n][at] = s->i_alpha[row] - k.offset_a[n] - ia[n];
                out[n][at + 1] = s->i_beta[row] - k.offset_b[n] - ib[n];
            }
        }
        size_t now = cvk_row_before(row, k.delay, rows);
        size_t before = cvk_row_before(row, k.delay + 1, rows);
        const double v_new[2] = {s->v_alpha[now], s->v_beta[now]};
        const double v_old[2] = {s->v_alpha[before], s->v_beta[before]};
        for (int step = 0; step < k.steps; step++) {
            if (lanes == 1) {
                advance_curve(&k, 1, curve, step, v_new, v_old, s->bus_share[now], ia, ib);
            } else {
                advance_curve(&k, LANES, curve, step, v_new, v_old, s->bus_share[now], ia, ib);
            }
        }
    }
    return true;
}
