/* SPDX-License-Identifier: Apache-2.0
 *
 * The steps over which the voltage equation is integrated: private to the fits of a sensor's angle.
 */
#ifndef CORVAK_IDENT_SENSORS_ANGLE_STEPS_H
#define CORVAK_IDENT_SENSORS_ANGLE_STEPS_H

#include "angle_fit.h"

typedef struct cvk_angle_step {
    size_t a, b; /* from row a to row b */
    int block;
} cvk_angle_step;

typedef struct cvk_angle_steps {
    size_t count;
    cvk_angle_step *list; /* free it */
} cvk_angle_steps;

#define CVK_MOST_ANGLE_STEPS 16000u
#define CVK_FEW_ANGLE_STEPS 1600u

/* Steps over all pieces, at most about `most`, in blocks of equal numbers. False without memory. */
bool cvk_make_angle_steps(const cvk_angle_data *data, const cvk_angle_model *model, size_t most,
                          cvk_angle_steps *out);

/* The field's angle by the sensor alone. */
static inline double cvk_own_to_field(const cvk_angle_model *model, size_t row)
{
    return (double)(model->direction * model->ratio) * model->column->angle_rad[row];
}

static inline double complex cvk_current_row(const cvk_waveforms *waveforms, size_t row)
{
    return waveforms->i_alpha[row] + I * waveforms->i_beta[row];
}

/* The voltage's integral up to a row that may lie between two, `delay` rows before; and the voltage
 * there. */
double complex cvk_voltage_to(const cvk_angle_data *data, size_t row, double delay);
double complex cvk_voltage_near(const cvk_angle_data *data, size_t row, double delay);

/* The features at an own angle. `omega` is that of the field; halls count it their own way. */
void cvk_angle_features(const cvk_angle_model *model, double own_rad, double omega,
                        double f[CVK_AF_COUNT]);

#endif
