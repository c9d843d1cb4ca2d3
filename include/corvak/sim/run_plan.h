/* SPDX-License-Identifier: Apache-2.0
 *
 * A rig's scenario as the plan of a run: what it asks the controller for and what it expects. Its
 * loads and faults are the bench's.
 */
#ifndef CORVAK_SIM_RUN_PLAN_H
#define CORVAK_SIM_RUN_PLAN_H

#include "corvak/host/run.h"
#include "corvak/rig/scenario.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Requests by time, criteria, and the length that they take: 3 s after a last stop, 5 s after any
 * other last request, and until the last criterion ends. The rest of the plan stays as it is.
 * CVK_NOT_IN_LOG: the scenario asks the controller for nothing. */
cvk_status cvk_run_plan_from_scenario(cvk_run_plan *plan, const cvk_rig_scenario *scenario,
                                      double pole_pairs) CVK_MUST_CHECK;

/* Whether only a simulated bench has hands for the event: a load, a fault. */
bool cvk_run_leaves_out(const cvk_rig_event *event);

#ifdef __cplusplus
}
#endif
#endif
