/* SPDX-License-Identifier: Apache-2.0
 *
 * J dw/dt + Tc sign(w) + B w = torque (all mechanical), each side weighed with a smooth window that
 * begins and ends at nothing (modulating functions: Shinbrot, Trans. ASME 79, 1957): integrated by
 * parts, only the angle is needed, and never differentiated. Linear in inertia, Coulomb and viscous
 * friction. The torque is that of the active flux and the current, 1.5 p psi_a x i, so it needs no
 * rotor sensor (docs/theory.md section 7).
 */
#include "mechanics.h"

#include "corvak/core/units.h"

#include "model/edges.h"
#include "math/numeric.h"
#include "math/parallel.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define N CVK_MECH_COUNT
#define FEWEST_WINDOWS 6u
/* What a second mass on the shaft, cogging and losses of the iron, which are in no model, make of
 * the balance (bench_accuracy): relative deviations. */
#define FLOOR_INERTIA 0.012
#define FLOOR_COULOMB 0.03
#define FLOOR_VISCOUS 0.15
/* Readings bend with the duty, in phase with the voltage: torque that is not there. */
#define CURRENT_DOUBT 0.002 /* of the largest current */
#define INVERTER_DOUBT 0.07 /* of its own voltage */
#define WARMING_DOUBT 0.02  /* of the resistance */
#define FLUX_DOUBT 0.009    /* of the torque by active flux: how the inductances saturate */
#define DOUBT_COUNTS 2.0    /* times, of a torque's share: where it is large, currents are small */
#define ROUNDS 6            /* of robust weighting */
#define SHORTEST_S 0.05     /* a window, */
#define FEWEST_TURNS 2u     /* whole turns of which: then what repeats every turn drops out */
#define WINDOWS_PER_LOG 600.0
#define LEAST_CHANGE 0.03  /* of the largest speed: changes below show no inertia */
#define LARGEST_MISFIT 8.0 /* of the typical one: beyond it a window counts less (Huber) */

/* One window's equation: row . x = impulse. */
typedef struct cvk_balance_equation equation;

/* ---- the equations of one log --------------------------------------------------------------- */

/* The rotor's angle at every row of a run of joined turns: the phase, less by how much the leaky
 * integral behind it leads. */
static void angle_of_run(const cvk_waveforms *s, const cvk_turns *turns, size_t first, size_t last,
                         double *angle)
{
    const size_t begin = turns->begin[first], end = turns->end[last - 1];
    const double corner = cvk_phase_corner();
    double complex lead = 0.0;
    size_t turn = first;
    for (size_t k = begin; k < end; k++) {
        turn += k >= turns->end[turn];
        const size_t half = (turns->end[turn] - turns->begin[turn]) / 2u;
        const size_t from = k > begin + half ? k - half : begin;
        const size_t to = k + half < end ? k + half : end - 1;
        double omega = (turns->phase[to] - turns->phase[from]) / (double)(to - from) / s->period_s;
        double complex pole = corner + I * omega, settled = I * omega / pole;
        lead = k == begin ? settled : settled + (lead - settled) * cexp(-pole * s->period_s);
        angle[k] = turns->phase[k] - carg(lead);
    }
}

/* How the torque of a log is found, and how far to trust it. */
typedef struct torque_way {
    const cvk_belief *belief;
    cvk_axes axes; /* at the angle 0 */
    double pole_pairs;
    bool by_power;
    double doubt_nm;
} torque_way;

/* Mean current from row k to the next, and the voltage behind resistance and inverter. */
static void between(const cvk_waveforms *s, size_t k, double angle_rad, const torque_way *way,
                    double complex *i, double complex *v)
{
    const cvk_span all = {0, s->rows};
    const cvk_belief *belief = way->belief;
    const double *p = belief->mean, whole = floor(p[CVK_B_DELAY]);
    const size_t now = cvk_row_before(k, (long)whole, all), next = cvk_row_before(k, -1, all);
    const size_t before = cvk_row_before(k, (long)whole + 1, all);
    const double complex v_now = s->v_alpha[now] + I * s->v_beta[now];
    const double complex v_before = s->v_alpha[before] + I * s->v_beta[before];
    double complex own = 0.0;
    *i = 0.5 * (s->i_alpha[k] + s->i_alpha[next] + I * (s->i_beta[k] + s->i_beta[next]));
    if (belief->knee_a > 0.0) {
        own = cvk_own_share(s, *i, now, belief->knee_a, belief->curve,
                            cvk_turned_axes(way->axes, angle_rad));
    }
    *v = v_now + (p[CVK_B_DELAY] - whole) * (v_before - v_now) - p[CVK_B_RESISTANCE] * *i -
         p[CVK_B_DEAD_TIME] * own;
}

