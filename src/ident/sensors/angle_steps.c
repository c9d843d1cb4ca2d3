/* SPDX-License-Identifier: Apache-2.0
 *
 * The rows of a log as integrals and as short steps, and what an angle's features are at a row.
 */
#include "angle_steps.h"

#include "corvak/core/units.h"

#include "model/inverter_curve.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define STEP_RAD 0.6 /* electrical, of one equation */
#define LONGEST_STEP_S 0.02
#define SMALL_KNEE 0.02 /* of the peak current: the bends of the inverter's own voltage, */
#define LARGE_KNEE 0.15 /* of which a mixture is fitted */

cvk_status cvk_angle_data_make(cvk_angle_data *d, const cvk_waveforms *s)
{
    const size_t n = s->rows + 1;
    *d = (cvk_angle_data){.waveforms = s, .storage = malloc(4 * n * sizeof *d->storage)};
    if (d->storage == NULL) {
        return CVK_NO_MEMORY;
    }
    d->voltage = d->storage;
    d->current = d->storage + n;
    d->inverter[0] = d->storage + 2 * n;
    d->inverter[1] = d->storage + 3 * n;
    d->voltage[0] = d->current[0] = d->inverter[0][0] = d->inverter[1][0] = 0.0;
    d->current_flows = !s->open_circuit && !cvk_currentless(s, 0, s->rows);
    d->delay_rows = s->path == CVK_PATH_COMMANDED ? 1.0 : s->path == CVK_PATH_AVERAGED ? 0.0 : -0.5;
    const double knee[2] = {SMALL_KNEE * s->peak_current_a + 1e-9,
                            LARGE_KNEE * s->peak_current_a + 1e-9};
    for (size_t k = 0; k < s->rows; k++) {
        const size_t next = k + 1 < s->rows ? k + 1 : k;
        const double complex i =
            0.5 * (s->i_alpha[k] + s->i_alpha[next] + I * (s->i_beta[k] + s->i_beta[next]));
        d->voltage[k + 1] = d->voltage[k] + s->period_s * (s->v_alpha[k] + I * s->v_beta[k]);
        d->current[k + 1] = d->current[k] + s->period_s * i;
        for (int c = 0; c < 2; c++) {
            double u[2];
            cvk_curve_vector(creal(i), cimag(i), 1.0 / knee[c], CVK_CURVE_CHARGE, u);
            d->inverter[c][k + 1] =
                d->inverter[c][k] + s->period_s * s->bus_share[k] * (u[0] + I * u[1]);
        }
    }
    return CVK_OK;
}

void cvk_angle_data_free(cvk_angle_data *d)
{
    free(d->storage);
    d->storage = NULL;
}

/* Rows of a step from `a` on: some part of a turn, or as long as allowed. */
static size_t length_at(const cvk_angle_model *m, size_t a, size_t end, size_t longest)
{
    const double from = cvk_own_to_field(m, a);
    size_t n = 2;
    while (n < longest && a + n < end && fabs(cvk_own_to_field(m, a + n) - from) < STEP_RAD) {
        n += 1 + n / 4;
    }
    return n < longest ? n : longest;
}

bool cvk_make_angle_steps(const cvk_angle_data *d, const cvk_angle_model *m, size_t most,
                          cvk_angle_steps *out)
{
    const cvk_waveforms *s = d->waveforms;
    const size_t longest = (size_t)fmax(4.0, LONGEST_STEP_S / s->period_s);
    const size_t margin = 4;
    const size_t stride = s->rows / most;
    *out = (cvk_angle_steps){.list = malloc((s->rows + 1) * sizeof *out->list)};
    if (out->list == NULL) {
        return false;
    }
    for (size_t p = 0; p < s->pieces; p++) {
        const cvk_span piece = s->piece[p];
        for (size_t a = piece.begin + margin; a + margin + 2 < piece.end;) {
            const size_t n = length_at(m, a, piece.end - margin, longest), b = a + n;
            if (b + margin < piece.end && isfinite(cvk_own_to_field(m, a)) &&
                isfinite(cvk_own_to_field(m, b)) &&
                fabs(cvk_own_to_field(m, b) - cvk_own_to_field(m, a)) < 3.0) {
                out->list[out->count++] = (cvk_angle_step){a, b, 0};
            }
            a += n > stride ? n : stride;
        }
    }
    for (size_t k = 0; k < out->count; k++) {
        out->list[k].block = (int)(k * CVK_AF_BLOCKS / out->count);
    }
    return true;
}

double complex cvk_voltage_to(const cvk_angle_data *d, size_t row, double delay)
{
    const double at = (double)row - delay;
    const size_t below = at > 0.0 ? (size_t)at : 0;
    const size_t last = d->waveforms->rows;
    if (below >= last) {
        return d->voltage[last];
    }
    const double share = at - (double)below;
    return d->voltage[below] + share * (d->voltage[below + 1] - d->voltage[below]);
}

double complex cvk_voltage_near(const cvk_angle_data *d, size_t row, double delay)
{
    const double at = (double)row - delay;
    const size_t last = d->waveforms->rows - 1;
    const size_t k = at > 0.0 ? (size_t)at : 0;
    return d->waveforms->v_alpha[k < last ? k : last] +
           I * d->waveforms->v_beta[k < last ? k : last];
}

/* How much of each hall edge's error is in the angle between two edges. */
static void hats_of(double own_rad, double omega, double f[CVK_AF_COUNT])
{
    const double place = own_rad / (CVK_PI_WIDE / 3.0) - 0.5;
    const double below = floor(place), share = place - below;
    const int edge = (int)(below - 6.0 * floor(below / 6.0));
    double *hats = f + (omega >= 0.0 ? CVK_AF_EDGES_UP : CVK_AF_EDGES_DOWN);
    hats[edge] += 1.0 - share;
    hats[(edge + 1) % 6] += share;
}

void cvk_angle_features(const cvk_angle_model *m, double own_rad, double omega,
                        double f[CVK_AF_COUNT])
{
    memset(f, 0, CVK_AF_COUNT * sizeof *f);
    f[CVK_AF_OFFSET] = 1.0;
    f[CVK_AF_LATENCY] = omega;
    f[CVK_AF_WAY] = omega > 0.0 ? 1.0 : (omega < 0.0 ? -1.0 : 0.0);
    f[CVK_AF_SLIP] = (double)(m->direction * m->ratio) * (own_rad - m->column->first_rad);
    f[CVK_AF_COSINE_1] = cos(own_rad);
    f[CVK_AF_SINE_1] = sin(own_rad);
    f[CVK_AF_COSINE_2] = cos(2.0 * own_rad);
    f[CVK_AF_SINE_2] = sin(2.0 * own_rad);
    if (m->column->kind == CVK_ROTOR_HALLS) {
        hats_of(own_rad, m->direction * omega, f);
    }
}
