/* SPDX-License-Identifier: Apache-2.0
 *
 * Extended Kalman filter in flux linkages (docs/theory.md section 5):
 *
 *     psi' = psi + T (v - R i - u(i)) + noise     theta' = theta + w T     w' = w + noise
 *     i = e^(j theta) (id(psi_d - flux) + j iq(psi_q)) + offset + noise
 *
 * With flux linkages as states a voltage held over a sample is integrated exactly whatever the
 * speed; only the drop across R needs an average, taken in the rotor frame, where the current
 * moves slowly.
 */
#include "turning_model.h"

#include "inverter_curve.h"

#include <complex.h>
#include <math.h>
#include <string.h>

#define LANES CVK_TM_LANES
#define PI 3.14159265358979323846
#define START_SPEED_SHARE 0.1 /* of the speed: its standard deviation at the start of a block */
#define START_ANGLE_RAD 0.3
/* While the angle is not found yet the filter's straight-line arithmetic is wrong by far more than
 * the noise: measurements count that much less at the start of the warm-up, fading out within it.
 */
#define START_DOUBT 100.0
#define START_HASTE 12.0
#define MAGNET_TURNS 0.3 /* over which what unequal magnets do is alike */
#define STATES CVK_TM_STATES
#define LARGEST_STEP_RAD 2.0 /* electrical angle per sample that the filter may reach */

typedef struct motor {
    double r, inv_ld, inv_lq, flux, dead_v, knee_a, linear_d, square_d, square_q, fifth, seventh,
        delay_share;
    double complex offset;
    int curve;
} motor;

typedef struct state {
    double complex psi; /* stationary */
    double complex now; /* direction of the rotor, of length one */
    double omega;
    double magnet; /* share by which the flux linkage here is off its mean */
} state;

static bool make_motor(motor *m, const double p[CVK_TM_COUNT], long delay, int curve)
{
    if (!(p[CVK_TM_RESISTANCE] > 0.0 && p[CVK_TM_L_D] > 0.0 && p[CVK_TM_L_Q] > 0.0 &&
          p[CVK_TM_FLUX] > 0.0 && isfinite(p[CVK_TM_DELAY]))) {
        return false;
    }
    *m = (motor){.r = p[CVK_TM_RESISTANCE],
                 .inv_ld = 1.0 / p[CVK_TM_L_D],
                 .inv_lq = 1.0 / p[CVK_TM_L_Q],
                 .flux = p[CVK_TM_FLUX],
                 .dead_v = p[CVK_TM_DEAD_TIME],
                 .knee_a = exp(p[CVK_TM_LOG_KNEE]),
                 .linear_d = p[CVK_TM_LINEAR_D],
                 .square_d = p[CVK_TM_SQUARE_D],
                 .square_q = p[CVK_TM_SQUARE_Q],
                 .fifth = p[CVK_TM_FIFTH],
                 .seventh = p[CVK_TM_SEVENTH],
                 .delay_share = p[CVK_TM_DELAY] - (double)delay,
                 .offset = p[CVK_TM_OFFSET_ALPHA] + I * p[CVK_TM_OFFSET_BETA],
                 .curve = curve};
    return true;
}

/* The magnet's flux linkage in the rotor frame: fifth and seventh harmonic both turn there at six
 * times the rotor's angle, `now` being its direction. */
static inline double complex magnet_dq(const motor *m, double magnet, double complex now)
{
    double complex third = now * now * now, sixth = third * third;
    return m->flux * (1.0 + magnet + m->fifth * conj(sixth) + m->seventh * sixth);
}

/* Current in the rotor frame of the windings' own flux linkage there: the series of the incremental
 * law. */
static inline double complex current_dq(const motor *m, double complex own)
{
    double x = creal(own) * m->inv_ld, y = cimag(own) * m->inv_lq;
    double more_x = x * (0.5 * m->linear_d + x * m->square_d / 3.0);
    double more_y = y * y * m->square_q / 3.0;
    return x * (1.0 + more_x) + I * y * (1.0 + more_y);
}

/* e^(j angle) by its series: within 1e-8 up to one radian, which no half step reaches. */
static inline double complex unit(double x)
{
    double x2 = x * x;
    double c =
        1.0 -
        x2 / 2.0 * (1.0 - x2 / 12.0 * (1.0 - x2 / 30.0 * (1.0 - x2 / 56.0 * (1.0 - x2 / 90.0))));
    double s =
        x *
        (1.0 -
         x2 / 6.0 * (1.0 - x2 / 20.0 * (1.0 - x2 / 42.0 * (1.0 - x2 / 72.0 * (1.0 - x2 / 110.0)))));
    return c + I * s;
}

