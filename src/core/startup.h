/* SPDX-License-Identifier: Apache-2.0
 *
 * Which angle is used, and the way into and out of the observer's.
 */
#ifndef CORVAK_CORE_STARTUP_H
#define CORVAK_CORE_STARTUP_H

#include "angles.h"
#include "reference.h"

typedef struct cvk_startup {
    uint32_t ticks;  /* in this phase */
    uint32_t agreed; /* control calls in a row in which observer and vector turned alike */
    uint32_t lost;   /* control calls in a row without an idea of the angle */
    float current_a; /* of the imposed vector */
    bool stopped;    /* a request to stop has been fulfilled */
} cvk_startup;

/* Chooses the angle and, while the vector is imposed, the current. */
void cvk_startup_step(cvk_startup *startup, const cvk_setup *setup, cvk_angles *angles,
                      cvk_reference *reference, cvk_moment *now);

#endif
