/* SPDX-License-Identifier: Apache-2.0
 *
 * Extended Kalman filter in flux linkages (docs/theory.md section 5):
 *
 *     psi' = psi + T (v - R i - u(i)) + noise    theta' = theta + w T    w' = w + T k iq + noise
 *     i = e^(j theta) (id(psi_d - flux) + j iq(psi_q)) + offset + noise
 *
 * With flux linkages as states a voltage held over a sample is integrated exactly whatever the
 * speed; only the drop across R needs an average, taken in the rotor frame, where the current
 * moves slowly.
 */
#include "turning_model.h"

#include "edges.h"
#include "wide.h"

#include <complex.h>
#include <math.h>
#include <string.h>

#ifndef CMPLX /* some C libraries give it to one compiler only */
#define CMPLX(re, im) __builtin_complex((double)(re), (double)(im))
#endif
#define LANES CVK_TM_LANES
#define PI 3.14159265358979323846
#define START_SPEED_SHARE 0.1 /* of the speed: its standard deviation at the start of a block */
#define START_ANGLE_RAD 0.3
/* While the angle is not found yet the filter's straight-line arithmetic is wrong by far more than
 * the noise: measurements count that much less at the start, fading out over this much of a turn.
 */
#define START_DOUBT 100.0
#define START_RAD 0.5
#define MAGNET_TURNS 1.0 /* over which what unequal magnets do is alike */
#define STATES CVK_TM_STATES
#define LARGEST_STEP_RAD 2.0 /* electrical angle per sample that the filter may reach */

/* Parameter sets side by side, lane by lane, so that one instruction can serve several. */
typedef struct motors {
    int curve;
    double r[LANES], inv_ld[LANES], inv_lq[LANES], flux[LANES], dead_v[LANES], per_knee[LANES],
        linear_d[LANES], square_d[LANES], square_q[LANES], fifth[LANES], seventh[LANES],
        delay_share[LANES], offset_a[LANES], offset_b[LANES], push[LANES];
} motors;

typedef struct states {
    double psi_a[LANES], psi_b[LANES]; /* stationary */
    double now_a[LANES], now_b[LANES]; /* direction of the rotor, of length one */
    double omega[LANES];
    double magnet[LANES]; /* share by which the flux linkage here is off its mean */
} states;

/* A vector in the plane for each lane. */
typedef struct vectors {
    double a[LANES], b[LANES];
} vectors;

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
    return true;
}

/* The magnet's flux linkage in the rotor frame: fifth and seventh harmonic both turn there at six
 * times the rotor's angle, `now` being its direction. */