/* Turns the rotor; the length of its direction is put right again before it can drift. */
static inline void turn_by(state *s, double complex by)
{
    double complex next = s->now * by;
    double square = creal(next) * creal(next) + cimag(next) * cimag(next);
    s->now = next * (1.5 - 0.5 * square);
}

static inline double sinc(double x)
{
    return 1.0 - x * x * (1.0 / 6.0 - x * x / 120.0);
}

static double magnet_keep(const state *s, double period_s)
{
    return exp(-fabs(s->omega) * period_s / (2.0 * PI * MAGNET_TURNS));
}

static inline double complex inverter_at(const motor *m, double complex i)
{
    double u[2];
    cvk_curve_vector(creal(i), cimag(i), m->knee_a, m->curve, u);
    return u[0] + I * u[1];
}

/* One period with the voltage `v` acting. */
static inline void advance(const motor *m, state *s, double complex v, double bus_share,
                           double keep, double period_s)
{
    const double turn = s->omega * period_s;
    const double complex half = unit(0.5 * turn), middle = s->now * half, later = middle * half;
    const double complex before =
        current_dq(m, s->psi * conj(s->now) - magnet_dq(m, s->magnet, s->now));
    const double complex magnet_later = magnet_dq(m, s->magnet, later);
    const double complex drop = m->r * sinc(0.5 * turn) * middle;
    const double dead_v = bus_share * m->dead_v;
    const double complex rough =
        s->psi + period_s * (v - drop * before - dead_v * inverter_at(m, middle * before));
    const double complex mean = 0.5 * (before + current_dq(m, rough * conj(later) - magnet_later));
    s->psi += period_s * (v - drop * mean - dead_v * inverter_at(m, middle * mean));
    turn_by(s, half * half);
    s->magnet *= keep;
}

typedef struct gain {
    double p[STATES * STATES]; /* covariance of (psi_a, psi_b, theta, w, magnet) */
    double k[STATES][2];       /* Kalman gain */
} gain;

/* How the current moves with the state: rows alpha, beta; a column for each state. */
static void current_slope(const motor *m, const state *s, double complex i, double out[2][STATES])
{
    double c = creal(s->now), d = cimag(s->now);
    double aa = m->inv_ld * c * c + m->inv_lq * d * d, bb = m->inv_ld * d * d + m->inv_lq * c * c;
    double ab = (m->inv_ld - m->inv_lq) * c * d;
    double complex turned = I * s->psi;
    const double slope[2][STATES] = {
        {aa, ab, -cimag(i) - (aa * creal(turned) + ab * cimag(turned)), 0.0,
         -m->inv_ld * m->flux * c},
        {ab, bb, creal(i) - (ab * creal(turned) + bb * cimag(turned)), 0.0,
         -m->inv_ld * m->flux * d},
    };
    memcpy(out, slope, sizeof slope);
}

