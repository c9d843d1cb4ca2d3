/* SPDX-License-Identifier: Apache-2.0
 *
 * The start of a salient motor at rest: where its magnets point.
 */
#ifndef CORVAK_CORE_ANGLE_SEEK_H
#define CORVAK_CORE_ANGLE_SEEK_H

#include "angle_sources.h"

/* The axis and its north, by the source that sees a rotor at rest. */
typedef struct cvk_seek {
    int32_t stage;
    uint32_t ticks, count;  /* in this stage; and of what is averaged */
    float current_a;        /* along the axis */
    float sum_a, square_a2; /* of the swing */
    float north_a;          /* its mean with the current one way */
    float found_rad;        /* where the rotor points */
} cvk_seek;

typedef enum cvk_seek_answer {
    CVK_SEEK_GOES_ON = 0,
    CVK_SEEK_FOUND,
    CVK_SEEK_NO_POLARITY
} cvk_seek_answer;

/* Begin, then a step each call: writes the set-point of the current. */
void cvk_seek_begin(cvk_seek *s, cvk_angles *angles);
cvk_seek_answer cvk_seek_step(cvk_seek *s, const cvk_setup *setup, cvk_angles *angles,
                              cvk_moment *now);

#endif
