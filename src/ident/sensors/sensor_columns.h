/* SPDX-License-Identifier: Apache-2.0
 *
 * The rotor sensors' columns of a log, as an angle at each row of the signals: each sensor's own
 * angle, going on through its turns.
 */
#ifndef CORVAK_IDENT_SENSORS_SENSOR_COLUMNS_H
#define CORVAK_IDENT_SENSORS_SENSOR_COLUMNS_H

#include "corvak/core/units.h"

#include "corvak/ident/calibrate.h"
#include "log/waveforms.h"

/* A hall's change: where the code goes from one sector into the next. */
typedef struct cvk_hall_edge {
    double row; /* between two rows */
    int edge;   /* 0 .. 5: between sectors edge and edge + 1 */
    int way;    /* 1: up, -1: down, in the sensor's own count */
    size_t piece;
} cvk_hall_edge;

typedef struct cvk_sensor_column {
    cvk_rotor_kind kind;
    double *angle_rad; /* own angle: of the shaft (absolute, encoder), of a period (sin/cos), of
                          the field (halls, straight between edges); NaN where not known */
    double first_rad;  /* the first that is known */
    double step_rad;   /* smallest change of it */
    double span_rad;   /* from its lowest to its highest */
    bool stuck;        /* it does not change at all */
    size_t bad;        /* rows with no or an impossible reading */
    size_t edges;      /* halls */
    cvk_hall_edge *edge;
    size_t bounces;
    unsigned hall_seen;    /* bit n: code n occurs */
    double *sin_v, *cos_v; /* sin/cos, with gaps as they come */
} cvk_sensor_column;

/* For each row of the signals the nearest row of the log in time. Null without memory; free it. */
size_t *cvk_rows_in_log(const cvk_waveforms *waveforms, const cvk_log *log);

/* Fills the column when the log has that sensor: returns CVK_OK, CVK_NOT_IN_LOG or CVK_NO_MEMORY.
 * `counts` is that of the encoder, per turn. Free it in any case. */
cvk_status cvk_sensor_column_read(cvk_sensor_column *column, cvk_rotor_kind kind,
                                  const cvk_waveforms *waveforms, const cvk_log *log,
                                  const size_t *row_in_log, double counts);

void cvk_sensor_column_free(cvk_sensor_column *column);

/* Electrical angle of the change between sector `edge` and the next, for halls in their places. */
static inline double cvk_hall_edge_angle(int edge)
{
    return (edge + 0.5) * (CVK_PI_WIDE / 3.0);
}

#endif
