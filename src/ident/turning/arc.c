/* SPDX-License-Identifier: Apache-2.0
 *
 * The active flux, integral(v - R i - dead) - Lq i, is centre + drift t + flux e^(j angle): the
 * centre is the unknown start of the integral, the drift an offset of the voltages, which is fitted
 * from one turn on. Linear least squares after Kasa (IEEE Trans. Instrum. Meas. 25(1), 1976), then
 * Gauss-Newton on the distances.
 */
#include "arc.h"

#include "corvak/core/units.h"

#include "model/inverter_curve.h"
#include "math/numeric.h"

#include <complex.h>
#include <math.h>
#include <stdlib.h>

#define LEAST_TURNS 0.4
#define DRIFT_TURNS 1.3    /* from so many on a drift can be told from the arc */
#define LARGEST_RIPPLE 0.1 /* rms distance from the arc, share of its radius */
#define BLOCKS 8.0         /* distances are alike within an eighth of the capture */
#define ROUNDS 8

enum { ARC_X, ARC_Y, ARC_RADIUS, ARC_DRIFT_X, ARC_DRIFT_Y, ARC_COUNT };

static cvk_span longest_piece(const cvk_waveforms *s)
{
    cvk_span longest = {0, 0};
    for (size_t n = 0; n < s->pieces; n++) {
        if (s->piece[n].end - s->piece[n].begin > longest.end - longest.begin) {
            longest = s->piece[n];
        }
    }
    return longest;
}

static void integrate(const cvk_waveforms *s, cvk_span rows, const double p[CVK_B_COUNT],
                      const cvk_belief *belief, double complex *flux)
{
    const long delay = lround(p[CVK_B_DELAY]);
    const double knee_a = belief->knee_a > 0.0 ? belief->knee_a : 0.02 * s->peak_current_a + 1e-9;
    double complex sum = 0.0;
    for (size_t k = rows.begin; k < rows.end; k++) {
        const size_t row = cvk_row_before(k, delay, rows), next = k + 1 < rows.end ? k + 1 : k;
        const double complex i = s->i_alpha[k] + I * s->i_beta[k];
        const double complex mid = 0.5 * (i + s->i_alpha[next] + I * s->i_beta[next]);
        double u[2];
        cvk_curve_vector(creal(mid), cimag(mid), 1.0 / knee_a, belief->curve, u);
        flux[k - rows.begin] = sum - p[CVK_B_L_Q] * i;
        sum += s->period_s * (s->v_alpha[row] + I * s->v_beta[row] - p[CVK_B_RESISTANCE] * mid -
                              p[CVK_B_DEAD_TIME] * s->bus_share[k] * (u[0] + I * u[1]));
    }
}

/* x^2 + y^2 = 2 cx x + 2 cy y + (r^2 - c^2). */
static bool first_circle(const double complex *flux, size_t rows, double p[ARC_COUNT])
{
    double *a = malloc(3u * rows * sizeof *a), *b = malloc(rows * sizeof *b);
    bool fine = a != NULL && b != NULL;
    for (size_t k = 0; k < rows && fine; k++) {
        a[3 * k] = 2.0 * creal(flux[k]);
        a[3 * k + 1] = 2.0 * cimag(flux[k]);
        a[3 * k + 2] = 1.0;
        b[k] = creal(flux[k] * conj(flux[k]));
    }
    fine = fine && cvk_least_squares((int)rows, 3, a, b);
    if (fine) {
        p[ARC_X] = b[0];
        p[ARC_Y] = b[1];
        p[ARC_RADIUS] = sqrt(fmax(b[2] + b[0] * b[0] + b[1] * b[1], 0.0));
    }
    free(a);
    free(b);
    return fine;
}

static double complex from_centre(const double complex *flux, size_t rows, size_t k,
                                  const double p[ARC_COUNT])
{
    const double share = (double)k / (double)rows - 0.5;
    return flux[k] - (p[ARC_X] + I * p[ARC_Y]) - share * (p[ARC_DRIFT_X] + I * p[ARC_DRIFT_Y]);
}

/* One step of Gauss-Newton; leaves the rms distance. */
static bool refine(const double complex *flux, size_t rows, int unknowns, double p[ARC_COUNT],
                   double *ripple)
{
    double *a = malloc((size_t)unknowns * rows * sizeof *a), *b = malloc(rows * sizeof *b);
    bool fine = a != NULL && b != NULL;
    double square = 0.0;
    for (size_t k = 0; k < rows && fine; k++) {
        const double complex x = from_centre(flux, rows, k, p), along = x / fmax(cabs(x), 1e-300);
        const double share = (double)k / (double)rows - 0.5;
        const double slope[ARC_COUNT] = {creal(along), cimag(along), 1.0, share * creal(along),
                                         share * cimag(along)};
        for (int n = 0; n < unknowns; n++) {
            a[(size_t)unknowns * k + (size_t)n] = slope[n];
        }
        b[k] = cabs(x) - p[ARC_RADIUS];
        square += b[k] * b[k];
    }
    *ripple = sqrt(square / (double)rows);
    fine = fine && cvk_least_squares((int)rows, unknowns, a, b);
    for (int n = 0; n < unknowns && fine; n++) {
        p[n] += b[n];
    }
    free(a);
    free(b);
    return fine && isfinite(p[ARC_RADIUS]) && p[ARC_RADIUS] > 0.0;
}

