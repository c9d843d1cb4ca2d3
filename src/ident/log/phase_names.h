/* SPDX-License-Identifier: Apache-2.0
 *
 * Whether the current columns belong to the phases whose names they bear.
 */
#ifndef CORVAK_IDENT_LOG_PHASE_NAMES_H
#define CORVAK_IDENT_LOG_PHASE_NAMES_H

#include "waveforms.h"

/* How the currents would have to be renamed to fit the voltages. */
typedef struct cvk_wiring {
    char phase[4]; /* phases to which the columns ia, ib, ic belong, such as "acb" */
    bool inverted; /* and all with the other sign */
    bool mirrored; /* two are exchanged */
    double score;  /* how alike voltage and current then are: 1 is the same but for a factor */
    double as_named;
} cvk_wiring;

/* The likeliest naming. With the names as they are it is "abc", not inverted. */
cvk_wiring cvk_find_wiring(const cvk_waveforms *waveforms);

/* Only the sign differs: the currents have the wrong one, or the motor gives power back. */
bool cvk_gives_back(const cvk_wiring *wiring);

/* The names are surely wrong. */
bool cvk_miswired(const cvk_wiring *wiring);

#endif
