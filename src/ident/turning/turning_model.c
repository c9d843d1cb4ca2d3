/* SPDX-License-Identifier: Apache-2.0
 *
 * Extended Kalman filter in flux linkages (docs/theory.md section 5):
 *
 *     psi' = psi + T (v - R i - u(i)) + noise    theta' = theta + w T
 *     w' = w + T (k iq + a) + noise              a' = a + noise
 *     i = e^(j theta) (id(psi_d - flux) + j iq(psi_q)) + offset + noise
 *
 * With flux linkages as states a voltage held over a sample is integrated exactly whatever the
 * speed; only the drop across R needs an average, taken in the rotor frame, where the current
 * moves slowly.
 */
#include "turning_model.h"

#include "corvak/core/units.h"

#include "model/edges.h"
#include "math/wide.h"

#include <complex.h>
#include <math.h>
#include <string.h>

#ifndef CMPLX /* some C libraries give it to one compiler only */
#define CMPLX(re, im) __builtin_complex((double)(re), (double)(im))
#endif
#define LANES CVK_TM_LANES
#define START_SPEED_SHARE 0.1 /* of the speed: its standard deviation at the start of a block */
#define START_CHANGE_S 0.2    /* within which it may double: the same of the acceleration */
#define START_ANGLE_RAD 0.3
/* While the angle is not found yet the filter's straight-line arithmetic is wrong by far more than
 * the noise: measurements count that much less at the start, fading out over this much of a turn.
 */
#define START_DOUBT 100.0
#define START_RAD 0.5
#define MAGNET_TURNS 1.0          /* over which what unequal magnets do is alike */
#define GAUSS 0.28867513459481288 /* of a period, from its middle */
#define GAUSS_BOW (1.0 / 12.0)    /* t (T - t) / 2T^2 there, */
#define MEAN_BOW (1.0 / 12.0)     /* and on the mean */
#define RELAXATION 0.7            /* of the inverter's voltage: more current makes more of it */
#define STATES CVK_TM_STATES
#define LARGEST_STEP_RAD 2.0 /* electrical angle per sample that the filter may reach */

/* Parameter sets side by side, lane by lane, so that one instruction can serve several. */
typedef struct motors {
    int curve;
    double r[LANES], inv_ld[LANES], inv_lq[LANES], flux[LANES], dead_v[LANES], per_knee[LANES],
        linear_d[LANES], square_d[LANES], square_q[LANES], fifth[LANES], seventh[LANES],
        delay_share[LANES], offset_a[LANES], offset_b[LANES], push[LANES], unequal[4][LANES],
        bus_ohm[LANES], late_s[LANES];
} motors;

/* Cosine and sine of the shaft's angle and of twice that; 0 where it is not seen. */
typedef struct mechanical {
    double of[4];
} mechanical;

/* A vector in the plane for each lane. */
typedef struct vectors {
    double a[LANES], b[LANES];
} vectors;

typedef struct states {
    double psi_a[LANES], psi_b[LANES]; /* stationary */
    double now_a[LANES], now_b[LANES]; /* direction of the rotor, of length one */
    double omega[LANES];
    double change[LANES]; /* of omega: acceleration that no current explains */
    double magnet[LANES]; /* share by which the flux linkage here is off its mean */
    vectors lost;         /* share of its own voltage that the inverter took last */
} states;

INLINED double complex get(const vectors *v, int n)
{
    return CMPLX(v->a[n], v->b[n]);
}

INLINED void put(vectors *v, int n, double complex value)
{
    v->a[n] = creal(value);
    v->b[n] = cimag(value);
}

static bool set_motor(motors *m, int n, const double p[CVK_TM_COUNT], long delay)
{
    if (!(p[CVK_B_RESISTANCE] > 0.0 && p[CVK_B_L_D] > 0.0 && p[CVK_B_L_Q] > 0.0 &&
          p[CVK_B_FLUX] > 0.0 && isfinite(p[CVK_B_DELAY]))) {
        return false;
    }
    m->r[n] = p[CVK_B_RESISTANCE];
    m->inv_ld[n] = 1.0 / p[CVK_B_L_D];
    m->inv_lq[n] = 1.0 / p[CVK_B_L_Q];
    m->flux[n] = p[CVK_B_FLUX];
    m->dead_v[n] = p[CVK_B_DEAD_TIME];
    m->per_knee[n] = exp(-p[CVK_TM_LOG_KNEE]);
    m->linear_d[n] = p[CVK_B_LINEAR_D];
    m->square_d[n] = p[CVK_B_SQUARE_D];
    m->square_q[n] = p[CVK_B_SQUARE_Q];
    m->fifth[n] = p[CVK_TM_FIFTH];
    m->seventh[n] = p[CVK_TM_SEVENTH];
    m->delay_share[n] = p[CVK_B_DELAY] - (double)delay;
    m->offset_a[n] = p[CVK_TM_OFFSET_ALPHA];
    m->offset_b[n] = p[CVK_TM_OFFSET_BETA];
    m->push[n] = p[CVK_TM_PUSH];
    for (int k = 0; k < 4; k++) {
        m->unequal[k][n] = p[CVK_TM_UNEQUAL + k];
    }
    m->bus_ohm[n] = p[CVK_TM_BUS];
    m->late_s[n] = p[CVK_TM_LATE];
    return true;
}

