/* SPDX-License-Identifier: Apache-2.0
 *
 * What is left of the angle over a turn of the sensor, before and after its features, for a figure.
 */
#include "angle_equation.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define CURVE_BINS 72 /* of the turn */

typedef struct error_bins {
    double complex sum[CURVE_BINS];
} error_bins;

/* A vector whose angle is how far the true one is ahead of the model at a step, weighed by what it
 * tells; 0 for nothing. */
static double complex ahead_at(const cvk_angle_problem *p, const cvk_angle_step *e,
                               const cvk_angle_fit *fit, bool by_current)
{
    double complex x[CVK_X_MOST], y;
    if (by_current) {
        return cvk_current_equation(p, e, x, &y) ? cexp(I * creal(y)) : 0.0;
    }
    cvk_angle_equation(p, e, x, &y);
    for (int n = 0; n < CVK_X_FLUX; n++) {
        y -= fit->electrical[n] * x[n];
    }
    return y * conj(x[CVK_X_FLUX]);
}

static void fill_bins(const cvk_angle_problem *p, const cvk_angle_steps *all,
                      const cvk_angle_fit *fit, bool by_current, error_bins *bins)
{
    memset(bins, 0, sizeof *bins);
    for (size_t k = 0; k < all->count; k++) {
        const cvk_angle_step *e = &all->list[k];
        const double own = p->model->column->angle_rad[(e->a + e->b) / 2u] / (2.0 * CVK_PI_WIDE);
        const int bin = (int)((own - floor(own)) * CURVE_BINS) % CURVE_BINS;
        bins->sum[bin] += ahead_at(p, e, fit, by_current);
    }
}

cvk_status cvk_angle_error_curve(const cvk_angle_data *d, const cvk_angle_model *m,
                                 const cvk_angle_fit *fit, bool by_current, cvk_error_curve *curve)
{
    cvk_angle_problem p = {.data = d, .model = m, .delay = fit->delay_rows};
    error_bins before, after;
    cvk_angle_steps all;
    if (!cvk_make_angle_steps(d, m, CVK_MOST_ANGLE_STEPS, &all)) {
        return CVK_NO_MEMORY;
    }
    cvk_want_features(&p, 0u);
    const bool halls = m->column->kind == CVK_ROTOR_HALLS;
    double mean = 0.0;
    for (int n = 0; n < 2 * CVK_HALL_EDGES && halls; n++) {
        mean += fit->value[CVK_AF_EDGES_UP + n] / (2.0 * CVK_HALL_EDGES);
    }
    for (int n = 0; n < CVK_AF_COSINE_1; n++) {
        p.around[n] = fit->value[n];
    }
    p.around[CVK_AF_OFFSET] += mean;
    fill_bins(&p, &all, fit, by_current, &before);
    memcpy(p.around, fit->value, sizeof p.around);
    fill_bins(&p, &all, fit, by_current, &after);
    free(all.list);
    curve->points = 0;
    for (int n = 0; n < CURVE_BINS; n++) {
        if (cabs(before.sum[n]) > 0.0 && cabs(after.sum[n]) > 0.0) {
            curve->sensor_rad[curve->points] = (n + 0.5) * 2.0 * CVK_PI_WIDE / CURVE_BINS;
            curve->before_rad[curve->points] = carg(before.sum[n]);
            curve->after_rad[curve->points++] = carg(after.sum[n]);
        }
    }
    return CVK_OK;
}
