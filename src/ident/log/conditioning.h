/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs as they come, made into what the estimators read: a PWM that a scope shows is averaged over
 * its periods, an uneven time base is resampled, many short holes are bridged, a missing phase
 * current follows from the bus current.
 */
#ifndef CORVAK_IDENT_LOG_CONDITIONING_H
#define CORVAK_IDENT_LOG_CONDITIONING_H

#include "corvak/ident/log.h"
#include "corvak/ident/result.h"

/* Median time step between neighbouring rows, from at most 2000 places in the log; NaN for none. */
double cvk_median_step(const cvk_log *log);

#define CVK_MOST_STEPS 5

typedef struct cvk_conditioned {
    cvk_log log;                     /* columns of the original, or of `storage` */
    double *storage[CVK_MOST_STEPS]; /* one of each step that made columns */
    int steps;
    char terminals[3];   /* between which one voltage was measured, with one current; else empty */
    double pwm_hz;       /* of the switching that the log shows, over whose periods voltages are
                            averaged; 0 when it shows none */
    double edge_noise_v; /* then: of an averaged voltage, whose edges lie between rows */
    double voltage_doubt_v;   /* what does not average out of that over many periods */
    char cure[CVK_CARD_TEXT]; /* how to record for less of it */
} cvk_conditioned;

/* What was done becomes findings in `out`. CVK_NO_MEMORY is the only failure. Free the result with
 * cvk_conditioned_free() in any case. */
cvk_status cvk_condition_log(cvk_conditioned *conditioned, const cvk_log *log, cvk_estimate *out);

void cvk_conditioned_free(cvk_conditioned *conditioned);

#endif
