/* SPDX-License-Identifier: Apache-2.0
 *
 * The torque-speed map of a motor on a power stage: what current, voltage, depth of modulation and
 * field weakening allow, and what the winding bears for long. Equations: docs/theory.md section 11.
 */
#ifndef CORVAK_HOST_TORQUE_MAP_H
#define CORVAK_HOST_TORQUE_MAP_H

#include "corvak/core/svm.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_TORQUE_MAP_POINTS 80

typedef struct cvk_torque_motor {
    double resistance_ohm, inductance_d_h, inductance_q_h, flux_linkage_wb, pole_pairs;
    double bus_v, inverter_v; /* the inverter's own voltage is lost */
    double most_duty;         /* cvk_hardware_most_duty() */
    double current_a;         /* limit.current_a */
    double weakening_a;       /* largest d current */
    double continuous_a;      /* what the winding bears for long; 0: not known */
    double bus_most_v;        /* protect.bus_max_v */
} cvk_torque_motor;

typedef struct cvk_torque_depth {
    double voltage_v;                          /* phase, fundamental, that is left for the motor */
    double base_mech_rad_s;                    /* up to there all of the torque */
    double top_mech_rad_s;                     /* and no torque any more */
    double weakened_mech_rad_s;                /* the same with field weakening; infinite: no end */
    double torque_nm[CVK_TORQUE_MAP_POINTS];   /* over `speed_mech_rad_s` */
    double weakened_nm[CVK_TORQUE_MAP_POINTS]; /* with field weakening */
} cvk_torque_depth;

typedef struct cvk_torque_map {
    double torque_nm, continuous_nm; /* at standstill; continuous NaN: not known */
    double current_d_a;              /* that spares most, at the limit of the current */
    double speed_mech_rad_s[CVK_TORQUE_MAP_POINTS]; /* from 0, even */
    cvk_torque_depth depth[CVK_DEPTHS];
    double
        off_mech_rad_s; /* faster, a bridge that is switched off lifts the bus beyond bus_most_v */
} cvk_torque_map;

void cvk_torque_map_compute(const cvk_torque_motor *motor, cvk_torque_map *out);

#ifdef __cplusplus
}
#endif
#endif
