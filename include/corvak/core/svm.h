/* SPDX-License-Identifier: Apache-2.0
 *
 * Space-vector modulation: a voltage vector to three duties.
 */
#ifndef CORVAK_CORE_SVM_H
#define CORVAK_CORE_SVM_H

#include "corvak/core/frames.h"

#ifdef __cplusplus
extern "C" {
#endif

/* How far the duties go. */
typedef enum cvk_depth {
    CVK_DEPTH_SINE = 0, /* circle of half the bus: what sines on each leg make */
    CVK_DEPTH_LINEAR,   /* circle of bus / sqrt 3: the largest without harmonics */
    CVK_DEPTH_HEXAGON,  /* what lies beyond is shortened to the hexagon, its direction kept */
    CVK_DEPTH_SIX_STEP, /* what lies beyond is cut off leg by leg, up to six steps a turn */
    CVK_DEPTHS
} cvk_depth;

typedef struct cvk_svm_output {
    cvk_abc duties;   /* 0 .. 1, share of the period in which the high switch is on */
    cvk_ab voltage_v; /* the vector that these duties make */
    float headroom;   /* 1: no voltage wanted; 0: at the depth's edge or beyond */
} cvk_svm_output;

/* Duties for `voltage_v` at bus voltage `bus_v` (> 0), centred by min-max zero-sequence injection
 * (equivalent to symmetric space-vector modulation: Zhou, Wang, "Relationship between space-vector
 * modulation and three-phase carrier-based PWM", IEEE Trans. Ind. Electron. 49(1), 2002).
 * A vector beyond what `depth` allows is changed as it says; the caller sees in `voltage_v` what
 * the duties make. Any context. */
cvk_svm_output cvk_svm(cvk_ab voltage_v, float bus_v, cvk_depth depth);

#ifdef __cplusplus
}
#endif
#endif
