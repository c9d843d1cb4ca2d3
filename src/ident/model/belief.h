/* SPDX-License-Identifier: Apache-2.0
 *
 * What several stages and logs together know of the electrical parameters: a Gaussian belief, kept
 * as mean and covariance. Merging two independent beliefs adds their information.
 */
#ifndef CORVAK_IDENT_MODEL_BELIEF_H
#define CORVAK_IDENT_MODEL_BELIEF_H

#include "corvak/ident/result.h"

enum {
    CVK_B_RESISTANCE, /* ohm */
    CVK_B_L_D,        /* H */
    CVK_B_L_Q,        /* H */
    CVK_B_FLUX,       /* Wb */
    CVK_B_DEAD_TIME,  /* V */
    CVK_B_DELAY,      /* periods */
    CVK_B_LINEAR_D,   /* 1/A: incremental inductance is L / (1 + linear i + square i^2) */
    CVK_B_SQUARE_D,   /* 1/A^2 */
    CVK_B_SQUARE_Q,   /* 1/A^2 */
    CVK_B_COUNT
};

typedef struct cvk_belief {
    double mean[CVK_B_COUNT];
    double cov[CVK_B_COUNT * CVK_B_COUNT];
    double dof;                            /* degrees of freedom behind the covariance */
    double knee_a;                         /* of the inverter's own voltage */
    int curve;                             /* and its curve: inverter_curve.h */
    bool flat;                             /* the edges have been seen to know no ripple */
    char from[CVK_B_COUNT][CVK_CARD_TEXT]; /* logs and methods that told something */
} cvk_belief;

/* Knows nothing: means at `typical`, standard deviations `width` times as large. */
void cvk_belief_start(cvk_belief *belief, const double typical[CVK_B_COUNT], double width);

/* Adds independent knowledge. False when a covariance cannot be inverted; `belief` is then as
 * before. */
bool cvk_belief_merge(cvk_belief *belief, const cvk_belief *learnt);

/* The parameter is known to a useful degree: standard deviation below `share` of its value. */
bool cvk_belief_knows(const cvk_belief *belief, int parameter, double share);

/* Variance of a sum of slope[k] times parameter[k]. */
double cvk_belief_variance(const cvk_belief *belief, const int *parameter, const double *slope,
                           int count);

double cvk_belief_deviation(const cvk_belief *belief, int parameter);

/* Raises a parameter's variance to at least `variance`; correlations stay. */
void cvk_belief_doubt(cvk_belief *belief, int parameter, double variance);

/* Cuts a parameter's correlations with the others; its variance becomes `variance`. */
void cvk_belief_isolate(cvk_belief *belief, int parameter, double variance);

/* Notes that log `log` told something of a parameter by `method`. */
void cvk_belief_note(cvk_belief *belief, int parameter, const char *log, const char *method);

#endif