/* The magnet's flux linkage in the rotor frame: fifth and seventh harmonic both turn there at six
 * times the rotor's angle, `now` being its direction. */
INLINED double complex magnet_dq(const motors *m, int n, const mechanical *at, double magnet,
                                 double complex now)
{
    double complex third = now * now * now, sixth = third * third;
    const double unequal = at->of[0] * m->unequal[0][n] + at->of[1] * m->unequal[1][n] +
                           at->of[2] * m->unequal[2][n] + at->of[3] * m->unequal[3][n];
    return m->flux[n] *
           (1.0 + magnet + unequal + m->fifth[n] * conj(sixth) + m->seventh[n] * sixth);
}

/* Current in the rotor frame of the windings' own flux linkage there: the series of the incremental
 * law. */
INLINED double complex current_dq(const motors *m, int n, double complex own)
{
    double x = creal(own) * m->inv_ld[n], y = cimag(own) * m->inv_lq[n];
    double more_x = x * (0.5 * m->linear_d[n] + x * m->square_d[n] * (1.0 / 3.0));
    double more_y = y * y * m->square_q[n] * (1.0 / 3.0);
    return CMPLX(x * (1.0 + more_x), y * (1.0 + more_y));
}

/* e^(j angle) by its series: within 1e-8 up to one radian, which no half step reaches. */
INLINED double complex unit(double x)
{
    const double x2 = x * x;
    const double c =
        1.0 + x2 * (-1.0 / 2 + x2 * (1.0 / 24 + x2 * (-1.0 / 720 +
                                                      x2 * (1.0 / 40320 + x2 * (-1.0 / 3628800)))));
    const double s =
        x * (1.0 + x2 * (-1.0 / 6 +
                         x2 * (1.0 / 120 +
                               x2 * (-1.0 / 5040 + x2 * (1.0 / 362880 + x2 * (-1.0 / 39916800))))));
    return CMPLX(c, s);
}

/* Turns a direction; its length is put right again before it can drift. */
INLINED double complex turned(double complex now, double complex by)
{
    double complex next = now * by;
    double square = creal(next) * creal(next) + cimag(next) * cimag(next);
    return next * (1.5 - 0.5 * square);
}

INLINED double sinc(double x)
{
    return 1.0 - x * x * (1.0 / 6.0 - x * x * (1.0 / 120.0));
}

/* The current of a period, in the stationary plane: at its middle; how far it goes in the period;
 * and by how much it lies below its chord, times the square of the period's share to both ends. */
typedef struct course {
    vectors middle, way, bow;
} course;

/* The inverter's own voltage, as a share: its mean over the period, by Gauss's two points. */
INLINED void mean_of_period(const motors *m, int lanes, int curve, const course *i, vectors *out)
{
    for (int n = 0; n < lanes; n++) {
        const double a = i->middle.a[n] - GAUSS_BOW * i->bow.a[n], off_a = GAUSS * i->way.a[n];
        const double b = i->middle.b[n] - GAUSS_BOW * i->bow.b[n], off_b = GAUSS * i->way.b[n];
        double early[2], late[2];
        cvk_curve_vector(a - off_a, b - off_b, m->per_knee[n], curve, early);
        cvk_curve_vector(a + off_a, b + off_b, m->per_knee[n], curve, late);
        out->a[n] = 0.5 * (early[0] + late[0]);
        out->b[n] = 0.5 * (early[1] + late[1]);
    }
}

