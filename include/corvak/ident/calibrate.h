/* SPDX-License-Identifier: Apache-2.0
 *
 * What a log tells of the rotor sensors and of the measuring channels: which way each sensor
 * counts, where its zero is, how it errs. One log in which the rotor turns, driven or by hand.
 *
 * Convention: electrical angle of the log's phase columns = direction x pole pairs x sensor angle +
 * offset; at electrical angle zero the magnet's flux through phase a, as logged, is largest. The
 * sensor angle of an encoder is counted from count zero; that of halls and of a sin/cos sensor with
 * a period per pole pair is the electrical one over the pole pairs. Methods: docs/theory.md.
 */
#ifndef CORVAK_IDENT_CALIBRATE_H
#define CORVAK_IDENT_CALIBRATE_H

#include "corvak/core/status.h"
#include "corvak/core/angles.h"
#include "corvak/ident/log.h"
#include "corvak/ident/result.h"

#ifdef __cplusplus
extern "C" {
#endif

/* A value with its 95 % interval; not known: all NaN. */
typedef struct cvk_measured {
    double value, low, high;
} cvk_measured;

bool cvk_measured_known(const cvk_measured *x);

/* What stood for the truth. */
typedef enum cvk_reference_kind {
    CVK_REFERENCE_NONE = 0,
    CVK_REFERENCE_BACK_EMF, /* the voltages that the magnet makes */
    CVK_REFERENCE_CURRENT,  /* a current vector that took the rotor along, both ways */
    CVK_REFERENCE_SENSOR    /* another sensor of the same log, calibrated before */
} cvk_reference_kind;

#define CVK_SENSOR_HARMONICS 2
#define CVK_HALL_EDGES 6
#define CVK_CALIBRATION_POINTS 720

/* Angle error over one turn of the sensor, electrical, before and after, for a figure. */
typedef struct cvk_error_curve {
    size_t points;
    double sensor_rad[CVK_CALIBRATION_POINTS];
    double before_rad[CVK_CALIBRATION_POINTS], after_rad[CVK_CALIBRATION_POINTS];
} cvk_error_curve;

typedef struct cvk_hall_calibration {
    /* Electrical angle (with offset and direction, as the phases see it) at which the code changes;
     * edge n is passed going up in the sensor's own count from sector n to n + 1, sector 0 being
     * code 1. Middle of both directions, and how far the two lie apart. */
    cvk_measured edge_rad[CVK_HALL_EDGES];
    cvk_measured hysteresis_rad[CVK_HALL_EDGES];
    double bounce_share;     /* of the edges */
    size_t edges, bad_codes; /* rows with code 0 or 7 */
    int dead;                /* 0 none, 1 .. 3: hall a, b, c does not change */
} cvk_hall_calibration;

typedef struct cvk_sincos_calibration {
    cvk_measured sin_offset_v, cos_offset_v, amplitude_v;
    cvk_measured gain_ratio;     /* sin over cos */
    cvk_measured quadrature_rad; /* sin leads by this much more than a quarter period */
    size_t points;               /* for a figure */
    double sin_v[CVK_CALIBRATION_POINTS], cos_v[CVK_CALIBRATION_POINTS];
} cvk_sincos_calibration;

typedef struct cvk_encoder_calibration {
    double counts_per_turn; /* as stated or found; 0: not known */
    cvk_measured index_rad; /* mechanical sensor angle at the mark; NaN: none seen */
    size_t marks;
    cvk_measured lost_per_turn; /* counts, from mark to mark */
} cvk_encoder_calibration;

typedef struct cvk_sensor_calibration {
    bool present;            /* the log has its columns */
    char why[CVK_CARD_TEXT]; /* no offset: the reason, with the cure; else empty */
    cvk_reference_kind reference;
    int direction; /* 1, -1; 0 not decided */
    double direction_probability;
    int ratio; /* electrical turns in one of the sensor; 0 not known */
    double ratio_probability;
    double turns; /* electrical, gone through either way */
    cvk_measured electrical_offset_rad;
    cvk_measured latency_s; /* age of a reading */
    cvk_measured lag_rad;   /* electrical: how far the rotor trailed the current vector */
    /* The reading errs by the sum of cosine_rad[n] cos((n+1) x) + sine_rad[n] sin((n+1) x), x its
     * own angle, in its own angle. */
    cvk_measured cosine_rad[CVK_SENSOR_HARMONICS], sine_rad[CVK_SENSOR_HARMONICS];
    double error_before_rad, error_after_rad; /* electrical, rms over a turn */
    double resolution_rad, noise_rad;         /* electrical: step, and rms of a reading */
    double bad_share;                         /* of the rows: no number, or an impossible reading */
    cvk_error_curve curve;
    cvk_hall_calibration hall;
    cvk_sincos_calibration sincos;
    cvk_encoder_calibration encoder;
} cvk_sensor_calibration;

typedef struct cvk_channel_calibration {
    cvk_measured offset_a[3]; /* reading at no current */
    cvk_measured gain[3];     /* of a channel over the mean of all */
    cvk_measured bus_gain;    /* of the bus voltage over that of the terminals */
    char why_offset[CVK_CARD_TEXT], why_gain[CVK_CARD_TEXT], why_bus[CVK_CARD_TEXT];
} cvk_channel_calibration;

typedef struct cvk_wiring_answer {
    char phases[4];       /* phases of the motor at the log's columns a, b, c; empty: not told */
    int sensor_direction; /* 0: not decided */
    double probability;   /* of all that is told */
    cvk_rotor_kind by;    /* the sensor that decided; CVK_ROTOR_ANGLE_KINDS: none */
    char undecided[CVK_CARD_TEXT];   /* why there is no direction; empty when there is */
    char phases_open[CVK_CARD_TEXT]; /* why there are no phases */
    char cure[4 * CVK_CARD_TEXT];    /* what to swap, or which parameter does instead */
} cvk_wiring_answer;

typedef struct cvk_calibration {
    cvk_sensor_calibration sensor[CVK_ROTOR_ANGLE_KINDS];
    cvk_measured tachometer_v_s; /* volts per mechanical rad/s; negative: reversed */
    double tachometer_ripple;    /* rms, share */
    char why_tachometer[CVK_CARD_TEXT];
    bool has_tachometer;
    cvk_channel_calibration channels;
    cvk_wiring_answer wiring;
    cvk_rotor_kind best; /* which to use; CVK_ROTOR_ANGLE_KINDS: none */
    char why_best[CVK_CARD_TEXT];
    cvk_estimate log; /* findings of reading and examining it; nothing else */
} cvk_calibration;

typedef struct cvk_calibrate_options {
    cvk_estimate_options log;
    double pole_pairs;       /* 0: from the log */
    double periods_per_turn; /* of a sin/cos sensor; 0: any */
    double encoder_counts;   /* per turn; 0: from the log */
} cvk_calibrate_options;

cvk_calibrate_options cvk_calibrate_options_default(void);

/* CVK_NOT_IN_LOG when no sensor's offset is found: each says why. CVK_NO_MEMORY. `out` is large
 * (300 kB): keep it off small stacks. */
cvk_status cvk_calibrate_log(const cvk_log *log, const cvk_calibrate_options *options,
                             cvk_calibration *out) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
