/* SPDX-License-Identifier: Apache-2.0
 *
 * Reference: from the request to currents in the frame of the angle in use.
 */
#ifndef CORVAK_CORE_CONTROL_REFERENCE_H
#define CORVAK_CORE_CONTROL_REFERENCE_H

#include "motion.h"
#include "torque.h"

typedef struct cvk_reference {
    float integral_a;
    cvk_motion motion;
    cvk_torque torque;
    bool running; /* the speed set-point has a value to go on from */
} cvk_reference;

/* Goes on from a current without a jump: as after a handover at this speed. */
void cvk_reference_continue(cvk_reference *reference, const cvk_setup *setup, float current_q_a,
                            cvk_moment *now);

/* The speed is seen by another source, off by so much from the one before: the current stays. */
void cvk_reference_reseen(cvk_reference *reference, const cvk_setup *setup, float off_rad_s);

void cvk_reference_step(cvk_reference *reference, const cvk_setup *setup, cvk_moment *now);

#endif