/* Or what is lost at the edges, with the rotor at `middle`. */
INLINED void at_edges(const motors *m, int lanes, int curve, const course *i, const vectors *middle,
                      const cvk_edge *edges, vectors *out)
{
    for (int n = 0; n < lanes; n++) {
        const double a = middle->a[n], b = middle->b[n];
        const double unlike = 0.5 * (m->inv_ld[n] - m->inv_lq[n]);
        double u[2], mean_a[3], rise_a[3], fall_a[3];
        cvk_ripple_at(edges, 0.5 * (m->inv_ld[n] + m->inv_lq[n]), unlike * (a * a - b * b),
                      unlike * 2.0 * a * b, rise_a, fall_a);
        cvk_add_way(edges, i->way.a[n], i->way.b[n], rise_a, fall_a);
        cvk_to_three(i->middle.a[n], i->middle.b[n], mean_a);
        cvk_take_bow(edges, i->bow.a[n], i->bow.b[n], mean_a);
        cvk_edges_vector(mean_a, m->per_knee[n], curve, rise_a, fall_a, u);
        out->a[n] = u[0];
        out->b[n] = u[1];
    }
}

INLINED void inverter_of(const motors *m, int lanes, int curve, const course *i,
                         const vectors *middle, const cvk_legs *legs, vectors *out)
{
    if (legs == NULL) {
        mean_of_period(m, lanes, curve, i, out);
    } else {
        at_edges(m, lanes, curve, i, middle, legs->edge, out);
    }
}

/* Constant arguments let the compiler specialise. */
INLINED void inverter(const motors *m, int lanes, const course *i, const vectors *middle,
                      const cvk_legs *legs, vectors *out)
{
    switch (m->curve) {
    case CVK_CURVE_SOFT:
        inverter_of(m, lanes, CVK_CURVE_SOFT, i, middle, legs, out);
        break;
    case CVK_CURVE_CHARGE:
        inverter_of(m, lanes, CVK_CURVE_CHARGE, i, middle, legs, out);
        break;
    case CVK_CURVE_ROUND:
        inverter_of(m, lanes, CVK_CURVE_ROUND, i, middle, legs, out);
        break;
    case CVK_CURVE_TANH:
        inverter_of(m, lanes, CVK_CURVE_TANH, i, middle, legs, out);
        break;
    case CVK_CURVE_ARC:
        inverter_of(m, lanes, CVK_CURVE_ARC, i, middle, legs, out);
        break;
    default:
        inverter_of(m, lanes, CVK_CURVE_CLIPPED, i, middle, legs, out);
        break;
    }
}

/* What one row brings. */
typedef struct row_input {
    double complex measured, v_new, v_old;
    double bus_share, period_s;
    double pulse_s;       /* for which a voltage is held, if that is less */
    const cvk_legs *legs; /* null: none are known */
    cvk_sag bus;
    mechanical at, next; /* now and a row later */
} row_input;

static mechanical mechanical_at(const cvk_waveforms *s, size_t row)
{
    if (s->shaft == NULL) {
        return (mechanical){{0.0}};
    }
    const double c = s->shaft[2 * row], d = s->shaft[2 * row + 1];
    return (mechanical){{c, d, c * c - d * d, 2.0 * c * d}};
}

/* `at` is where the rotor is. */
static row_input input_of(const cvk_waveforms *s, size_t row, long delay, cvk_span rows,
                          mechanical at)
{
    const size_t acting = cvk_row_before(row, delay, rows),
                 before = cvk_row_before(row, delay + 1, rows);
    const cvk_legs *legs = s->legs != NULL ? s->legs + acting : NULL;
    return (row_input){.measured = CMPLX(s->i_alpha[row], s->i_beta[row]),
                       .v_new = CMPLX(s->v_alpha[acting], s->v_beta[acting]),
                       .v_old = CMPLX(s->v_alpha[before], s->v_beta[before]),
                       .bus_share = s->bus_share[acting],
                       .legs = legs,
                       .bus = legs != NULL ? legs->bus : (cvk_sag){0.0, 0.0, 0.0},
                       .period_s = s->period_s,
                       .pulse_s = fmin(s->period_s, s->pwm_period_s),
                       .at = at,
                       .next = mechanical_at(s, row + 1 < rows.end ? row + 1 : row)};
}

/* What a period is before its current is known: e^(j w T/2), the rotor's direction in its middle,
 * the voltage that is told, its drop across R per ampere, the current at its start in the rotor's
 * frame. */
typedef struct period {
    vectors half, middle, voltage, drop, i_dq;
} period;

/* While the flux linkage goes straight on, the magnet's turns: so between the ends, which are seen,
 * the current bows towards -d. */
