/* SPDX-License-Identifier: Apache-2.0
 *
 * What all observers share: the flux linkage that the voltage has added since the sample before,
 * with a resistance that is adapted, and what a doubt about the angle means for its quality.
 *
 * The quality of an angle is the probability that it is off by less than 30 degrees, for a normal
 * error whose spread is the sum of three: what the voltages may be off by, over the back-EMF (at
 * observer.least_speed_rad_s it makes 30 degrees); how far the tracking filter has to turn back;
 * how far the flux linkage's length is off. docs/theory.md says how it is checked.
 */
#ifndef CORVAK_CORE_OBSERVER_H
#define CORVAK_CORE_OBSERVER_H

#include "setup.h"

#define CVK_ANYWHERE_RAD2 3.29f /* variance of an angle of which nothing is known */
#define CVK_JUDGE_TICKS 8u      /* control calls between two judgements and adaptations */

/* What a step of an observer starts from. */
typedef struct cvk_observed {
    cvk_ab step_wb;    /* integral of v - R i since the sample before */
    cvk_ab current_a;  /* at this sample */
    cvk_ab before_a;   /* and at the one before */
    float flux_wb;     /* the magnets', adapted */
    float doubt_rad_s; /* speed times angle that the voltages may be off by */
    bool fresh;        /* the first step: nothing is known of the sample before */
    bool judge;        /* in this call qualities are judged */
} cvk_observed;

/* Resistance and flux linkage as they have turned out, less what the settings say. */
typedef struct cvk_adaptation {
    float resistance_ohm, flux_wb;
} cvk_adaptation;

/* Probability that a normal error of this variance is below 30 degrees; within 0.02. */
static inline float cvk_quality_of(float variance_rad2)
{
    /* erf(x / sqrt 2) is near sqrt(1 - exp(-2 x^2 / pi)); exp by (1 + y/4)^-4 */
    const float y = (CVK_PI * CVK_PI / 36.0f) * (2.0f / CVK_PI) * 0.25f / (variance_rad2 + 1e-6f);
    const float base = 1.0f / (1.0f + y), square = base * base;
    return sqrtf(1.0f - square * square);
}

#endif
