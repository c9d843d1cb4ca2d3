/* SPDX-License-Identifier: Apache-2.0
 *
 * The fit by the current vector that drags the rotor: the middle of both ways, and the lag.
 */
#include "angle_equation.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define LEAST_TURN_RAD 0.02 /* in a step that turns */
#define FEWEST_EDGES 3.0    /* either way */
#define EDGE_ROWS 3u        /* on either side of a hall's edge */

/* Mean direction of the current against the sensor's angle, and how alike it is: 0 .. 1. */
static double complex mean_direction(const cvk_angle_problem *p, const cvk_angle_steps *all,
                                     int way)
{
    double complex sum = 0.0, x[CVK_X_MOST], y;
    double count = 0.0;
    for (size_t k = 0; k < all->count; k++) {
        const cvk_angle_step *e = &all->list[k];
        const double turned = cvk_own_to_field(p->model, e->b) - cvk_own_to_field(p->model, e->a);
        if (turned * way > 0.0 && cvk_current_equation(p, e, x, &y)) {
            sum += cexp(I * creal(y));
            count += 1.0;
        }
    }
    return count > 0.0 ? sum / count : 0.0;
}

/* The fit's covariance from the residuals of current equations, by blocks. */
static void current_covariance(const cvk_angle_problem *p, const cvk_angle_steps *all,
                               const cvk_angle_solution *s, double *cov)
{
    const int n = p->count;
    double block[CVK_AF_BLOCKS][CVK_X_MOST] = {{0}};
    double complex x[CVK_X_MOST], y;
    for (size_t k = 0; k < all->count; k++) {
        if (!cvk_current_equation(p, &all->list[k], x, &y)) {
            continue;
        }
        for (int c = 0; c < n; c++) {
            y -= s->x[c] * x[c];
        }
        for (int c = 0; c < n; c++) {
            block[all->list[k].block][c] += creal(x[c]) * creal(y);
        }
    }
    cvk_block_covariance(block, n, s->inverse, cov);
}

/* How much the vector's length wanders while the rotor turns. */
static double wander_of(const cvk_angle_data *d, const cvk_angle_steps *all,
                        const cvk_angle_model *m)
{
    double sum = 0.0, square = 0.0, count = 0.0;
    for (size_t k = 0; k < all->count; k++) {
        const cvk_angle_step *e = &all->list[k];
        if (fabs(cvk_own_to_field(m, e->b) - cvk_own_to_field(m, e->a)) > LEAST_TURN_RAD) {
            const double a = cabs(d->current[e->b] - d->current[e->a]) /
                             ((double)(e->b - e->a) * d->waveforms->period_s);
            sum += a;
            square += a * a;
            count += 1.0;
        }
    }
    return sqrt(fmax(square * count / (sum * sum) - 1.0, 0.0));
}

/* Halls are looked at where they change: between, nobody knows how the rotor moved. */
typedef struct at_edge {
    double off;  /* current's direction less the edge's place */
    double way;  /* of the field */
    int feature; /* CVK_AF_EDGES_.. */
} at_edge;

static bool look_at_edge(const cvk_angle_data *d, const cvk_angle_model *m, const cvk_hall_edge *e,
                         at_edge *out)
{
    const size_t k = (size_t)fmax(e->row, 0.0);
    if (k < EDGE_ROWS || k + EDGE_ROWS + 1u >= d->waveforms->rows) {
        return false;
    }
    const double complex i = (d->current[k + EDGE_ROWS + 1u] - d->current[k - EDGE_ROWS]) /
                             ((2.0 * EDGE_ROWS + 1.0) * d->waveforms->period_s);
    *out = (at_edge){carg(i) - m->direction * cvk_hall_edge_angle(e->edge),
                     (double)(m->direction * e->way),
                     (e->way > 0 ? CVK_AF_EDGES_UP : CVK_AF_EDGES_DOWN) + e->edge};
    return cabs(i) > CVK_LEAST_CURRENT * d->waveforms->peak_current_a;
}

