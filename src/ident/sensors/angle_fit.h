/* SPDX-License-Identifier: Apache-2.0
 *
 * The electrical angle behind a sensor's own angle x:
 *
 *     theta = direction ratio x + offset + sum of features
 *
 * fitted to the voltage equation of the whole log, integrated over short steps, or to a current
 * vector that takes the rotor along. Both are linear in all that is not known (docs/theory.md,
 * section 13).
 */
#ifndef CORVAK_IDENT_SENSORS_ANGLE_FIT_H
#define CORVAK_IDENT_SENSORS_ANGLE_FIT_H

#include "sensor_columns.h"

#include <complex.h>

/* What makes the angle differ from direction ratio x + offset. */
enum {
    CVK_AF_OFFSET = 0,
    CVK_AF_LATENCY, /* s: times the electrical speed */
    CVK_AF_WAY,     /* rad: times the sign of the speed */
    CVK_AF_SLIP,    /* times the sensor's own angle since the first row: counts that are lost */
    CVK_AF_COSINE_1,
    CVK_AF_SINE_1,
    CVK_AF_COSINE_2,
    CVK_AF_SINE_2,
    CVK_AF_EDGES_UP,                                      /* six, of halls, going up */
    CVK_AF_EDGES_DOWN = CVK_AF_EDGES_UP + CVK_HALL_EDGES, /* and down */
    CVK_AF_COUNT = CVK_AF_EDGES_DOWN + CVK_HALL_EDGES
};

/* Integrals over the rows of the signals, shared by all sensors of a log. */
typedef struct cvk_angle_data {
    const cvk_waveforms *waveforms;
    double complex *voltage, *current, *inverter[2]; /* from the first row, V s, A s, s */
    double complex *storage;
    double delay_rows; /* best known: from a logged voltage to its action */
    bool current_flows;
} cvk_angle_data;

cvk_status cvk_angle_data_make(cvk_angle_data *data, const cvk_waveforms *waveforms);
void cvk_angle_data_free(cvk_angle_data *data);

typedef struct cvk_angle_model {
    const cvk_sensor_column *column;
    int direction, ratio;
    unsigned wanted; /* bit n: feature n */
} cvk_angle_model;

#define CVK_AF_BLOCKS 24
#define CVK_AF_ELECTRICAL 13 /* columns that are not the magnet's */

typedef struct cvk_angle_fit {
    bool fine;
    double value[CVK_AF_COUNT]; /* rad; latency s */
    double cov[CVK_AF_COUNT * CVK_AF_COUNT];
    double size, size_deviation; /* flux linkage, Wb; or current, A */
    double emf_share;            /* by back-EMF: of it and the drop across the winding together */
    double wander;               /* by current: rms of the vector's length, as a share */
    double delay_rows, delay_deviation;
    double dof;
    double electrical[CVK_AF_ELECTRICAL]; /* the other columns, for the error curve */
} cvk_angle_fit;

/* By the voltages that the magnet makes. Not fine when nothing turns or all is singular. CVK_OK or
 * CVK_NO_MEMORY. */
cvk_status cvk_angle_by_back_emf(const cvk_angle_data *data, const cvk_angle_model *model,
                                 cvk_angle_fit *fit);

/* By the current vector's direction. */
cvk_status cvk_angle_by_current(const cvk_angle_data *data, const cvk_angle_model *model,
                                cvk_angle_fit *fit);

/* How alike the vectors of voltage and current turn with direction ratio x: 0 not at all, 1 always
 * at the same angle to it, in each of `blocks` equal parts of the steps in which it moves. */
typedef struct cvk_angle_likeness {
    int blocks;
    double voltage[CVK_AF_BLOCKS], current[CVK_AF_BLOCKS]; /* NaN where none flows */
    double turns[CVK_AF_BLOCKS];                           /* electrical, gone either way */
    double mean;                                           /* of the better of the two */
} cvk_angle_likeness;

cvk_status cvk_angle_likeness_of(const cvk_angle_data *data, const cvk_angle_model *model,
                                 int blocks, cvk_angle_likeness *out);

/* The same of a column of which only the order of its readings is known, such as counts: how the
 * turning of the vectors goes with it, and against it. */
void cvk_count_likeness(const cvk_angle_data *data, const cvk_sensor_column *column, int blocks,
                        cvk_angle_likeness *up, cvk_angle_likeness *down);

/* What is left of the angle over a turn of the sensor: with offset (and latency or lag) alone, and
 * with all features. `by_current`: as the fit was made. CVK_OK or CVK_NO_MEMORY. */
cvk_status cvk_angle_error_curve(const cvk_angle_data *data, const cvk_angle_model *model,
                                 const cvk_angle_fit *fit, bool by_current, cvk_error_curve *curve);

#endif
