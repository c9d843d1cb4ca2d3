/* SPDX-License-Identifier: Apache-2.0
 *
 * The flux circle. In a frame that turns with the rotor at w, averaged over a window of whole turns
 * (docs/theory.md section 5):
 *
 *     E = V e^(-j w d T) - R I - Lq (dI/dt + j w I) - U dead = j w psi e^(j delta)
 *     |E| / |w| = flux + (Ld - Lq) id,     id = Re(I conj(E / j w)) / |E / w|
 *
 * psi is the active flux (Boldea, Paicu, Andreescu, "Active flux concept for motion-sensorless
 * unified AC drives", IEEE Trans. Power Electron. 23(5), 2008). Offsets of any channel, harmonics
 * and the once-per-revolution pattern are orthogonal to the fundamental and drop out.
 */
#include "circle.h"

#include "model/edges.h"
#include "math/numeric.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define SHORTEST_WINDOW_S 0.02
#define WINDOWS_PER_LOG 100
#define LARGEST_CHANGE 0.08 /* of a turn within a window that has more than two */
#define DROP_MEAN 0.1       /* share of the voltage across R or L of a turning motor: */
#define DROP_SPREAD 0.3     /* expected, and how uncertain that is */
#define LEAST_BACK_EMF 0.05 /* share of the voltage that no drop across the winding explains */
#define FAST_SHARE 0.3      /* of the highest speed, where a voltage error counts little */

/* ---- windows -------------------------------------------------------------------------------- */

static double sinc(double x)
{
    return fabs(x) < 1e-6 ? 1.0 : sin(x) / x;
}

/* Mean current in the turning frame over a few rows at `row`, for the slope across a window. */
static double complex current_near(const cvk_waveforms *s, size_t row, size_t begin, size_t end,
                                   const double c[3], double middle)
{
    double complex sum = 0.0;
    size_t from = row > begin + 2 ? row - 2 : begin, to = row + 3 < end ? row + 3 : end;
    for (size_t k = from; k < to; k++) {
        double x = (double)(k - begin) - middle;
        double angle = c[0] + x * (c[1] + x * c[2]);
        sum += (s->i_alpha[k] + I * s->i_beta[k]) * cexp(-I * angle);
    }
    return sum / (double)(to - from);
}

/* Electrical turns in one of a rotor column; NaN without one. */
static double rotor_ratio(const cvk_waveforms *s, const cvk_window *w, double per_row)
{
    if (s->theta_m != NULL) {
        double mechanical[3];
        cvk_fit_phase(s->theta_m, w->begin, w->end, mechanical);
        return per_row / mechanical[1];
    }
    if (s->speed_m == NULL) {
        return NAN;
    }
    double sum = 0.0;
    for (size_t k = w->begin; k < w->end; k++) {
        sum += s->speed_m[k];
    }
    return w->omega * (double)(w->end - w->begin) / sum;
}

