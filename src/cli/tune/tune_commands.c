/* SPDX-License-Identifier: Apache-2.0
 *
 * The table of a live session's commands, and how a line finds the one it means.
 */
#include "tune.h"

#include "corvak/files/closest.h"

#include <string.h>

static int tune_help(tuner *t, int argc, char **argv);
static int tune_quit(tuner *t, int argc, char **argv);

static int tune_reconnect(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    return tune_connect(t);
}

const tune_command tune_commands[] = {
    {"status", "", "what the motor does, who commands, what is on trial", tune_status, FALSE},
    {"show", "[WORD]", "parameters: wanted, in the device, preset; those with WORD in key or help",
     tune_show, FALSE},
    {"set", "KEY VALUE", "want another value; nothing changes in the device yet", tune_set, FALSE},
    {"undo", "[KEY]", "want the value before; of KEY: the one in the device", tune_undo, FALSE},
    {"apply", "[for S] [confirm S] [current A] [speed RPM] [quality Q]",
     "send what is wanted as one guarded change: watch it so long, within these guards", tune_apply,
     FALSE},
    {"keep", "", "keep the change on trial", tune_keep, FALSE},
    {"back", "", "take the change on trial back", tune_back, FALSE},
    {"good", "", "call what runs now good: guards of later changes are measured from here as well",
     tune_good, FALSE},
    {"changes", "", "what was changed in this session, and what each change did", tune_changes,
     FALSE},
    {"start", "SPEED", "calibrate at rest if needed, start the motor and bring it to this speed",
     tune_start, FALSE},
    {"speed", "SPEED", "another speed: 150, 150rpm, or 900rad/s (electrical)", tune_set_speed,
     FALSE},
    {"current", "D Q", "run by current, A, in the rotor's frame", tune_set_current, FALSE},
    {"torque", "NM", "run by torque: the speed is what the load makes of it", tune_set_torque,
     FALSE},
    {"position", "TURNS", "go to this position of the shaft, counted since power-up, and hold it",
     tune_set_position, FALSE},
    {"brake", "", "stop as fast as the current limit allows, and hold the winding shorted",
     tune_brake, FALSE},
    {"coast", "", "the bridge off at once; the rotor runs free", tune_coast, FALSE},
    {"stop", "", "stop in a controlled way, then off; also a motor that another link commands",
     tune_stop, FALSE},
    {"clear", "", "clear a fault", tune_clear, FALSE},
    {"watch", "SIGNAL ... [for S]", "signals as they are now, again and again", tune_watch, FALSE},
    {"wait", "S", "let time pass", tune_wait_command, FALSE},
    {"step", "current A [d|q] | speed SPEED [for S]",
     "step a set-point of the running motor and measure what comes", tune_step, FALSE},
    {"draw", "FILE.png|.svg", "the steps measured last, over what was predicted", tune_draw, FALSE},
    {"log", "FILE [A,B,...] | end",
     "write signals to a .csv or .h5 from now on, whatever runs; `log end` ends it", tune_write_log,
     FALSE},
    {"save", "FILE", "write the values in the device as a tune file", tune_save, FALSE},
    {"load", "FILE", "want what stands in a tune file", tune_load, FALSE},
    {"compare", "FILE", "the device against a tune file", tune_compare, FALSE},
    {"release", "", "command no longer: the motor stops", tune_release, FALSE},
    {"hand", "NUMBER", "let another link command", tune_hand_over, FALSE},
    {"connect", "", "connect again; what is wanted stays", tune_reconnect, TRUE},
    {"help", "[COMMAND]", "this list, or one of it", tune_help, TRUE},
    {"quit", "", "stop the motor and end", tune_quit, TRUE},
};
const unsigned tune_command_count = G_N_ELEMENTS(tune_commands);

/* ---- from a line to a command
 * ------------------------------------------------------------------------------- */

static const tune_command *command_named(const char *name)
{
    for (unsigned n = 0; n < tune_command_count; n++) {
        if (strcmp(tune_commands[n].name, name) == 0) {
            return &tune_commands[n];
        }
    }
    return NULL;
}

static const char *command_at(size_t n)
{
    return tune_commands[n].name;
}

static int tune_help(tuner *t, int argc, char **argv)
{
    (void)t;
    if (argc > 1 && command_named(argv[1]) == NULL) {
        return tune_complain("there is no command \"%s\"; `help` lists them", argv[1]);
    }
    for (unsigned n = 0; n < tune_command_count; n++) {
        const tune_command *c = &tune_commands[n];
        if (argc < 2 || strcmp(argv[1], c->name) == 0) {
            char *usage = g_strconcat(c->name, " ", c->arguments, NULL);
            g_print("  %-28s %s%s\n", usage,
                    strlen(usage) > 28 ? "\n                               " : "", c->help);
            g_free(usage);
        }
    }
    return EXIT_DONE;
}

static int tune_quit(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    t->quit = TRUE;
    return EXIT_DONE;
}

static int run_words(tuner *t, int argc, char **argv)
{
    const tune_command *c = command_named(argv[0]);
    if (c == NULL) {
        const char *closest = cvk_closest_name(argv[0], tune_command_count, command_at);
        return closest != NULL
                   ? tune_complain("there is no command \"%s\"; did you mean \"%s\"?", argv[0],
                                   closest)
                   : tune_complain("there is no command \"%s\"; `help` lists them", argv[0]);
    }
    if (!t->connected && !c->offline) {
        return tune_complain("not connected: `connect` tries again");
    }
    return c->run(t, argc, argv);
}

int tune_line(tuner *t, const char *line)
{
    GError *error = NULL;
    char **argv = NULL;
    int argc = 0, status = EXIT_DONE;
    if (!g_shell_parse_argv(line, &argc, &argv, &error)) {
        if (!g_error_matches(error, G_SHELL_ERROR, G_SHELL_ERROR_EMPTY_STRING)) {
            status = tune_complain("%s", error->message);
        }
        g_error_free(error);
        return status;
    }
    status = run_words(t, argc, argv);
    g_strfreev(argv);
    if (status == EXIT_DONE && t->connected) { /* what came meanwhile is told in its place */
        status = tune_check(t, cvk_session_pump(&t->session, 0.0));
    }
    fflush(stdout);
    return status;
}
