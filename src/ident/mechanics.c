/* SPDX-License-Identifier: Apache-2.0
 *
 * Over each window, J (w_end - w_begin) + Tc sign(w) t + B angle = integral of the torque (all
 * mechanical): linear in inertia, Coulomb and viscous friction. The torque is that of the active
 * flux and the current, 1.5 p psi_a x i (docs/theory.md section 7), so it needs no rotor sensor.
 */
#include "mechanics.h"

#include "numeric.h"

#include <math.h>
#include <string.h>

#define N CVK_MECH_COUNT
#define FEWEST_WINDOWS 6u
/* What a second mass on the shaft, cogging and losses of the iron, which are in no model, make of
 * the balance (bench_accuracy): relative deviations. */
#define FLOOR_INERTIA 0.012
#define FLOOR_COULOMB 0.03
#define FLOOR_VISCOUS 0.1
#define ROUNDS 6           /* of robust weighting */
#define MOST_CHANGE 0.25   /* of the speed in one window: beyond, its frame bends too much */
#define LEAST_CHANGE 0.03  /* of the largest speed: changes below show no inertia */
#define LARGEST_MISFIT 8.0 /* of the typical one: beyond it a window counts less (Huber) */

/* One window's equation: row . x = impulse. */
typedef struct equation {
    double row[N], impulse, weight;
} equation;

static double torque_of(const cvk_window *w, const cvk_belief *belief, double pole_pairs)
{
    const double complex flux = cvk_active_flux(w, belief->mean);
    return 1.5 * pole_pairs * cimag(conj(flux) * w->current_a);
}

static size_t make_equations(const cvk_windows *windows, const cvk_belief *belief,
                             double pole_pairs, equation *list, cvk_mechanics *out)
{
    size_t count = 0;
    double fastest = 0.0, change = 0.0, torque = 0.0;
    for (size_t n = 0; n < windows->count; n++) {
        const cvk_window *w = &windows->window[n];
        if (!isfinite(w->omega_begin + w->omega_end) ||
            fabs(w->omega_end - w->omega_begin) > MOST_CHANGE * fabs(w->omega)) {
            continue;
        }
        equation *e = &list[count++];
        double mean_torque = w->current_a == 0.0 ? 0.0 : torque_of(w, belief, pole_pairs);
        e->row[CVK_MECH_INERTIA] = (w->omega_end - w->omega_begin) / pole_pairs;
        e->row[CVK_MECH_COULOMB] = copysign(w->duration_s, w->omega);
        e->row[CVK_MECH_VISCOUS] = w->omega * w->duration_s / pole_pairs;
        e->impulse = mean_torque * w->duration_s;
        e->weight = 1.0;
        fastest = fmax(fastest, fabs(w->omega));
        change = fmax(change, fabs(w->omega_end - w->omega_begin));
        torque = fmax(torque, fabs(mean_torque));
    }
    out->driven = torque > 0.0;
    out->changes = change > LEAST_CHANGE * fastest;
    return count;
}

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
    double size[CVK_MAX_WINDOWS];
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
static void deviations(const equation *list, size_t count, const double unit[N], const double x[N],
                       const double h[N * N], double out[N])
{
    static const double floors[N] = {FLOOR_INERTIA, FLOOR_COULOMB, FLOOR_VISCOUS};
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
        out[k] = hypot(own, floors[k] * x[k]);
    }
}

cvk_status cvk_fit_mechanics(const cvk_windows *windows, const cvk_belief *belief,
                             double pole_pairs, cvk_mechanics *out)
{
    static const equation none = {.weight = 0.0};
    equation list[CVK_MAX_WINDOWS];
    double h[N * N], unit[N] = {0};
    list[0] = none;
    *out = (cvk_mechanics){.driven = false};
    size_t count = make_equations(windows, belief, pole_pairs, list, out);
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
    deviations(list, count, unit, out->value, h, out->deviation);
    out->dof = fmax(1.0, (double)count / (count >= 40 ? 4.0 : 2.0) - N);
    return out->value[CVK_MECH_INERTIA] > 0.0 ? CVK_OK : CVK_NOT_IN_LOG;
}
