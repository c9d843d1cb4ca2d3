/* SPDX-License-Identifier: Apache-2.0
 *
 * Guessed from the rows and their speed; tuned by the prediction errors of neighbouring noises,
 * side by side.
 */
#include "turning_noise.h"

#include "math/numeric.h"

#include <complex.h>
#include <math.h>

#define N CVK_TM_COUNT
#define MOST_NOISE_STEPS 12
#define MOST_NOISES CVK_TM_LANES
#define NOISE_STEP 3.2
#define FINE_STEP 1.6    /* once the motor is found */
#define LEAST_GAIN 0.999 /* in prediction error, for another noise */

/* `present` with one of the first `parts` larger or smaller by a factor. Returns how many. */
static int list_noises(const cvk_tm_noise *present, int parts, double factor, cvk_tm_noise *out)
{
    for (int n = 0; n < 2 * parts; n++) {
        cvk_tm_noise *now = &out[n];
        *now = *present;
        double *const part[] = {&now->speed_rad_s, &now->magnet, &now->flux_wb,
                                &now->change_rad_s2};
        *part[n / 2] *= n % 2 == 0 ? factor : 1.0 / factor;
    }
    return 2 * parts;
}

/* Goes from the present noises, or from `modest` ones (as a motor has them that is well known)
 * where those are as good, to the ones with the smallest prediction error, step by step; returns
 * that error. */
static double walk_noises(cvk_turning_problem *f, const double p[N], const cvk_tm_noise *modest,
                          int parts, double factor)
{
    const double *lane[MOST_NOISES];
    cvk_tm_noise noise[MOST_NOISES] = {f->noise, *modest};
    double error_a[MOST_NOISES], best_a = INFINITY;
    int count = 2;
    if (count + 2 * parts <= MOST_NOISES) {
        count += list_noises(&f->noise, parts, factor, noise + count);
    }
    for (int n = 0; n < MOST_NOISES; n++) {
        lane[n] = p;
    }
    for (int times = 0; times < MOST_NOISE_STEPS; times++) {
        cvk_turning_compare(f, count, lane, noise, error_a);
        int best = -1;
        for (int n = 0; n < count; n++) {
            const double to_beat_a = best < 0 ? LEAST_GAIN * best_a : error_a[best];
            best = error_a[n] < to_beat_a ? n : best;
        }
        if (best < 0) {
            break;
        }
        best_a = error_a[best];
        f->noise = noise[best];
        count = list_noises(&f->noise, parts, factor, noise);
    }
    return best_a;
}

/* Roughly, for another round: one register full of noises. */
double cvk_tune_noise(cvk_turning_problem *f, const double p[N], const cvk_tm_noise *modest)
{
    return walk_noises(f, p, modest, 3, NOISE_STEP);
}

/* Finely, once the motor is found. */
double cvk_refine_noise(cvk_turning_problem *f, const double p[N])
{
    const cvk_tm_noise found = f->noise;
    return walk_noises(f, p, &found, 4, FINE_STEP);
}

/* Rms noise of a current sample: second differences in a frame that turns with the phase (median,
 * so that steps do not count). */
static double current_noise(const cvk_turning_problem *f, const cvk_turns *turns)
{
    const cvk_waveforms *s = f->s;
    double values[4000];
    size_t count = 0, stride = f->blocks.residual_rows / 1500u + 1u;
    for (size_t b = 0; b < f->blocks.count; b++) {
        for (size_t k = f->blocks.block[b].rows.begin + 2;
             k < f->blocks.block[b].rows.end && count + 2 < 4000u; k += stride) {
            double complex turned[3];
            for (size_t j = 0; j < 3; j++) {
                turned[j] = (s->i_alpha[k - j] + I * s->i_beta[k - j]) *
                            cexp(I * (turns->phase[k - 1] - turns->phase[k - j]));
            }
            double complex second = turned[0] - 2.0 * turned[1] + turned[2];
            values[count++] = fabs(creal(second));
            values[count++] = fabs(cimag(second));
        }
    }
    /* median of |x| is 0.6745 sigma; a second difference has variance 6 sigma^2 */
    double noise = cvk_median(values, count) / 0.6745 / sqrt(6.0);
    return fmax(noise, 1e-4 * s->peak_current_a);
}

cvk_tm_noise cvk_guess_noise(const cvk_turning_problem *f, const cvk_turns *turns,
                             const double p[N])
{
    double omega = 0.0;
    for (size_t b = 0; b < f->blocks.count; b++) {
        omega = fmax(omega, fabs(f->blocks.block[b].omega_rad_s));
    }
    return (cvk_tm_noise){.current_a = current_noise(f, turns),
                          .flux_wb = 1e-3 * p[CVK_B_FLUX] * omega * f->s->period_s,
                          .speed_rad_s = 0.1 * omega * sqrt(f->s->period_s),
                          .change_rad_s2 = 10.0 * omega * sqrt(f->s->period_s),
                          .magnet = 1e-3};
}