INLINED void begin_period(const motors *m, int lanes, const states *s, const row_input *in,
                          period *p, course *current)
{
    for (int n = 0; n < lanes; n++) {
        const double half_rad = 0.5 * s->omega[n] * in->period_s;
        const double complex now = CMPLX(s->now_a[n], s->now_b[n]), h = unit(half_rad);
        const double complex psi_dq = CMPLX(s->psi_a[n], s->psi_b[n]) * conj(now);
        put(&p->half, n, h);
        put(&p->middle, n, now * h);
        put(&p->voltage, n, in->v_new + m->delay_share[n] * (in->v_old - in->v_new));
        put(&p->drop, n, m->r[n] * sinc(half_rad) * (now * h));
        const double step_rad = s->omega[n] * in->pulse_s;
        const double complex bow =
            CMPLX(creal(psi_dq) * m->inv_ld[n], cimag(psi_dq) * m->inv_lq[n]);
        put(&current->bow, n, step_rad * step_rad * (now * h * bow));
        put(&p->i_dq, n, current_dq(m, n, psi_dq - magnet_dq(m, n, &in->at, s->magnet[n], now)));
    }
}

/* What of the told voltage is left for the winding's flux linkage, at a mean current in the rotor's
 * frame. */
INLINED double complex driving(const motors *m, int n, const row_input *in, const period *p,
                               double complex mean_dq, double complex lost)
{
    const double complex i = get(&p->middle, n) * mean_dq;
    const double complex sagged = CMPLX(in->bus.aa * creal(i) + in->bus.ab * cimag(i),
                                        in->bus.ab * creal(i) + in->bus.bb * cimag(i));
    return get(&p->voltage, n) - get(&p->drop, n) * mean_dq - m->bus_ohm[n] * sagged -
           in->bus_share * m->dead_v[n] * lost;
}

/* The period's current, and its mean in the rotor's frame, if that were `mean_dq` and the inverter
 * took the share `lost`. */
INLINED void follow(const motors *m, int lanes, const states *s, const row_input *in,
                    const period *p, const vectors *lost, vectors *mean_dq, course *out)
{
    const double t = in->period_s;
    for (int n = 0; n < lanes; n++) {
        const double complex middle = get(&p->middle, n), h = get(&p->half, n), later = middle * h;
        const double complex change = t * driving(m, n, in, p, get(mean_dq, n), get(lost, n));
        const double complex own = (CMPLX(s->psi_a[n], s->psi_b[n]) + change) * conj(later) -
                                   magnet_dq(m, n, &in->next, s->magnet[n], later);
        const double complex from = get(&p->i_dq, n), to = current_dq(m, n, own);
        const double complex mean = 0.5 * (from + to);
        put(mean_dq, n, mean);
        put(&out->middle, n, middle * mean);
        put(&out->way, n, in->pulse_s / t * (later * to - middle * conj(h) * from));
    }
}

/* What the inverter takes depends on the current, and the current on it. `s->lost`, of the period
 * before, becomes that of this one. */
INLINED void find_current(const motors *m, int lanes, states *s, const row_input *in,
                          const period *p, vectors *mean_dq, course *current)
{
    vectors first;
    *mean_dq = p->i_dq;
    follow(m, lanes, s, in, p, &s->lost, mean_dq, current);
    inverter(m, lanes, current, &p->middle, in->legs, &first);
    for (int n = 0; n < lanes; n++) {
        s->lost.a[n] += RELAXATION * (first.a[n] - s->lost.a[n]);
        s->lost.b[n] += RELAXATION * (first.b[n] - s->lost.b[n]);
    }
    follow(m, lanes, s, in, p, &s->lost, mean_dq, current);
    inverter(m, lanes, current, &p->middle, in->legs, &s->lost);
}

INLINED void advance(const motors *m, int lanes, states *s, const row_input *in,
                     const double keep[LANES])
{
    const double t = in->period_s;
    period p;
    vectors mean_dq;
    course current;
    begin_period(m, lanes, s, in, &p, &current);
    find_current(m, lanes, s, in, &p, &mean_dq, &current);
    for (int n = 0; n < lanes; n++) {
        const double complex bow_v = m->r[n] * MEAN_BOW * get(&current.bow, n);
        const double complex change =
            t * (bow_v + driving(m, n, in, &p, get(&mean_dq, n), get(&s->lost, n)));
        const double complex there =
            turned(CMPLX(s->now_a[n], s->now_b[n]), get(&p.half, n) * get(&p.half, n));
        s->omega[n] += t * (m->push[n] * mean_dq.b[n] + s->change[n]);
        s->psi_a[n] += creal(change);
        s->psi_b[n] += cimag(change);
        s->now_a[n] = creal(there);
        s->now_b[n] = cimag(there);
        s->magnet[n] *= keep[n];
    }
}

