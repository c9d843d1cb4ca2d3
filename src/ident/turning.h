/* SPDX-License-Identifier: Apache-2.0
 *
 * Estimation from a turning motor: finds the stretches in which the voltage vector rotates,
 * averages them in windows of whole electrical turns, and fits the flux circle.
 */
#ifndef CORVAK_IDENT_TURNING_H
#define CORVAK_IDENT_TURNING_H

#include "belief.h"
#include "signals.h"

#include <complex.h>

#define CVK_MAX_WINDOWS 3000

/* Electrical turns found in a log, without any rotor sensor. */
typedef struct cvk_turns {
    size_t count;
    size_t dropped;    /* turns in the longest run that was too short to count */
    size_t *begin;     /* first row of turn n; begin[count] is one past the last turn's end */
    size_t *end;       /* one past its last row */
    signed char *sign; /* direction */
    bool *joined;      /* turn n follows turn n-1 without a break */
    double *phase;     /* rad, unwrapped: direction of the rotating vector at every row */
} cvk_turns;

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

cvk_status cvk_find_turns(cvk_turns *turns, const cvk_signals *signals, int threads);
/* Takes the mean of the current over all whole turns, the channels' offset, off every row. */
void cvk_remove_offset(cvk_signals *signals, const cvk_turns *turns);

/* Takes the phase anew with what is known of the winding, so that current does not disturb it. */
void cvk_refine_phase(cvk_turns *turns, const cvk_signals *signals, const cvk_belief *belief,
                      int threads);
/* The same of a few rows within one piece: the phase there may be whole turns off. */
void cvk_refine_phase_of(cvk_span rows, const cvk_signals *signals, const cvk_belief *belief,
                         double *phase);

/* The phase is that of the flux linkage through a high pass with this corner, rad/s. */
double cvk_phase_corner(void);

/* By how much the phase leads the flux linkage at a steady speed. */
double cvk_phase_lead(double omega_rad_s);

void cvk_turns_free(cvk_turns *turns);

/* The rows that are in no turn, with a margin: `spans` takes at most `most`. */
size_t cvk_still_spans(const cvk_signals *signals, const cvk_turns *turns, cvk_span *spans,
                       size_t most);

/* Adds the windows of one log. `belief` gives the knee of the inverter's voltage. */
void cvk_add_windows(cvk_windows *windows, const cvk_signals *signals, const cvk_turns *turns,
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

/* Polynomial (degree 2) of the phase over rows begin .. end-1: phase = c0 + c1 x + c2 x^2 with x in
 * rows from the middle of the stretch. */
void cvk_fit_phase(const double *phase, size_t begin, size_t end, double c[3]);

/* Turning without current: what the current columns show is noise, which changes from one row to
 * the next as much as it does over the whole stretch. */
bool cvk_currentless(const cvk_signals *signals, size_t begin, size_t end);

/* Electrical speed of each turn for the figure, NaN where they are interrupted. */
void cvk_speed_curve(const cvk_signals *signals, const cvk_turns *turns, cvk_curve *curve);

/* Points of the flux circle for the figure. */
void cvk_circle_curve(const cvk_signals *signals, const cvk_turns *turns, const cvk_belief *belief,
                      cvk_curve *curve);

#endif
