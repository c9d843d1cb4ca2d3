/* SPDX-License-Identifier: Apache-2.0
 *
 * Exact discretisation of L di/dt = v - R i - u(i): v is piecewise constant and changes inside the
 * sample period at the delay's fraction; what saturation leaves of L is taken at the middle of a
 * step, the inverter's own voltage u as its mean there, or at each leg's two edges where those are
 * known. See docs/theory.md sections 3 and 4.
 *
 * This loop is where estimation spends its time: lanes are the innermost index, so that the
 * compiler can use vector instructions. One lane is simulated alone when only the misfit is asked.
 */
#include "standstill_model.h"

#include "model/edges.h"
#include "math/wide.h"

#include <math.h>

#define LANES ((CVK_SM_LANES + 7) / 8 * 8) /* in memory: whole wide registers */
#define HALF_SQRT3 0.86602540378443864676
#define PASSES 4 /* until the inverter's voltage and the current that it lets through agree */
#define MOST_STEPS 3
#define SHARPEST 0.25    /* of the knee: of what the current moves by the dead time's own voltage */
#define FADED_A 1e-20    /* numbers too small for their format take a hundred times as long */
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
    double cross_x[LANES], cross_y[LANES];                   /* 1/A: of each axis' own inductance */
    double per_h[LANES], unlike_re[LANES], unlike_im[LANES]; /* as cvk_axes */
    double firm[LANES]; /* share of a new voltage that is believed: the steeper the knee the less */
    long delay;         /* whole periods */
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

double cvk_sm_knee_a(const double p[CVK_SM_COUNT], double period_s)
{
    const double own_way_a = fabs(p[CVK_SM_DEAD_TIME]) * period_s / p[CVK_SM_L_MEAN];
    return hypot(exp(p[CVK_SM_LOG_KNEE]), SHARPEST * own_way_a);
}

static void prepare(coefficients *k, int n, bool edged, const double p[CVK_SM_COUNT],
                    double period_s)
{
    double saliency = hypot(p[CVK_SM_L_COS], p[CVK_SM_L_SIN]), r = p[CVK_SM_RESISTANCE];
    double l_x = p[CVK_SM_L_MEAN] + saliency, l_y = p[CVK_SM_L_MEAN] - saliency;
    double step_s = period_s / k->steps;
    double phi_x = exp(-r * step_s / l_x), phi_y = exp(-r * step_s / l_y);
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
    k->cross_x[n] = p[CVK_SM_CROSS] * p[CVK_SM_L_MEAN] / l_x;
    k->cross_y[n] = p[CVK_SM_CROSS] * p[CVK_SM_L_MEAN] / l_y;
    k->per_h[n] = 0.5 / l_x + 0.5 / l_y;
    k->unlike_re[n] = (0.5 / l_x - 0.5 / l_y) * c;
    k->unlike_im[n] = (0.5 / l_x - 0.5 / l_y) * s;
    k->dead_v[n] = p[CVK_SM_DEAD_TIME];
    k->per_knee[n] = 1.0 / cvk_sm_knee_a(p, edged ? period_s : 0.0);
    k->firm[n] = 1.0 / (1.0 + 0.25 * fabs(k->dead_v[n]) * k->per_knee[n] * k->gain_aa[n]);
    k->offset_a[n] = p[CVK_SM_OFFSET_ALPHA];
    k->offset_b[n] = p[CVK_SM_OFFSET_BETA];
}

/* A vector in the plane for each lane. */
typedef struct vectors {
    double a[LANES], b[LANES];
} vectors;

/* What acts in a period. */
typedef struct row_input {
    double new_v[2], old_v[2]; /* of these duties, and of those before until they come */
    double bus_share;
    const cvk_legs *legs; /* or null */
} row_input;

/* Phase currents over the knee, and the curve's widths there as quotients. */
typedef struct phases {
    double x[3][LANES], above[3][LANES], below[3][LANES];
} phases;

INLINED void phases_at(const coefficients *k, int lanes, int curve, const vectors *i, phases *out)
{
    for (int n = 0; n < lanes; n++) {
        const double a = k->per_knee[n] * i->a[n], along = -0.5 * a;
        const double across = k->per_knee[n] * HALF_SQRT3 * i->b[n];
        out->x[0][n] = a;
        out->x[1][n] = along + across;
        out->x[2][n] = along - across;
        for (int m = 0; m < 3; m++) {
            cvk_curve_width(out->x[m][n], curve, &out->above[m][n], &out->below[m][n]);
        }
    }
}

/* The inverter's voltage per volt of dead time: its mean on the way from `from` to `to`. */
INLINED void mean_on_the_way(int lanes, const phases *from, const phases *to, vectors *own)
{
    for (int n = 0; n < lanes; n++) {
        double above[3], below[3], u[3];
        for (int m = 0; m < 3; m++) {
            const double from_below = from->below[m][n], to_below = to->below[m][n];
            above[m] = (from->x[m][n] + to->x[m][n]) * from_below * to_below;
            below[m] = from->above[m][n] * to_below + to->above[m][n] * from_below;
        }
        cvk_three_quotients(above, below, u);
        own->a[n] = (2.0 * u[0] - u[1] - u[2]) * (1.0 / 3.0);
        own->b[n] = (u[1] - u[2]) * (0.5 / HALF_SQRT3);
    }
}

