/* SPDX-License-Identifier: Apache-2.0
 *
 * How alike the vectors of voltage and current turn with a sensor.
 */
#include "angle_steps.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdlib.h>

#define WHOLE_WAY_RAD 9.0   /* from which on the mean of a voltage that turns is nothing */
#define LEAST_TURN_RAD 0.02 /* in a step that turns */
#define CLEAR_LENGTH 0.3    /* of the longest vector: shorter ones have no direction */
#define STRIDES 3           /* rotors turn slowly or fast */

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
            length_s += (double)(e->b - e->a) * d->waveforms->period_s;
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
                                      middle * (double)(e->b - e->a) * d->waveforms->period_s;
        add_vector(&v[b], copysign(1.0, turned) * volt_s * back);
        if (d->current_flows) {
            add_vector(&i[b], (d->current[e->b] - d->current[e->a]) * back);
        }
        out->turns[b] += fabs(turned) / (2.0 * CVK_PI_WIDE);
    }
    free(all.list);
    for (int b = 0; b < blocks; b++) {
        out->voltage[b] = likeness_of(&v[b]);
        out->current[b] = likeness_of(&i[b]);
        out->mean += fmax(fmax(out->voltage[b], out->current[b]), 0.0) / blocks;
    }
    return CVK_OK;
}

/* ---- counts --------------------------------------------------------------------------------- */

/* How the turning of a vector goes with a column, both by steps of one stride. */
typedef struct turn_sums {
    double with, turned, counted, turns;
} turn_sums;

/* What a vector does in a stride, less its mean over the log: over whole turns that is an error of
 * the channels. */
static double complex stride_of(const double complex *integral, size_t rows, size_t k,
                                size_t stride)
{
    return integral[k + stride] - integral[k] - integral[rows] * (double)stride / (double)rows;
}

static double longest_stride(const double complex *integral, size_t rows, size_t stride)
{
    double longest = 0.0;
    for (size_t k = 0; k + stride < rows; k += stride) {
        longest = fmax(longest, cabs(stride_of(integral, rows, k, stride)));
    }
    return longest;
}

static void sum_turns(const cvk_angle_data *d, const cvk_sensor_column *c,
                      const double complex *integral, size_t stride, int blocks, turn_sums *sums)
{
    const size_t rows = d->waveforms->rows;
    const double clear = CLEAR_LENGTH * longest_stride(integral, rows, stride);
    for (size_t k = stride; k + stride < rows; k += stride) {
        const double complex now = stride_of(integral, rows, k, stride);
        const double complex before = stride_of(integral, rows, k - stride, stride);
        const double counted = 0.5 * (c->angle_rad[k + stride] - c->angle_rad[k - stride]);
        if (cabs(now) > clear && cabs(before) > clear && isfinite(counted)) {
            turn_sums *s = &sums[k * (size_t)blocks / rows];
            const double turned = carg(now * conj(before));
            s->with += turned * counted;
            s->turned += turned * turned;
            s->counted += counted * counted;
            s->turns += fabs(turned) / (2.0 * CVK_PI_WIDE);
        }
    }
}

/* The better of a few strides: a slow rotor hardly turns in a short one, a fast one is lost in a
 * long one. */
static void likeness_of_counts(const cvk_angle_data *d, const cvk_sensor_column *c,
                               const double complex *integral, int blocks,
                               double likeness[CVK_AF_BLOCKS], double turns[CVK_AF_BLOCKS])
{
    static const double stride_s[STRIDES] = {1e-4, 1e-3, 1e-2};
    for (int n = 0; n < STRIDES; n++) {
        turn_sums sums[CVK_AF_BLOCKS] = {{0.0, 0.0, 0.0, 0.0}};
        sum_turns(d, c, integral, (size_t)fmax(2.0, stride_s[n] / d->waveforms->period_s), blocks,
                  sums);
        for (int b = 0; b < blocks; b++) {
            const double alike = sums[b].turned > 0.0 && sums[b].counted > 0.0
                                     ? sums[b].with / sqrt(sums[b].turned * sums[b].counted)
                                     : 0.0;
            if (n == 0 || fabs(alike) > fabs(likeness[b])) {
                likeness[b] = alike;
                turns[b] = alike != 0.0 ? sums[b].turns : 0.0;
            }
        }
    }
}

void cvk_count_likeness(const cvk_angle_data *d, const cvk_sensor_column *c, int blocks,
                        cvk_angle_likeness *up, cvk_angle_likeness *down)
{
    double voltage[CVK_AF_BLOCKS], current[CVK_AF_BLOCKS] = {0.0};
    double turns[CVK_AF_BLOCKS], current_turns[CVK_AF_BLOCKS] = {0.0};
    likeness_of_counts(d, c, d->voltage, blocks, voltage, turns);
    if (d->current_flows) {
        likeness_of_counts(d, c, d->current, blocks, current, current_turns);
    }
    *up = *down = (cvk_angle_likeness){.blocks = blocks};
    for (int b = 0; b < blocks; b++) {
        up->voltage[b] = fmax(voltage[b], 0.0);
        up->current[b] = fmax(current[b], 0.0);
        down->voltage[b] = fmax(-voltage[b], 0.0);
        down->current[b] = fmax(-current[b], 0.0);
        up->turns[b] = down->turns[b] =
            fabs(voltage[b]) > fabs(current[b]) ? turns[b] : current_turns[b];
        up->mean += fmax(up->voltage[b], up->current[b]) / blocks;
        down->mean += fmax(down->voltage[b], down->current[b]) / blocks;
    }
}
