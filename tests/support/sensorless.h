/* SPDX-License-Identifier: Apache-2.0
 *
 * The whole way without a rotor sensor: recordings of a studio bench, the card that is estimated
 * from them, gains from the card, and a run: up to a middle speed, the other way round, stop.
 */
#ifndef CORVAK_TESTS_SENSORLESS_H
#define CORVAK_TESTS_SENSORLESS_H

#include "corvak/host/run.h"
#include "corvak/sim/sim.h"
#include "corvak/rig/config.h"

#include <stdint.h>

/* The bench with gains from its own card in its tune. Aborts when something is missing. */
cvk_rig_config bench_with_gains(const char *motor, uint64_t seed);

/* The same with injection, and all of the limit's current for the speed loop. */
cvk_rig_config bench_with_injection(const char *motor, uint64_t seed);

/* The same for any bench whose tune has limits and a first guess of the motor. */
cvk_rig_config with_own_gains(const cvk_rig_config *of, uint64_t seed);

/* What the run asks for, for that bench: `share` of its rated speed, which is taken as 60 % of that
 * without load. */
cvk_run_plan there_and_back(const cvk_rig_config *bench, double share);

/* The plan call by call, with no link in between; each row with what was asked for before it.
 * Returns the fault that ended it. */
typedef bool (*follow_row)(void *context, const cvk_request *asked, const cvk_sim_row *row);
cvk_fault follow_plan(cvk_sim *sim, const cvk_run_plan *plan, follow_row on_row, void *context);

/* Opens the bench's device, runs the plan, closes it. */
cvk_status run_bench(const cvk_rig_config *bench, uint64_t seed, const cvk_run_plan *plan,
                     cvk_run *out);

/* Every request was fulfilled. */
bool all_reached(const cvk_run *run, const cvk_run_plan *plan);

#endif
