/* SPDX-License-Identifier: Apache-2.0
 *
 * From recordings to a motor that turns, without a rotor sensor.
 */
#include "sensorless.h"

#include "corvak/host/gains.h"
#include "corvak/ident/estimate.h"
#include "corvak/sim/device.h"
#include "recording.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

static void estimate_card(const cvk_rig_config *bench, uint64_t seed, cvk_estimate *out)
{
    static const char *const programs[] = {"standstill", "spin", "coast"};
    const cvk_estimate_options options = cvk_estimate_options_default();
    recording r[3];
    const cvk_log *logs[3];
    for (int n = 0; n < 3; n++) {
        record(&r[n], bench, programs[n], seed, true);
        logs[n] = &r[n].log;
    }
    if (cvk_estimate_logs(logs, 3, &options, out) != CVK_OK) {
        fprintf(stderr, "no card\n");
        abort();
    }
    for (int n = 0; n < 3; n++) {
        recording_free(&r[n]);
    }
}

static cvk_rig_config with_wish(const cvk_rig_config *of, uint64_t seed, const cvk_gains_wish *wish)
{
    static cvk_estimate estimate;
    static cvk_gains gains;
    cvk_rig_config bench = *of;
    estimate_card(&bench, seed, &estimate);
    const cvk_gains_stage stage = {.hardware = cvk_sim_hardware(&bench),
                                   .bus_v = bench.supply.bus_v,
                                   .current_noise_a = bench.sensing.current_noise_a,
                                   .current_delay_s = bench.sensing.amplifier_lag_s,
                                   .knee_a = cvk_rig_crossover_current(&bench)};
    bench.tune.angle.source = CVK_BY_OBSERVER;
    if (cvk_compute_gains(&estimate.card, &stage, &bench.tune, wish, &gains) != CVK_OK) {
        fprintf(stderr, "%s: no gains: %s\n", bench.name, gains.missing);
        abort();
    }
    bench.tune = gains.settings;
    return bench;
}

cvk_rig_config with_own_gains(const cvk_rig_config *of, uint64_t seed)
{
    return with_wish(of, seed, NULL);
}

cvk_rig_config bench_with_injection(const char *motor, uint64_t seed)
{
    const cvk_rig_config of = studio_rig(motor);
    const cvk_gains_wish wish = {.injection = true};
    cvk_rig_config bench = with_wish(&of, seed, &wish);
    bench.tune.speed.current_a = bench.tune.limit.current_a;
    return bench;
}

cvk_rig_config bench_with_gains(const char *motor, uint64_t seed)
{
    const cvk_rig_config bench = studio_rig(motor);
    return with_own_gains(&bench, seed);
}

cvk_run_plan there_and_back(const cvk_rig_config *bench, double share)
{
    const cvk_settings *s = &bench->tune;
    const double no_load = bench->supply.bus_v / sqrt(3.0) / bench->motor.flux_linkage_wb;
    const double rated = 0.6 * no_load;
    const double speed = share * rated;
    const double ramp_s = 2.0 * speed / (double)s->speed.acceleration_rad_s2;
    const double turn_s = 2.0 * (double)(s->start.speed_rad_s / s->start.acceleration_rad_s2);
    const double each_s = (double)s->start.align_s + turn_s + ramp_s + 2.0;
    return (cvk_run_plan){
        .count = 3,
        .item = {{0.3, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)speed}},
                 {0.3 + each_s, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)-speed}},
                 {0.3 + 2.0 * each_s, {.mode = CVK_MODE_STOP}}},
        .length_s = 0.3 + 3.0 * each_s,
        .rated_rad_s = rated};
}

cvk_status run_bench(const cvk_rig_config *bench, uint64_t seed, const cvk_run_plan *plan,
                     cvk_run *out)
{
    cvk_device device;
    cvk_status status = cvk_sim_device_open(&device, bench, seed, false, NULL);
    if (status == CVK_OK) {
        status = cvk_run_device(&device, plan, NULL, NULL, out);
    }
    cvk_device_close(&device);
    return status;
}

bool all_reached(const cvk_run *run, const cvk_run_plan *plan)
{
    bool reached = run->count == plan->count && run->fault == CVK_FAULT_NONE;
    for (size_t n = 0; n < run->count; n++) {
        reached = reached && isfinite(run->result[n].reached_s);
    }
    return reached;
}

cvk_fault follow_plan(cvk_sim *sim, const cvk_run_plan *plan, follow_row on_row, void *context)
{
    cvk_request asked = {.mode = CVK_MODE_REST};
    size_t next = 0;
    cvk_sim_row row = {.time_s = 0.0};
    cvk_fault fault = CVK_FAULT_NONE;
    bool go_on = cvk_drive_request(&sim->drive, CVK_SIM_OWNER, &asked, NULL) == CVK_OK;
    while (go_on && row.time_s < plan->length_s) {
        row = cvk_sim_step(sim);
        fault = (cvk_fault)row.now->fault;
        go_on = on_row(context, &asked, &row) && fault == CVK_FAULT_NONE;
        if (go_on && next < plan->count && plan->item[next].from_s <= row.time_s) {
            asked = plan->item[next++].request;
            go_on = cvk_drive_request(&sim->drive, CVK_SIM_OWNER, &asked, NULL) == CVK_OK;
        }
    }
    return fault;
}