/* The filter's own arithmetic, lane by lane. */
typedef struct gains {
    double p[STATES][STATES][LANES]; /* covariance of (psi_a, psi_b, theta, w, magnet, change) */
    double k[STATES][2][LANES];      /* Kalman gain */
    double slope[2][STATES][LANES];  /* of the current (alpha, beta) with the states */
    double keep[LANES];              /* share of the magnet's deviation */
    double lost[LANES];              /* not zero: this lane has run away */
} gains;

/* Variances that are added in a row. */
typedef struct variances {
    double current_a[LANES], flux_wb[LANES], speed_rad_s[LANES], change[LANES], magnet[LANES];
} variances;

static void set_variances(variances *v, int n, const cvk_tm_noise *noise)
{
    v->current_a[n] = noise->current_a * noise->current_a;
    v->flux_wb[n] = noise->flux_wb * noise->flux_wb;
    v->speed_rad_s[n] = noise->speed_rad_s * noise->speed_rad_s;
    v->change[n] = noise->change_rad_s2 * noise->change_rad_s2;
    v->magnet[n] = noise->magnet * noise->magnet;
}

INLINED void set_slope(gains *g, const motors *m, int lanes, const states *x,
                       double complex measured, const vectors *error)
{
    for (int n = 0; n < lanes; n++) {
        const double c = x->now_a[n], d = x->now_b[n], ld = m->inv_ld[n], lq = m->inv_lq[n];
        const double i_a = creal(measured) - m->offset_a[n] - error->a[n];
        const double i_b = cimag(measured) - m->offset_b[n] - error->b[n];
        const double aa = ld * c * c + lq * d * d, bb = ld * d * d + lq * c * c;
        const double ab = (ld - lq) * c * d;
        g->slope[0][0][n] = aa;
        g->slope[0][1][n] = g->slope[1][0][n] = ab;
        g->slope[1][1][n] = bb;
        g->slope[0][2][n] = -i_b - (ab * x->psi_a[n] - aa * x->psi_b[n]);
        g->slope[1][2][n] = i_a - (bb * x->psi_a[n] - ab * x->psi_b[n]);
        g->slope[0][3][n] = g->slope[1][3][n] = 0.0;
        g->slope[0][5][n] = g->slope[1][5][n] = 0.0;
        g->slope[0][4][n] = -ld * m->flux[n] * c;
        g->slope[1][4][n] = -ld * m->flux[n] * d;
    }
}

/* out = slope x, of one column of the states. */
INLINED void through_slope(const gains *g, int lanes, double column[STATES][LANES],
                           double out[2][LANES])
{
    for (int e = 0; e < 2; e++) {
        for (int n = 0; n < lanes; n++) {
            out[e][n] = g->slope[e][0][n] * column[0][n] + g->slope[e][1][n] * column[1][n] +
                        g->slope[e][2][n] * column[2][n] + g->slope[e][4][n] * column[4][n];
        }
    }
}

/* F x, with F = 1 but for the drop across R, the speed and the fading magnet. */
INLINED void through_period(const gains *g, const motors *m, int lanes, double period_s,
                            double column[STATES][LANES])
{
    double drop[2][LANES];
    through_slope(g, lanes, column, drop);
    for (int n = 0; n < lanes; n++) {
        column[0][n] -= period_s * m->r[n] * drop[0][n];
        column[1][n] -= period_s * m->r[n] * drop[1][n];
        column[2][n] += period_s * column[3][n];
        column[3][n] += period_s * column[5][n];
        column[4][n] *= g->keep[n];
    }
}

INLINED void copy_lanes(int lanes, const double from[LANES], double to[LANES])
{
    for (int n = 0; n < lanes; n++) {
        to[n] = from[n];
    }
}

/* P = F P F' + Q: P is symmetric, so the columns of F P are the rows of its second factor. */
INLINED void predict_gain(gains *g, const motors *m, int lanes, const variances *v, double period_s)
{
    double half[STATES][STATES][LANES], column[STATES][LANES];
    for (int c = 0; c < STATES; c++) {
        for (int r = 0; r < STATES; r++) {
            copy_lanes(lanes, g->p[c][r], column[r]);
        }
        through_period(g, m, lanes, period_s, column);
        for (int r = 0; r < STATES; r++) {
            copy_lanes(lanes, column[r], half[r][c]);
        }
    }
    for (int r = 0; r < STATES; r++) {
        through_period(g, m, lanes, period_s, half[r]);
        for (int c = 0; c < STATES; c++) {
            copy_lanes(lanes, half[r][c], g->p[r][c]);
        }
    }
    for (int n = 0; n < lanes; n++) {
        g->p[0][0][n] += v->flux_wb[n];
        g->p[1][1][n] += v->flux_wb[n];
        g->p[3][3][n] += v->speed_rad_s[n];
        g->p[5][5][n] += v->change[n];
        g->p[4][4][n] += (1.0 - g->keep[n] * g->keep[n]) * v->magnet[n];
    }
}

