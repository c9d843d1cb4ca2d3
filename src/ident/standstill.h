/* SPDX-License-Identifier: Apache-2.0
 *
 * Estimation from a motor that stands still: resistance, both inductances, the inverter's own
 * voltage and the delay between voltage and current.
 */
#ifndef CORVAK_IDENT_STANDSTILL_H
#define CORVAK_IDENT_STANDSTILL_H

#include "belief.h"
#include "signals.h"
#include "standstill_model.h"

typedef struct cvk_standstill_fit {
    double p[CVK_SM_COUNT];
    double cov[CVK_SM_COUNT * CVK_SM_COUNT];
    double
        bound[CVK_SM_COUNT * CVK_SM_COUNT]; /* of the likeliest curve's covariance: lane_fit.h; */
    size_t rows;                            /* from so many */
    double dof;
    int curve; /* the likeliest: inverter_curve.h */
    bool converged;
    bool at_edges;     /* its voltage is taken at the legs' edges, as the signals have them */
    double residual_a; /* rms per axis */
    double widened;    /* the resistance's variance by coloured residuals: lane_fit.h */
    double noise_a;    /* rms of the measured current, from its second differences */
} cvk_standstill_fit;

/* Fits the rows of `spans` (in order, not overlapping). CVK_NOT_IN_LOG when there is too little
 * current, the fit does not converge, or a first quick fit misses by more than `worst_ratio` times
 * the noise. */
cvk_status cvk_standstill_fit_spans(const cvk_signals *signals, const cvk_span *spans, size_t count,
                                    int threads, double worst_ratio, cvk_standstill_fit *fit);

/* What the fit says about Ld, Lq and the rest; parameters that it does not show get `start`'s
 * wide prior. */
void cvk_standstill_belief(const cvk_standstill_fit *fit, const cvk_belief *start,
                           cvk_belief *belief);

/* Cross-saturation, 1/A, and its variance: a q current couples the axes by -value (Ld + Lq) / 2 iq.
 * False when the d axis' slope does not tell which way the magnet points, and so not its sign. */
bool cvk_standstill_cross(const cvk_standstill_fit *fit, double *value, double *variance);

/* Curves for the figure. */
void cvk_standstill_curves(const cvk_signals *signals, const cvk_span *spans, size_t count,
                           const cvk_standstill_fit *fit, cvk_estimate *out);

/* Likelihood profile of the resistance: held at values around the fitted one while all else is
 * fitted anew, on few rows. */
void cvk_standstill_profile(const cvk_signals *signals, const cvk_span *spans, size_t count,
                            const cvk_standstill_fit *fit, cvk_curve *curve);

#endif
