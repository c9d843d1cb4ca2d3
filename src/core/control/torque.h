/* SPDX-License-Identifier: Apache-2.0
 *
 * Torque: the d current beside a q current, and what is left of it at the end of the voltage.
 */
#ifndef CORVAK_CORE_CONTROL_TORQUE_H
#define CORVAK_CORE_CONTROL_TORQUE_H

#include "base/setup.h"

typedef struct cvk_torque {
    float weakening_a; /* 0 or below */
    float room;        /* share of the q current that the voltage still lets flow */
} cvk_torque;

void cvk_torque_prepare(cvk_setup *setup);

/* By the voltage that the call before wanted: writes weakening and torque_room_nm. Returns the
 * largest q current, of either sign, beside what d current there is now. */
float cvk_torque_step(cvk_torque *torque, const cvk_setup *setup, cvk_moment *now);

/* The d current for a q current: what is asked for by hand, within its limit, what spares current,
 * and what weakens the field. */
float cvk_torque_d(const cvk_torque *torque, const cvk_setup *setup, const cvk_moment *now,
                   float current_q_a);

/* The q current for a torque. */
float cvk_torque_q(const cvk_setup *setup, float torque_nm);

#endif
