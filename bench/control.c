/* SPDX-License-Identifier: Apache-2.0
 *
 * How many control calls a second this machine's processor makes on one core: recorded runs of the
 * potter's wheel (recorded_run.h), given to a drive again and again, for each feature. The limit
 * beside it: a call that only copies readings and duties.
 *
 *   bench_control
 */
#include "recorded_run.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

enum { MOST_ROWS = 60000, PASSES = 7 };

static replay_head head;
static replay_row rows[MOST_ROWS];
static cvk_drive drive;
static volatile cvk_abc sink;

static void gate_enable(void *context, bool enable)
{
    (void)context;
    (void)enable;
}

static double now_s(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + 1e-9 * (double)t.tv_nsec;
}

/* Time of the whole run; the fault that it ended with. */
static double replay_s(int *fault)
{
    static const cvk_port port = {.gate_enable = gate_enable};
    cvk_request asked = {.mode = CVK_MODE_OFF};
    if (cvk_drive_init(&drive, &port, &head.hardware, &head.settings, NULL) != CVK_OK ||
        cvk_drive_claim(&drive, 1, 3600.0f) != CVK_OK) {
        exit(EXIT_FAILURE);
    }
    const double start = now_s();
    for (uint32_t n = 0; n < head.rows; n++) {
        const cvk_request *next = &rows[n].request;
        if (next->mode != asked.mode || next->speed_rad_s != asked.speed_rad_s ||
            next->torque_nm != asked.torque_nm) {
            asked = *next;
            if (cvk_drive_request(&drive, 1, &asked, NULL) != CVK_OK) {
                exit(EXIT_FAILURE);
            }
        }
        sink = cvk_drive_control(&drive, &rows[n].readings);
    }
    const double took = now_s() - start;
    *fault = cvk_drive_now(&drive)->fault;
    return took;
}

static double copy_s(void)
{
    const double start = now_s();
    for (uint32_t n = 0; n < head.rows; n++) {
        const volatile cvk_readings copy = rows[n].readings;
        sink = copy.current_a;
    }
    return now_s() - start;
}

int main(void)
{
    printf("%-16s %12s %18s %14s\n", "feature", "ns a call", "million calls/s", "copying, ns");
    for (int k = 0; recorded_features[k] != NULL; k++) {
        if (!record_run(recorded_features[k], false, &head, rows, MOST_ROWS)) {
            fprintf(stderr, "the bench cannot be run with %s\n", recorded_features[k]);
            return EXIT_FAILURE;
        }
        double best = INFINITY, copying = INFINITY;
        int fault = 0;
        for (int n = 0; n < PASSES; n++) {
            best = fmin(best, replay_s(&fault));
            copying = fmin(copying, copy_s());
        }
        const double calls = (double)head.rows;
        printf("%-16s %12.0f %18.2f %14.1f%s\n", recorded_features[k], 1e9 * best / calls,
               1e-6 * calls / best, 1e9 * copying / calls,
               fault != CVK_FAULT_NONE ? "  (ended with a fault)" : "");
    }
    return 0;
}