/* Turns around the centre; what goes back and forth counts against it. */
static double turns_around(const double complex *flux, size_t rows, const double p[ARC_COUNT])
{
    double turned = 0.0, last = carg(from_centre(flux, rows, 0, p));
    for (size_t k = 1; k < rows; k++) {
        double now = carg(from_centre(flux, rows, k, p));
        turned += remainder(now - last, 2.0 * CVK_PI_WIDE);
        last = now;
    }
    return turned / (2.0 * CVK_PI_WIDE);
}

/* d axis current along the arc, for the flux of the magnet alone. */
static double mean_id(const cvk_waveforms *s, cvk_span rows, const double complex *flux,
                      size_t count, const double p[ARC_COUNT])
{
    double sum = 0.0;
    for (size_t k = 0; k < count; k++) {
        const double complex x = from_centre(flux, count, k, p);
        sum += creal((s->i_alpha[rows.begin + k] + I * s->i_beta[rows.begin + k]) * conj(x)) /
               fmax(cabs(x), 1e-300);
    }
    return sum / (double)count;
}

/* The magnet's flux linkage with parameters `b`; 0 when there is no arc. */
static double fit(const cvk_waveforms *s, cvk_span rows, const double b[CVK_B_COUNT],
                  const cvk_belief *belief, double complex *flux, double *ripple, double *turns)
{
    const size_t count = rows.end - rows.begin;
    double p[ARC_COUNT] = {0.0};
    integrate(s, rows, b, belief, flux);
    bool fine = first_circle(flux, count, p);
    *turns = fine ? turns_around(flux, count, p) : 0.0;
    const int unknowns = fabs(*turns) > DRIFT_TURNS ? ARC_COUNT : ARC_DRIFT_X;
    for (int round = 0; round < ROUNDS && fine; round++) {
        fine = refine(flux, count, unknowns, p, ripple);
    }
    if (!fine) {
        return 0.0;
    }
    *turns = turns_around(flux, count, p);
    return p[ARC_RADIUS] - (b[CVK_B_L_D] - b[CVK_B_L_Q]) * mean_id(s, rows, flux, count, p);
}

/* What the doubt of the winding makes of the flux, one parameter at a time. */
static double doubt_of_winding(const cvk_waveforms *s, cvk_span rows, const cvk_belief *belief,
                               double flux_wb, double complex *work)
{
    double square = 0.0, ripple, turns;
    for (int k = 0; k < CVK_B_COUNT; k++) {
        double b[CVK_B_COUNT];
        for (int n = 0; n < CVK_B_COUNT; n++) {
            b[n] = belief->mean[n];
        }
        if (k == CVK_B_FLUX || k > CVK_B_DELAY) {
            continue;
        }
        b[k] += cvk_belief_deviation(belief, k);
        square += pow(fit(s, rows, b, belief, work, &ripple, &turns) - flux_wb, 2.0);
    }
    return sqrt(square);
}

cvk_status cvk_fit_arc(const cvk_waveforms *s, const cvk_belief *belief, cvk_arc *arc)
{
    const cvk_span rows = longest_piece(s);
    const size_t count = rows.end - rows.begin;
    *arc = (cvk_arc){.turns = 0.0};
    double complex *work = malloc((count + 1) * sizeof *work);
    double ripple = 0.0;
    if (work == NULL || count < 16u) {
        free(work);
        return work == NULL ? CVK_NO_MEMORY : CVK_NOT_IN_LOG;
    }
    arc->flux_wb = fit(s, rows, belief->mean, belief, work, &ripple, &arc->turns);
    const double turns = fabs(arc->turns);
    const bool fine =
        turns > LEAST_TURNS && arc->flux_wb > 0.0 && ripple < LARGEST_RIPPLE * arc->flux_wb;
    if (fine) {
        /* a short arc shows its radius the less, the less it bends away from its chord */
        const double bend = turns < 1.0 ? 1.0 - cos(CVK_PI_WIDE * turns) : 2.0;
        const double edges =
            s->voltage_doubt_v * s->period_s * (double)count / (2.0 * CVK_PI_WIDE * turns);
        arc->deviation = hypot(4.0 * ripple / sqrt(BLOCKS) / bend,
                               doubt_of_winding(s, rows, belief, arc->flux_wb, work));
        arc->deviation = hypot(arc->deviation, 2.0 * edges);
    }
    free(work);
    return fine ? CVK_OK : CVK_NOT_IN_LOG;
}
