/* SPDX-License-Identifier: Apache-2.0
 *
 * What the parts of the corvak command share.
 */
#ifndef CORVAK_CLI_BASE_CLI_H
#define CORVAK_CLI_BASE_CLI_H

#include "corvak/core/status.h"
#include "corvak/document/figures.h"
#include "corvak/document/number.h"
#include "corvak/files/complaint.h"
#include "corvak/rig/rig.h"

#include <glib.h>

enum {
    EXIT_DONE = 0,
    EXIT_ANSWER_NO = 1, /* a check failed, a thing cannot be estimated */
    EXIT_BAD_USAGE = 2  /* wrong usage or unreadable input */
};

/* ---- verbs: argv[0] is the verb; each returns an exit status ------------------------------- */
int cmd_rig(int argc, char **argv);
int cmd_record(int argc, char **argv);
int cmd_estimate(int argc, char **argv);
int cmd_examine(int argc, char **argv);
int cmd_card(int argc, char **argv);
int cmd_plan(int argc, char **argv);
int cmd_watch(int argc, char **argv);
int cmd_wiring(int argc, char **argv);
int cmd_calibrate(int argc, char **argv);
int cmd_gains(int argc, char **argv);
int cmd_run(int argc, char **argv);
int cmd_measure(int argc, char **argv);
int cmd_range(int argc, char **argv);
int cmd_replay(int argc, char **argv);
int cmd_serve(int argc, char **argv);
int cmd_tune(int argc, char **argv);
int cmd_list(int argc, char **argv);

/* ---- bench.c ------------------------------------------------------------------------------- */

/* The rig of a file with the controller's tune: that of `tune_path`, or X.tune.yaml beside
 * X.rig.yaml when it is null, or the presets; and on top `parameters` (KEY=VALUE, ended by null; or
 * null). Returns an exit status, with the message printed. */
int read_bench(const char *verb, const char *rig_path, const char *tune_path,
               char *const *parameters, cvk_rig_config *config);
/* The same for a bench that need not be one that can be simulated. */
int read_bench_data(const char *verb, const char *rig_path, const char *tune_path,
                    char *const *parameters, cvk_rig_config *config);

/* Changes keys of the rig: `set` (KEY=VALUE, ended by null; or null). Returns as above. */
int set_rig_keys(const char *verb, char *const *set, cvk_rig_config *config);

/* ---- output.c ------------------------------------------------------------------------------ */

/* Complaints from now on are about this line of a script; null: no longer. */
void complain_from(const char *file, int line);

/* "corvak VERB: message" on stderr; returns EXIT_BAD_USAGE. */
int complain_usage(const char *verb, const char *format, ...) G_GNUC_PRINTF(2, 3);
int complain_file(const char *verb, const cvk_complaint *complaint);

/* The same for what a control layer refused. */
int complain_refusal(const char *verb, cvk_status status, const cvk_refusal *why);

/* The text of the last complaint. */
const char *last_complaint(void);

/* Refuses, before any work, an output that cannot be written: a figure that is no .png or .svg, a
 * folder that is not there, or one of the inputs (the same file, also by another name). `path` may
 * be null. Returns an exit status. */
int check_output(const char *verb, const char *path, gboolean figure, char *const *inputs,
                 int count);

/* All of stdout has gone out; else says so. Returns an exit status: `status`, or bad usage. */
int check_stdout(int status);

/* Parses the options of a verb. False, with the message printed, on wrong usage. */
gboolean parse_options(const char *verb, const char *parameters, const char *summary,
                       const char *example, const GOptionEntry *entries, int *argc, char ***argv);

/* Options that mean the same in every verb. */
#define JSON_OPTION(place)                                                                         \
    {                                                                                              \
        "json", 0, 0, G_OPTION_ARG_NONE, place, "print one JSON document", NULL                    \
    }
#define PLOT_OPTION(place, what)                                                                   \
    {                                                                                              \
        "plot", 'p', 0, G_OPTION_ARG_FILENAME, place, what, "FILE.png|.svg"                        \
    }

/* A progress bar on a terminal; nothing in a pipe. `share` 0 .. 1; 1 ends it. */
void show_progress(const char *what, double share);

/* Prints a document, as text or as JSON, and frees it. Returns EXIT_DONE. */
int show_document(cvk_doc *doc, gboolean json);
/* As one line of JSON, at once. */
void show_json_line(cvk_doc *doc);

#endif
