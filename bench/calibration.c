/* SPDX-License-Identifier: Apache-2.0
 *
 * How right calibrations are: every bench, averaged and switched, all imperfections on, each sensor
 * alone, wirings drawn at random.
 *
 *     bench_calibration [seeds] [program ...]     with TALK=1 each miss, with BENCH=n one bench
 * only
 *
 * For each program and sensor: logs, wirings right, undecided and wrong; rms and largest error of
 * the electrical offset, and how often its interval holds the truth.
 */
#include "sensor_log.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#define DEGREES 57.29577951308232
#define TWO_PI 6.28318530717958647693

typedef struct tally {
    int logs, right, undecided, wrong, known, held;
    double square, largest, seconds;
} tally;

static double now_s(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + 1e-9 * (double)t.tv_nsec;
}

static void judge(tally *t, const cvk_calibration *c, const sensor_log *l, cvk_rotor_kind kind,
                  const char *label, int seed, bool talk)
{
    const cvk_sensor_calibration *s = &c->sensor[kind];
    const cvk_measured *offset = &s->electrical_offset_rad;
    t->logs++;
    if (s->direction == 0) {
        t->undecided++;
    } else if (s->direction == (int)l->direction) {
        t->right++;
    } else {
        t->wrong++;
    }
    if (!cvk_measured_known(offset)) {
        if (talk) {
            printf("  %s seed %d %s: %s\n", label, seed, cvk_rotor_kind_name((int)kind), s->why);
        }
        return;
    }
    const double error = remainder(offset->value - l->offset_rad[kind], TWO_PI);
    const double half = 0.5 * (offset->high - offset->low);
    t->known++;
    t->square += error * error;
    t->largest = fmax(t->largest, fabs(error));
    t->held += fabs(error) <= half;
    if (talk && (fabs(error) > half || fabs(error) > 1.0 / DEGREES)) {
        printf("  %s seed %d %s: %+.2f +- %.2f deg, latency %.1f us, lag %.1f, by %d\n", label,
               seed, cvk_rotor_kind_name((int)kind), error * DEGREES, half * DEGREES,
               1e6 * s->latency_s.value, s->lag_rad.value * DEGREES, (int)s->reference);
    }
}

static void record_one(sensor_log *l, const cvk_rig_config *config, const char *program, int seed)
{
    if (strcmp(program, "hand") == 0) {
        sensor_log_by_hand(l, config, (uint64_t)seed, 12.0, 1.2);
    } else {
        sensor_log_record(l, config, program, (uint64_t)seed);
    }
}

int main(int argc, char **argv)
{
    const int seeds = argc > 1 ? atoi(argv[1]) : 2;
    static char *const usual[] = {"sweep", "spin", "duty", "hand", NULL};
    char *const *programs = argc > 2 ? argv + 2 : usual;
    const bool talk = getenv("TALK") != NULL;
    const char *one = getenv("BENCH");
    const int only = one != NULL ? atoi(one) : -1;
    cvk_calibration *c = malloc(sizeof *c);
    if (c == NULL) {
        return 1;
    }
    for (; *programs != NULL; programs++) {
        for (int fidelity = 0; fidelity < 2; fidelity++) {
            tally t[CVK_ROTOR_ANGLE_KINDS];
            memset(t, 0, sizeof t);
            for (int bench = 0; bench < SENSOR_BENCHES; bench++) {
                for (int seed = 1; seed <= seeds && (only < 0 || bench == only); seed++) {
                    cvk_rig_config config = sensor_bench(bench);
                    const unsigned draw = (unsigned)(seed * 7919 + bench * 104729) % 12u;
                    config.inverter.fidelity = fidelity;
                    config.wiring.phases = (int)(draw % 6u);
                    config.wiring.sensor_reversed = (int)(draw / 6u);
                    config.wiring.hall_wires = CVK_PHASES_ABC;
                    sensor_log l;
                    record_one(&l, &config, *programs, seed);
                    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
                        const cvk_calibrate_options how = cvk_calibrate_options_default();
                        sensor_log_keep(&l, (cvk_rotor_kind)k);
                        const double begin = now_s();
                        if (cvk_calibrate_log(&l.log, &how, c) == CVK_NO_MEMORY) {
                            return 1;
                        }
                        t[k].seconds += now_s() - begin;
                        judge(&t[k], c, &l, (cvk_rotor_kind)k, config.name, seed, talk);
                    }
                    sensor_log_free(&l);
                }
            }
            for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
                printf("%-6s %-8s %-8s logs %4d right %4d undecided %3d wrong %d | offset known "
                       "%4d rms %.3f deg largest %.2f held %.1f %% | %.0f ms\n",
                       *programs, fidelity ? "switched" : "averaged", cvk_rotor_kind_name(k),
                       t[k].logs, t[k].right, t[k].undecided, t[k].wrong, t[k].known,
                       sqrt(t[k].square / fmax(t[k].known, 1.0)) * DEGREES, t[k].largest * DEGREES,
                       100.0 * t[k].held / fmax(t[k].known, 1.0),
                       1e3 * t[k].seconds / fmax(t[k].logs, 1.0));
            }
            fflush(stdout);
        }
    }
    free(c);
    return 0;
}
