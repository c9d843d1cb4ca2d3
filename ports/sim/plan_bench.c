/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated rig as what a plan is tried on.
 */
#include "corvak/sim/plan_bench.h"

static cvk_status record_on(void *context, const cvk_settings *settings, const char *excitation,
                            bool rotor_sensor, cvk_log *out)
{
    cvk_sim_plan_bench *bench = context;
    cvk_rig_config rig = *bench->rig;
    cvk_excitation program;
    cvk_sim sim;
    rig.tune = *settings;
    cvk_status status = cvk_sim_init(&sim, &rig, bench->seed, NULL);
    if (status == CVK_OK) {
        status = cvk_sim_start(&sim, cvk_program_named(excitation), &program, NULL);
    }
    if (status == CVK_OK) {
        status = cvk_sim_record(&bench->recording, &sim, rotor_sensor);
    }
    cvk_sim_close(&sim);
    *out = bench->recording.log;
    return status;
}

static void drop(void *context)
{
    cvk_sim_plan_bench *bench = context;
    cvk_recording_free(&bench->recording);
    bench->recording.log.rows = 0;
}

cvk_plan_bench cvk_plan_on_sim(cvk_sim_plan_bench *bench)
{
    return (cvk_plan_bench){.context = bench,
                            .record = record_on,
                            .drop = drop,
                            .period_s = (double)cvk_sim_hardware(bench->rig).period_s};
}
