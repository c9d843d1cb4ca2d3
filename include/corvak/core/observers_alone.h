/* SPDX-License-Identifier: Apache-2.0
 *
 * The observers alone, without a drive around them: currents and voltages in, angles out. It is the
 * code that the hot path runs, for whoever wants to replay a log through it or has a controller of
 * his own.
 */
#ifndef CORVAK_CORE_OBSERVERS_ALONE_H
#define CORVAK_CORE_OBSERVERS_ALONE_H

#include "corvak/core/drive.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Owned by the caller; its inside is private. */
#define CVK_OBSERVERS_ALONE_BYTES 2560u

typedef struct cvk_observers_alone {
    union {
        unsigned char byte[CVK_OBSERVERS_ALONE_BYTES];
        void *pointer; /* these two align it */
        uint32_t word;
    } inside;
} cvk_observers_alone;

/* One control period's worth. */
typedef struct cvk_observers_alone_row {
    cvk_ab current_a; /* at the sample */
    cvk_ab acted_v;   /* mean voltage since the sample before, stationary frame */
    int32_t own_left; /* 1: the inverter's own voltage is still in it, and is taken off by
                         inverter.voltage_v and knee_a */
    int32_t bridge_on;
} cvk_observers_alone_row;

/* Observers that know nothing yet. `settings` is checked; its flux linkage and inductances must be
 * known (CVK_CONTRADICTION names the first that is not). `period_s`: 5e-6 .. 1e-3. */
cvk_status cvk_observers_alone_init(cvk_observers_alone *alone, float period_s,
                                    const cvk_settings *settings, cvk_refusal *why) CVK_MUST_CHECK;

/* What is known of the rotor: every observer goes on from this electrical angle and speed. Call it
 * before the first step, with the current at that instant. */
void cvk_observers_alone_seed(cvk_observers_alone *alone, cvk_ab current_a, float angle_rad,
                              float speed_rad_s);

/* One period. The moment shows angle, speed, quality and reason of CVK_ANGLE_FLUX and the others,
 * and the adapted resistance and flux linkage. A row that is no number makes the observers begin
 * anew. */
const cvk_moment *cvk_observers_alone_step(cvk_observers_alone *alone,
                                           const cvk_observers_alone_row *row);

#ifdef __cplusplus
}
#endif
#endif
