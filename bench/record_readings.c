/* SPDX-License-Identifier: Apache-2.0
 *
 * record_readings [plain] [flux|emf|kalman|absolute|encoder|sincos|halls]: writes a run of the
 * potter's wheel without a rotor sensor, as readings.bin (ports/replay): start, takeover, speed,
 * torque.
 * With gains from the wheel's own card; plain: without compensation of the inverter's own voltage
 * and of the currents' harmonics. With a sensor named, that one is decoded beside the observer: the
 * difference is what it costs.
 */
#include "replay.h"
#include "sensorless.h"

#include "corvak/sim/device.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_ROWS = 60000 };

static replay_row rows[MOST_ROWS];
static uint32_t count;
static cvk_request asked;

static bool keep(void *context, const cvk_device_row *row, const cvk_device_truth *truth)
{
    (void)context;
    (void)truth;
    rows[count++] = (replay_row){asked, row->now->readings};
    return count < MOST_ROWS;
}

/* What the run asks for is seen before it gets to the drive. */
static cvk_status (*request_before)(void *context, const cvk_request *request, cvk_refusal *why);

static cvk_status note_request(void *context, const cvk_request *request, cvk_refusal *why)
{
    asked = *request;
    return request_before(context, request, why);
}

int main(int argc, char **argv)
{
    cvk_rig_config bench = bench_with_gains("wheel", 3);
    bench.rotor_sensor.kind = CVK_SENSOR_NONE; /* so that the cost of none is counted */
    if (argc > 1 && strcmp(argv[1], "plain") == 0) {
        bench.tune.current.harmonics = 0;
        bench.tune.inverter.voltage_v = 0.0f;
    }
    static const char *const kinds[] = {"absolute", "encoder", "sincos", "halls"};
    static const char *const observers[] = {"flux", "emf", "kalman"};
    for (int n = 0; n < 3 && argc > 2; n++) {
        bench.tune.observer.kind =
            strcmp(argv[2], observers[n]) == 0 ? n : bench.tune.observer.kind;
    }
    for (int n = 0; n < 4 && argc > 2; n++) {
        if (strcmp(argv[2], kinds[n]) == 0) {
            bench.rotor_sensor.kind = n;
        }
    }
    cvk_run_plan plan = there_and_back(&bench, 0.5);
    plan.item[1] = plan.item[2]; /* some torque in place of the way back */
    plan.item[1].from_s = 2.2;
    plan.item[1].request = (cvk_request){.mode = CVK_MODE_TORQUE, .torque_nm = 0.1f};
    plan.count = 2;
    cvk_device device;
    cvk_run run;
    if (cvk_sim_device_open(&device, &bench, 3, NULL) != CVK_OK) {
        return EXIT_FAILURE;
    }
    request_before = device.request;
    device.request = note_request;
    const replay_head settings = {.hardware = device.hardware,
                                  .settings = *device.settings(device.context)};
    const cvk_status status = cvk_run_device(&device, &plan, keep, NULL, &run, NULL);
    FILE *out = fopen("readings.bin", "wb");
    replay_head head = settings;
    head.magic = REPLAY_MAGIC;
    head.rows = count;
    const bool good = status == CVK_OK && out != NULL && fwrite(&head, sizeof head, 1, out) == 1 &&
                      fwrite(rows, sizeof rows[0], count, out) == count;
    cvk_device_close(&device);
    return out != NULL && fclose(out) == 0 && good ? EXIT_SUCCESS : EXIT_FAILURE;
}
