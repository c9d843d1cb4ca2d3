/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak tune: a live session with a controller, from a terminal, a file or a pipe.
 */
#include "tune/tune.h"

#include <errno.h>
#include <string.h>
#include <unistd.h>

static int session(tuner *t, const char *script, char *tune)
{
    const gboolean piped = script == NULL || strcmp(script, "-") == 0;
    if (!piped && g_file_test(script, G_FILE_TEST_IS_DIR)) {
        return complain_usage(TUNE_VERB, "%s: is a directory, not a file of commands", script);
    }
    FILE *in = piped ? stdin : fopen(script, "r");
    if (in == NULL) {
        return complain_usage(TUNE_VERB, "%s: cannot be read: %s", script, g_strerror(errno));
    }
    t->interactive = script == NULL && isatty(STDIN_FILENO) && isatty(STDOUT_FILENO);
    const int status = tune_session(t, in, piped ? "stdin" : script, tune);
    if (in != stdin) {
        fclose(in);
    }
    return status;
}

int cmd_tune(int argc, char **argv)
{
    char *script = NULL, *card = NULL, *history = NULL, *tune = NULL;
    double lease_s = TUNE_LEASE_S;
    gboolean json = FALSE;
    const GOptionEntry entries[] = {
        {"script", 'x', 0, G_OPTION_ARG_FILENAME, &script,
         "commands from a file (-: from standard input)", "FILE"},
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &tune,
         "begin with the values of this tune file: load and apply", "FILE"},
        {"card", 'c', 0, G_OPTION_ARG_FILENAME, &card,
         "motor card: its inertia predicts the speed loop", "FILE"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &json,
         "print the session as one JSON document at its end; all else goes to stderr", NULL},
        {"lease", 0, 0, G_OPTION_ARG_DOUBLE, &lease_s,
         "the motor stops by itself when the controller does not hear of us for so long (0.5)",
         "S"},
        {"history", 0, 0, G_OPTION_ARG_FILENAME, &history,
         "append each change and what it did, a JSON document a line", "FILE"},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(TUNE_VERB, "DEVICE",
                       "A live session with a running controller: see and set values, start and "
                       "stop, change gains\nguarded, measure steps. DEVICE is tcp:HOST:PORT, "
                       "serial:PATH?baud=RATE, or sim:RIG for a\nsimulated controller inside. "
                       "`help` lists the commands; Ctrl-C stops the motor first.",
                       "corvak tune sim:data/wheel.rig.yaml", entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    tuner *t = tune_new(argc > 1 ? argv[1] : "", json);
    int status = EXIT_DONE;
    if (argc != 2) {
        status = complain_usage(TUNE_VERB, "name one device, such as tcp:127.0.0.1:4242 or "
                                           "sim:data/wheel.rig.yaml");
    } else if (history != NULL && (t->history = fopen(history, "a")) == NULL) {
        status = complain_usage(TUNE_VERB, "%s: cannot be written", history);
    }
    if (!(lease_s >= 0.1 && lease_s <= 10.0)) {
        status = complain_usage(TUNE_VERB, "--lease %g: 0.1 .. 10 s", lease_s);
    }
    t->lease_s = lease_s;
    status = status == EXIT_DONE ? tune_read_inertia(t, card) : status;
    status = status == EXIT_DONE ? session(t, script, tune) : status;
    tune_free(t);
    g_free(script);
    g_free(card);
    g_free(history);
    g_free(tune);
    return status;
}