static cvk_window window_of(const cvk_waveforms *s, const cvk_turns *turns, size_t first,
                            size_t last, const cvk_belief *belief)
{
    const size_t begin = turns->begin[first], end = turns->end[last - 1];
    double c[3];
    cvk_fit_phase(turns->phase, begin, end, c);
    size_t rows = end - begin;
    double middle = 0.5 * ((double)rows - 1.0);
    /* Mean over the window: the slope at its middle. The leaky integral leads the rotor by
     * atan(corner / speed), which changes while the speed does. */
    double omega = c[1] / s->period_s, corner = cvk_phase_corner();
    double acceleration = 2.0 * c[2] / (s->period_s * s->period_s);
    omega += corner * acceleration / (omega * omega + corner * corner);
    const double knee_a = belief->knee_a > 0.0 ? belief->knee_a : 0.02 * s->peak_current_a + 1e-9;
    const cvk_axes axes = cvk_axes_of(belief);
    cvk_window w = {.begin = begin,
                    .end = end,
                    .omega = omega,
                    .period_s = s->period_s,
                    .duration_s = (double)rows * s->period_s};
    const bool off = s->path != CVK_PATH_COMMANDED && cvk_currentless(s, begin, end);
    const double lead = cvk_phase_lead(omega); /* the phase leads the rotor */
    for (size_t k = begin; k < end; k++) {
        double x = (double)(k - begin) - middle;
        const double angle = c[0] + x * (c[1] + x * c[2]);
        double complex frame = cexp(-I * angle);
        w.voltage_v += (s->v_alpha[k] + I * s->v_beta[k]) * frame;
        w.current_a += (s->i_alpha[k] + I * s->i_beta[k]) * frame;
        w.inverter +=
            cvk_own_share_at(s, k, knee_a, cvk_turned_axes(axes, angle - lead), belief) * frame;
    }
    /* A driven voltage is held for the period after its row, T v = psi(k+1) - psi(k): seen from the
     * turning frame, psi at the rows turns it by half a step and shortens it by sinc(w T / 2). With
     * the bridge off the back-EMF was sampled at the row. */
    double complex to_middle = off ? 1.0 : cexp(-I * 0.5 * c[1]) / sinc(0.5 * c[1]);
    w.voltage_v *= to_middle / (double)rows;
    w.current_a /= (double)rows;
    w.inverter /= (double)rows;
    w.current_slope = (current_near(s, end - 1, begin, end, c, middle) -
                       current_near(s, begin, begin, end, c, middle)) /
                      w.duration_s;
    if (off) { /* what is left is noise, not current */
        w.current_a = w.current_slope = w.inverter = 0.0;
    }
    w.rotor_ratio = rotor_ratio(s, &w, c[1]);
    return w;
}

static bool alike(const cvk_turns *turns, size_t a, size_t b)
{
    double ratio = (double)cvk_turn_rows(turns, a) / (double)cvk_turn_rows(turns, b);
    return fabs(ratio - 1.0) < LARGEST_CHANGE;
}

void cvk_add_windows(cvk_windows *windows, const cvk_waveforms *s, const cvk_turns *turns,
                     const cvk_belief *belief)
{
    /* few enough windows that all logs find room, long enough to average */
    size_t total = 0;
    for (size_t n = 0; n < turns->count; n++) {
        total += cvk_turn_rows(turns, n);
    }
    size_t shortest = (size_t)(SHORTEST_WINDOW_S / s->period_s) + 1u;
    size_t room = total / (WINDOWS_PER_LOG) + 1u;
    size_t wanted = shortest > room ? shortest : room;
    for (size_t first = 0; first < turns->count;) {
        size_t last = first + 1;
        while (last < turns->count && turns->joined[last] &&
               (last - first < 2u || (turns->end[last - 1] - turns->begin[first] < wanted &&
                                      alike(turns, first, last)))) {
            last++;
        }
        if (last - first >= 2u && turns->end[last - 1] - turns->begin[first] >= 8u &&
            windows->count < CVK_MAX_WINDOWS) {
            windows->window[windows->count++] = window_of(s, turns, first, last, belief);
        }
        first = last;
    }
}

/* ---- the flux circle ------------------------------------------------------------------------ */

#define N CVK_B_COUNT
#define CIRCLE_BLOCK 6 /* at most: windows whose misfits may be alike, about one plateau */

/* The q inductance as the current has saturated it: flux linkage over current. */
static double loaded_lq(const cvk_window *w, const double p[N])
{
    const double square = creal(w->current_a * conj(w->current_a));
    return p[CVK_B_L_Q] / (1.0 + fmax(p[CVK_B_SQUARE_Q], 0.0) * square / 3.0);
}

double complex cvk_active_flux(const cvk_window *w, const double p[N])
{
    double complex turned = w->voltage_v * cexp(-I * w->omega * p[CVK_B_DELAY] * w->period_s);
    double complex e = turned - p[CVK_B_RESISTANCE] * w->current_a -
                       loaded_lq(w, p) * (w->current_slope + I * w->omega * w->current_a) -
                       p[CVK_B_DEAD_TIME] * w->inverter;
    return e / (I * w->omega);
}