INLINED void update_gain(gains *g, int lanes, const variances *v, double trust)
{
    double ph[STATES][2][LANES], s[2][2][LANES];
    for (int r = 0; r < STATES; r++) {
        through_slope(g, lanes, g->p[r], ph[r]);
    }
    for (int c = 0; c < 2; c++) {
        double column[STATES][LANES], out[2][LANES];
        for (int r = 0; r < STATES; r++) {
            copy_lanes(lanes, ph[r][c], column[r]);
        }
        through_slope(g, lanes, column, out);
        for (int e = 0; e < 2; e++) {
            copy_lanes(lanes, out[e], s[c][e]);
        }
    }
    for (int n = 0; n < lanes; n++) {
        const double noise = trust * trust * v->current_a[n];
        const double aa = s[0][0][n] + noise, bb = s[1][1][n] + noise, ab = s[0][1][n];
        const double det = aa * bb - ab * ab, per = 1.0 / det;
        g->lost[n] += det > 0.0 ? 0.0 : 1.0;
        for (int r = 0; r < STATES; r++) {
            g->k[r][0][n] = (ph[r][0][n] * bb - ph[r][1][n] * ab) * per;
            g->k[r][1][n] = (ph[r][1][n] * aa - ph[r][0][n] * ab) * per;
        }
    }
    for (int r = 0; r < STATES; r++) {
        for (int c = 0; c <= r; c++) {
            for (int n = 0; n < lanes; n++) {
                g->p[r][c][n] -= g->k[r][0][n] * ph[c][0][n] + g->k[r][1][n] * ph[c][1][n];
                g->p[c][r][n] = g->p[r][c][n];
            }
        }
    }
}

/* What unequal magnets do fades over MAGNET_TURNS of a turn. */
INLINED void set_keep(gains *g, int lanes, const states *x, double period_s)
{
    for (int n = 0; n < lanes; n++) {
        g->keep[n] =
            1.0 / (1.0 + fabs(x->omega[n]) * period_s / (2.0 * CVK_PI_WIDE * MAGNET_TURNS));
    }
}

INLINED void start_states(states *x, const motors *m, int lanes, const cvk_waveforms *s,
                          const cvk_tm_block *block)
{
    const size_t row = block->rows.begin;
    const double complex now = cexp(I * block->theta_rad);
    for (int n = 0; n < lanes; n++) {
        const double complex offset = CMPLX(m->offset_a[n], m->offset_b[n]);
        const double complex dq = (s->i_alpha[row] + I * s->i_beta[row] - offset) * conj(now);
        const double complex psi =
            (m->flux[n] + creal(dq) / m->inv_ld[n] + I * cimag(dq) / m->inv_lq[n]) * now;
        x->psi_a[n] = creal(psi);
        x->psi_b[n] = cimag(psi);
        x->now_a[n] = creal(now);
        x->now_b[n] = cimag(now);
        x->omega[n] = block->omega_rad_s;
        x->change[n] = x->magnet[n] = 0.0;
    }
}

/* What the states foretell is compared with what was measured: a late reading shows the current
 * before the magnet has turned on and R has taken its share of the flux linkage. */
INLINED void errors_of(const motors *m, int lanes, const states *x, const row_input *in,
                       vectors *error)
{
    for (int n = 0; n < lanes; n++) {
        const double late_rad = x->omega[n] * m->late_s[n];
        const double complex then =
            CMPLX(x->now_a[n], x->now_b[n]) * CMPLX(1.0 - 0.5 * late_rad * late_rad, -late_rad);
        const double complex read = in->measured - CMPLX(m->offset_a[n], m->offset_b[n]);
        const double complex psi = CMPLX(x->psi_a[n], x->psi_b[n]) + m->late_s[n] * m->r[n] * read;
        const double complex own = psi * conj(then) - magnet_dq(m, n, &in->at, x->magnet[n], then);
        put(error, n, read - then * current_dq(m, n, own));
    }
}

/* No single sample turns the rotor by more. */
INLINED double clamp(double angle)
{
    return angle > 1.0 ? 1.0 : (angle < -1.0 ? -1.0 : angle);
}

/* The gain turned into the rotor's frame, where it hardly changes: so it suits neighbouring
 * parameter sets, whose angle differs a little, as well. */
