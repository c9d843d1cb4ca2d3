/* SPDX-License-Identifier: Apache-2.0
 *
 * What an estimation is asked for and what it returns: options, findings, curves for figures.
 */
#ifndef CORVAK_IDENT_RESULT_H
#define CORVAK_IDENT_RESULT_H

#include "corvak/ident/card.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_MAX_FINDINGS 128
#define CVK_CURVE_POINTS 600
#define CVK_MOST_POLE_PAIRS 50

/* Default tolerances when neither log nor options state one. */
#define CVK_DEFAULT_CURRENT_GAIN_TOLERANCE 0.01
#define CVK_DEFAULT_VOLTAGE_GAIN_TOLERANCE 0.005

typedef struct cvk_estimate_options {
    double current_gain_tolerance; /* bound of the common gain error; negative: take the log's */
    double voltage_gain_tolerance;
    double largest_current_a;     /* a log with more is taken for one in milliampere; 500 */
    double switch_resistance_ohm; /* on-resistance of one switch; 0 when not known */
    int pole_pairs; /* stated by who knows them; 0: what the logs' heads state, if any does */
    int threads;    /* at most, for the fits; the result is the same; 1 */
    /* What figures are drawn from goes there; null: nothing of the kind is made. */
    struct cvk_estimate_curves *curves;
} cvk_estimate_options;

typedef enum cvk_severity {
    CVK_NOTE = 0, /* worth knowing */
    CVK_WARNING,  /* the log is usable, but look at it */
    CVK_ERROR     /* the log is not usable */
} cvk_severity;

typedef struct cvk_finding {
    cvk_severity severity;
    char log[64];
    char text[CVK_CARD_TEXT]; /* what, where (row or channel), the value, and the cure */
} cvk_finding;

/* Points of a curve for a figure. */
typedef struct cvk_curve {
    size_t points;
    double x[CVK_CURVE_POINTS], y[CVK_CURVE_POINTS], fit[CVK_CURVE_POINTS];
} cvk_curve;

typedef struct cvk_estimate_curves {
    bool with_profile;  /* asked for by the caller: some more fits */
    cvk_curve step;     /* s, A measured, A fitted: current along the injected direction */
    cvk_curve line;     /* A, V commanded, V of the resistance alone: the DC levels */
    cvk_curve circle;   /* Wb, Wb: flux linkage of the magnet while turning; fit unused */
    cvk_curve turning;  /* s, A along alpha measured, A predicted by the turning fit */
    cvk_curve speed;    /* s, rad/s electrical; NaN where the turns are interrupted; fit unused */
    cvk_curve balance;  /* rad/s^2 at the shaft, N m less friction, N m of the fitted inertia */
    cvk_curve residual; /* s, A: misfit of the standstill current; fit: noise, +-1.96 times */
    cvk_curve
        correlation; /* rows, autocorrelation of that misfit; fit: 95 % bound of white noise */
    /* ohm, -2 ln of the likelihood over its maximum with all else fitted anew; fit: the parabola of
     * the statistical interval. */
    cvk_curve profile;
} cvk_estimate_curves;

/* Incremental inductances against current, as far as the logs reach, with 95 % bands. */
#define CVK_SATURATION_POINTS 33

typedef struct cvk_saturation {
    bool known;
    double reach_a; /* the largest current in the logs; d: -reach .. reach, q: 0 .. reach */
    double d_h[CVK_SATURATION_POINTS], d_half_h[CVK_SATURATION_POINTS];
    double q_h[CVK_SATURATION_POINTS], q_half_h[CVK_SATURATION_POINTS];
} cvk_saturation;

/* What two probes see: resistance (ohm) and inductance (H) from terminal to terminal, at the
 * rotor's position in that log. */
#define CVK_MOST_LINE_READINGS 16

typedef struct cvk_line_reading {
    char log[64];
    char terminals[3]; /* such as "ab" */
    cvk_card_entry resistance, inductance;
} cvk_line_reading;

typedef struct cvk_estimate {
    cvk_card card;
    size_t findings;
    cvk_finding finding[CVK_MAX_FINDINGS];
    cvk_estimate_curves *curves; /* those of the options */
    cvk_saturation saturation;
    size_t line_readings;
    cvk_line_reading line_reading[CVK_MOST_LINE_READINGS];
    double pole_probability[CVK_MOST_POLE_PAIRS + 1]; /* of each integer; [0]: no evidence at all */
    double line_knee_a; /* current at which the inverter's own voltage bends */
    int line_curve;     /* which of the known curves it follows, 0 (soft) .. 5 (clipped) */
    double offset_alpha_a, offset_beta_a; /* of the current, from the last log; NaN when unseen */
    double residual_a; /* rms misfit of the standstill current; NaN without such a log */
    double row_s;      /* time from row to row of the first log: the period of `delay_periods` */
} cvk_estimate;

/* The inverter's own voltage at a phase current, V: dead_time_voltage_v * s(current / knee), s
 * being a curve from x / (1 + |x|) (0) to a clipped ramp (5). */
double cvk_inverter_voltage(double dead_time_voltage_v, double knee_a, int curve, double current_a);

#ifdef __cplusplus
}
#endif
#endif
