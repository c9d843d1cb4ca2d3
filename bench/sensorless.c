/* SPDX-License-Identifier: Apache-2.0
 *
 * bench_sensorless [SEEDS]: each studio motor, from its own recordings to a run without a rotor
 * sensor (start, middle speed, reversal, stop), on the averaged and on the switched inverter. The
 * bar is every run, and an angle error of 10 degrees rms above a tenth of the rated speed.
 */
#include "sensorless.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

#define DEGREES (180.0 / 3.14159265358979323846)

int main(int argc, char **argv)
{
    static const char *const motors[] = {"wheel", "mixer", "blower", "table"};
    static const char *const inverters[] = {"averaged", "switched"};
    const unsigned seeds = argc > 1 ? (unsigned)strtoul(argv[1], NULL, 10) : 20u;
    printf("%-8s %-9s %9s %14s %14s\n", "motor", "inverter", "reached", "worst rms", "worst error");
    for (size_t m = 0; m < 4; m++) {
        cvk_rig_config bench[2];
        int reached[2] = {0};
        double rms[2] = {0.0}, worst[2] = {0.0};
        for (unsigned seed = 1; seed <= seeds; seed++) {
            bench[0] = bench_with_gains(motors[m], seed);
            bench[1] = bench[0];
            bench[1].inverter.fidelity = CVK_FIDELITY_SWITCHED;
            for (int f = 0; f < 2; f++) {
                cvk_run run;
                const cvk_run_plan plan = there_and_back(&bench[f], 0.6);
                const cvk_status status = run_bench(&bench[f], seed, &plan, &run);
                const bool good = status == CVK_OK && all_reached(&run, &plan);
                reached[f] += good;
                rms[f] = fmax(rms[f], run.angle_rms_rad);
                worst[f] = fmax(worst[f], run.angle_worst_rad);
                if (!good) {
                    printf("  %s %s seed %u: %s\n", motors[m], inverters[f], seed,
                           run.fault != CVK_FAULT_NONE ? cvk_fault_text(run.fault)
                                                       : "a set-point was not reached");
                }
            }
        }
        for (int f = 0; f < 2; f++) {
            printf("%-8s %-9s %4d of %2u %10.2f deg %10.1f deg\n", motors[m], inverters[f],
                   reached[f], seeds, DEGREES * rms[f], DEGREES * worst[f]);
        }
        fflush(stdout);
    }
    return EXIT_SUCCESS;
}