/* As cvk_ripple_at(). */
INLINED void ripples_of(const coefficients *k, int lanes, const cvk_edge *edges,
                        double (*rise_a)[LANES], double (*fall_a)[LANES])
{
    for (int n = 0; n < lanes; n++) {
        double less_a[3], more_a[3];
        cvk_ripple_at(edges, k->per_h[n], k->unlike_re[n], k->unlike_im[n], less_a, more_a);
        for (int m = 0; m < 3; m++) {
            rise_a[m][n] = less_a[m];
            fall_a[m][n] = more_a[m];
        }
    }
}

/* The same at the legs' two edges, on the way from `i` to `to`: off its middle by the ripple and by
 * as much of the way as an edge lies before or after it. After the first pass a share is believed.
 */
INLINED void at_edges(const coefficients *k, int lanes, int curve, bool first,
                      const cvk_edge *edges, double (*rise_a)[LANES], double (*fall_a)[LANES],
                      const vectors *i, const vectors *to, vectors *own)
{
    vectors now;
    for (int n = 0; n < lanes; n++) {
        double u[2], mean_a[3];
        double less_a[3] = {rise_a[0][n], rise_a[1][n], rise_a[2][n]};
        double more_a[3] = {fall_a[0][n], fall_a[1][n], fall_a[2][n]};
        cvk_add_way(edges, to->a[n] - i->a[n], to->b[n] - i->b[n], less_a, more_a);
        cvk_to_three(0.5 * (i->a[n] + to->a[n]), 0.5 * (i->b[n] + to->b[n]), mean_a);
        cvk_edges_vector(mean_a, k->per_knee[n], curve, less_a, more_a, u);
        now.a[n] = u[0];
        now.b[n] = u[1];
    }
    for (int n = 0; n < lanes; n++) {
        const double share = first ? 1.0 : k->firm[n];
        own->a[n] += share * (now.a[n] - own->a[n]);
        own->b[n] += share * (now.b[n] - own->b[n]);
    }
}

/* Where a step leads from `i` that would lead to `unhindered` without the inverter's voltage: what
 * saturates moves by more, as it is in the middle of the way to where `to` was before. */
INLINED void arrive(const coefficients *k, int lanes, double bus_share, const vectors *own,
                    const vectors *unhindered, const vectors *i, vectors *to)
{
    for (int n = 0; n < lanes; n++) {
        const double v_a = bus_share * k->dead_v[n] * own->a[n];
        const double v_b = bus_share * k->dead_v[n] * own->b[n];
        double next_a = unhindered->a[n] - k->gain_aa[n] * v_a - k->gain_ab[n] * v_b;
        double next_b = unhindered->b[n] - k->gain_ab[n] * v_a - k->gain_bb[n] * v_b;
        double move_a = next_a - i->a[n], move_b = next_b - i->b[n];
        double mid_a = 0.5 * (i->a[n] + to->a[n]), mid_b = 0.5 * (i->b[n] + to->b[n]);
        double x = k->axis_a[n] * mid_a + k->axis_b[n] * mid_b;
        double y = k->axis_a[n] * mid_b - k->axis_b[n] * mid_a;
        double move_x = k->axis_a[n] * move_a + k->axis_b[n] * move_b;
        double move_y = k->axis_a[n] * move_b - k->axis_b[n] * move_a;
        double more_x = k->square_x[n] * x * x * move_x + k->cross_x[n] * (x * move_y + y * move_x);
        double more_y =
            y * (k->linear_y[n] + k->square_y[n] * y) * move_y + k->cross_y[n] * x * move_x;
        to->a[n] = next_a + k->axis_a[n] * more_x - k->axis_b[n] * more_y;
        to->b[n] = next_b + k->axis_b[n] * more_x + k->axis_a[n] * more_y;
    }
}

INLINED void go_unhindered(const coefficients *k, int lanes, int step, const row_input *in,
                           const vectors *i, vectors *to)
{
    for (int n = 0; n < lanes; n++) {
        double old = k->old_share[step][n];
        double va = in->new_v[0] + old * (in->old_v[0] - in->new_v[0]);
        double vb = in->new_v[1] + old * (in->old_v[1] - in->new_v[1]);
        to->a[n] = k->phi_aa[n] * i->a[n] + k->phi_ab[n] * i->b[n] + k->gain_aa[n] * va +
                   k->gain_ab[n] * vb;
        to->b[n] = k->phi_ab[n] * i->a[n] + k->phi_bb[n] * i->b[n] + k->gain_ab[n] * va +
                   k->gain_bb[n] * vb;
    }
}

