/* SPDX-License-Identifier: Apache-2.0
 *
 * Planning on the simulated rig: what cvk_plan_next() tries its recordings on.
 */
#ifndef CORVAK_SIM_PLAN_BENCH_H
#define CORVAK_SIM_PLAN_BENCH_H

#include "corvak/host/plan.h"
#include "corvak/sim/recorder.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_sim_plan_bench {
    const cvk_rig_config *rig; /* as far as power stage and motor are known */
    uint64_t seed;
    cvk_recording recording; /* private */
} cvk_sim_plan_bench;

/* The rig and `bench` must outlive the plan. */
cvk_plan_bench cvk_plan_on_sim(cvk_sim_plan_bench *bench);

#ifdef __cplusplus
}
#endif
#endif
