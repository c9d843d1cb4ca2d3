/* SPDX-License-Identifier: Apache-2.0
 *
 * A motor takes power: voltage and current go the same way on average. Renaming the phases in a
 * cycle turns the current vector by 120 degrees, exchanging two mirrors it; of the twelve namings
 * (with the sign) that one is right in which voltage and current are most alike.
 */
#include "wiring.h"

#include <complex.h>
#include <math.h>
#include <string.h>

#define SURE_SCORE 0.25 /* at least this alike, */
#define SURE_RATIO 0.3  /* and as named at most this share of it, or minus that */

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

cvk_wiring cvk_find_wiring(const cvk_signals *s)
{
    cvk_wiring best = {.phase = "abc", .score = -1.0};
    const double complex i_mean = mean_of(s->i_alpha, s->i_beta, s->rows);
    const double complex v_mean = mean_of(s->v_alpha, s->v_beta, s->rows);
    double complex same = 0.0, mirrored = 0.0;
    double vv = 0.0, ii = 0.0;
    for (size_t k = 0; k < s->rows; k++) {
        double complex i = s->i_alpha[k] + I * s->i_beta[k] - i_mean;
        double complex v = s->v_alpha[k] + I * s->v_beta[k] - v_mean;
        same += v * conj(i);
        mirrored += v * i;
        vv += creal(v * conj(v));
        ii += creal(i * conj(i));
    }
    const double size = sqrt(vv * ii);
    if (!(size > 0.0)) {
        return best;
    }
    best.as_named = creal(same) / size;
    for (int n = 0; n < 12; n++) {
        const int turn = n % 3, mirror = n / 3 % 2, inverted = n / 6;
        double complex power = (mirror ? mirrored : same) * cexp(-I * (2.0943951023931953 * turn));
        double score = (inverted ? -1.0 : 1.0) * creal(power) / size;
        if (score > best.score + 1e-9) {
            best.score = score;
            best.inverted = inverted;
            best.mirrored = mirror;
            for (int c = 0; c < 3; c++) {
                best.phase[c] = phase_at((mirror ? -2 * c : 2 * c) + 2 * turn);
            }
        }
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