/* By power, unless the winding is known too badly for that. */
static torque_way torque_way_of(const cvk_waveforms *s, const cvk_turns *turns,
                                const cvk_belief *belief, double pole_pairs)
{
    const double *p = belief->mean, *cov = belief->cov;
    double square = 0.0, rows = 0.0;
    for (size_t n = 0; n < turns->count; n++) {
        for (size_t k = turns->begin[n]; k < turns->end[n]; k++) {
            square += s->i_alpha[k] * s->i_alpha[k] + s->i_beta[k] * s->i_beta[k];
        }
        rows += (double)(turns->end[n] - turns->begin[n]);
    }
    const double current_a = sqrt(square / fmax(rows, 1.0));
    const double emf_v = 2.0 * CVK_PI_WIDE * (double)turns->count /
                         fmax(rows * s->period_s, s->period_s) * p[CVK_B_FLUX];
    const double resistance_v = hypot(sqrt(cov[CVK_B_RESISTANCE * (CVK_B_COUNT + 1)]),
                                      WARMING_DOUBT * p[CVK_B_RESISTANCE]) *
                                current_a;
    const double inverter_v =
        hypot(sqrt(cov[CVK_B_DEAD_TIME * (CVK_B_COUNT + 1)]), INVERTER_DOUBT * p[CVK_B_DEAD_TIME]);
    const double doubt = hypot(resistance_v, inverter_v) / emf_v;
    const double torque_constant = 1.5 * pole_pairs * p[CVK_B_FLUX];
    return (torque_way){.belief = belief,
                        .axes = cvk_axes_of(belief),
                        .pole_pairs = pole_pairs,
                        .by_power = doubt < FLUX_DOUBT,
                        .doubt_nm = torque_constant * fmax(CURRENT_DOUBT * s->peak_current_a,
                                                           fmin(doubt, FLUX_DOUBT) * current_a)};
}

/* Torque times time, weighed with the window, from the power that crosses the air gap: so
 * saturation and what harmonics brake are in it. Where the winding is known too badly, the window's
 * means are taken from the active flux instead: a wrong resistance then drops out. What the
 * inductances store comes back before a window is over. */
static double impulse_of(const cvk_waveforms *s, size_t begin, size_t end, const double *angle,
                         const torque_way *way)
{
    const size_t rows = end - begin, quarter = rows / 4u;
    const double step = 2.0 * CVK_PI_WIDE / (double)rows, *p = way->belief->mean;
    double weights = 0.0, product = 0.0;
    const double complex one_step = cexp(I * step);
    double complex sum_i = 0.0, unexplained = 0.0, around = 1.0;
    for (size_t n = 0; n + 1 < rows; n++) {
        const size_t from = n > quarter ? n - quarter : 0;
        const size_t to = n + quarter < rows ? n + quarter : rows - 1;
        const double omega = (angle[to] - angle[from]) / ((double)(to - from) * s->period_s);
        const double complex turn = /* power is the same in every frame */
            way->by_power ? 1.0 : cexp(-0.5 * I * (angle[n] + angle[n + 1]));
        around *= one_step;
        const double window = 0.5 * (1.0 - creal(around));
        double complex i, v;
        between(s, begin + n, angle[n], way, &i, &v);
        i *= turn;
        v *= turn / omega;
        const double active = p[CVK_B_FLUX] + (p[CVK_B_L_D] - p[CVK_B_L_Q]) * creal(i);
        weights += window;
        sum_i += window * i;
        unexplained += window * (v - I * active - I * p[CVK_B_L_Q] * i);
        product += window * creal(conj(i) * v);
    }
    if (!way->by_power) {
        product -= creal(conj(sum_i) * unexplained) / weights;
    }
    return 1.5 * way->pole_pairs * s->period_s * product;
}

/* What a window shows. */
typedef struct window {
    size_t begin, end; /* rows */
    equation balance;
    double speed, change; /* rad/s, of the shaft */
    double torque;        /* N m */
} window;

