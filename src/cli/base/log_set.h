/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs named on the command line, and the options that say how to read them: shared by the verbs
 * that take logs.
 */
#ifndef CORVAK_CLI_BASE_LOG_SET_H
#define CORVAK_CLI_BASE_LOG_SET_H

#include "cli.h"

#include "corvak/files/log_file.h"

#define MOST_LOGS 64
#define MOST_MAPS 32

typedef struct log_options {
    char **maps;   /* COLUMN=NAME */
    char *mapping; /* file of such pairs */
    double current_tolerance, voltage_tolerance, largest_current, switch_resistance, current_delay;
} log_options;

#define LOG_OPTIONS_DEFAULT                                                                        \
    {                                                                                              \
        .current_tolerance = -1.0, .voltage_tolerance = -1.0, .largest_current = 500.0,            \
        .current_delay = -1.0                                                                      \
    }

/* The entries of a GOptionEntry table. */
#define LOG_OPTION_ENTRIES(o)                                                                      \
    {"map",                                                                                        \
     'm',                                                                                          \
     0,                                                                                            \
     G_OPTION_ARG_STRING_ARRAY,                                                                    \
     &(o).maps,                                                                                    \
     "the log calls this column NAME (may be repeated)",                                           \
     "COLUMN=NAME"},                                                                               \
        {"mapping",                                                                                \
         0,                                                                                        \
         0,                                                                                        \
         G_OPTION_ARG_FILENAME,                                                                    \
         &(o).mapping,                                                                             \
         "file (YAML) of lines `COLUMN: NAME`, as proposed for an unknown header",                 \
         "FILE"},                                                                                  \
        {"current-tolerance",                                                                      \
         0,                                                                                        \
         0,                                                                                        \
         G_OPTION_ARG_DOUBLE,                                                                      \
         &(o).current_tolerance,                                                                   \
         "bound of the gain error common to the current channels (from the log, else 0.01)",       \
         "SHARE"},                                                                                 \
        {"voltage-tolerance",                                                                      \
         0,                                                                                        \
         0,                                                                                        \
         G_OPTION_ARG_DOUBLE,                                                                      \
         &(o).voltage_tolerance,                                                                   \
         "the same of the voltage channels (from the log, else 0.005)",                            \
         "SHARE"},                                                                                 \
        {"current-delay",                                                                          \
         0,                                                                                        \
         0,                                                                                        \
         G_OPTION_ARG_DOUBLE,                                                                      \
         &(o).current_delay,                                                                       \
         "age of a current reading, by amplifier and converter (from the log, else within 1e-6)",  \
         "S"},                                                                                     \
        {"largest-current",                                                                        \
         0,                                                                                        \
         0,                                                                                        \
         G_OPTION_ARG_DOUBLE,                                                                      \
         &(o).largest_current,                                                                     \
         "a log with more is taken for one in milliampere (500)",                                  \
         "A"},                                                                                     \
    {                                                                                              \
        "switch-resistance", 0, 0, G_OPTION_ARG_DOUBLE, &(o).switch_resistance,                    \
            "on-resistance of one switch, for the winding's own resistance", "OHM"                 \
    }

typedef struct log_set {
    size_t count, unreadable;
    cvk_log_file file[MOST_LOGS];
    const cvk_log *log[MOST_LOGS];
    cvk_column_map map[MOST_MAPS];
    size_t map_count;
} log_set;

/* Reads all; what cannot be read is named on stderr and left out. Returns an exit status: bad usage
 * when nothing can be read, or a map names no column. Free in any case. */
int read_log_set(log_set *set, const char *verb, const log_options *options, char **paths,
                 int count);
void free_log_set(log_set *set);

/* For a log that lacks what is needed while it has columns of unknown names: what these could be,
 * to stdout, to be put in a file. */
void propose_for_unknown_columns(const log_set *set);
void free_log_options(log_options *options);

cvk_estimate_options estimate_options_of(const log_options *options);

/* What the reader noticed becomes findings of the estimate, behind its own. */
void add_reader_findings(cvk_estimate *estimate, const log_set *set);

#endif