INLINED void turn_gain(gains *g, int lanes, const states *x)
{
    for (int n = 0; n < lanes; n++) {
        const double c = x->now_a[n], d = x->now_b[n];
        for (int r = 0; r < STATES; r++) {
            const double a = g->k[r][0][n], b = g->k[r][1][n];
            g->k[r][0][n] = a * c + b * d;
            g->k[r][1][n] = b * c - a * d;
        }
        for (int e = 0; e < 2; e++) {
            const double a = g->k[0][e][n], b = g->k[1][e][n];
            g->k[0][e][n] = a * c + b * d;
            g->k[1][e][n] = b * c - a * d;
        }
    }
}

INLINED void correct(states *x, int lanes, double k[STATES][2][LANES], const vectors *error)
{
    for (int n = 0; n < lanes; n++) {
        const double complex now = CMPLX(x->now_a[n], x->now_b[n]);
        const double complex e = get(error, n) * conj(now);
        const double d = creal(e), q = cimag(e);
        const double complex psi =
            now * CMPLX(k[0][0][n] * d + k[0][1][n] * q, k[1][0][n] * d + k[1][1][n] * q);
        const double complex next = turned(now, unit(clamp(k[2][0][n] * d + k[2][1][n] * q)));
        x->psi_a[n] += creal(psi);
        x->psi_b[n] += cimag(psi);
        x->now_a[n] = creal(next);
        x->now_b[n] = cimag(next);
        x->omega[n] += k[3][0][n] * d + k[3][1][n] * q;
        x->magnet[n] += k[4][0][n] * d + k[4][1][n] * q;
        x->change[n] += k[5][0][n] * d + k[5][1][n] * q;
    }
}

static bool runs_away(const states *x, double period_s)
{
    return !(fabs(x->omega[0]) * period_s < LARGEST_STEP_RAD) || !isfinite(x->psi_a[0]);
}

INLINED void note_lost(gains *g, int lanes, const states *x, double period_s)
{
    for (int n = 0; n < lanes; n++) {
        g->lost[n] += fabs(x->omega[n]) * period_s < LARGEST_STEP_RAD ? 0.0 : 1.0;
    }
}

INLINED void start_gain(gains *g, const motors *m, int lanes, const cvk_tm_block *block,
                        const variances *v)
{
    const double square = START_ANGLE_RAD * START_ANGLE_RAD;
    *g = (gains){.lost = {0.0}};
    for (int n = 0; n < lanes; n++) {
        g->p[0][0][n] = g->p[1][1][n] = square * m->flux[n] * m->flux[n];
        g->p[2][2][n] = square;
        g->p[3][3][n] = pow(START_SPEED_SHARE * block->omega_rad_s, 2.0);
        g->p[4][4][n] = v->magnet[n];
        g->p[5][5][n] = pow(block->omega_rad_s / START_CHANGE_S, 2.0);
    }
}

/* How much less a measurement counts here than later. */
static double doubt_at(const cvk_waveforms *s, const cvk_tm_block *block, size_t row)
{
    const double turned_rad =
        fabs(block->omega_rad_s) * s->period_s * (double)(row - block->rows.begin);
    return 1.0 + START_DOUBT * exp(-turned_rad / START_RAD);
}

/* From the warm-up's end on, lane by lane. */
INLINED void write_errors(const cvk_tm_block *block, size_t row, const vectors *error, int lanes,
                          double *const out[])
{
    const size_t first = block->rows.begin + block->warm_up;
    for (int n = 0; n < lanes && row >= first; n++) {
        out[n][2 * (row - first)] = error->a[n];
        out[n][2 * (row - first) + 1] = error->b[n];
    }
}

INLINED void add_squares(const cvk_tm_block *block, size_t row, const vectors *error, int lanes,
                         double squares[LANES])
{
    for (int n = 0; n < lanes && row >= block->rows.begin + block->warm_up; n++) {
        squares[n] += error->a[n] * error->a[n] + error->b[n] * error->b[n];
    }
}

static void write_gain(const gains *g, cvk_tm_gain *out)
{
    for (int r = 0; r < STATES; r++) {
        out->k[r][0] = g->k[r][0][0];
        out->k[r][1] = g->k[r][1][0];
    }
    out->keep = g->keep[0];
}

/* The filter with gains of its own in each lane. Gains and errors of the first are written where
 * they are asked for. */
