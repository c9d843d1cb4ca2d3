/* SPDX-License-Identifier: Apache-2.0
 *
 * A device as named on the command line: a controller behind a URL, or a simulated one inside.
 */
#ifndef CORVAK_CLI_BASE_OPEN_DEVICE_H
#define CORVAK_CLI_BASE_OPEN_DEVICE_H

#include "cli.h"

#include "corvak/host/device.h"
#include "corvak/sim/controller.h"

#include <signal.h>

/* tcp:, serial: or sim:, not a file. */
gboolean names_device(const char *text);

/* Opens a wire to it. For sim:RIG a controller is made unless `*controller` holds one already; it
 * must outlive the wire. `paced`: its time passes no faster than ours. Returns an exit status, with
 * the message printed. */
int open_wire(const char *verb, const char *address, gboolean paced,
              cvk_sim_controller **controller, cvk_wire *wire);

/* A device, for a verb that does one thing. Close it in any case: cvk_device_close(). Returns an
 * exit status, with the message printed. */
int open_device(const char *verb, const char *address, gboolean paced, cvk_device *device);

/* What a verb may say of a simulated bench. */
typedef struct bench_options {
    char *tune;
    char **parameters, **set;
    gint64 seed;
} bench_options;

#define BENCH_OPTIONS_DEFAULT                                                                      \
    {                                                                                              \
        .seed = 1                                                                                  \
    }
#define BENCH_OPTION_ENTRIES(o)                                                                    \
    {"tune",    't',                                                                               \
     0,         G_OPTION_ARG_FILENAME,                                                             \
     &(o).tune, "the controller's tune file (else X.tune.yaml beside X.rig.yaml)",                 \
     "FILE"},                                                                                      \
        {"parameter",                                                                              \
         'P',                                                                                      \
         0,                                                                                        \
         G_OPTION_ARG_STRING_ARRAY,                                                                \
         &(o).parameters,                                                                          \
         "change a parameter of the controller",                                                   \
         "KEY=VALUE"},                                                                             \
        {"set",      0,                                                                            \
         0,          G_OPTION_ARG_STRING_ARRAY,                                                    \
         &(o).set,   "change a key of the rig, such as inverter.fidelity=switched",                \
         "KEY=VALUE"},                                                                             \
    {                                                                                              \
        "seed", 's', 0, G_OPTION_ARG_INT64, &(o).seed, "draws the rig's imperfections (1)", "N"    \
    }
void free_bench_options(bench_options *options);

/* A motor on a bench or behind a link, and what is known of it. */
typedef struct motor_device {
    cvk_device device;
    char name[64];
    gboolean distant;   /* a controller behind a link: nothing of a bench is known */
    cvk_rig_config rig; /* of a bench */
    double pole_pairs, flux_linkage_wb, bus_v, current_a; /* the limit */
} motor_device;

/* Opens a rig file (sim: before it or not) as the options say, or a device, which allows none of
 * them. Its pole pairs are
 * known. Close its device in any case. Returns an exit status, with the message printed. */
int open_motor(const char *verb, const char *rig_or_address, const bench_options *options,
               motor_device *motor);

/* The same bench once more, as it was in the beginning. */
int reopen_bench(const char *verb, const bench_options *options, motor_device *motor);

/* How it was run, for a document. */
cvk_run_setting run_setting_of(const motor_device *motor, const char *scenario,
                               const bench_options *options);

/* EXIT_DONE, or bad usage with what the session says printed. */
int check_device(const char *verb, const cvk_device *device, cvk_status status);

/* Set by Ctrl-C once catch_interrupt() has been called; who has acted on it may set it back. */
extern volatile sig_atomic_t interrupted;
void catch_interrupt(void);

#endif