/* `angle` is that of the window's first row. */
static void weigh(window *w, const cvk_waveforms *s, const double *angle, const torque_way *way)
{
    const size_t rows = w->end - w->begin;
    const double duration = (double)rows * s->period_s, step = 2.0 * CVK_PI_WIDE / (double)rows;
    const double pole_pairs = way->pole_pairs;
    const bool off = s->path != CVK_PATH_COMMANDED && cvk_currentless(s, w->begin, w->end);
    const double impulse = off ? 0.0 : impulse_of(s, w->begin, w->end, angle, way);
    const double complex one_step = cexp(I * step);
    double complex around = cexp(-0.5 * I * step);
    double inertia = 0.0, travel = 0.0;
    for (size_t n = 0; n < rows; n++) {
        const double from_middle = angle[n] - angle[rows / 2];
        around *= one_step;
        travel -= from_middle * 0.5 * step * cimag(around);
        inertia += from_middle * 0.5 * step * step / s->period_s * creal(around);
    }
    /* what disturbs a balance grows with the root of its duration */
    const double scale = 1.0 / sqrt(duration);
    w->balance = (equation){.row = {[CVK_MECH_INERTIA] = scale * inertia / pole_pairs,
                                    [CVK_MECH_COULOMB] = scale * copysign(0.5 * duration, travel),
                                    [CVK_MECH_VISCOUS] = scale * travel / pole_pairs},
                            .impulse = scale * impulse,
                            .weight = 1.0};
    w->speed = fabs(2.0 * travel / duration / pole_pairs);
    w->change = fabs(2.0 * inertia / pole_pairs);
    w->torque = fabs(2.0 * impulse / duration);
}

/* The windows of a log. */
typedef struct windows {
    const cvk_waveforms *s;
    const torque_way *way;
    const double *angle; /* of every row */
    size_t count;
    window list[CVK_MAX_BALANCES];
} windows;

static bool weigh_one(void *context, size_t n)
{
    windows *all = context;
    window *w = &all->list[n];
    weigh(w, all->s, all->angle + w->begin, all->way);
    return true;
}

/* Windows of whole turns of a run, each beginning in the middle of the one before; `most` in all.
 */
static void list_windows(windows *all, const cvk_turns *turns, size_t first, size_t last,
                         size_t shortest, size_t most)
{
    for (size_t a = first; a < last;) {
        size_t b = a + FEWEST_TURNS;
        while (b < last && turns->end[b - 1] - turns->begin[a] < shortest) {
            b++;
        }
        if (b > last || all->count == most) {
            return;
        }
        all->list[all->count++] = (window){.begin = turns->begin[a], .end = turns->end[b - 1]};
        a += (b - a) / 2u;
    }
}

static void add_windows(cvk_balance *balance, const windows *all)
{
    for (size_t n = 0; n < all->count; n++) {
        const window *w = &all->list[n];
        balance->equation[balance->count++] = w->balance;
        balance->fastest = fmax(balance->fastest, w->speed);
        balance->change = fmax(balance->change, w->change);
        balance->torque = fmax(balance->torque, w->torque);
    }
}

cvk_status cvk_add_balances(cvk_balance *balance, const cvk_waveforms *s, const cvk_turns *turns,
                            const cvk_belief *belief, double pole_pairs, int threads)
{
    const torque_way way = torque_way_of(s, turns, belief, pole_pairs);
    const double wanted = fmax(SHORTEST_S / s->period_s, (double)s->rows / WINDOWS_PER_LOG);
    double *angle = calloc(s->rows + 1u, sizeof *angle);
    windows *all = calloc(1, sizeof *all);
    const bool fine = angle != NULL && all != NULL;
    for (size_t first = 0; fine && first < turns->count;) {
        size_t last = first + 1;
        while (last < turns->count && turns->joined[last]) {
            last++;
        }
        angle_of_run(s, turns, first, last, angle);
        list_windows(all, turns, first, last, (size_t)wanted, CVK_MAX_BALANCES - balance->count);
        first = last;
    }
    if (fine) {
        all->s = s;
        all->way = &way;
        all->angle = angle;
        (void)cvk_for_each(all->count, threads, weigh_one, all);
        add_windows(balance, all);
        balance->doubt = fmax(balance->doubt, way.doubt_nm);
    }
    free(all);
    free(angle);
    return fine ? CVK_OK : CVK_NO_MEMORY;
}

/* ---- the fit -------------------------------------------------------------------------------- */

/* Weighted least squares; leaves the inverse of the scaled normal matrix in `h`. */
static bool solve(const equation *list, size_t count, const double unit[N], double x[N],
                  double h[N * N])
{
    double b[N] = {0};
    memset(h, 0, N * N * sizeof *h);
    for (size_t n = 0; n < count; n++) {
        for (int k = 0; k < N; k++) {
            b[k] += list[n].weight * list[n].row[k] / unit[k] * list[n].impulse;
        }
        for (int k = 0; k < N * N; k++) {
            h[k] += list[n].weight * list[n].row[k / N] * list[n].row[k % N] /
                    (unit[k / N] * unit[k % N]);
        }
    }
    if (!cvk_invert_spd(N, h)) {
        return false;
    }
    for (int r = 0; r < N; r++) {
        x[r] = 0.0;
        for (int c = 0; c < N; c++) {
            x[r] += h[r * N + c] * b[c] / unit[r];
        }
    }
    return true;
}

