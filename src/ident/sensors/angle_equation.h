/* SPDX-License-Identifier: Apache-2.0
 *
 * One least-squares problem of a sensor's angle: its columns, its equations, and how it is solved.
 */
#ifndef CORVAK_IDENT_SENSORS_ANGLE_EQUATION_H
#define CORVAK_IDENT_SENSORS_ANGLE_EQUATION_H

#include "angle_steps.h"

enum {
    CVK_X_RESISTANCE,
    CVK_X_INVERTER_SMALL,
    CVK_X_INVERTER_LARGE,
    CVK_X_MEAN_L,
    CVK_X_SALIENCY_RE,
    CVK_X_SALIENCY_IM,
    CVK_X_OFFSET_RE,
    CVK_X_OFFSET_IM,
    CVK_X_DELAY,
    CVK_X_FIFTH_RE, /* harmonics of the magnet's flux, shares of it times the flux */
    CVK_X_FIFTH_IM,
    CVK_X_SEVENTH_RE,
    CVK_X_SEVENTH_IM,
    CVK_X_FLUX,     /* CVK_AF_ELECTRICAL columns stand before it */
    CVK_X_FEATURES, /* flux times each wanted feature */
    CVK_X_MOST = CVK_X_FEATURES + CVK_AF_COUNT
};

typedef struct cvk_angle_problem {
    const cvk_angle_data *data;
    const cvk_angle_model *model;
    int count;                   /* columns */
    int feature[CVK_AF_COUNT];   /* of column CVK_X_FEATURES + n */
    double around[CVK_AF_COUNT]; /* the features' values so far */
    double delay;
    double colour; /* of what is left: variance of its sums over that of white noise */
} cvk_angle_problem;

/* Which features are columns. */
void cvk_want_features(cvk_angle_problem *p, unsigned features);

/* The voltage equation over a step. */
void cvk_angle_equation(const cvk_angle_problem *p, const cvk_angle_step *e,
                        double complex x[CVK_X_MOST], double complex *y);

/* The current's direction at the middle of a step, against the angle so far: real. False where none
 * flows, or nothing turns. */
bool cvk_current_equation(const cvk_angle_problem *p, const cvk_angle_step *e,
                          double complex x[CVK_X_MOST], double complex *y);

/* Of its peak a current must have, to show the vector's direction. */
#define CVK_LEAST_CURRENT 0.3

/* Deviation of a hall's place, before the log is seen. */
#define CVK_HALL_EDGE_SD 0.2

typedef struct cvk_sums {
    double h[CVK_X_MOST * CVK_X_MOST], g[CVK_X_MOST], yy;
    size_t count;
} cvk_sums;

void cvk_add_equation(cvk_sums *s, int n, const double complex *x, double complex y);

/* Solves with prior precisions added about `expected`, in units in which the diagonal is one.
 * `inverse` gets the inverse. False when it is singular. */
bool cvk_solve_sums(const cvk_sums *s, int n, const double *precision, const double *expected,
                    double *x, double *inverse);

double cvk_squares_left(const cvk_sums *s, int n, const double *x);

/* What is known before of the columns: `variance` is that of an equation. */
void cvk_angle_priors(const cvk_angle_problem *p, double variance, double flux, double *precision,
                      double *expected);

/* Each block moves the solution by inverse times its sum: the covariance of that. */
void cvk_block_covariance(double sum[CVK_AF_BLOCKS][CVK_X_MOST], int n, const double *inverse,
                          double *cov);

typedef struct cvk_angle_solution {
    double x[CVK_X_MOST], inverse[CVK_X_MOST * CVK_X_MOST], left, variance;
} cvk_angle_solution;

/* The fit as it is handed out. */
void cvk_take_angle_fit(const cvk_angle_problem *p, const cvk_angle_solution *s, const double *cov,
                        cvk_angle_fit *fit);

#endif
