/* SPDX-License-Identifier: Apache-2.0
 *
 * One fit at standstill: some of the rows, where to begin, and the parameter set nearby that misses
 * least.
 */
#ifndef CORVAK_IDENT_STANDSTILL_STANDSTILL_PROBLEM_H
#define CORVAK_IDENT_STANDSTILL_STANDSTILL_PROBLEM_H

#include "model/edges.h"
#include "log/waveforms.h"
#include "standstill_model.h"

#define CVK_STANDSTILL_BLOCKS 64u

typedef struct cvk_standstill_fit {
    double p[CVK_SM_COUNT];
    double cov[CVK_SM_COUNT * CVK_SM_COUNT];
    double bound[CVK_SM_COUNT * CVK_SM_COUNT]; /* of that of the likeliest curve: lane_fit.h; */
    size_t rows;                               /* from so many */
    double dof;
    int curve;     /* the likeliest: inverter_curve.h */
    double knee_a; /* its */
    bool converged;
    bool at_edges;     /* its voltage is taken at the legs' edges, as the signals have them */
    double residual_a; /* rms per axis */
    double widened;    /* the resistance's variance by coloured residuals: lane_fit.h */
    double noise_a;    /* rms of the measured current, from its second differences */
} cvk_standstill_fit;

typedef struct cvk_standstill_block {
    cvk_span rows;
    size_t warm_up, first_residual;
} cvk_standstill_block;

typedef struct cvk_standstill_problem {
    const cvk_waveforms *s;
    cvk_standstill_block blocks[CVK_STANDSTILL_BLOCKS];
    size_t block_count, residual_rows;
    const cvk_legs *legs; /* of each row, where the edges are in the model; or null */
    int threads, curve, most_evaluations;
    double scale[CVK_SM_COUNT];
    double noise_a, knee_centre, largest_v;
    double moving_a;       /* rms of the injected current, over the rows in use */
    bool unbent;           /* saturation is held near none */
    bool no_inverter;      /* voltages that show none of its own: measured at the terminals */
    double hold_ohm, hold; /* resistance held there, as sharply as one over `hold`; 0: free */
} cvk_standstill_problem;

/* Which rows are used, of `spans`: as many as tell something, or few. */
void cvk_standstill_all_rows(cvk_standstill_problem *f, const cvk_span *spans, size_t count);
void cvk_standstill_few_rows(cvk_standstill_problem *f, const cvk_span *spans, size_t count);

double cvk_standstill_largest_voltage(const cvk_standstill_problem *f);

/* Steps of the parameters, by values near those sought. */
void cvk_standstill_scale(cvk_standstill_problem *f, const double p[CVK_SM_COUNT]);

/* Start values and noise, from all rows. False when there are too few, or too little current. */
bool cvk_standstill_start(cvk_standstill_problem *f, const cvk_span *spans, size_t count,
                          cvk_standstill_fit *from);

/* The same with another delay, in periods, for a problem that has been started: from the rows in
 * use. */
bool cvk_standstill_start_at(const cvk_standstill_problem *f, double delay,
                             cvk_standstill_fit *from);

/* Fits with one shape of the inverter's curve, from `fit` on. */
bool cvk_standstill_fit_curve(cvk_standstill_problem *f, int curve, cvk_standstill_fit *fit);

/* What the inverter loses by a fit; and the edges of the rows used, by that and the currents that
 * the fit expects: in those there is less noise. */
cvk_loss cvk_standstill_loss(const cvk_standstill_fit *fit);
bool cvk_standstill_edges(const cvk_standstill_problem *f, const cvk_standstill_fit *fit);

#endif
