/* SPDX-License-Identifier: Apache-2.0
 *
 * A run of the potter's wheel without a rotor sensor, with gains from its own card, as the drive
 * saw it: start, takeover, speed, torque.
 */
#ifndef CORVAK_BENCH_RECORDED_RUN_H
#define CORVAK_BENCH_RECORDED_RUN_H

#include "replay.h"

#include <stdbool.h>

/* Names of what a run can have switched on, beside the flux observer; null-terminated. The rotor
 * sensors (absolute, encoder, sincos, halls) are decoded beside the observer. */
extern const char *const recorded_features[];

/* The run with `feature` (null: none) on; `plain`: without compensation of the inverter's own
 * voltage and of the currents' harmonics. False when there is no such feature, when the rig cannot
 * be run, or when `most` rows are too few. */
bool record_run(const char *feature, bool plain, replay_head *head, replay_row *rows,
                uint32_t most);

#endif
