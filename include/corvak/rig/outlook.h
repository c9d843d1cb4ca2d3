/* SPDX-License-Identifier: Apache-2.0
 *
 * What a rig can be expected to do, worked out from its file before anything turns.
 */
#ifndef CORVAK_RIG_OUTLOOK_H
#define CORVAK_RIG_OUTLOOK_H

#include "corvak/rig/config.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_OUTLOOK_DEPTHS 3
#define CVK_OUTLOOK_DOUBTS 12

typedef struct cvk_rig_outlook {
    double time_constant_d_s, time_constant_q_s; /* L / R, switch included */
    double mechanical_time_constant_s;           /* J R / (1.5 p^2 flux^2) */
    double torque_limit_nm;                      /* at the allowed current on the q axis */
    /* incremental, at the allowed current on that axis: what saturation leaves of them */
    double loaded_inductance_d_h, loaded_inductance_q_h;
    double thermal_time_constant_s;
    double shunt_duty_limit; /* a leg's duty above which its shunt is blind; 1 without shunts */
    /* Mechanical speed at which the back-EMF (and, loaded, the drop at the allowed q current) takes
     * the whole voltage, at each modulation depth: share of what the depth's phase voltage is. */
    struct {
        const char *name;
        double phase_voltage_v; /* peak of the fundamental */
        double no_load_mech_rad_s, loaded_mech_rad_s;
    } depth[CVK_OUTLOOK_DEPTHS];
    /* Faster, a bridge that is switched off (out of field weakening, or with a motor that is driven
     * from outside) lifts the bus beyond protect.bus_max_v. */
    double off_mech_rad_s;
    double ripple_a;     /* largest peak-to-peak current ripple of a phase within a period */
    double ripple_depth; /* modulation depth at which it occurs, 1 = end of the linear range */
    double capacitor_ripple_a; /* largest rms ripple current that the bus capacitor has to carry */
    double radians_per_sample; /* electrical, at the highest speed of a spin */
    double dead_time_v;        /* lost per phase */
    double current_step_a;     /* one count of a current channel */
    /* A late reading sees the ripple's slope at the sample, back-EMF over inductance: so much at
     * the highest speed of a program, in the mean, unless the controller corrects for it. */
    double lag_error_a;
    size_t doubts;
    char doubt[CVK_OUTLOOK_DOUBTS][200]; /* what is implausible, with the cure */
} cvk_rig_outlook;

/* `config` must have passed cvk_rig_check(). */
void cvk_rig_look_ahead(const cvk_rig_config *config, cvk_rig_outlook *outlook);

#ifdef __cplusplus
}
#endif
#endif
