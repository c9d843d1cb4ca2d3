/* SPDX-License-Identifier: Apache-2.0
 *
 * A motor that runs, as a host has it over a link; and what it really does.
 */
#ifndef CORVAK_TESTS_LIVE_MOTOR_H
#define CORVAK_TESTS_LIVE_MOTOR_H

#include "corvak/host/session.h"
#include "corvak/sim/wire.h"

typedef struct live_motor {
    cvk_rig_config bench;
    cvk_sim_controller *controller;
    cvk_session session;
    float speed_rad_s;    /* that is asked for */
    double largest_a;     /* true current of a leg, since it was last set to nothing, */
    double fastest_rad_s; /* and speed, electrical */
} live_motor;

/* A studio bench with gains from its own card, the session its owner, the motor at 40 % of its
 * rated speed. */
void live_open(live_motor *m, const char *motor, int fidelity, uint64_t seed);
void live_close(live_motor *m);

/* Time passes, one control period after the other, so that no current goes unseen. */
void live_advance(live_motor *m, double length_s);

/* It turns as it was asked to; it has come to rest. */
bool live_turns(const live_motor *m);
bool live_rests(const live_motor *m);

/* From rest, or a fault, back to that speed. */
void live_start(live_motor *m);

/* By how much a current can rise in a control period, at most. */
double live_rise_a(const live_motor *m);

#endif
