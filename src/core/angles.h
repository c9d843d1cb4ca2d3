/* SPDX-License-Identifier: Apache-2.0
 *
 * The sources of the electrical angle. Each is a step that reads the moment and writes its own
 * {angle, speed, quality, reason}; all of them run in every call, so that a handover is prepared
 * and they can be compared. The hot path knows none by name: the list stands in angles.c.
 */
#ifndef CORVAK_CORE_ANGLES_H
#define CORVAK_CORE_ANGLES_H

#include "setup.h"

/* The imposed angle. */
typedef struct cvk_imposed {
    float angle_rad, speed_rad_s;
} cvk_imposed;

/* A rotor sensor behind its tracking filter. */
typedef struct cvk_rotor {
    cvk_angle now;
    bool primed;
} cvk_rotor;

/* The flux observer: observer_flux.c. */
typedef struct cvk_flux_observer {
    cvk_ab stator_wb; /* flux linkage, stationary frame */
    cvk_ab current_a; /* at the sample before */
    float angle_rad, speed_rad_s, misfit, misdirection;
    bool primed;
} cvk_flux_observer;

typedef struct cvk_angles {
    cvk_imposed imposed;
    cvk_rotor rotor;
    cvk_flux_observer flux;
} cvk_angles;

/* Every source steps. */
void cvk_angles_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);

/* The steps: now->source[...] is theirs to write. */
void cvk_imposed_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);
void cvk_rotor_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);
void cvk_flux_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);

#endif
