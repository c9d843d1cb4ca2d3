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
typedef struct cvk_encoder {
    int32_t counts_before, step_before; /* of the counter */
    int32_t position;                   /* counts within a turn */
    bool begun, indexed;                /* the index mark has given the position */
} cvk_encoder;

typedef struct cvk_halls {
    float edge_rad, since_s, speed_rad_s; /* own angle of the last edge, time since, speed before */
    int32_t sector, way;
    int32_t odd, odd_sector; /* readings in a row of a code that is not due, and which */
    bool begun;
} cvk_halls;

typedef struct cvk_rotor {
    cvk_angle now;
    float own_before_rad, stayed_rad, turned_rad;
    uint32_t primed;         /* readings so far */
    uint32_t lost, disputed; /* control calls in a row */
    cvk_encoder encoder;
    cvk_halls halls;
    float read_own_rad, read_quality;    /* the last reading, as the decoder has it */
    float found_ratio, found_offset_rad; /* by a calibration: in place of the settings' */
    bool found;
    volatile bool aligned; /* a task said that the offset holds */
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
/* Whether the rotor sensor's offset holds, since power-up, with these settings. */
bool cvk_rotor_is_known(const cvk_angles *angles, const cvk_rotor_settings *settings);
void cvk_flux_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);

#endif
