/* SPDX-License-Identifier: Apache-2.0
 *
 * The parts of a calibration, in the order of work: each fills its piece of the result.
 */
#ifndef CORVAK_IDENT_SENSORS_CALIBRATION_H
#define CORVAK_IDENT_SENSORS_CALIBRATION_H

#include "angle_fit.h"

#define CVK_UNKNOWN_MEASURED                                                                       \
    (cvk_measured)                                                                                 \
    {                                                                                              \
        NAN, NAN, NAN                                                                              \
    }

/* value +- half. */
cvk_measured cvk_measured_of(double value, double half);

/* Which way the sensor counts, how often the field turns in one of its turns, where its zero is:
 * `ratio` 0 when it is not known before. Reasons go to out->why. */
cvk_status cvk_calibrate_angle(const cvk_angle_data *data, const cvk_sensor_column *column,
                               int ratio, cvk_sensor_calibration *out);

/* The direction alone, of a column whose angle is in counts of an unknown number in a turn. */
void cvk_calibrate_direction(const cvk_angle_data *data, const cvk_sensor_column *column,
                             cvk_sensor_calibration *out);

/* Offsets, gains and quadrature of the two channels, and the column's angle with them taken out.
 * Leaves the column as it is when the points do not go round. */
void cvk_calibrate_ellipse(cvk_sensor_column *column, const cvk_waveforms *waveforms,
                           cvk_sincos_calibration *out);

/* Halls by a calibrated sensor of the same log: instead of what the log alone said of them. */
void cvk_calibrate_halls_by_sensor(const cvk_sensor_column *halls, const cvk_waveforms *waveforms,
                                   const cvk_sensor_column *column,
                                   const cvk_sensor_calibration *by, cvk_sensor_calibration *out);

/* Counts per turn of an encoder that was read without knowing them (its angle is then in counts):
 * from mark to mark, or against an absolute angle. 0: not to be seen. */
double cvk_find_counts(const cvk_sensor_column *column, const cvk_waveforms *waveforms,
                       const cvk_log *log, const size_t *row_in_log);

/* Index marks and lost counts. */
void cvk_calibrate_marks(const cvk_sensor_column *column, const cvk_waveforms *waveforms,
                         const cvk_log *log, const size_t *row_in_log, double counts,
                         cvk_encoder_calibration *out);

/* The tachometer against the speed by the sensor given. */
void cvk_calibrate_tachometer(const cvk_sensor_column *column, const cvk_waveforms *waveforms,
                              const cvk_log *log, const size_t *row_in_log, double direction,
                              cvk_calibration *out);

/* The channels of the measuring chain. */
void cvk_calibrate_channels(const cvk_waveforms *waveforms, const cvk_log *log,
                            const size_t *row_in_log, cvk_channel_calibration *out);

/* The answer about wires, from what the sensors said. */
void cvk_answer_wiring(cvk_calibration *calibration);

/* Which sensor to use, and why. */
void cvk_choose_sensor(cvk_calibration *calibration);

#endif