/* Misfit of one window in Wb: |E| / |w| - (Ld - Lq) id - flux. */
static double misfit(const cvk_window *w, const double p[N])
{
    double complex flux = cvk_active_flux(w, p);
    double length = cabs(flux);
    double i_d = length > 0.0 ? creal(w->current_a * conj(flux)) / length : 0.0;
    return length - (p[CVK_B_L_D] - loaded_lq(w, p)) * i_d - p[CVK_B_FLUX];
}

typedef struct circle {
    const cvk_windows *windows;
    double weight[CVK_MAX_WINDOWS];
    double unit[N];
    size_t block; /* windows in one block of the scores */
} circle;

/* Gradient of the misfit in units of `unit`, by central differences. */
static void gradient(const circle *f, size_t n, const double p[N], double g[N])
{
    for (int k = 0; k < N; k++) {
        double up[N], down[N], step = 1e-4 * f->unit[k];
        memcpy(up, p, sizeof up);
        memcpy(down, p, sizeof down);
        up[k] += step;
        down[k] -= step;
        g[k] = (misfit(&f->windows->window[n], up) - misfit(&f->windows->window[n], down)) / 2e-4;
    }
}

/* One Gauss-Newton step from `p`, prior included. Leaves the posterior's inverse information in
 * `h` and the scores' block sums in `score` (scaled units, for unit misfit variance). */
static bool gauss_newton(const circle *f, const double prior[N * N], const double centre[N],
                         double sigma2, double p[N], double h[N * N], double score[N * N])
{
    double pull[N] = {0}, block[N] = {0};
    memcpy(h, prior, N * N * sizeof *h);
    memset(score, 0, N * N * sizeof *score);
    for (int k = 0; k < N * N; k++) {
        pull[k / N] += prior[k] * (centre[k % N] - p[k % N]) / f->unit[k % N];
    }
    for (size_t n = 0; n < f->windows->count; n++) {
        double g[N], weight = f->weight[n] / sigma2;
        double r = misfit(&f->windows->window[n], p);
        gradient(f, n, p, g);
        for (int k = 0; k < N; k++) {
            pull[k] -= weight * g[k] * r;
            block[k] += weight * g[k] * r;
        }
        for (int k = 0; k < N * N; k++) {
            h[k] += weight * g[k / N] * g[k % N];
        }
        if ((n + 1) % f->block == 0 || n + 1 == f->windows->count) {
            for (int k = 0; k < N * N; k++) {
                score[k] += block[k / N] * block[k % N];
            }
            memset(block, 0, sizeof block);
        }
    }
    if (!cvk_invert_spd(N, h)) {
        return false;
    }
    for (int k = 0; k < N * N; k++) {
        p[k / N] += f->unit[k / N] * h[k] * pull[k % N];
    }
    return true;
}

/* Robust weights: a voltage error makes a flux error in inverse proportion to speed; windows far
 * off the rest (a transient, a wrong turn) count less (Huber). Returns the misfit variance of a
 * window of weight one. */
static double reweight(circle *f, const double p[N], int unknowns)
{
    double size[CVK_MAX_WINDOWS] = {0}, fastest = 0.0;
    size_t count = f->windows->count;
    for (size_t n = 0; n < count; n++) {
        fastest = fmax(fastest, fabs(f->windows->window[n].omega));
    }
    for (size_t n = 0; n < count; n++) {
        const cvk_window *w = &f->windows->window[n];
        double share = fabs(w->omega) / fastest;
        f->weight[n] = share * share / (1.0 + share * share) * 2.0;
        size[n] = fabs(misfit(w, p)) * sqrt(f->weight[n]);
    }
    double sorted[CVK_MAX_WINDOWS];
    memcpy(sorted, size, count * sizeof *sorted);
    double typical = fmax(cvk_median(sorted, count) / 0.6745, 1e-6 * fabs(p[CVK_B_FLUX]));
    double sum = 0.0;
    for (size_t n = 0; n < count; n++) {
        if (size[n] > 2.5 * typical) {
            f->weight[n] *= 2.5 * typical / size[n];
            size[n] = sqrt(2.5 * typical * size[n]);
        }
        sum += size[n] * size[n];
    }
    double free_windows = fmax(1.0, (double)count - unknowns);
    return fmax(sum / free_windows, typical * typical);
}