static double misfit(const equation *e, const double x[N])
{
    double sum = -e->impulse;
    for (int k = 0; k < N; k++) {
        sum += e->row[k] * x[k];
    }
    return sum;
}

static void reweight(equation *list, size_t count, const double x[N])
{
    double size[CVK_MAX_BALANCES];
    for (size_t n = 0; n < count; n++) {
        size[n] = fabs(misfit(&list[n], x));
    }
    double typical = cvk_median(size, count) / 0.6745;
    for (size_t n = 0; n < count; n++) {
        double share = fabs(misfit(&list[n], x)) / (LARGEST_MISFIT * typical);
        list[n].weight = share > 1.0 ? 1.0 / share : 1.0;
    }
}

/* Variance of x from the windows' own misfits (White, Econometrica 50(1), 1982); neighbours share
 * the speed at their border, so they are added up in pairs and fours. */
static void deviations(const cvk_balance *balance, const double unit[N], const double x[N],
                       const double h[N * N], double out[N])
{
    static const double floors[N] = {FLOOR_INERTIA, FLOOR_COULOMB, FLOOR_VISCOUS};
    const double share = DOUBT_COUNTS * balance->doubt / balance->torque;
    const double doubt[N] = {[CVK_MECH_INERTIA] = share * x[CVK_MECH_INERTIA],
                             [CVK_MECH_COULOMB] = balance->doubt,
                             [CVK_MECH_VISCOUS] = balance->doubt / balance->fastest};
    const equation *list = balance->equation;
    const size_t count = balance->count;
    const size_t block = count >= 40 ? 4 : 2;
    double score[N * N] = {0}, sum[N] = {0}, cov[N * N];
    for (size_t n = 0; n < count; n++) {
        for (int k = 0; k < N; k++) {
            sum[k] += list[n].weight * misfit(&list[n], x) * list[n].row[k] / unit[k];
        }
        if ((n + 1) % block == 0 || n + 1 == count) {
            for (int k = 0; k < N * N; k++) {
                score[k] += sum[k / N] * sum[k % N];
            }
            memset(sum, 0, sizeof sum);
        }
    }
    cvk_sandwich(N, h, score, cov);
    for (int k = 0; k < N; k++) {
        double own = sqrt(cov[k * (N + 1)] * (double)count / ((double)count - N)) / unit[k];
        out[k] = hypot(own, hypot(floors[k] * x[k], doubt[k]));
    }
}

cvk_status cvk_fit_mechanics(cvk_balance *balance, cvk_mechanics *out)
{
    equation *list = balance->equation;
    const size_t count = balance->count;
    double h[N * N], unit[N] = {0};
    *out = (cvk_mechanics){.driven = balance->torque > 0.0,
                           .changes = balance->change > LEAST_CHANGE * balance->fastest};
    if (count < FEWEST_WINDOWS || !out->driven || !out->changes) {
        return CVK_NOT_IN_LOG;
    }
    for (size_t n = 0; n < count; n++) {
        for (int k = 0; k < N; k++) {
            unit[k] += fabs(list[n].row[k]) / (double)count;
        }
    }
    for (int round = 0; round < ROUNDS; round++) {
        if (!solve(list, count, unit, out->value, h)) {
            return CVK_NOT_IN_LOG;
        }
        if (round + 1 < ROUNDS) {
            reweight(list, count, out->value);
        }
    }
    deviations(balance, unit, out->value, h, out->deviation);
    out->dof = fmax(1.0, (double)count / (count >= 40 ? 4.0 : 2.0) - N);
    return out->value[CVK_MECH_INERTIA] > 0.0 ? CVK_OK : CVK_NOT_IN_LOG;
}

void cvk_balance_curve(const cvk_balance *balance, const cvk_mechanics *fit, cvk_curve *curve)
{
    const size_t stride = balance->count / CVK_CURVE_POINTS + 1u;
    curve->points = 0;
    for (size_t n = 0; n < balance->count; n += stride) {
        const equation *e = &balance->equation[n];
        const double weight = fabs(e->row[CVK_MECH_COULOMB]); /* of the window, times time */
        const double friction = e->row[CVK_MECH_COULOMB] * fit->value[CVK_MECH_COULOMB] +
                                e->row[CVK_MECH_VISCOUS] * fit->value[CVK_MECH_VISCOUS];
        const size_t point = curve->points++;
        curve->x[point] = e->row[CVK_MECH_INERTIA] / weight;
        curve->y[point] = (e->impulse - friction) / weight;
        curve->fit[point] = curve->x[point] * fit->value[CVK_MECH_INERTIA];
    }
}