/* One step for all lanes: the inverter's voltage is taken at the present current first, then on the
 * way to where that leads (Heun); a whole period with its edges has further to go. */
INLINED void advance(const coefficients *k, int lanes, int curve, int step, const row_input *in,
                     vectors *i)
{
    vectors unhindered, to, own;
    go_unhindered(k, lanes, step, in, i, &unhindered);
    for (int n = 0; n < lanes; n++) {
        to.a[n] = i->a[n];
        to.b[n] = i->b[n];
        own.a[n] = own.b[n] = 0.0;
    }
    if (in->legs != NULL) {
        double rise_a[3][LANES], fall_a[3][LANES];
        ripples_of(k, lanes, in->legs->edge, rise_a, fall_a);
        for (int pass = 0; pass < PASSES; pass++) {
            at_edges(k, lanes, curve, pass == 0, in->legs->edge, rise_a, fall_a, i, &to, &own);
            arrive(k, lanes, in->bus_share, &own, &unhindered, i, &to);
        }
    } else {
        phases from, there;
        phases_at(k, lanes, curve, i, &from);
        mean_on_the_way(lanes, &from, &from, &own);
        arrive(k, lanes, in->bus_share, &own, &unhindered, i, &to);
        phases_at(k, lanes, curve, &to, &there);
        mean_on_the_way(lanes, &from, &there, &own);
        arrive(k, lanes, in->bus_share, &own, &unhindered, i, &to);
    }
    for (int n = 0; n < lanes; n++) { /* nothing is left of what has faded */
        i->a[n] = (to.a[n] + FADED_A) - FADED_A;
        i->b[n] = (to.b[n] + FADED_A) - FADED_A;
    }
}

/* Constant arguments in each call let the compiler specialise the loops. */
INLINED void advance_curve(const coefficients *k, int lanes, int curve, int step,
                           const row_input *in, vectors *i)
{
    switch (curve) {
    case CVK_CURVE_SOFT:
        advance(k, lanes, CVK_CURVE_SOFT, step, in, i);
        break;
    case CVK_CURVE_CHARGE:
        advance(k, lanes, CVK_CURVE_CHARGE, step, in, i);
        break;
    case CVK_CURVE_ROUND:
        advance(k, lanes, CVK_CURVE_ROUND, step, in, i);
        break;
    case CVK_CURVE_TANH:
        advance(k, lanes, CVK_CURVE_TANH, step, in, i);
        break;
    case CVK_CURVE_ARC:
        advance(k, lanes, CVK_CURVE_ARC, step, in, i);
        break;
    default:
        advance(k, lanes, CVK_CURVE_CLIPPED, step, in, i);
        break;
    }
}

static row_input input_of(const cvk_waveforms *s, const cvk_legs *legs, size_t row, long delay,
                          cvk_span rows)
{
    const size_t now = cvk_row_before(row, delay, rows),
                 before = cvk_row_before(row, delay + 1, rows);
    return (row_input){.new_v = {s->v_alpha[now], s->v_beta[now]},
                       .old_v = {s->v_alpha[before], s->v_beta[before]},
                       .bus_share = s->bus_share[now],
                       .legs = legs != NULL ? legs + now : NULL};
}

WIDE bool cvk_sm_simulate(const cvk_waveforms *s, const cvk_legs *legs, cvk_span rows,
                          size_t warm_up, int curve, int lanes, const double *const lane[],
                          double *const out[])
{
    coefficients k = {.delay = (long)floor(lane[0][CVK_SM_DELAY]),
                      .steps = legs != NULL ? 1 : steps_for(lane[0], s->period_s)};
    vectors i;
    for (int n = 0; n < LANES; n++) { /* unused lanes repeat the first */
        const double *p = lane[n < lanes ? n : 0];
        if (!possible(p)) {
            return false;
        }
        prepare(&k, n, legs != NULL, p, s->period_s);
    }
    /* which voltages came before the first row is not known: until none of them acts, the current
     * is the measured one */
    const size_t known = rows.begin + (size_t)(k.delay >= 0 ? k.delay + 1 : 0);
    for (size_t row = rows.begin; row < rows.end; row++) {
        for (int n = 0; n < LANES && row <= known; n++) {
            i.a[n] = s->i_alpha[row] - k.offset_a[n];
            i.b[n] = s->i_beta[row] - k.offset_b[n];
        }
        if (row >= rows.begin + warm_up) {
            size_t at = 2 * (row - rows.begin - warm_up);
            for (int n = 0; n < lanes; n++) {
                out[n][at] = s->i_alpha[row] - k.offset_a[n] - i.a[n];
                out[n][at + 1] = s->i_beta[row] - k.offset_b[n] - i.b[n];
            }
        }
        const row_input in = input_of(s, legs, row, k.delay, rows);
        for (int step = 0; step < k.steps; step++) {
            if (lanes == 1) {
                advance_curve(&k, 1, curve, step, &in, &i);
            } else {
                advance_curve(&k, LANES, curve, step, &in, &i);
            }
        }
    }
    return true;
}
