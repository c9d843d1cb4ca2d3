/* SPDX-License-Identifier: Apache-2.0
 *
 * Learning the electrical parameters from all logs: first from those in which the motor stands
 * still, then from those in which it turns.
 */
#ifndef CORVAK_IDENT_ESTIMATE_LEARNING_H
#define CORVAK_IDENT_ESTIMATE_LEARNING_H

#include "agreement.h"
#include "turning/circle.h"
#include "path_beliefs.h"

typedef struct cvk_learning {
    cvk_path_beliefs known;   /* of everything */
    cvk_path_beliefs still;   /* of the standstill logs alone: the inverter and the delay */
    cvk_readings readings;    /* what each log says alone */
    cvk_windows windows;      /* of all logs that turn */
    double channel_mismatch;  /* bound of it between two voltage channels, a share */
    double cross_information; /* of the standstill logs on cross-saturation, A^2 */
    double cross_per_a;       /* their mean of it, weighed by that */
    char cross_from[CVK_CARD_TEXT];
    char misfit[CVK_CARD_TEXT];   /* a turning log that does not fit the winding of the others */
    char cure[CVK_CARD_TEXT];     /* of a scope's log that is too coarse to be used */
    char short_of[CVK_CARD_TEXT]; /* a capture too short for the flux linkage */
    char one_line[CVK_CARD_TEXT]; /* two probes only: why there is no d and q */
    bool crumbs;                  /* no log has a stretch that is long enough */
    bool moved;                   /* a standstill log does not fit a motor that stands still */
} cvk_learning;

/* Logs in an order that does not depend on the caller's (cvk_order_logs()). Marks the logs that it
 * finds unusable; findings and curves go to `out`. `learning` is large: 300 kB. */
void cvk_learn(cvk_learning *learning, cvk_prepared *logs, size_t count,
               const cvk_estimate_options *options, cvk_estimate *out);

/* The logs are of two motors, or cannot be told from such: windings differ as no warmth explains.
 */
bool cvk_other_motor(const cvk_learning *learning);

#endif
