/* SPDX-License-Identifier: Apache-2.0
 *
 * Levenberg-Marquardt on a simulation that runs neighbouring parameter sets in lock-step ("lanes"),
 * and the covariance of what it finds.
 */
#ifndef CORVAK_IDENT_MATH_LANE_FIT_H
#define CORVAK_IDENT_MATH_LANE_FIT_H

#include <stdbool.h>
#include <stddef.h>

#define CVK_LANE_MOST 24 /* parameters */

typedef struct cvk_lane_problem {
    int count;       /* parameters that are fitted, */
    int held;        /* and more that stay as they are */
    int delay;       /* index of the delay: its step stays inside the same whole period */
    size_t data;     /* residuals of the data; `priors` more follow */
    int priors;      /* rows that hold a parameter near what was expected, */
    double prior_sd; /* scaled so that this is their standard deviation */
    double hopeless; /* residual of an impossible parameter set */
    int most_evaluations;
    int threads;
    double
        model_doubt; /* what no model has may shift the squared residual by one part in this: that
                       much counts as one standard deviation; 0: the model is taken as right */
    double scale[CVK_LANE_MOST]; /* size of each parameter */
    const void *context;
    /* Fills out[lane][0 .. data + priors - 1] for each of the parameter sets p[lane]. False when
     * one is impossible. */
    bool (*simulate)(const void *context, int lanes, const double *const p[], double *const out[]);
} cvk_lane_problem;

typedef struct cvk_lane_result {
    double cov[CVK_LANE_MOST * CVK_LANE_MOST]; /* count x count */
    double residual;                           /* rms of the data's residuals */
    bool converged;                            /* before the evaluations were used up */
    double
        bound[CVK_LANE_MOST * CVK_LANE_MOST]; /* covariance if the residuals were white, with what
                                                 is known before: Cramer-Rao of these rows */
    double widened[CVK_LANE_MOST]; /* variance over that of white residuals, at least one */
    double colour; /* variance from block sums over that of white residuals, mean over parameters */
} cvk_lane_result;

/* Fits from `p` on. The covariance is the sandwich H^-1 S H^-1 with S summed over blocks of
 * neighbouring residuals, which stays right when they are coloured (White, Econometrica 50(1),
 * 1982; block sums after Newey, West, Econometrica 55(3), 1987), and never below that of white
 * residuals. False when there is no minimum to be found. */
bool cvk_lane_fit(const cvk_lane_problem *problem, double *p, cvk_lane_result *result);

/* Blocks in the covariance; the degrees of freedom behind it are a part of that. */
#define CVK_LANE_BLOCKS 64
#define CVK_LANE_DOF (CVK_LANE_BLOCKS / 4.0)

#endif
