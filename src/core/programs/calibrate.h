/* SPDX-License-Identifier: Apache-2.0
 *
 * Calibration of the rotor sensor on the controller, with only the current limit and the pole pairs
 * known: a voltage vector takes the rotor round, both ways and with two currents; then the angle
 * found is tried with a little torque and a little speed. Steps to a voltage in each control call.
 */
#ifndef CORVAK_CORE_PROGRAMS_CALIBRATE_H
#define CORVAK_CORE_PROGRAMS_CALIBRATE_H

#include "angle/angle_sources.h"

/* Where current and sensor lay to each other, over a sweep one way. */
typedef struct cvk_sweep {
    cvk_ab with, against; /* sums of the current's direction, turned back by the sensor's angle */
    uint32_t count;
} cvk_sweep;

typedef struct cvk_calibrator {
    uint32_t ticks;                /* in this phase */
    float amplitude_v;             /* of the vector */
    float ohm;                     /* what it takes: volts per ampere at rest */
    float vector_rad;              /* where it points */
    float field_rad;               /* how far it has turned in this phase */
    float travel_rad, rocking_rad; /* of the sensor, electrical: net in this phase, and from its
                                      start to its farthest */
    float turned_back_rad;         /* farthest against the way tried */
    float refined_rad;             /* offset as the speed one way has it */
    float most_v2, least_v2;       /* squared amplitude of sin/cos */
    uint32_t changes;              /* of the reading */
    uint32_t stood;                /* control calls in a row at rest */
    float before_rad;              /* the sensor's own angle in the call before */
    float share;                   /* of the current limit, that is tried now */
    cvk_sweep sweep[4];            /* up, down; up, down with less current */
    int32_t bad, seen_codes;       /* unusable readings in this phase; halls: bit n for code n */
    bool primed, begun;            /* begun: the rotor stands */
    float sweep_share;             /* of the current limit */
    float held_rad, middle_rad,
        off_rad; /* since the speed is held: way, offset, and its changes' sum */
    uint32_t averaged;
    uint32_t in_sector[CVK_ROTOR_EDGES]; /* control calls at a speed that is held: halls */
} cvk_calibrator;

/* Begins anew. */
void cvk_calibrator_start(cvk_calibrator *calibrator, cvk_moment *now);

/* Rewrites now->request, of mode CVK_MODE_CALIBRATE, to a voltage, or to off when it has ended. */
void cvk_calibrator_step(cvk_calibrator *calibrator, const cvk_setup *setup, cvk_angles *angles,
                         cvk_moment *now);

#endif
