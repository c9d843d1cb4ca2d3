/* SPDX-License-Identifier: Apache-2.0
 *
 * What all logs together know. Inductances, flux linkage and saturation belong to the motor.
 * Resistance, the inverter's own voltage and the delay belong to the path on which the voltages
 * came into a log: commanded ones have a switch in series, a dead time and a delay that measured
 * ones do not have. So there is one belief for each path, and the motor's part is shared.
 */
#ifndef CORVAK_IDENT_ESTIMATE_PATH_BELIEFS_H
#define CORVAK_IDENT_ESTIMATE_PATH_BELIEFS_H

#include "model/belief.h"
#include "prepared.h"

typedef struct cvk_path_beliefs {
    bool present[CVK_PATHS];     /* some usable log has voltages of this path */
    cvk_belief start[CVK_PATHS]; /* before any log: rough sizes, wide */
    cvk_belief of[CVK_PATHS];
    double switch_ohm; /* on-resistance of one switch; 0 when not known */
} cvk_path_beliefs;

/* Rough sizes from peak currents and voltages of the usable logs. */
void cvk_path_beliefs_start(cvk_path_beliefs *knowledge, const cvk_prepared *logs, size_t count,
                            double switch_ohm);

/* After the standstill logs, each path's own: the other paths' share of the motor is added to each,
 * and a path that has not seen its resistance gets it from one that has. */
void cvk_path_beliefs_join(cvk_path_beliefs *knowledge);

/* Path `from` has learnt: its motor becomes the others' as well. */
void cvk_path_beliefs_share(cvk_path_beliefs *knowledge, cvk_path from);

/* The path's own logs have told of its resistance. */
bool cvk_path_beliefs_told(const cvk_path_beliefs *knowledge, cvk_path path, int parameter);

/* The path whose belief goes on the card first: commanded, if there is such a log that told. */
cvk_path cvk_path_beliefs_first(const cvk_path_beliefs *knowledge);

#endif
