/* SPDX-License-Identifier: Apache-2.0
 *
 * What an estimate's figures show of a log: measured beside fitted.
 */
#ifndef CORVAK_IDENT_ESTIMATE_FIGURE_CURVES_H
#define CORVAK_IDENT_ESTIMATE_FIGURE_CURVES_H

#include "standstill/standstill.h"
#include "turning/turns.h"

/* A step of the current, the line of voltage over current, what the fit misses by and how that
 * is correlated. */
void cvk_standstill_curves(const cvk_waveforms *waveforms, const cvk_span *spans, size_t count,
                           const cvk_standstill_fit *fit, cvk_estimate *out);

/* Electrical speed of each turn, NaN where they are interrupted. */
void cvk_speed_curve(const cvk_waveforms *waveforms, const cvk_turns *turns, cvk_curve *curve);

/* Points of the flux circle. */
void cvk_circle_curve(const cvk_waveforms *waveforms, const cvk_turns *turns,
                      const cvk_belief *belief, cvk_curve *curve);

#endif
