/* SPDX-License-Identifier: Apache-2.0
 *
 * Inertia and friction from how the speed answers to the torque of the currents, and from how it
 * falls without any.
 */
#ifndef CORVAK_IDENT_MECHANICS_MECHANICS_H
#define CORVAK_IDENT_MECHANICS_MECHANICS_H

#include "turning/turns.h"

#define CVK_MAX_BALANCES 4000u

enum { CVK_MECH_INERTIA, CVK_MECH_COULOMB, CVK_MECH_VISCOUS, CVK_MECH_COUNT };

/* Balances of angular momentum, gathered from any number of logs. Starts as all zeros. */
typedef struct cvk_balance {
    size_t count;
    double fastest; /* rad/s, of the shaft */
    double change;  /* rad/s, of the shaft: largest, within a window */
    double torque;  /* N m: largest mean of a window */
    double doubt;   /* N m: of the readings of current */
    struct cvk_balance_equation {
        double row[CVK_MECH_COUNT], impulse, weight;
    } equation[CVK_MAX_BALANCES];
} cvk_balance;

typedef struct cvk_mechanics {
    double value[CVK_MECH_COUNT]; /* kg m2, N m, N m s, at the shaft */
    double deviation[CVK_MECH_COUNT];
    double dof;
    bool driven;  /* some window has torque; without it only ratios could be known */
    bool changes; /* the speed changes enough to show the inertia */
} cvk_mechanics;

/* Adds the turning stretches of a log, whose phase has been refined. `belief` gives the motor's
 * electrical parameters, `pole_pairs` makes the speed mechanical. CVK_NO_MEMORY when there is none.
 */
cvk_status cvk_add_balances(cvk_balance *balance, const cvk_waveforms *waveforms,
                            const cvk_turns *turns, const cvk_belief *belief, double pole_pairs,
                            int threads);

/* CVK_NOT_IN_LOG when the balances cannot show it; `driven` and `changes` then say why. */
cvk_status cvk_fit_mechanics(cvk_balance *balance, cvk_mechanics *out);

/* Acceleration and torque of each window for the figure. */
void cvk_balance_curve(const cvk_balance *balance, const cvk_mechanics *fit, cvk_curve *curve);

#endif
