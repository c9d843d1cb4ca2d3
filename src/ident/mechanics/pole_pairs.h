/* SPDX-License-Identifier: Apache-2.0
 *
 * Pole pairs from what a log shows: a rotor-angle or speed column, or the once-per-revolution
 * pattern that unequal magnets leave on the back-EMF of a coasting motor.
 */
#ifndef CORVAK_IDENT_MECHANICS_POLE_PAIRS_H
#define CORVAK_IDENT_MECHANICS_POLE_PAIRS_H

#include "turning/circle.h"

/* Logarithm of the likelihood of each integer, up to a common constant. Index 0 is not used. */
typedef struct cvk_pole_evidence {
    double log_likelihood[CVK_MOST_POLE_PAIRS + 1];
    bool rotor_column; /* voltages against a rotor column */
    bool pattern;      /* once per revolution */
    bool columns;      /* a column of electrical turns against one of the shaft's */
    bool counted;      /* voltages against turns counted by hand */
    bool uncounted;    /* no evidence: an encoder whose counts per turn are not known */
    bool disc;         /* accelerations with and without a known disc */
} cvk_pole_evidence;

/* Evidence of the rotor column: electrical over mechanical speed in each window. `odd` is set when
 * the ratio is not near a whole number; `ratio` is its mean, signed. */
void cvk_poles_from_rotor(cvk_pole_evidence *evidence, const cvk_windows *windows, bool *odd,
                          double *ratio);

/* Evidence of the pattern in one log's turns; needs almost no current. */
cvk_status cvk_poles_from_pattern(cvk_pole_evidence *evidence, const cvk_waveforms *waveforms,
                                  const cvk_turns *turns);

/* Is there any? */
static inline bool cvk_poles_any(const cvk_pole_evidence *evidence)
{
    return evidence->rotor_column || evidence->pattern || evidence->columns || evidence->counted ||
           evidence->disc;
}

/* The most probable integer and its probability. 0 without evidence. */
int cvk_poles_decide(const cvk_pole_evidence *evidence, double *probability);

/* The probability of each integer, out[1 .. CVK_MOST_POLE_PAIRS]; out[0] is 1 without evidence. */
void cvk_poles_probabilities(const cvk_pole_evidence *evidence, double *out);

#endif
