/* SPDX-License-Identifier: Apache-2.0
 *
 * The rig's motor and shaft: magnet flux, currents, and how the state moves under a voltage.
 */
#ifndef CORVAK_RIG_PHYSICS_H
#define CORVAK_RIG_PHYSICS_H

#include "corvak/rig/rig.h"

#include <complex.h>

typedef double complex cvk_vec; /* a stationary alpha-beta vector */

/* What the magnets put through the windings at a mechanical angle, and its change per radian. */
typedef struct cvk_magnet_flux {
    cvk_vec flux_wb, slope_wb;
    cvk_vec electrical; /* e^(j electrical angle) */
} cvk_magnet_flux;

cvk_magnet_flux cvk_rig_magnet_flux(const cvk_rig *rig, double angle_rad);

/* Current for a given flux linkage, and back. */
cvk_vec cvk_rig_current_of(const cvk_rig_motor *motor, cvk_vec flux_wb, const cvk_magnet_flux *m);
cvk_vec cvk_rig_flux_of(const cvk_rig_motor *motor, cvk_vec current_a, const cvk_magnet_flux *m);

/* Moves the state on by `dt_s` under the duties, bridge on. */
void cvk_rig_integrate(cvk_rig *rig, const double duty[3], double dt_s);

/* Moves the shaft on by `dt_s` with the bridge off; currents die out through the diodes. */
void cvk_rig_integrate_off(cvk_rig *rig, double dt_s);

void cvk_rig_to_phases(cvk_vec v, double phase[3]);

#endif