/* A start for flux: the median of |V| / |w|, with the current's part taken off. */
static double start_flux(const circle *f, const double p[N])
{
    double values[CVK_MAX_WINDOWS], zero[N];
    memcpy(zero, p, sizeof zero);
    zero[CVK_B_FLUX] = 0.0;
    for (size_t n = 0; n < f->windows->count; n++) {
        values[n] = misfit(&f->windows->window[n], zero);
    }
    return cvk_median(values, f->windows->count);
}

bool cvk_any_current(const cvk_windows *windows)
{
    for (size_t n = 0; n < windows->count; n++) {
        if (windows->window[n].current_a != 0.0) {
            return true;
        }
    }
    return false;
}

static void set_unknown(cvk_belief *belief, int parameter, double largest)
{
    if (!isfinite(largest) || cvk_belief_knows(belief, parameter, 0.5)) {
        return;
    }
    belief->mean[parameter] = DROP_MEAN * largest;
    cvk_belief_isolate(belief, parameter, DROP_SPREAD * DROP_SPREAD * largest * largest);
}

/* Without a standstill log, R and L are bounded by what the motor does: it turns, so most of the
 * voltage is back-EMF and the drop across the winding is a part of it. */
static void bound_unknowns(const cvk_windows *windows, cvk_belief *belief)
{
    double r[CVK_MAX_WINDOWS], l[CVK_MAX_WINDOWS];
    size_t count = 0;
    for (size_t n = 0; n < windows->count; n++) {
        const cvk_window *w = &windows->window[n];
        if (w->current_a != 0.0) {
            r[count] = cabs(w->voltage_v) / cabs(w->current_a);
            l[count] = r[count] / fabs(w->omega);
            count++;
        }
    }
    double drop_r = cvk_median(r, count), drop_l = cvk_median(l, count);
    set_unknown(belief, CVK_B_RESISTANCE, drop_r);
    set_unknown(belief, CVK_B_L_D, drop_l);
    set_unknown(belief, CVK_B_L_Q, drop_l);
}

bool cvk_shows_back_emf(const cvk_windows *windows)
{
    enum { UNKNOWNS = 3 }; /* resistance, inductance, the inverter's voltage */
    const size_t m = 2u * windows->count;
    double voltage = 0.0, left = 0.0;
    double *a = calloc((m + UNKNOWNS) * UNKNOWNS, sizeof *a), *b = calloc(m + UNKNOWNS, sizeof *b);
    bool shown = false;
    for (size_t n = 0; a != NULL && b != NULL && n < windows->count; n++) {
        const cvk_window *w = &windows->window[n];
        const double complex across = I * w->omega * w->current_a;
        const double rows[2][UNKNOWNS] = {{creal(w->current_a), creal(across), creal(w->inverter)},
                                          {cimag(w->current_a), cimag(across), cimag(w->inverter)}};
        memcpy(a + 2u * n * UNKNOWNS, rows, sizeof rows);
        b[2u * n] = creal(w->voltage_v);
        b[2u * n + 1u] = cimag(w->voltage_v);
        voltage += b[2u * n] * b[2u * n] + b[2u * n + 1u] * b[2u * n + 1u];
        shown = shown || isfinite(w->rotor_ratio); /* a sensor has seen it turn */
    }
    /* what is in no window counts for nothing */
    for (size_t k = 0; a != NULL && k < UNKNOWNS; k++) {
        a[(m + k) * UNKNOWNS + k] = 1e-9;
    }
    if (!shown && m > UNKNOWNS && a != NULL && b != NULL) {
        shown = !cvk_least_squares((int)m + UNKNOWNS, UNKNOWNS, a, b);
        /* dgels leaves the residuals behind the solution */
        for (size_t k = UNKNOWNS; k < m + UNKNOWNS; k++) {
            left += b[k] * b[k];
        }
        shown = shown || left > LEAST_BACK_EMF * LEAST_BACK_EMF * voltage;
    }
    free(a);
    free(b);
    return shown;
}

