/* SPDX-License-Identifier: Apache-2.0
 *
 * The averaged against the switched inverter, on one rig: the mean current that a held voltage
 * drives through phase a with the shaft blocked.
 */
#ifndef CORVAK_RIG_COMPARISON_H
#define CORVAK_RIG_COMPARISON_H

#include "corvak/rig/config.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_COMPARISON_MOST 64

typedef struct cvk_rig_comparison_point {
    double voltage_v;              /* commanded along phase a */
    double averaged_a, switched_a; /* mean current of phase a */
    double ripple_a;               /* peak to peak, switched */
    double capacitor_ripple_a;     /* rms in the bus capacitor, switched */
} cvk_rig_comparison_point;

typedef struct cvk_rig_comparison {
    size_t points;
    cvk_rig_comparison_point point[CVK_COMPARISON_MOST];
    double crossover_a; /* current that gets a node just across within the dead time */
} cvk_rig_comparison;

/* Currents up to the allowed one, close together near zero. Runs the rig for some thousand periods
 * (below a second). Refuses a config that cvk_rig_init() refuses. */
cvk_status cvk_rig_compare_inverters(const cvk_rig_config *config,
                                     cvk_rig_comparison *comparison) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
