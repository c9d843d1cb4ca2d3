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

typedef struct cvk_svm_output {
    cvk_abc duties;   /* 0 .. 1, share of the period in which the high switch is on */
    cvk_ab voltage_v; /* the vector that these duties make */
    float headroom;   /* 1: no voltage wanted; 0: at the hexagon's edge or beyond */
} cvk_svm_output;

/* Duties for `voltage_v` at bus voltage `bus_v` (> 0), centred by min-max zero-sequence injection
 * (equivalent to symmetric space-vector modulation: Zhou, Wang, "Relationship between space-vector
 * modulation and three-phase carrier-based PWM", IEEE Trans. Ind. Electron. 49(1), 2002).
 * A vector outside the hexagon is shortened to it, its direction kept; the caller sees the
 * shortened vector in `voltage_v`. Any context. */
cvk_svm_output cvk_svm(cvk_ab voltage_v, float bus_v);

#ifdef __cplusplus
}
#endif
#endif
