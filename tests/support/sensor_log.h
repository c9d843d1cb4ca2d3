/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs in memory with every rotor sensor in them, and the truth about each; and motors that are not
 * of the studio.
 */
#ifndef SENSOR_LOG_H
#define SENSOR_LOG_H

#include "corvak/ident/calibrate.h"
#include "corvak/rig/config.h"
#include "corvak/rig/rig.h"

#include <stdint.h>

typedef struct sensor_log { /* not to be copied: the log points at the name in it */
    char name[CVK_RIG_NAME_LENGTH];
    cvk_log log;
    double *cells[CVK_COLUMN_COUNT];
    size_t most;
    double direction, offset_rad[CVK_ROTOR_ANGLE_KINDS]; /* the truth */
    double hall_place_rad[3];
    double channel_gain[3]; /* over their mean */
} sensor_log;

/* Benches 0 .. 3 are the studio's, 4 .. 7 others, with other sensors; all sensors are fitted. */
#define SENSOR_BENCHES 8
cvk_rig_config sensor_bench(int number);

/* Runs a program to its end on that rig with the wiring as it is there. */
void sensor_log_record(sensor_log *out, const cvk_rig_config *config, const char *program,
                       uint64_t seed);

/* The same with a scenario. */
void sensor_log_record_in(sensor_log *out, const cvk_rig_config *config, const char *program,
                          uint64_t seed, const cvk_rig_scenario *scenario);

/* The shaft turned by hand, bridge off, terminal voltages: forth and back. */
void sensor_log_by_hand(sensor_log *out, const cvk_rig_config *config, uint64_t seed,
                        double speed_mech_rad_s, double half_s);

/* Puts the rows of a second log of the same bench behind those of the first. */
void sensor_log_join(sensor_log *log, const sensor_log *second);

/* Leaves only this sensor in the log; the others' columns are taken out of it (their cells stay).
 */
void sensor_log_keep(sensor_log *log, cvk_rotor_kind kind);

void sensor_log_free(sensor_log *log);

#endif
