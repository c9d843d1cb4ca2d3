/* SPDX-License-Identifier: Apache-2.0
 *
 * Runs the bench on the simulated rig and keeps what was asked and read.
 */
#include "recorded_run.h"

#include "sensorless.h"

#include "corvak/core/svm.h"

#include <stddef.h>
#include <string.h>

enum feature {
    FLUX,
    EMF,
    KALMAN,
    ABSOLUTE,
    ENCODER,
    SINCOS,
    HALLS,
    INJECTION,
    LEAST_CURRENT,
    WEAKENING,
    SINE,
    SIX_STEP,
    FEATURES
};

const char *const recorded_features[] = {
    "flux",      "emf",           "kalman",    "absolute", "encoder",  "sincos", "halls",
    "injection", "least_current", "weakening", "sine",     "six_step", NULL};

typedef struct keeper {
    replay_row *rows;
    uint32_t count, room;
} keeper;

static bool keep(void *context, const cvk_request *asked, const cvk_sim_row *row)
{
    keeper *k = context;
    k->rows[k->count++] = (replay_row){*asked, row->now->readings};
    return k->count < k->room;
}

static int feature_named(const char *name)
{
    for (int n = 0; n < FEATURES; n++) {
        if (strcmp(recorded_features[n], name) == 0) {
            return n;
        }
    }
    return -1;
}

/* Share of the rated speed at which the feature is at work. */
static double share_of(int feature)
{
    return feature == INJECTION ? 0.02 : feature == WEAKENING || feature == SIX_STEP ? 1.8 : 0.5;
}

static cvk_rig_config bench_for(int feature, bool plain)
{
    static const int sensors[] = {CVK_ROTOR_ABSOLUTE, CVK_ROTOR_ENCODER, CVK_ROTOR_SINCOS,
                                  CVK_ROTOR_HALLS};
    cvk_rig_config bench =
        feature == INJECTION ? bench_with_injection("wheel", 3) : bench_with_gains("wheel", 3);
    cvk_settings *tune = &bench.tune;
    bench.rotor_sensor.kind = CVK_ROTOR_NONE; /* so that the cost of none is counted */
    if (feature >= ABSOLUTE && feature <= HALLS) {
        bench.rotor_sensor.kind = sensors[feature - ABSOLUTE];
    }
    tune->observer.kind = feature == EMF ? 1 : feature == KALMAN ? 2 : tune->observer.kind;
    tune->torque.least_current = feature == LEAST_CURRENT ? 1 : 0;
    tune->torque.weakening = feature == WEAKENING ? 1 : 0;
    tune->modulation.depth = feature == SINE       ? CVK_DEPTH_SINE
                             : feature == SIX_STEP ? CVK_DEPTH_SIX_STEP
                                                   : tune->modulation.depth;
    if (plain) {
        tune->current.harmonics = 0;
        tune->inverter.voltage_v = 0.0f;
    }
    return bench;
}

bool record_run(const char *feature, bool plain, replay_head *head, replay_row *rows, uint32_t most)
{
    const int wanted = feature == NULL ? FLUX : feature_named(feature);
    if (wanted < 0) {
        return false;
    }
    const cvk_rig_config bench = bench_for(wanted, plain);
    cvk_run_plan plan = there_and_back(&bench, share_of(wanted));
    plan.item[1] = plan.item[2]; /* some torque in place of the way back */
    plan.item[1].from_s = 2.2;
    plan.item[1].request = (cvk_request){.mode = CVK_MODE_TORQUE, .torque_nm = 0.1f};
    plan.count = 2;
    plan.length_s = 2.9;
    cvk_sim sim;
    keeper kept = {.rows = rows, .room = most};
    if (cvk_sim_init(&sim, &bench, 3, NULL) != CVK_OK) {
        return false;
    }
    *head = (replay_head){.magic = REPLAY_MAGIC,
                          .hardware = cvk_sim_hardware(&bench),
                          .settings = *cvk_drive_settings(&sim.drive)};
    const cvk_fault fault = follow_plan(&sim, &plan, keep, &kept);
    head->rows = kept.count;
    cvk_sim_close(&sim);
    return fault == CVK_FAULT_NONE && kept.count < most;
}
