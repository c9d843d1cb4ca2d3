/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs in memory from the simulated rig, for tests and benchmarks.
 */
#ifndef CORVAK_TESTS_RECORDING_H
#define CORVAK_TESTS_RECORDING_H

#include "corvak/sim/recorder.h"
#include "corvak/rig/config.h"

typedef cvk_recording recording;

/* A bench of the studio, from data/NAME.rig.yaml and NAME.tune.yaml: wheel, blower, mixer, table.
 */
cvk_rig_config studio_rig(const char *name);

/* R, Ld, Lq (ohm, H) and flux linkage (Wb): what the motor has, and what its controller is told. */
void give_winding(cvk_rig_config *rig, const double is[4], const float told[4]);

/* Runs one excitation to its end. Voltages are duties and bus while the bridge is on (standstill,
 * spin), terminal voltages while it is off (coast). `rotor_sensor` adds theta_m. Aborts the program
 * on failure: a broken rig is no test result. */
void record(recording *out, const cvk_rig_config *config, const char *excitation, uint64_t seed,
            bool rotor_sensor);

/* The same; `free_shaft` leaves the shaft loose, as when nobody holds it. */
void record_with(recording *out, const cvk_rig_config *config, const char *excitation,
                 uint64_t seed, bool rotor_sensor, bool free_shaft);

void recording_free(recording *r);

/* Rows begin .. begin + rows - 1 of a log: its columns point into those of the whole. */
cvk_log part_of_log(const cvk_log *whole, size_t begin, size_t rows);

#endif
