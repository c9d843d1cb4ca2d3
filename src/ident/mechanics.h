/* SPDX-License-Identifier: Apache-2.0
 *
 * Inertia and friction from how the speed answers to the torque of the currents, and from how it
 * falls without any.
 */
#ifndef CORVAK_IDENT_MECHANICS_H
#define CORVAK_IDENT_MECHANICS_H

#include "turning.h"

enum { CVK_MECH_INERTIA, CVK_MECH_COULOMB, CVK_MECH_VISCOUS, CVK_MECH_COUNT };

typedef struct cvk_mechanics {
    double value[CVK_MECH_COUNT]; /* kg m2, N m, N m s, at the shaft */
    double deviation[CVK_MECH_COUNT];
    double dof;
    bool driven;  /* some window has torque; without it only ratios could be known */
    bool changes; /* the speed changes enough to show the inertia */
} cvk_mechanics;

/* Balance of angular momentum over the windows. `belief` gives the motor's electrical parameters,
 * `pole_pairs` makes the speed mechanical. CVK_NOT_IN_LOG when the windows cannot show it; `driven`
 * and `changes` then say why. */
cvk_status cvk_fit_mechanics(const cvk_windows *windows, const cvk_belief *belief,
                             double pole_pairs, cvk_mechanics *out);

#endif
