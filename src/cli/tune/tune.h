/* SPDX-License-Identifier: Apache-2.0
 *
 * What the parts of corvak tune share: the session as the user has it, and its commands.
 */
#ifndef CORVAK_CLI_TUNE_TUNE_H
#define CORVAK_CLI_TUNE_TUNE_H

#include "base/cli.h"

#include "corvak/host/change.h"
#include "corvak/host/measured_step.h"
#include "corvak/sim/controller.h"

#include <stdio.h>

#define TUNE_VERB "tune"

/* A change that was made, or tried. */
typedef struct made_change {
    cvk_change change;
    double at_s; /* since the session began */
} made_change;

/* What was wanted before: for undo. */
typedef struct wanted_before {
    unsigned parameter;
    gboolean was_wanted;
    float value;
} wanted_before;

typedef struct tuner tuner;
typedef struct tune_log tune_log;

struct tuner {
    const char *address;
    gboolean interactive, quit, json;
    gboolean at_prompt, restless; /* the user types; something was printed meanwhile */
    /* the device */
    cvk_sim_controller *controller; /* of sim:RIG; else null */
    cvk_session session;
    gboolean connected, faulted;
    double begun_s, lost_at_s, lease_s;
    cvk_request request; /* that rules */
    double inertia_kg_m2;
    void (*trial_ended)(struct tuner *t, int32_t state, int32_t reason); /* is told */
    tune_log *log;                /* that is being written; or null */
    int (*lost)(struct tuner *t); /* is told when the device is */
    /* values */
    unsigned parameters; /* of the arrays below */
    gboolean *is_wanted;
    float *wanted;
    char **from;        /* where the value in the device comes from; null: not known */
    char **wanted_from; /* and the one that is wanted, when a file says so; else null */
    GArray *undo;       /* wanted_before */
    GArray *changes;    /* made_change */
    FILE *history;
    gboolean history_lost;
    /* what was measured last */
    cvk_measured_step step[2]; /* current, speed */
    gboolean measured[2];
};

typedef struct tune_command {
    const char *name, *arguments, *help;
    int (*run)(tuner *t, int argc, char **argv); /* argv[0] is the name */
    gboolean offline;                            /* works without a device */
} tune_command;

/* ---- tune_commands.c ----------------------------------------------------------------------- */

extern const tune_command tune_commands[];
extern const unsigned tune_command_count;

/* Runs one line. Returns an exit status. */
int tune_line(tuner *t, const char *line);

/* ---- tune_script.c ------------------------------------------------------------------------- */

#define TUNE_LEASE_S 0.5 /* unless told otherwise */

/* A tuner of this device, not yet connected. Its address must outlive it. */
tuner *tune_new(const char *address, gboolean json);
void tune_free(tuner *t);

/* Connects, runs the lines of `in`, called `name` in complaints (or a prompt), stops the motor, and
 * lets go of the device. `tune`: a tune file to begin with, or null. Returns an exit status. */
int tune_session(tuner *t, FILE *in, const char *name, char *tune);

/* The inertia of a card, for predictions; `path` may be null. */
int tune_read_inertia(tuner *t, const char *path);

/* ---- tune_session.c ------------------------------------------------------------------------ */

/* Connects, or connects again; what is wanted stays. */
int tune_connect(tuner *t);

/* What is kept for each parameter of the controller. */
void tune_free_values(tuner *t);

/* Time passes; what happens is told. EXIT_ANSWER_NO after Ctrl-C (the motor is then stopped),
 * EXIT_BAD_USAGE when the device is lost. */
int tune_wait(tuner *t, double length_s);

/* Something is to be told: a line that the user is typing gives way, and comes again below. */
void tune_give_way(tuner *t);

/* After a call of the session: says what went wrong. */
int tune_check(tuner *t, cvk_status status);
int tune_complain(const char *format, ...) G_GNUC_PRINTF(1, 2);

/* A finite number, and nothing behind it. */
gboolean tune_number(const char *text, double *value);
/* Speed in electrical rad/s from rpm of the shaft, or from rad/s, electrical. */
gboolean tune_speed(const tuner *t, const char *text, double *speed_rad_s);
double tune_rpm(const tuner *t, double speed_rad_s);

/* Becomes the owner, if this session is not yet. */
int tune_claim(tuner *t);
/* A controlled stop, and waits for it: of a motor that this session commands, or of any. */
int tune_stop_motor(tuner *t);
int tune_stop_whoever(tuner *t);

/* ---- tune_values.c ------------------------------------------------------------------------- */
int tune_show(tuner *t, int argc, char **argv);
int tune_set(tuner *t, int argc, char **argv);
int tune_undo(tuner *t, int argc, char **argv);
int tune_save(tuner *t, int argc, char **argv);
int tune_compare(tuner *t, int argc, char **argv);
int tune_load(tuner *t, int argc, char **argv);
void tune_value_text(const tuner *t, unsigned n, float value, char *out, size_t size);
unsigned tune_wanted_count(const tuner *t);

/* ---- tune_changes.c ------------------------------------------------------------------------ */
int tune_apply(tuner *t, int argc, char **argv);
int tune_keep(tuner *t, int argc, char **argv);
int tune_back(tuner *t, int argc, char **argv);
int tune_good(tuner *t, int argc, char **argv);
int tune_changes(tuner *t, int argc, char **argv);
/* A change on trial has ended: its record and the values follow. */
void tune_trial_ended(tuner *t, int32_t state, int32_t reason);

/* ---- tune_motor.c -------------------------------------------------------------------------- */
int tune_status(tuner *t, int argc, char **argv);
int tune_start(tuner *t, int argc, char **argv);
int tune_set_speed(tuner *t, int argc, char **argv);
int tune_set_current(tuner *t, int argc, char **argv);
int tune_set_torque(tuner *t, int argc, char **argv);
int tune_set_position(tuner *t, int argc, char **argv);
int tune_brake(tuner *t, int argc, char **argv);
int tune_coast(tuner *t, int argc, char **argv);
int tune_stop(tuner *t, int argc, char **argv);
int tune_clear(tuner *t, int argc, char **argv);
int tune_release(tuner *t, int argc, char **argv);
int tune_hand_over(tuner *t, int argc, char **argv);

/* ---- tune_watch.c -------------------------------------------------------------------------- */
int tune_watch(tuner *t, int argc, char **argv);
int tune_wait_command(tuner *t, int argc, char **argv);

/* ---- tune_steps.c ------------------------------------------------------------------------- */
int tune_step(tuner *t, int argc, char **argv);
int tune_draw(tuner *t, int argc, char **argv);

/* ---- tune_log.c --------------------------------------------------------------------------- */
int tune_write_log(tuner *t, int argc, char **argv);
/* Ends the log, if one is being written; what came is kept. */
int tune_end_log(tuner *t);

/* ---- tune_prompt.c ------------------------------------------------------------------------- */
/* Lines from a terminal until quit or the end of input. Returns an exit status. */
int tune_prompt(tuner *t);

#endif