/* Means over all edges, either way; then each edge's own. */
static void halls_by_current(const cvk_angle_data *d, const cvk_angle_model *m, cvk_angle_fit *fit)
{
    const cvk_sensor_column *c = m->column;
    double complex along[2] = {0.0, 0.0};
    double count[2] = {0.0, 0.0}, square[2] = {0.0, 0.0};
    double n[CVK_AF_COUNT] = {0}, sum[CVK_AF_COUNT] = {0}, sum2[CVK_AF_COUNT] = {0};
    at_edge e;
    for (size_t k = 0; k < c->edges; k++) {
        if (look_at_edge(d, m, &c->edge[k], &e)) {
            along[e.way < 0.0] += cexp(I * e.off);
            count[e.way < 0.0] += 1.0;
        }
    }
    if (count[0] < FEWEST_EDGES || count[1] < FEWEST_EDGES) {
        return;
    }
    const double up = carg(along[0]), lag = 0.5 * remainder(up - carg(along[1]), 2.0 * CVK_PI_WIDE);
    fit->value[CVK_AF_OFFSET] = up - lag;
    fit->value[CVK_AF_WAY] = lag;
    for (size_t k = 0; k < c->edges; k++) {
        if (look_at_edge(d, m, &c->edge[k], &e)) {
            const double off = remainder(e.off - (up - lag) - e.way * lag, 2.0 * CVK_PI_WIDE);
            square[e.way < 0.0] += off * off;
            n[e.feature] += 1.0;
            sum[e.feature] += off;
            sum2[e.feature] += off * off;
        }
    }
    for (int f = CVK_AF_EDGES_UP; f < CVK_AF_COUNT; f++) {
        const double mean = n[f] > 0.0 ? sum[f] / n[f] : 0.0;
        fit->value[f] = mean;
        fit->cov[f * CVK_AF_COUNT + f] =
            n[f] > 1.0 ? fmax(sum2[f] / n[f] - mean * mean, 0.0) / (n[f] - 1.0)
                       : CVK_HALL_EDGE_SD * CVK_HALL_EDGE_SD;
    }
    const double variance =
        0.25 * (square[0] / count[0] / count[0] + square[1] / count[1] / count[1]);
    fit->cov[CVK_AF_OFFSET * CVK_AF_COUNT + CVK_AF_OFFSET] = variance;
    fit->cov[CVK_AF_WAY * CVK_AF_COUNT + CVK_AF_WAY] = variance;
    fit->size = 0.5 * (cabs(along[0]) / count[0] + cabs(along[1]) / count[1]);
    fit->dof = fmin(count[0], count[1]);
    fit->fine = true;
}

cvk_status cvk_angle_by_current(const cvk_angle_data *d, const cvk_angle_model *m,
                                cvk_angle_fit *fit)
{
    static const double none[CVK_X_MOST] = {0.0};
    cvk_angle_problem p = {.data = d, .model = m};
    cvk_angle_steps all;
    cvk_sums sum;
    memset(fit, 0, sizeof *fit);
    memset(&sum, 0, sizeof sum);
    if (!cvk_make_angle_steps(d, m, CVK_MOST_ANGLE_STEPS, &all)) {
        return CVK_NO_MEMORY;
    }
    fit->wander = wander_of(d, &all, m);
    if (m->column->kind == CVK_ROTOR_HALLS) {
        halls_by_current(d, m, fit);
        free(all.list);
        return CVK_OK;
    }
    cvk_want_features(&p, m->wanted | 1u << CVK_AF_OFFSET | 1u << CVK_AF_WAY);
    const double complex up = mean_direction(&p, &all, 1), down = mean_direction(&p, &all, -1);
    if (cabs(up) > 0.0 && cabs(down) > 0.0) {
        double cov[CVK_X_MOST * CVK_X_MOST], precision[CVK_X_MOST], expected[CVK_X_MOST];
        double complex x[CVK_X_MOST], y;
        cvk_angle_solution s = {.left = 0.0};
        p.around[CVK_AF_OFFSET] = carg(up / cabs(up) + down / cabs(down));
        for (size_t k = 0; k < all.count; k++) {
            if (cvk_current_equation(&p, &all.list[k], x, &y)) {
                cvk_add_equation(&sum, p.count, x, y);
            }
        }
        if (sum.count > 4u * (size_t)p.count &&
            cvk_solve_sums(&sum, p.count, none, none, s.x, s.inverse)) {
            s.variance = cvk_squares_left(&sum, p.count, s.x) / (double)sum.count;
            cvk_angle_priors(&p, s.variance, 1.0, precision, expected);
            (void)cvk_solve_sums(&sum, p.count, precision, expected, s.x, s.inverse);
            current_covariance(&p, &all, &s, cov);
            s.x[CVK_X_FLUX] = 1.0;
            cvk_take_angle_fit(&p, &s, cov, fit);
            fit->size = 0.5 * (cabs(up) + cabs(down));
            fit->size_deviation = 0.0;
        }
    }
    free(all.list);
    return CVK_OK;
}
