/* SPDX-License-Identifier: Apache-2.0
 *
 * Which angle is used, and the way into and out of the observer's.
 */
#ifndef CORVAK_CORE_PROGRAMS_STARTUP_H
#define CORVAK_CORE_PROGRAMS_STARTUP_H

#include "angle/angle_sources.h"
#include "angle/seek.h"
#include "control/reference.h"

/* What is found out about a rotor that may turn: catch.c. */
typedef struct cvk_catch {
    int32_t stage;                /* of the two pulses */
    uint32_t ticks;               /* in this stage */
    uint32_t pulse, gap;          /* length of a pulse, and from one to the next */
    float first_rad;              /* where the first pulse's current pointed */
    cvk_ab emf_v;                 /* back-EMF, */
    float before_rad;             /* where it pointed at the call before, */
    float arc_rad;                /* how far it has turned, */
    float sum_rad;                /* the sum of that over all calls, */
    uint32_t arc;                 /* in so many calls */
    float angle_rad, speed_rad_s; /* found */
} cvk_catch;

typedef enum cvk_catch_answer {
    CVK_CATCH_LOOKING = 0,
    CVK_CATCH_STANDS, /* or turns too slowly to be seen */
    CVK_CATCH_SLOW,   /* angle and speed are known; too slow for the observer under current */
    CVK_CATCH_TURNS   /* angle and speed are known */
} cvk_catch_answer;

typedef struct cvk_startup {
    uint32_t ticks;  /* in this phase */
    uint32_t agreed; /* control calls in which the observer was sure, less those in which not */
    uint32_t lost;   /* control calls in a row without an idea of the angle, or of following */
    uint32_t slid; /* control calls in which the rotor did not follow, less those in which it did */
    uint32_t calm; /* control calls in a row in which the rotor stood still */
    float current_a;          /* of the imposed vector */
    float full_a;             /* that it rises to in this attempt */
    float acceleration_share; /* of the settings', in this attempt */
    float way;                /* 1, -1: which way the start goes */
    float back_rad;           /* that the vector gives way */
    float across_v;           /* back-EMF across the current, quick mean */
    cvk_dq emf_v;             /* mean, along and across it */
    float across_square_v2;
    float beside;      /* the same, along the current alone */
    float taken_along; /* share of the magnets' flux linkage that surely turns with the vector */
    cvk_catch catch;
    cvk_seek seek;
    int32_t by;     /* cvk_angle_source that runs the motor */
    bool gives_way; /* the standing vector, to a rotor that passes */
    bool stopped;   /* a request to stop has been fulfilled */
} cvk_startup;

void cvk_startup_prepare(cvk_setup *setup);

/* Chooses the angle and, while the vector is imposed, the current. */
void cvk_startup_step(cvk_startup *startup, const cvk_setup *setup, cvk_angles *angles,
                      cvk_reference *reference, cvk_moment *now);

/* A look at the rotor: begin, then a step each call. Writes the currents and whether the bridge
 * waits. */
void cvk_catch_begin(cvk_catch *c, cvk_moment *now);
cvk_catch_answer cvk_catch_step(cvk_catch *c, const cvk_setup *setup, const cvk_angles *angles,
                                cvk_moment *now);

/* It looks at a back-EMF, and makes no pulse. */
bool cvk_catch_listens(const cvk_catch *c);

/* The back-EMF in the middle of the period after this one: with the bridge off it becomes the
 * voltage that the bridge will be switched on with. */
cvk_ab cvk_catch_emf(const cvk_setup *setup, const cvk_moment *now, float angle_rad,
                     float speed_rad_s);

#endif