INLINED void track(const cvk_waveforms *s, const cvk_tm_block *block, const motors *m, int lanes,
                   long delay, const variances *v, gains *g, double squares[LANES],
                   cvk_tm_gain *out, double *errors)
{
    const cvk_span rows = block->rows;
    states x = {.omega = {0.0}};
    mechanical at = mechanical_at(s, rows.begin);
    start_states(&x, m, lanes, s, block);
    start_gain(g, m, lanes, block, v);
    for (size_t row = rows.begin; row < rows.end; row++) {
        const row_input in = input_of(s, row, delay, rows, at);
        vectors error = {.a = {0.0}};
        errors_of(m, lanes, &x, &in, &error);
        add_squares(block, row, &error, lanes, squares);
        set_slope(g, m, lanes, &x, in.measured, &error);
        update_gain(g, lanes, v, doubt_at(s, block, row));
        set_keep(g, lanes, &x, s->period_s);
        turn_gain(g, lanes, &x);
        if (out != NULL) {
            write_errors(block, row, &error, 1, &errors);
            write_gain(g, &out[row - rows.begin]);
        }
        correct(&x, lanes, g->k, &error);
        advance(m, lanes, &x, &in, g->keep);
        predict_gain(g, m, lanes, v, s->period_s);
        note_lost(g, lanes, &x, s->period_s);
        at = in.next;
    }
}

bool cvk_tm_gains(const cvk_waveforms *s, const cvk_tm_block *block, int curve,
                  const cvk_tm_noise *noise, const double p[CVK_TM_COUNT], cvk_tm_gain *out,
                  double *errors)
{
    const long delay = (long)floor(p[CVK_B_DELAY]);
    double squares[LANES] = {0.0};
    motors m = {.curve = curve};
    variances v;
    gains g;
    if (!set_motor(&m, 0, p, delay)) {
        return false;
    }
    set_variances(&v, 0, noise);
    track(s, block, &m, 1, delay, &v, &g, squares, out, errors);
    return g.lost[0] == 0.0 && isfinite(squares[0]);
}

WIDE void cvk_tm_compare(const cvk_waveforms *s, const cvk_tm_block *block, int curve, int lanes,
                         const double *const p[], const cvk_tm_noise noise[], double squares[])
{
    const long delay = (long)floor(p[0][CVK_B_DELAY]);
    double sums[LANES] = {0.0};
    motors m = {.curve = curve};
    variances v;
    gains g;
    bool fine = true;
    for (int n = 0; n < LANES; n++) {
        const int lane = n < lanes ? n : 0;
        fine = set_motor(&m, n, p[lane], delay) && fine;
        set_variances(&v, n, &noise[lane]);
    }
    if (fine) {
        track(s, block, &m, LANES, delay, &v, &g, sums, NULL, NULL);
    }
    for (int n = 0; n < lanes; n++) {
        squares[n] = fine && g.lost[n] == 0.0 && isfinite(sums[n]) ? sums[n] : INFINITY;
    }
}

/* One gain for all lanes. */
INLINED void spread_gain(const cvk_tm_gain *gain, int lanes, double k[STATES][2][LANES],
                         double keep[LANES])
{
    for (int n = 0; n < lanes; n++) {
        for (int r = 0; r < STATES; r++) {
            k[r][0][n] = gain->k[r][0];
            k[r][1][n] = gain->k[r][1];
        }
        keep[n] = gain->keep;
    }
}

/* `filled` lanes are there, of which `used` are asked for. */
INLINED bool filter(const cvk_waveforms *s, const cvk_tm_block *block, const motors *m, long delay,
                    const cvk_tm_gain *kept, int filled, int used, double *const out[])
{
    const cvk_span rows = block->rows;
    states x = {.omega = {0.0}};
    vectors error = {.a = {0.0}};
    mechanical at = mechanical_at(s, rows.begin);
    start_states(&x, m, filled, s, block);
    for (size_t row = rows.begin; row < rows.end; row++) {
        const row_input in = input_of(s, row, delay, rows, at);
        double k[STATES][2][LANES], keep[LANES];
        spread_gain(&kept[row - rows.begin], filled, k, keep);
        errors_of(m, filled, &x, &in, &error);
        write_errors(block, row, &error, used, out);
        correct(&x, filled, k, &error);
        advance(m, filled, &x, &in, keep);
        at = in.next;
        if (runs_away(&x, s->period_s)) {
            return false;
        }
    }
    return true;
}

WIDE bool cvk_tm_filter(const cvk_waveforms *s, const cvk_tm_block *block, int curve,
                        const cvk_tm_gain *kept, int lanes, const double *const lane[],
                        double *const out[])
{
    const long delay = (long)floor(lane[0][CVK_B_DELAY]);
    motors m = {.curve = curve};
    for (int n = 0; n < LANES; n++) {
        if (!set_motor(&m, n, lane[n < lanes ? n : 0], delay)) {
            return false;
        }
    }
    return lanes == 1 ? filter(s, block, &m, delay, kept, 1, 1, out)
                      : filter(s, block, &m, delay, kept, LANES, lanes, out);
}