/* P = F P F' + Q with F = 1 but for the drop across R, the speed and the fading magnet. */
static void predict_gain(gain *g, const motor *m, double slope[2][STATES],
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
        half[0][c] = p[0] - period_s * m->r * drop[0];
        half[1][c] = p[STATES] - period_s * m->r * drop[1];
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
        p[0] = half[r][0] - period_s * m->r * drop[0];
        p[1] = half[r][1] - period_s * m->r * drop[1];
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

static state start_state(const cvk_signals *s, const cvk_tm_block *block, const motor *m)
{
    const size_t row = block->rows.begin;
    const double complex now = cexp(I * block->theta_rad);
    const double complex dq = (s->i_alpha[row] + I * s->i_beta[row] - m->offset) * conj(now);
    const double complex psi = m->flux + creal(dq) / m->inv_ld + I * cimag(dq) / m->inv_lq;
    return (state){.psi = psi * now, .now = now, .omega = block->omega_rad_s};
}

/* One row of one motor: what the state foretells is compared with what was measured. */
static inline double complex error_of(const motor *m, const state *x, double complex measured)
{
    double complex own = x->psi * conj(x->now) - magnet_dq(m, x->magnet, x->now);
    return measured - m->offset - x->now * current_dq(m, own);
}

/* No single sample turns the rotor by more. */
static inline double clamp(double angle)
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

static inline void correct(state *x, double k[STATES][2], double complex error)
{
    double complex turned = error * conj(x->now);
    double d = creal(turned), q = cimag(turned);
    x->psi += x->now * (k[0][0] * d + k[0][1] * q + I * (k[1][0] * d + k[1][1] * q));
    turn_by(x, unit(clamp(k[2][0] * d + k[2][1] * q)));
    x->omega += k[3][0] * d + k[3][1] * q;
    x->magnet += k[4][0] * d + k[4][1] * q;
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

bool cvk_tm_gains(const cvk_signals *s, const cvk_tm_block *block, int curve,
                  const cvk_tm_noise *noise, const double p[CVK_TM_COUNT], cvk_tm_gain *out)
{
    const long delay = (long)floor(p[CVK_TM_DELAY]);
    const cvk_span rows = block->rows;
    motor m;
    state x;
    gain g;
    if (!make_motor(&m, p, delay, curve)) {
        return false;
    }
    x = start_state(s, block, &m);
    start_gain(&g, block, noise, m.flux);
    for (size_t row = rows.begin; row < rows.end; row++) {
        const double complex measured = s->i_alpha[row] + I * s->i_beta[row];
        const double complex error = error_of(&m, &x, measured);
        double slope[2][STATES];
        current_slope(&m, &x, measured - m.offset - error, slope);
        double trust = 1.0 + START_DOUBT * exp(-START_HASTE * (double)(row - rows.begin) /
                                               (double)block->warm_up);
        if (!update_gain(&g, slope, trust * noise->current_a)) {
            return false;
        }
        out[row - rows.begin].keep = magnet_keep(&x, s->period_s);
        turn_gain(g.k, x.now, out[row - rows.begin].k);
        correct(&x, out[row - rows.begin].k, error);
        const size_t acting = cvk_row_before(row, delay, rows),
                     before = cvk_row_before(row, delay + 1, rows);
        const double complex v_new = s->v_alpha[acting] + I * s->v_beta[acting];
        const double complex v_old = s->v_alpha[before] + I * s->v_beta[before];
        advance(&m, &x, v_new + m.delay_share * (v_old - v_new), s->bus_share[acting],
                out[row - rows.begin].keep, s->period_s);
        predict_gain(&g, &m, slope, noise, out[row - rows.begin].keep, s->period_s);
        if (!(fabs(x.omega) * s->period_s < LARGEST_STEP_RAD) || !isfinite(creal(x.psi))) {
            return false;
        }
    }
    return true;
}

bool cvk_tm_filter(const cvk_signals *s, const cvk_tm_block *block, int curve,
                   const cvk_tm_gain *gains, int lanes, const double *const lane[],
                   double *const out[])
{
    const long delay = (long)floor(lane[0][CVK_TM_DELAY]);
    const cvk_span rows = block->rows;
    motor m[LANES];
    state x[LANES] = {{.omega = 0.0}};
    for (int n = 0; n < lanes; n++) {
        if (!make_motor(&m[n], lane[n], delay, curve)) {
            return false;
        }
        x[n] = start_state(s, block, &m[n]);
    }
    for (size_t row = rows.begin; row < rows.end; row++) {
        const double complex measured = s->i_alpha[row] + I * s->i_beta[row];
        const bool counts = row >= rows.begin + block->warm_up;
        const size_t at = counts ? 2 * (row - rows.begin - block->warm_up) : 0;
        const size_t acting = cvk_row_before(row, delay, rows),
                     before = cvk_row_before(row, delay + 1, rows);
        const double complex v_new = s->v_alpha[acting] + I * s->v_beta[acting];
        const double complex v_old = s->v_alpha[before] + I * s->v_beta[before];
        const double bus_share = s->bus_share[acting];
        cvk_tm_gain g = gains[row - rows.begin];
        for (int n = 0; n < lanes; n++) {
            const double complex error = error_of(&m[n], &x[n], measured);
            if (counts) {
                out[n][at] = creal(error);
                out[n][at + 1] = cimag(error);
            }
            correct(&x[n], g.k, error);
            advance(&m[n], &x[n], v_new + m[n].delay_share * (v_old - v_new), bus_share, g.keep,
                    s->period_s);
        }
        if (!(fabs(x[0].omega) * s->period_s < LARGEST_STEP_RAD) || !isfinite(creal(x[0].psi))) {
            return false;
        }
    }
    return true;
}