INLINED double complex magnet_dq(const motors *m, int n, double magnet, double complex now)
{
    double complex third = now * now * now, sixth = third * third;
    return m->flux[n] * (1.0 + magnet + m->fifth[n] * conj(sixth) + m->seventh[n] * sixth);
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
    double x2 = x * x;
    double c =
        1.0 -
        x2 / 2.0 * (1.0 - x2 / 12.0 * (1.0 - x2 / 30.0 * (1.0 - x2 / 56.0 * (1.0 - x2 / 90.0))));
    double s =
        x *
        (1.0 -
         x2 / 6.0 * (1.0 - x2 / 20.0 * (1.0 - x2 / 42.0 * (1.0 - x2 / 72.0 * (1.0 - x2 / 110.0)))));
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

static double magnet_keep(double omega, double period_s)
{
    return exp(-fabs(omega) * period_s / (2.0 * PI * MAGNET_TURNS));
}

INLINED void inverter_of(const motors *m, int lanes, int curve, const vectors *current,
                         const vectors *middle, const double *edge_wb, vectors *out)
{
    for (int n = 0; n < lanes; n++) {
        const double a = middle->a[n], b = middle->b[n];
        const double unlike = 0.5 * (m->inv_ld[n] - m->inv_lq[n]);
        double u[2], ripple_a[3];
        cvk_ripple_at(edge_wb, 0.5 * (m->inv_ld[n] + m->inv_lq[n]), unlike * (a * a - b * b),
                      unlike * 2.0 * a * b, ripple_a);
        cvk_edges_vector(current->a[n], current->b[n], m->per_knee[n], curve, ripple_a, u);
        out->a[n] = u[0];
        out->b[n] = u[1];
    }
}

/* The inverter's own voltage, as a share, with the rotor at `middle`. Constant arguments let the
 * compiler specialise. */
INLINED void inverter(const motors *m, int lanes, const vectors *current, const vectors *middle,
                      const double *edge_wb, vectors *out)
{
    switch (m->curve) {
    case CVK_CURVE_SOFT:
        inverter_of(m, lanes, CVK_CURVE_SOFT, current, middle, edge_wb, out);
        break;
    case CVK_CURVE_CHARGE:
        inverter_of(m, lanes, CVK_CURVE_CHARGE, current, middle, edge_wb, out);
        break;
    case CVK_CURVE_ROUND:
        inverter_of(m, lanes, CVK_CURVE_ROUND, current, middle, edge_wb, out);
        break;
    case CVK_CURVE_TANH:
        inverter_of(m, lanes, CVK_CURVE_TANH, current, middle, edge_wb, out);
        break;
    case CVK_CURVE_ARC:
        inverter_of(m, lanes, CVK_CURVE_ARC, current, middle, edge_wb, out);
        break;
    default:
        inverter_of(m, lanes, CVK_CURVE_CLIPPED, current, middle, edge_wb, out);
        break;
    }
}

/* What one row brings. */
typedef struct row_input {
    double complex measured, v_new, v_old;
    double bus_share, period_s;
    const double *edge_wb; /* of the phases */
} row_input;

static const double no_ripple_wb[6];

static row_input input_of(const cvk_signals *s, size_t row, long delay, cvk_span rows)
{
    const size_t acting = cvk_row_before(row, delay, rows),
                 before = cvk_row_before(row, delay + 1, rows);
    return (row_input){.measured = CMPLX(s->i_alpha[row], s->i_beta[row]),
                       .v_new = CMPLX(s->v_alpha[acting], s->v_beta[acting]),
                       .v_old = CMPLX(s->v_alpha[before], s->v_beta[before]),
                       .bus_share = s->bus_share[acting],
                       .edge_wb = s->edge_wb != NULL ? s->edge_wb + 6 * acting : no_ripple_wb,
                       .period_s = s->period_s};
}

/* One period: the current in the middle comes from a rough step first (Heun). */
INLINED void advance(const motors *m, int lanes, states *s, const row_input *in, double keep)
{
    const double t = in->period_s;
    vectors before, half, middle, drop, voltage, at_middle = {.a = {0.0}};
    for (int n = 0; n < lanes; n++) {
        const double complex psi = CMPLX(s->psi_a[n], s->psi_b[n]);
        const double complex now = CMPLX(s->now_a[n], s->now_b[n]);
        const double complex h = unit(0.5 * s->omega[n] * t), mid = now * h;
        const double complex i =
            current_dq(m, n, psi * conj(now) - magnet_dq(m, n, s->magnet[n], now));
        put(&half, n, h);
        put(&middle, n, mid);
        put(&before, n, i);
        put(&drop, n, m->r[n] * sinc(0.5 * s->omega[n] * t) * mid);
        put(&at_middle, n, mid * i);
    }
    inverter(m, lanes, &at_middle, &middle, in->edge_wb, &voltage);
    for (int n = 0; n < lanes; n++) {
        const double complex psi = CMPLX(s->psi_a[n], s->psi_b[n]);
        const double complex i = get(&before, n), later = get(&middle, n) * get(&half, n);
        const double complex v = in->v_new + m->delay_share[n] * (in->v_old - in->v_new);
        const double complex rough =
            psi + t * (v - get(&drop, n) * i - in->bus_share * m->dead_v[n] * get(&voltage, n));
        const double complex magnet = magnet_dq(m, n, s->magnet[n], later);
        const double complex mean = 0.5 * (i + current_dq(m, n, rough * conj(later) - magnet));
        put(&before, n, mean);
        put(&at_middle, n, get(&middle, n) * mean);
    }
    inverter(m, lanes, &at_middle, &middle, in->edge_wb, &voltage);
    for (int n = 0; n < lanes; n++) {
        const double complex v = in->v_new + m->delay_share[n] * (in->v_old - in->v_new);
        const double complex change = t * (v - get(&drop, n) * get(&before, n) -
                                           in->bus_share * m->dead_v[n] * get(&voltage, n));
        const double complex next =
            turned(CMPLX(s->now_a[n], s->now_b[n]), get(&half, n) * get(&half, n));
        s->omega[n] += t * m->push[n] * before.b[n];
        s->psi_a[n] += creal(change);
        s->psi_b[n] += cimag(change);
        s->now_a[n] = creal(next);
        s->now_b[n] = cimag(next);
        s->magnet[n] *= keep;
    }
}

typedef struct gain {
    double p[STATES * STATES]; /* covariance of (psi_a, psi_b, theta, w, magnet) */
    double k[STATES][2];       /* Kalman gain */
} gain;

/* How the current moves with the state of the first lane: rows alpha, beta; a column for each
 * state. */
static void current_slope(const motors *m, const states *x, double complex i, double out[2][STATES])
{
    const double c = x->now_a[0], d = x->now_b[0], ld = m->inv_ld[0], lq = m->inv_lq[0];
    const double aa = ld * c * c + lq * d * d, bb = ld * d * d + lq * c * c;
    const double ab = (ld - lq) * c * d;
    const double slope[2][STATES] = {
        {aa, ab, -cimag(i) - (ab * x->psi_a[0] - aa * x->psi_b[0]), 0.0, -ld * m->flux[0] * c},
        {ab, bb, creal(i) - (bb * x->psi_a[0] - ab * x->psi_b[0]), 0.0, -ld * m->flux[0] * d},
    };
    memcpy(out, slope, sizeof slope);
}

/* P = F P F' + Q with F = 1 but for the drop across R, the speed and the fading magnet. */
static void predict_gain(gain *g, const motors *m, double slope[2][STATES],
                         const cvk_tm_noise *noise, double keep, double period_s)
{
    double half[STATES][STATES]; /* F P */
    for (int c = 0; c < STATES; c++) {
        const double *p = g->p + c;
        double drop[2] = {0};
        for (int n = 0; n < STATES; n++) {
            drop[0] += slope[0][n] * p[STATES * n];
            drop[1] += slope[1][n] * p[STATES * n];
        }
        half[0][c] = p[0] - period_s * m->r[0] * drop[0];
        half[1][c] = p[STATES] - period_s * m->r[0] * drop[1];
        half[2][c] = p[2 * STATES] + period_s * p[3 * STATES];
        half[3][c] = p[3 * STATES];
        half[4][c] = keep * p[4 * STATES];
    }
    for (int r = 0; r < STATES; r++) {
        double drop[2] = {0};
        for (int n = 0; n < STATES; n++) {
            drop[0] += slope[0][n] * half[r][n];
            drop[1] += slope[1][n] * half[r][n];
        }
        double *p = g->p + STATES * r;
        p[0] = half[r][0] - period_s * m->r[0] * drop[0];
        p[1] = half[r][1] - period_s * m->r[0] * drop[1];
        p[2] = half[r][2] + period_s * half[r][3];
        p[3] = half[r][3];
        p[4] = keep * half[r][4];
    }
    g->p[0] += noise->flux_wb * noise->flux_wb;
    g->p[STATES + 1] += noise->flux_wb * noise->flux_wb;
    g->p[3 * (STATES + 1)] += noise->speed_rad_s * noise->speed_rad_s;
    g->p[4 * (STATES + 1)] += (1.0 - keep * keep) * noise->magnet * noise->magnet;
}

static bool update_gain(gain *g, double slope[2][STATES], double current_a)
{
    double ph[STATES][2], s[2][2], next[STATES * STATES];
    for (int r = 0; r < STATES; r++) {
        for (int c = 0; c < 2; c++) {
            ph[r][c] = 0.0;
            for (int n = 0; n < STATES; n++) {
                ph[r][c] += g->p[STATES * r + n] * slope[c][n];
            }
        }
    }
    for (int r = 0; r < 2; r++) {
        for (int c = 0; c < 2; c++) {
            s[r][c] = r == c ? current_a * current_a : 0.0;
            for (int n = 0; n < STATES; n++) {
                s[r][c] += slope[r][n] * ph[n][c];
            }
        }
    }
    double det = s[0][0] * s[1][1] - s[0][1] * s[1][0];
    if (!(det > 0.0)) {
        return false;
    }
    for (int r = 0; r < STATES; r++) {
        g->k[r][0] = (ph[r][0] * s[1][1] - ph[r][1] * s[1][0]) / det;
        g->k[r][1] = (ph[r][1] * s[0][0] - ph[r][0] * s[0][1]) / det;
    }
    for (int r = 0; r < STATES; r++) {
        for (int c = 0; c < STATES; c++) {
            next[STATES * r + c] =
                g->p[STATES * r + c] - g->k[r][0] * ph[c][0] - g->k[r][1] * ph[c][1];
        }
    }
    for (int r = 0; r < STATES; r++) {
        for (int c = 0; c < STATES; c++) {
            g->p[STATES * r + c] = 0.5 * (next[STATES * r + c] + next[STATES * c + r]);
        }
    }
    return true;
}

INLINED void start_states(states *x, const motors *m, int lanes, const cvk_signals *s,
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
        x->magnet[n] = 0.0;
    }
}

