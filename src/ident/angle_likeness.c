/* SPDX-License-Identifier: Apache-2.0
 *
 * How alike the vectors of voltage and current turn with a sensor.
 */
#include "angle_steps.h"

#include <math.h>
#include <stdlib.h>

#define PI 3.14159265358979323846
#define WHOLE_WAY_RAD 9.0   /* from which on the mean of a voltage that turns is nothing */
#define LEAST_TURN_RAD 0.02 /* in a step that turns */

typedef struct vector_sum {
    double complex along;
    double size;
} vector_sum;

static void add_vector(vector_sum *sum, double complex vector)
{
    sum->along += vector;
    sum->size += cabs(vector);
}

static double likeness_of(const vector_sum *sum)
{
    return sum->size > 0.0 ? cabs(sum->along) / sum->size : NAN;
}

cvk_status cvk_angle_likeness_of(const cvk_angle_data *d, const cvk_angle_model *m, int blocks,
                                 cvk_angle_likeness *out)
{
    vector_sum v[CVK_AF_BLOCKS] = {{0.0, 0.0}}, i[CVK_AF_BLOCKS] = {{0.0, 0.0}};
    cvk_angle_steps all;
    *out = (cvk_angle_likeness){.blocks = blocks};
    if (!cvk_make_angle_steps(d, m, CVK_FEW_ANGLE_STEPS, &all)) {
        return CVK_NO_MEMORY;
    }
    size_t moving = 0, seen = 0;
    double complex middle = 0.0; /* a constant voltage is an error of the channels */
    double turned_rad = 0.0, length_s = 0.0;
    for (size_t k = 0; k < all.count; k++) {
        const cvk_angle_step *e = &all.list[k];
        const double turned = fabs(cvk_own_to_field(m, e->b) - cvk_own_to_field(m, e->a));
        if (turned > LEAST_TURN_RAD) {
            moving++;
            turned_rad += turned;
            length_s += (double)(e->b - e->a) * d->signals->period_s;
            middle +=
                cvk_voltage_to(d, e->b, d->delay_rows) - cvk_voltage_to(d, e->a, d->delay_rows);
        }
    }
    middle = turned_rad > WHOLE_WAY_RAD ? middle / length_s : 0.0;
    for (size_t k = 0; k < all.count; k++) {
        const cvk_angle_step *e = &all.list[k];
        const double turned = cvk_own_to_field(m, e->b) - cvk_own_to_field(m, e->a);
        if (!(fabs(turned) > LEAST_TURN_RAD)) {
            continue;
        }
        const int b = (int)(seen++ * (size_t)blocks / (moving > 0 ? moving : 1u));
        const double complex back =
            cexp(-I * 0.5 * (cvk_own_to_field(m, e->a) + cvk_own_to_field(m, e->b)));
        const double complex volt_s = cvk_voltage_to(d, e->b, d->delay_rows) -
                                      cvk_voltage_to(d, e->a, d->delay_rows) -
                                      middle * (double)(e->b - e->a) * d->signals->period_s;
        add_vector(&v[b], copysign(1.0, turned) * volt_s * back);
        if (d->current_flows) {
            add_vector(&i[b], (d->current[e->b] - d->current[e->a]) * back);
        }
        out->turns[b] += fabs(turned) / (2.0 * PI);
    }
    free(all.list);
    for (int b = 0; b < blocks; b++) {
        out->voltage[b] = likeness_of(&v[b]);
        out->current[b] = likeness_of(&i[b]);
        out->mean += fmax(fmax(out->voltage[b], out->current[b]), 0.0) / blocks;
    }
    return CVK_OK;
}
