/* SPDX-License-Identifier: Apache-2.0
 *
 * What the rows of a log can tell at best.
 */
#ifndef CORVAK_BENCH_BOUND_H
#define CORVAK_BENCH_BOUND_H

#include "corvak/ident/log.h"

enum { BOUND_RESISTANCE, BOUND_INDUCTANCE_D, BOUND_INDUCTANCE_Q, BOUND_FLUX, BOUND_KEYS };

/* Half widths of 95 % intervals, per cent of `truth` (ohm, H, H, Wb), that no unbiased estimator
 * can beat (Cramer-Rao), with all else unknown that the model has: the inverter's voltage, knee and
 * delay, offsets, saturation, and in a turning motor its harmonics and how angle and speed wander.
 * The point where it is taken is a fit begun at the truth. NaN: not in this log. */
void bound_of(const cvk_log *log, const double truth[BOUND_KEYS], double percent[BOUND_KEYS]);

#endif