/* Prior's share as it is, the windows' share as scattered as their block sums. */
static void scattered_covariance(const double prior[N * N], const double h[N * N],
                                 const double score[N * N], double blocks, double cov[N * N])
{
    double middle[N * N];
    memcpy(middle, prior, sizeof middle);
    const double correction = blocks / (blocks - 1.0);
    for (int k = 0; k < N * N; k++) {
        middle[k] += correction * score[k];
    }
    cvk_sandwich(N, h, middle, cov);
    for (int k = 0; k < N; k++) {
        double ratio = h[k * N + k] / cov[k * N + k];
        cvk_widen(N, cov, k, ratio > 1.0 ? sqrt(ratio) : 1.0);
    }
}

cvk_status cvk_fit_circle(const cvk_windows *windows, cvk_belief *belief)
{
    if (windows->count < 3) {
        return CVK_NOT_IN_LOG;
    }
    bound_unknowns(windows, belief);
    circle f = {.windows = windows, .block = windows->count / 8u + 1u};
    f.block = f.block < CIRCLE_BLOCK ? f.block : CIRCLE_BLOCK;
    double p[N], prior[N * N], h[N * N], score[N * N], sigma2 = 1.0;
    memcpy(p, belief->mean, sizeof p);
    p[CVK_B_FLUX] = start_flux(&f, p);
    if (!(p[CVK_B_FLUX] > 0.0)) {
        return CVK_NOT_IN_LOG;
    }
    for (int k = 0; k < N; k++) {
        f.unit[k] = cvk_belief_deviation(belief, k);
    }
    for (int k = 0; k < N * N; k++) {
        prior[k] = belief->cov[k] / (f.unit[k / N] * f.unit[k % N]);
    }
    if (!cvk_invert_spd(N, prior)) {
        return CVK_NOT_IN_LOG;
    }
    int unknowns = 1; /* the flux, and R, Ld, Lq where they are not known before */
    for (int k = CVK_B_RESISTANCE; k <= CVK_B_L_Q && cvk_any_current(windows); k++) {
        unknowns += !cvk_belief_knows(belief, k, 0.5);
    }
    for (int round = 0; round < 15; round++) {
        sigma2 = reweight(&f, p, unknowns);
        if (!gauss_newton(&f, prior, belief->mean, sigma2, p, h, score)) {
            return CVK_NOT_IN_LOG;
        }
    }
    const double blocks = ceil((double)windows->count / (double)f.block);
    double cov[N * N];
    scattered_covariance(prior, h, score, blocks, cov);
    for (int k = 0; k < N; k++) {
        if (!isfinite(p[k])) {
            return CVK_NOT_IN_LOG;
        }
    }
    memcpy(belief->mean, p, sizeof p);
    for (int k = 0; k < N * N; k++) {
        belief->cov[k] = cov[k] * f.unit[k / N] * f.unit[k % N];
    }
    belief->dof = fmin(belief->dof, blocks - 1.0);
    return CVK_OK;
}

double cvk_circle_spread(const cvk_windows *windows, const cvk_belief *belief)
{
    double fastest = 0.0, square = 0.0, count = 0.0;
    for (size_t n = 0; n < windows->count; n++) {
        fastest = fmax(fastest, fabs(windows->window[n].omega));
    }
    for (size_t n = 0; n < windows->count; n++) {
        if (fabs(windows->window[n].omega) > FAST_SHARE * fastest) {
            square += pow(misfit(&windows->window[n], belief->mean), 2.0);
            count += 1.0;
        }
    }
    return sqrt(square / fmax(count, 1.0)) / belief->mean[CVK_B_FLUX];
}