/* What the states foretell is compared with what was measured. */
INLINED void errors_of(const motors *m, int lanes, const states *x, double complex measured,
                       vectors *error)
{
    for (int n = 0; n < lanes; n++) {
        const double complex now = CMPLX(x->now_a[n], x->now_b[n]);
        const double complex own =
            CMPLX(x->psi_a[n], x->psi_b[n]) * conj(now) - magnet_dq(m, n, x->magnet[n], now);
        put(error, n,
            measured - CMPLX(m->offset_a[n], m->offset_b[n]) - now * current_dq(m, n, own));
    }
}

/* No single sample turns the rotor by more. */
INLINED double clamp(double angle)
{
    return angle > 1.0 ? 1.0 : (angle < -1.0 ? -1.0 : angle);
}

/* The gain turned into the rotor's frame, where it hardly changes: so it suits neighbouring
 * parameter sets, whose angle differs a little, as well. */
static void turn_gain(double stationary[STATES][2], double complex now, double out[STATES][2])
{
    const double c = creal(now), d = cimag(now);
    double half[STATES][2];
    for (int n = 0; n < STATES; n++) {
        half[n][0] = stationary[n][0] * c + stationary[n][1] * d;
        half[n][1] = stationary[n][1] * c - stationary[n][0] * d;
    }
    memcpy(out, half, sizeof half);
    for (int n = 0; n < 2; n++) {
        out[0][n] = half[0][n] * c + half[1][n] * d;
        out[1][n] = half[1][n] * c - half[0][n] * d;
    }
}

