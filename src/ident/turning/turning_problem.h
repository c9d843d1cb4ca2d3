/* SPDX-License-Identifier: Apache-2.0
 *
 * One fit of the turning motor: how far a parameter set misses the chosen blocks, and the set
 * nearby that misses least.
 */
#ifndef CORVAK_IDENT_TURNING_TURNING_PROBLEM_H
#define CORVAK_IDENT_TURNING_TURNING_PROBLEM_H

#include "turning_blocks.h"

#define CVK_TURNING_DROP 0.15 /* across the inductance at the peak current, share of back-EMF */

typedef struct cvk_turning_result {
    double p[CVK_TM_COUNT];
    double cov[CVK_TM_COUNT * CVK_TM_COUNT];
    double bound[CVK_TM_COUNT * CVK_TM_COUNT]; /* of the covariance: lane_fit.h */
    cvk_tm_noise noise;
    int curve;
    bool flat;         /* the edges know no ripple */
    double residual_a; /* rms of the prediction error per axis, */
    double misfit;     /* and that over the noise of a sample */
    double colour;     /* of the prediction errors: cvk_lane_result */
} cvk_turning_result;

typedef struct cvk_turning_problem {
    const cvk_waveforms *s; /* one of: */
    cvk_waveforms rippled;  /* the log, with the shaft if it is seen to turn with the motor; */
    cvk_waveforms flat;     /* the same with edges that know no ripple */
    cvk_turning_blocks blocks;
    int threads;
    int curve;
    bool hold_others; /* than the first: unequal magnets and the bus capacitor are not fitted, */
    bool hold_late;   /* or the age of readings alone */
    cvk_tm_noise noise;
    /* How sharply delay (periods) and knee (natural logarithm) stay near those of `start`: one over
     * their deviation; 0: free. */
    double hold_delay, hold_knee;
    double start[CVK_TM_COUNT];
    double centre[CVK_TM_COUNT]; /* of the prior */
    /* prior's lower factor: whiten * (p - centre) has unit deviation */
    double whiten[CVK_TM_COUNT * CVK_TM_COUNT];
    double prior_sd;    /* residual that one deviation from the prior costs, A */
    cvk_tm_gain *gains; /* of all blocks */
    double *errors;     /* prediction errors that came with them */
    double *clean[2];   /* currents of the blocks' rows, as the filter expects them */
} cvk_turning_problem;

/* For a log and its turns; false without memory. Close it in any case. */
bool cvk_turning_open(cvk_turning_problem *f, const cvk_waveforms *waveforms,
                      const cvk_turns *turns, int threads);
void cvk_turning_close(cvk_turning_problem *f);

/* Sets the prior. False when the belief's covariance is none. */
bool cvk_turning_prior(cvk_turning_problem *f, const cvk_belief *belief);

/* Rms prediction errors, A, of `count` parameter sets, each with its noise; infinity where the
 * filter runs away. They must agree in the whole part of the delay. */
void cvk_turning_compare(const cvk_turning_problem *f, int count, const double *const p[],
                         const cvk_tm_noise noise[], double error_a[]);

/* Drops the blocks in which the filter runs away with these values, as it may where the motor
 * hardly turns. False when those are more than a few. */
bool cvk_turning_drop_lost(cvk_turning_problem *f, const double p[CVK_TM_COUNT]);

/* Finds the edges of the blocks' rows, with these values and the currents that the filter expects
 * by them: in those there is less noise. */
void cvk_turning_edges(cvk_turning_problem *f, const double p[CVK_TM_COUNT]);

/* Fits from `p` on, with the gains that the filter has there. False when there is no minimum. */
bool cvk_turning_fit_from(cvk_turning_problem *f, double p[CVK_TM_COUNT], int evaluations,
                          cvk_turning_result *result);

#endif
