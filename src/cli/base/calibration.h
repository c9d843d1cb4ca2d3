/* SPDX-License-Identifier: Apache-2.0
 *
 * What `corvak wiring` and `corvak calibrate` share: the options that tell of the sensors.
 */
#ifndef CORVAK_CLI_BASE_CALIBRATION_H
#define CORVAK_CLI_BASE_CALIBRATION_H

#include "cli.h"
#include "log_set.h"

#include "corvak/ident/calibrate.h"

typedef struct sensor_options {
    log_options log;
    double pole_pairs, periods_per_turn, encoder_counts;
} sensor_options;

#define SENSOR_OPTION_ENTRIES(o)                                                                   \
    {"pole-pairs",                                                                                 \
     0,                                                                                            \
     0,                                                                                            \
     G_OPTION_ARG_DOUBLE,                                                                          \
     &(o).pole_pairs,                                                                              \
     "pole pairs of the motor (else from the log)",                                                \
     "N"},                                                                                         \
        {"periods-per-turn",                                                                       \
         0,                                                                                        \
         0,                                                                                        \
         G_OPTION_ARG_DOUBLE,                                                                      \
         &(o).periods_per_turn,                                                                    \
         "of a sin/cos sensor (else from the log)",                                                \
         "N"},                                                                                     \
    {                                                                                              \
        "encoder-counts", 0, 0, G_OPTION_ARG_DOUBLE, &(o).encoder_counts,                          \
            "counts per turn of the encoder (else from the log)", "N"                              \
    }

/* Reads one log and calibrates. Returns an exit status: answer-no when no sensor could be
 * calibrated (the reasons are in `out`). */
int calibrate_one_log(const char *verb, const sensor_options *options, char **paths, int count,
                      log_set *set, cvk_calibration *out);

/* On a controller. Returns an exit status. */
typedef struct device_calibration {
    const char *output, *tune; /* tune files to write, and to begin from; or null */
    gboolean json;
} device_calibration;
int calibrate_device(const char *address, const device_calibration *how);

#endif
