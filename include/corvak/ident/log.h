/* SPDX-License-Identifier: Apache-2.0
 *
 * A log in memory: columns of equal length in SI units. The caller owns the columns.
 */
#ifndef CORVAK_IDENT_LOG_H
#define CORVAK_IDENT_LOG_H

#include <stdbool.h>
#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef enum cvk_column {
    CVK_COLUMN_T = 0, /* s */
    CVK_COLUMN_IA,
    CVK_COLUMN_IB,
    CVK_COLUMN_IC, /* A, into the motor */
    CVK_COLUMN_VA,
    CVK_COLUMN_VB,
    CVK_COLUMN_VC, /* V, any common reference */
    CVK_COLUMN_VAB,
    CVK_COLUMN_VBC,
    CVK_COLUMN_VCA, /* V, line to line */
    CVK_COLUMN_VDC,
    CVK_COLUMN_IDC, /* V, A */
    CVK_COLUMN_DUTY_A,
    CVK_COLUMN_DUTY_B,
    CVK_COLUMN_DUTY_C, /* 0 .. 1 */
    CVK_COLUMN_THETA_M,
    CVK_COLUMN_THETA_E, /* rad, mechanical, electrical */
    CVK_COLUMN_ENC,
    CVK_COLUMN_HALL,    /* counts; 0 .. 7 */
    CVK_COLUMN_SPEED_M, /* rad/s, mechanical */
    CVK_COLUMN_TEMP,    /* degC */
    CVK_COLUMN_INDEX,   /* above half its largest value while a mark on the shaft goes by */
    CVK_COLUMN_SIN,
    CVK_COLUMN_COS,  /* V, of a sensor with two sinusoidal outputs */
    CVK_COLUMN_TACH, /* V */
    CVK_COLUMN_HALL_A,
    CVK_COLUMN_HALL_B,
    CVK_COLUMN_HALL_C, /* 0 or 1 each, where the halls are logged one by one */
    CVK_COLUMN_COUNT
} cvk_column;

/* The canonical name, as in a file's header row. Null beyond the last. */
const char *cvk_column_name(cvk_column column);

typedef struct cvk_log {
    const char *name; /* for messages and for the card; never null */
    size_t rows;
    const double *column[CVK_COLUMN_COUNT]; /* null when the log does not have it; NaN where a
                                               cell is missing */
    double encoder_counts;                  /* counts per turn of ENC; 0 when not known */
    double pole_pairs;                      /* as stated in the log's head; 0: not stated */
    double shaft_turns;                     /* of the whole log, counted by hand; 0: not stated */
    double added_inertia_kg_m2;             /* of a known disc on the shaft in this log; 0: none */
    double current_gain_tolerance;          /* bound of the gain error common to the current */
    double voltage_gain_tolerance;          /* and voltage channels; negative: not stated */
    double
        current_delay_s; /* age of a current reading (amplifier, converter); negative: not stated */
    double pwm_hz;       /* 0: not stated, then a row is taken for a PWM period */
} cvk_log;

/* A log with no columns and no stated tolerances. */
cvk_log cvk_log_empty(const char *name);

bool cvk_log_has(const cvk_log *log, cvk_column column);

#ifdef __cplusplus
}
#endif
#endif
