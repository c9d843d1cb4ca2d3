/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak measure steps: starts the motor, measures how it answers to a step of speed and of
 * current, and stops it: a short session of corvak tune.
 */
#include "measure.h"

#include "base/open_device.h"
#include "tune/tune.h"

#include <math.h>

#define VERB "measure steps"
#define STEP_SHARE 0.2 /* of the speed, when none is given */

typedef struct arguments {
    char *tune, *card, *plot;
    double rpm, step_rpm, current_a;
    gboolean json;
} arguments;

/* What a user would type. */
static char *script_of(const arguments *a)
{
    GString *s = g_string_new(NULL);
    const double step_rpm = a->step_rpm != 0.0 ? a->step_rpm : STEP_SHARE * a->rpm;
    g_string_append_printf(s, "start %grpm\nstep speed %grpm\n", a->rpm, step_rpm);
    if (a->current_a != 0.0) {
        g_string_append_printf(s, "step current %g\n", a->current_a);
    }
    if (a->plot != NULL) {
        g_string_append_printf(s, "draw %s\n", a->plot);
    }
    g_string_append(s, "stop\n");
    return g_string_free(s, FALSE);
}

static int measure(const arguments *a, const char *name)
{
    /* a rig file is a simulated device */
    char *address = names_device(name) ? g_strdup(name) : g_strconcat("sim:", name, NULL);
    char *script = script_of(a);
    tuner *t = tune_new(address, a->json);
    FILE *in = tmpfile();
    int status = tune_read_inertia(t, a->card);
    if (in == NULL || fputs(script, in) == EOF || fflush(in) != 0) {
        status = complain_usage(VERB, "no room for a temporary file");
    }
    if (status == EXIT_DONE) {
        rewind(in);
        status = tune_session(t, in, VERB, a->tune);
    }
    if (in != NULL) {
        fclose(in);
    }
    tune_free(t);
    g_free(address);
    g_free(script);
    return status;
}

int measure_steps(int argc, char **argv)
{
    arguments a = {.rpm = NAN};
    const GOptionEntry entries[] = {
        {"speed", 0, 0, G_OPTION_ARG_DOUBLE, &a.rpm, "at which the motor runs (needed)", "RPM"},
        {"step", 0, 0, G_OPTION_ARG_DOUBLE, &a.step_rpm, "of the speed (a fifth of it)", "RPM"},
        {"current", 0, 0, G_OPTION_ARG_DOUBLE, &a.current_a,
         "step of the d current (none is measured without)", "A"},
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &a.tune,
         "begin with the values of this tune file: load and apply", "FILE"},
        {"card", 'c', 0, G_OPTION_ARG_FILENAME, &a.card,
         "motor card: its inertia predicts the speed loop", "FILE"},
        PLOT_OPTION(&a.plot, "draw the steps"),
        JSON_OPTION(&a.json),
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "DEVICE|RIG",
                       "Starts the motor, measures how speed and current answer to a step, each "
                       "several times, beside what\nthe controller's settings predict, and stops "
                       "it. DEVICE as for corvak tune; a RIG file is simulated.",
                       "corvak measure steps data/wheel.rig.yaml --speed 60 --current 2", entries,
                       &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = EXIT_BAD_USAGE;
    if (argc != 2) {
        complain_usage(VERB, "name a device or a rig file");
    } else if (!isfinite(a.rpm) || a.rpm == 0.0 || !isfinite(a.step_rpm) ||
               !isfinite(a.current_a)) {
        complain_usage(VERB, "--speed RPM is needed: the speed at which the motor is to run");
    } else {
        char *const inputs[] = {argv[1], a.tune, a.card};
        status = check_output(VERB, a.plot, TRUE, inputs, G_N_ELEMENTS(inputs));
        status = status == EXIT_DONE ? measure(&a, argv[1]) : status;
    }
    g_free(a.tune);
    g_free(a.card);
    g_free(a.plot);
    return status;
}
