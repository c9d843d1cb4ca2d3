/* SPDX-License-Identifier: Apache-2.0
 *
 * Flux linkage from a short capture, less than the few turns that the flux circle needs: with the
 * winding known, the integral of the voltage less its drops runs along an arc around some centre.
 */
#ifndef CORVAK_IDENT_TURNING_ARC_H
#define CORVAK_IDENT_TURNING_ARC_H

#include "model/belief.h"
#include "log/waveforms.h"

typedef struct cvk_arc {
    double turns;              /* electrical, signed */
    double flux_wb, deviation; /* of the magnet */
} cvk_arc;

/* Fits the arc of the log's longest piece. CVK_NOT_IN_LOG when the rotor turns too little, or what
 * turns is no arc; `turns` is then filled as far as it is seen. */
cvk_status cvk_fit_arc(const cvk_waveforms *waveforms, const cvk_belief *belief, cvk_arc *arc);

#endif
