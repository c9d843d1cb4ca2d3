/* SPDX-License-Identifier: Apache-2.0
 *
 * The electrical turns of a motor without a rotor sensor.
 */
#ifndef CORVAK_IDENT_TURNING_TURNS_H
#define CORVAK_IDENT_TURNING_TURNS_H

#include "model/belief.h"
#include "log/waveforms.h"

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

static inline size_t cvk_turn_rows(const cvk_turns *turns, size_t n)
{
    return turns->end[n] - turns->begin[n];
}

cvk_status cvk_find_turns(cvk_turns *turns, const cvk_waveforms *waveforms, int threads);
/* Takes the mean of the current over all whole turns, the channels' offset, off every row. */
void cvk_remove_offset(cvk_waveforms *waveforms, const cvk_turns *turns);

/* Takes the phase anew with what is known of the winding, so that current does not disturb it. */
void cvk_refine_phase(cvk_turns *turns, const cvk_waveforms *waveforms, const cvk_belief *belief,
                      int threads);
/* The same of a few rows within one piece: the phase there may be whole turns off. */
void cvk_refine_phase_of(cvk_span rows, const cvk_waveforms *waveforms, const cvk_belief *belief,
                         double *phase);

/* The phase is that of the flux linkage through a high pass with this corner, rad/s. */
double cvk_phase_corner(void);

/* By how much the phase leads the flux linkage at a steady speed. */
double cvk_phase_lead(double omega_rad_s);

void cvk_turns_free(cvk_turns *turns);

/* The rows that are in no turn, with a margin: `spans` takes at most `most`. */
size_t cvk_still_spans(const cvk_waveforms *waveforms, const cvk_turns *turns, cvk_span *spans,
                       size_t most);

/* Polynomial (degree 2) of the phase over rows begin .. end-1: phase = c0 + c1 x + c2 x^2 with x in
 * rows from the middle of the stretch. */
void cvk_fit_phase(const double *phase, size_t begin, size_t end, double c[3]);

#endif
