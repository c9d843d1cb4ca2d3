/* SPDX-License-Identifier: Apache-2.0
 *
 * The flux circle: what averages over whole electrical turns say of the flux linkage.
 */
#ifndef CORVAK_IDENT_TURNING_CIRCLE_H
#define CORVAK_IDENT_TURNING_CIRCLE_H

#include "turns.h"

#include <complex.h>

#define CVK_MAX_WINDOWS 3000

/* One window: averages over whole electrical turns, in a frame that turns with the rotor. */
typedef struct cvk_window {
    size_t begin, end;
    double omega; /* rad/s, electrical, signed */
    double period_s, duration_s;
    double complex voltage_v; /* as if it acted without delay */
    double complex current_a;
    double complex current_slope; /* A/s, end against start */
    double complex inverter;      /* per volt of dead-time voltage */
    double rotor_ratio;           /* electrical over mechanical angle; NaN without a rotor column */
} cvk_window;

typedef struct cvk_windows {
    size_t count;
    cvk_window window[CVK_MAX_WINDOWS];
} cvk_windows;

/* Adds the windows of one log. `belief` gives the knee of the inverter's voltage. */
void cvk_add_windows(cvk_windows *windows, const cvk_waveforms *waveforms, const cvk_turns *turns,
                     const cvk_belief *belief);

/* Fits the flux circle to all windows: `belief` holds what is known before and, on success,
 * after. */
cvk_status cvk_fit_circle(const cvk_windows *windows, cvk_belief *belief);

/* Some window has a current: else the bridge was off in all of them. */
bool cvk_any_current(const cvk_windows *windows);

/* How far the windows are off the circle: rms, as a share of the flux linkage, at speeds at which a
 * small error of the voltage counts little. */
double cvk_circle_spread(const cvk_windows *windows, const cvk_belief *belief);

/* Whether the windows show more than a winding without a magnet, whose voltage is always the same
 * multiple of its current at a speed: so looks a rotor that stands still in a turning field. */
bool cvk_shows_back_emf(const cvk_windows *windows);

/* The active flux of a window, Wb, in its turning frame; `p` in the order of CVK_B_*. */
double complex cvk_active_flux(const cvk_window *window, const double p[CVK_B_COUNT]);

#endif
