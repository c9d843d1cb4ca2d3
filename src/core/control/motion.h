/* SPDX-License-Identifier: Apache-2.0
 *
 * Motion: where the shaft is, over any number of turns, and the profile that leads it to a speed or
 * a position.
 */
#ifndef CORVAK_CORE_CONTROL_MOTION_H
#define CORVAK_CORE_CONTROL_MOTION_H

#include "base/setup.h"

/* An electrical angle over many turns: 2 pi turns + angle, which stays within -pi .. pi. */
typedef struct cvk_place {
    int32_t turns;
    float angle_rad;
} cvk_place;

typedef struct cvk_motion {
    cvk_place at, led_to;                   /* the rotor; and where the profile has got to */
    float speed_rad_s, acceleration_rad_s2; /* of the profile */
    int32_t within; /* electrical turns of the rotor within one of the shaft */
    bool counting, leading;
} cvk_motion;

/* This electrical turn, as one of the shaft's: when it changes, and when the pole pairs do. */
void cvk_motion_turn_to(cvk_motion *motion, const cvk_setup *setup, int32_t turns, cvk_moment *now);

/* Counts the turns of the angle in use; at standstill with the bridge off it goes on from where it
 * was. */
void cvk_motion_count(cvk_motion *motion, const cvk_setup *setup, cvk_moment *now);

/* The profile goes on from this speed, at the rotor's place. */
void cvk_motion_lead_from(cvk_motion *motion, float speed_rad_s);

/* One period towards a speed, or to the place that the request names; the speed to be held. */
float cvk_motion_to_speed(cvk_motion *motion, const cvk_setup *setup, float speed_rad_s);
float cvk_motion_to_place(cvk_motion *motion, const cvk_setup *setup, const cvk_moment *now);

#endif
