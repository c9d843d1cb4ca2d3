/* SPDX-License-Identifier: Apache-2.0
 *
 * The commands that let time pass and look at signals meanwhile.
 */
#include "tune.h"

#include <poll.h>
#include <string.h>
#include <unistd.h>

#define LOOK_S 0.25

int tune_wait_command(tuner *t, int argc, char **argv)
{
    double length_s;
    if (argc != 2 || !tune_number(argv[1], &length_s) || !(length_s >= 0.0 && length_s <= 3600.0)) {
        return tune_complain("wait S: 0 .. 3600 s");
    }
    return tune_wait(t, length_s);
}

static int print_row(tuner *t, const unsigned *place, unsigned count)
{
    float value[16];
    const int status = tune_check(t, cvk_session_look(&t->session, place, count, value));
    for (unsigned n = 0; n < count && status == EXIT_DONE; n++) {
        const cvk_session_signal *s = &t->session.signal[place[n]];
        const int whole = (int)value[n];
        if (s->states > 0 && whole >= 0 && (unsigned)whole < s->states) {
            g_print("  %s %s", s->name, s->state[whole]);
        } else if (strstr(s->name, "speed") != NULL && strcmp(s->unit, "rad/s") == 0) {
            g_print("  %s %.1f rpm", s->name, tune_rpm(t, (double)value[n]));
        } else {
            g_print(s->whole ? "  %s %.0f%s%s" : "  %s %.4g%s%s", s->name, (double)value[n],
                    s->unit[0] != '\0' ? " " : "", s->unit);
        }
    }
    return status;
}

static gboolean choose_signals(tuner *t, int argc, char **argv, unsigned *place, unsigned *count,
                               double *length_s)
{
    *count = 0;
    for (int n = 1; n < argc; n++) {
        if (strcmp(argv[n], "for") == 0 && n + 2 == argc && tune_number(argv[n + 1], length_s)) {
            break;
        }
        const int row = cvk_session_signal_named(&t->session, argv[n]);
        if (row < 0 || *count == 16) {
            tune_complain(row < 0 ? "there is no signal \"%s\" (`corvak list signals`)"
                                  : "at most 16 signals; \"%s\" is one too many",
                          argv[n]);
            return FALSE;
        }
        place[(*count)++] = (unsigned)row;
    }
    if (*count == 0) {
        tune_complain("watch SIGNAL ... [for S], such as watch speed_e iq for 5");
    }
    return *count > 0;
}

/* Somebody has pressed Enter. */
static gboolean entered(const tuner *t)
{
    struct pollfd in = {.fd = STDIN_FILENO, .events = POLLIN};
    char line[256];
    return t->interactive && poll(&in, 1, 0) > 0 && fgets(line, sizeof line, stdin) != NULL;
}

/* On a terminal one line that is written again and again, until Enter; else a line each time. */
int tune_watch(tuner *t, int argc, char **argv)
{
    unsigned place[16], count;
    double length_s = t->interactive ? 3600.0 : 1.0;
    if (!choose_signals(t, argc, argv, place, &count, &length_s)) {
        return EXIT_BAD_USAGE;
    }
    const gboolean terminal = isatty(STDOUT_FILENO);
    int status = EXIT_DONE;
    const double until_s = cvk_session_now_s(&t->session) + length_s;
    for (;;) {
        g_print(terminal ? "\r" : "");
        status = print_row(t, place, count);
        g_print(terminal ? "\033[K" : "\n");
        fflush(stdout);
        if (status != EXIT_DONE || cvk_session_now_s(&t->session) >= until_s || entered(t)) {
            break;
        }
        status = tune_wait(t, LOOK_S);
        if (status != EXIT_DONE) {
            break;
        }
    }
    g_print(terminal && t->connected ? "\n" : "");
    return status;
}
