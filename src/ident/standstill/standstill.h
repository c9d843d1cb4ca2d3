/* SPDX-License-Identifier: Apache-2.0
 *
 * Estimation from a motor that stands still: resistance, both inductances, the inverter's own
 * voltage and the delay between voltage and current.
 */
#ifndef CORVAK_IDENT_STANDSTILL_STANDSTILL_H
#define CORVAK_IDENT_STANDSTILL_STANDSTILL_H

#include "model/belief.h"
#include "standstill_problem.h"

/* Fits the rows of `spans` (in order, not overlapping). CVK_NOT_IN_LOG when there is too little
 * current, the fit does not converge, or a first quick fit misses by more than `worst_ratio` times
 * the noise. */
cvk_status cvk_standstill_fit_spans(const cvk_waveforms *waveforms, const cvk_span *spans,
                                    size_t count, int threads, double worst_ratio,
                                    cvk_standstill_fit *fit);

/* What the fit says about Ld, Lq and the rest; parameters that it does not show get `start`'s
 * wide prior. */
void cvk_standstill_belief(const cvk_standstill_fit *fit, const cvk_belief *start,
                           cvk_belief *belief);

/* Cross-saturation, 1/A, and its variance: a q current couples the axes by -value (Ld + Lq) / 2 iq.
 * False when the d axis' slope does not tell which way the magnet points, and so not its sign. */
bool cvk_standstill_cross(const cvk_standstill_fit *fit, double *value, double *variance);

/* Likelihood profile of the resistance: held at values around the fitted one while all else is
 * fitted anew, on few rows. */
void cvk_standstill_profile(const cvk_waveforms *waveforms, const cvk_span *spans, size_t count,
                            const cvk_standstill_fit *fit, cvk_curve *curve);

#endif