INLINED void correct(states *x, int lanes, double k[STATES][2], const vectors *error)
{
    for (int n = 0; n < lanes; n++) {
        const double complex now = CMPLX(x->now_a[n], x->now_b[n]);
        const double complex e = get(error, n) * conj(now);
        const double d = creal(e), q = cimag(e);
        const double complex psi =
            now * CMPLX(k[0][0] * d + k[0][1] * q, k[1][0] * d + k[1][1] * q);
        const double complex next = turned(now, unit(clamp(k[2][0] * d + k[2][1] * q)));
        x->psi_a[n] += creal(psi);
        x->psi_b[n] += cimag(psi);
        x->now_a[n] = creal(next);
        x->now_b[n] = cimag(next);
        x->omega[n] += k[3][0] * d + k[3][1] * q;
        x->magnet[n] += k[4][0] * d + k[4][1] * q;
    }
}

static bool runs_away(const states *x, double period_s)
{
    return !(fabs(x->omega[0]) * period_s < LARGEST_STEP_RAD) || !isfinite(x->psi_a[0]);
}

static void start_gain(gain *g, const cvk_tm_block *block, const cvk_tm_noise *noise, double flux)
{
    const double variance[STATES] = {
        pow(START_ANGLE_RAD * flux, 2.0), pow(START_ANGLE_RAD * flux, 2.0),
        START_ANGLE_RAD * START_ANGLE_RAD, pow(START_SPEED_SHARE * block->omega_rad_s, 2.0),
        noise->magnet * noise->magnet};
    *g = (gain){.p = {0}};
    for (int k = 0; k < STATES; k++) {
        g->p[(STATES + 1) * k] = variance[k];
    }
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

bool cvk_tm_gains(const cvk_signals *s, const cvk_tm_block *block, int curve,
                  const cvk_tm_noise *noise, const double p[CVK_TM_COUNT], cvk_tm_gain *out,
                  double *errors)
{
    const long delay = (long)floor(p[CVK_B_DELAY]);
    const cvk_span rows = block->rows;
    motors m = {.curve = curve};
    states x = {.omega = {0.0}};
    gain g;
    if (!set_motor(&m, 0, p, delay)) {
        return false;
    }
    start_states(&x, &m, 1, s, block);
    start_gain(&g, block, noise, m.flux[0]);
    for (size_t row = rows.begin; row < rows.end; row++) {
        const row_input in = input_of(s, row, delay, rows);
        cvk_tm_gain *here = &out[row - rows.begin];
        vectors error;
        double slope[2][STATES];
        errors_of(&m, 1, &x, in.measured, &error);
        write_errors(block, row, &error, 1, &errors);
        current_slope(&m, &x, in.measured - CMPLX(m.offset_a[0], m.offset_b[0]) - get(&error, 0),
                      slope);
        const double turned_rad =
            fabs(block->omega_rad_s) * s->period_s * (double)(row - rows.begin);
        const double trust = 1.0 + START_DOUBT * exp(-turned_rad / START_RAD);
        if (!update_gain(&g, slope, trust * noise->current_a)) {
            return false;
        }
        here->keep = magnet_keep(x.omega[0], s->period_s);
        turn_gain(g.k, CMPLX(x.now_a[0], x.now_b[0]), here->k);
        correct(&x, 1, here->k, &error);
        advance(&m, 1, &x, &in, here->keep);
        predict_gain(&g, &m, slope, noise, here->keep, s->period_s);
        if (runs_away(&x, s->period_s)) {
            return false;
        }
    }
    return true;
}

/* `filled` lanes are there, of which `used` are asked for. */
INLINED bool filter(const cvk_signals *s, const cvk_tm_block *block, const motors *m, long delay,
                    const cvk_tm_gain *gains, int filled, int used, double *const out[])
{
    const cvk_span rows = block->rows;
    states x = {.omega = {0.0}};
    vectors error = {.a = {0.0}};
    start_states(&x, m, filled, s, block);
    for (size_t row = rows.begin; row < rows.end; row++) {
        const row_input in = input_of(s, row, delay, rows);
        cvk_tm_gain g = gains[row - rows.begin];
        errors_of(m, filled, &x, in.measured, &error);
        write_errors(block, row, &error, used, out);
        correct(&x, filled, g.k, &error);
        advance(m, filled, &x, &in, g.keep);
        if (runs_away(&x, s->period_s)) {
            return false;
        }
    }
    return true;
}

WIDE bool cvk_tm_filter(const cvk_signals *s, const cvk_tm_block *block, int curve,
                        const cvk_tm_gain *gains, int lanes, const double *const lane[],
                        double *const out[])
{
    const long delay = (long)floor(lane[0][CVK_B_DELAY]);
    motors m = {.curve = curve};
    for (int n = 0; n < LANES; n++) {
        if (!set_motor(&m, n, lane[n < lanes ? n : 0], delay)) {
            return false;
        }
    }
    return lanes == 1 ? filter(s, block, &m, delay, gains, 1, 1, out)
                      : filter(s, block, &m, delay, gains, LANES, lanes, out);
}
