/* SPDX-License-Identifier: Apache-2.0
 *
 * A motor takes power: voltage and current go the same way on average. Renaming the phases in a
 * cycle turns the current vector by 120 degrees, exchanging two mirrors it; of the twelve namings
 * (with the sign) that one is right in which voltage and current are most alike. When a voltage
 * acts is not known yet, and where little but an injection of few periods flows that decides: so a
 * naming counts by the delay at which it fits best.
 */
#include "phase_names.h"

#include <complex.h>
#include <math.h>
#include <string.h>

#define SURE_SCORE 0.25  /* at least this alike, */
#define LATEST_HALVES 6u /* a voltage acts within three rows */
#define SURE_RATIO 0.3   /* and as named at most this share of it, or minus that */

static double complex mean_of(const double *alpha, const double *beta, size_t rows)
{
    double complex sum = 0.0;
    for (size_t k = 0; k < rows; k++) {
        sum += alpha[k] + I * beta[k];
    }
    return sum / (double)rows;
}

/* Phase at `sixths` steps of 60 degrees: 0 a, 2 b, 4 c. */
static char phase_at(int sixths)
{
    return (char)('a' + ((sixths % 6 + 6) % 6) / 2);
}

/* Products of current and voltage, over the root of their squares, at a delay. */
typedef struct likeness {
    double complex same, mirrored;
} likeness;

static likeness likeness_at(const cvk_waveforms *s, size_t halves, double complex v_mean,
                            double complex i_mean)
{
    likeness sum = {0.0, 0.0};
    double vv = 0.0, ii = 0.0;
    const size_t whole = halves / 2, next = (halves + 1) / 2;
    for (size_t k = next; k < s->rows; k++) {
        const double complex i = s->i_alpha[k] + I * s->i_beta[k] - i_mean;
        const double complex v = 0.5 * (s->v_alpha[k - whole] + s->v_alpha[k - next]) +
                                 0.5 * I * (s->v_beta[k - whole] + s->v_beta[k - next]) - v_mean;
        sum.same += v * conj(i);
        sum.mirrored += v * i;
        vv += creal(v * conj(v));
        ii += creal(i * conj(i));
    }
    const double size = sqrt(vv * ii);
    return size > 0.0 ? (likeness){sum.same / size, sum.mirrored / size} : (likeness){0.0, 0.0};
}

/* The namings at one delay. */
static void compare_namings(const likeness *at, cvk_wiring *best)
{
    for (int n = 0; n < 12; n++) {
        const int turn = n % 3, mirror = n / 3 % 2, inverted = n / 6;
        const double complex power =
            (mirror ? at->mirrored : at->same) * cexp(-I * (2.0943951023931953 * turn));
        const double score = (inverted ? -1.0 : 1.0) * creal(power);
        if (score > best->score + 1e-9) {
            best->score = score;
            best->inverted = inverted;
            best->mirrored = mirror;
            for (int c = 0; c < 3; c++) {
                best->phase[c] = phase_at((mirror ? -2 * c : 2 * c) + 2 * turn);
            }
        }
    }
}

cvk_wiring cvk_find_wiring(const cvk_waveforms *s)
{
    cvk_wiring best = {.phase = "abc", .score = 0.0};
    const double complex i_mean = mean_of(s->i_alpha, s->i_beta, s->rows);
    const double complex v_mean = mean_of(s->v_alpha, s->v_beta, s->rows);
    for (size_t halves = 0; halves <= LATEST_HALVES; halves++) {
        const likeness at = likeness_at(s, halves, v_mean, i_mean);
        best.as_named = fmax(halves > 0 ? best.as_named : -1.0, creal(at.same));
        compare_namings(&at, &best);
    }
    return best;
}

bool cvk_gives_back(const cvk_wiring *w)
{
    return w->inverted && strcmp(w->phase, "abc") == 0;
}

bool cvk_miswired(const cvk_wiring *w)
{
    /* a motor that takes and gives back alike, mostly through its inductance, is like neither */
    return w->score > SURE_SCORE &&
           w->as_named < (w->mirrored ? SURE_RATIO : -SURE_RATIO) * w->score;
}
