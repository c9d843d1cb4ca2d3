/* SPDX-License-Identifier: Apache-2.0
 *
 * Rough values of a turning motor by linear least squares, for the fit that follows to start from.
 */
#ifndef CORVAK_IDENT_TURNING_TURNING_START_H
#define CORVAK_IDENT_TURNING_TURNING_START_H

#include "turns.h"
#include "turning_model.h"

/* What is found, in the order of CVK_B_* up to the dead-time voltage, Wb where nothing else is
 * said. The phase is the magnet's up to a small angle, which the flux ACROSS takes up; the
 * inductances come out badly, since the phase is rough. The harmonics' flux as that of the
 * fundamental; steady voltages, V, by offsets of the current. */
enum {
    CVK_START_ACROSS = CVK_B_DEAD_TIME + 1,
    CVK_START_FIFTH,
    CVK_START_SEVENTH,
    CVK_START_STEADY_ALPHA,
    CVK_START_STEADY_BETA,
    CVK_START_COUNT
};

typedef struct cvk_start_rows {
    const cvk_waveforms *waveforms;
    const cvk_tm_block *block;
    size_t block_count;
    int curve; /* of the inverter's voltage: inverter_curve.h */
} cvk_start_rows;

/* Voltages act `delay` rows late; the inverter's bends at `knee_a`. False without memory or without
 * enough rows. */
bool cvk_turning_start(const cvk_start_rows *rows, const cvk_turns *turns, long delay,
                       double knee_a, double found[CVK_START_COUNT]);

#endif
