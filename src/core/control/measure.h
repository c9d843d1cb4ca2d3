/* SPDX-License-Identifier: Apache-2.0
 *
 * From readings to quantities: offsets taken off, currents completed where a shunt's window was too
 * short, and the calibration of the offsets at rest.
 */
#ifndef CORVAK_CORE_CONTROL_MEASURE_H
#define CORVAK_CORE_CONTROL_MEASURE_H

#include "base/setup.h"
#include "shunt.h"

typedef struct cvk_measure {
    cvk_abc sum_a, square_a2; /* of the readings while at rest */
    uint32_t rest_ticks;      /* of the calibration that runs */
    cvk_ab terminal_v;        /* at the sample before, with the bridge off */
    bool terminals_seen;
    cvk_shunt shunt; /* a single one */
} cvk_measure;

/* The first offsets are those of the settings. */
void cvk_measure_start(const cvk_setup *setup, cvk_moment *now);

void cvk_measure_step(cvk_measure *measure, const cvk_setup *setup, cvk_moment *now);

#endif
