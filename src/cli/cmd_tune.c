/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak tune: a live session with a controller, from a terminal, a file or a pipe. Whatever ends
 * it, the motor is stopped in a controlled way first.
 */
#include "tune.h"

#include "corvak/files/card_yaml.h"
#include "corvak/files/closest.h"
#include "corvak/sim/wire.h"

#include <math.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define LEASE_S 0.5 /* unless told otherwise */
#define PUMP_S 0.02
#define STOP_S 15.0

volatile sig_atomic_t tune_interrupted;

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
    {"changes", "", "what was changed in this session, and what each change did", tune_changes,
     TRUE},
    {"start", "SPEED", "calibrate at rest if needed, start the motor and bring it to this speed",
     tune_start, FALSE},
    {"speed", "SPEED", "another speed: 150, 150rpm, or 900rad/s (electrical)", tune_set_speed,
     FALSE},
    {"current", "D Q", "run by current, A, in the rotor's frame", tune_set_current, FALSE},
    {"stop", "", "stop in a controlled way, then off", tune_stop, FALSE},
    {"clear", "", "clear a fault", tune_clear, FALSE},
    {"watch", "SIGNAL ... [for S]", "signals as they are now, again and again", tune_watch, FALSE},
    {"wait", "S", "let time pass", tune_wait_command, FALSE},
    {"step", "current A [d|q] | speed SPEED [for S]",
     "step a set-point of the running motor and measure what comes", tune_step, FALSE},
    {"draw", "FILE.png|.svg", "the steps measured last, over what was predicted", tune_draw, TRUE},
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

/* ---- saying things -------------------------------------------------------------------------- */

int tune_complain(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    fflush(stdout);
    const int status = complain_usage(TUNE_VERB, "%s", text);
    g_free(text);
    return status;
}

static void lose(tuner *t)
{
    if (t->connected) {
        t->connected = FALSE;
        t->lost_at_s = 1e-6 * (double)g_get_monotonic_time();
        cvk_session_close(&t->session);
        tune_complain("the device is lost; a motor that ran stops by its lease within %.1f s. "
                      "`connect` tries again; what is wanted stays",
                      t->lease_s);
    }
}

int tune_check(tuner *t, cvk_status status)
{
    if (status == CVK_OK) {
        return EXIT_DONE;
    }
    if (status == CVK_NO_ANSWER) {
        lose(t);
        return EXIT_BAD_USAGE;
    }
    return tune_complain("%s",
                         t->session.text[0] != '\0' ? t->session.text : cvk_status_text(status));
}

/* ---- numbers -------------------------------------------------------------------------------- */

double tune_value(const tuner *t, const char *key)
{
    const int n = cvk_session_parameter_named(&t->session, key);
    return n >= 0 ? (double)t->session.value[n] : NAN;
}

double tune_pole_pairs(const tuner *t)
{
    const double pole_pairs = tune_value(t, "motor.pole_pairs");
    return pole_pairs >= 1.0 ? pole_pairs : 1.0;
}

double tune_rpm(const tuner *t, double speed_rad_s)
{
    return speed_rad_s * 60.0 / (2.0 * G_PI * tune_pole_pairs(t));
}

gboolean tune_number(const char *text, double *value)
{
    char *end = NULL;
    *value = g_ascii_strtod(text, &end);
    return end != text && *end == '\0' && isfinite(*value);
}

gboolean tune_speed(const tuner *t, const char *text, double *speed_rad_s)
{
    char *end = NULL;
    const double number = g_ascii_strtod(text, &end);
    const gboolean rpm = *end == '\0' || strcmp(end, "rpm") == 0;
    if (end == text || !isfinite(number) || !(rpm || strcmp(end, "rad/s") == 0)) {
        tune_complain("a speed is a number with rpm (of the shaft) or rad/s (electrical), such as "
                      "150rpm, not \"%s\"",
                      text);
        return FALSE;
    }
    if (rpm && !(tune_value(t, "motor.pole_pairs") >= 1.0)) {
        tune_complain("motor.pole_pairs is not known: give the speed in rad/s (electrical)");
        return FALSE;
    }
    *speed_rad_s = rpm ? number * tune_pole_pairs(t) * 2.0 * G_PI / 60.0 : number;
    return TRUE;
}

/* ---- what happens meanwhile ----------------------------------------------------------------- */

static void on_state(void *context, const cvk_session_state *before, const cvk_session_state *now)
{
    tuner *t = context;
    if (now->fault != before->fault) {
        t->restless = TRUE;
        t->faulted = t->faulted || now->fault != CVK_FAULT_NONE;
        const char *text = cvk_session_state_text(&t->session, "fault", now->fault);
        g_print("! %s%s\n", text != NULL ? text : "a fault that this corvak does not know",
                now->fault != CVK_FAULT_NONE ? ": the bridge is off; `clear` ends it" : "");
    }
    if (now->owner != before->owner && before->owner == t->session.number) {
        t->restless = TRUE;
        g_print("! link %d does not command any more\n", t->session.number);
    }
    const gboolean ran = before->trial == CVK_TRIAL_WATCHED || before->trial == CVK_TRIAL_WAITING;
    const gboolean ended = now->trial == CVK_TRIAL_KEPT || now->trial == CVK_TRIAL_GONE_BACK;
    if (ran && ended) {
        tune_trial_ended(t, now->trial, now->trial_reason);
    }
}

int tune_wait(tuner *t, double length_s)
{
    const double until_s = cvk_session_now_s(&t->session) + length_s;
    int status = EXIT_DONE;
    for (double left_s = length_s; status == EXIT_DONE && left_s > 0.0;
         left_s = t->connected ? until_s - cvk_session_now_s(&t->session) : 0.0) {
        if (tune_interrupted) {
            tune_interrupted = 0;
            g_print("\n");
            status = tune_stop_motor(t);
            return status == EXIT_DONE ? EXIT_ANSWER_NO : status;
        }
        status = tune_check(t, cvk_session_pump(&t->session, MIN(left_s, PUMP_S)));
    }
    return status;
}

int tune_claim(tuner *t)
{
    return t->session.owner ? EXIT_DONE : tune_check(t, cvk_session_claim(&t->session, t->lease_s));
}

int tune_stop_motor(tuner *t)
{
    cvk_session *s = &t->session;
    t->request = (cvk_request){.mode = CVK_MODE_STOP};
    if (!s->owner || !s->state.bridge_on) {
        return EXIT_DONE;
    }
    int status = EXIT_DONE;
    if (s->state.trial == CVK_TRIAL_WATCHED || s->state.trial == CVK_TRIAL_WAITING) {
        status = tune_check(t, cvk_session_take_back(s)); /* a stop is no part of its trial */
        status = status == EXIT_DONE ? tune_check(t, cvk_session_pump(s, PUMP_S)) : status;
    }
    status = status == EXIT_DONE ? tune_check(t, cvk_session_request(s, &t->request)) : status;
    const double until_s = status == EXIT_DONE ? cvk_session_now_s(s) + STOP_S : 0.0;
    while (status == EXIT_DONE && s->state.bridge_on && cvk_session_now_s(s) < until_s) {
        status = tune_check(t, cvk_session_pump(s, PUMP_S));
        if (tune_interrupted && status == EXIT_DONE) { /* a second Ctrl-C: off at once */
            tune_interrupted = 0;
            t->request.mode = CVK_MODE_OFF;
            status = tune_check(t, cvk_session_request(s, &t->request));
        }
    }
    if (status == EXIT_DONE) {
        g_print(s->state.bridge_on ? "still turning after %.0f s\n"
                                   : "stopped, the bridge is off\n",
                STOP_S);
    }
    return status;
}

/* ---- connecting ----------------------------------------------------------------------------- */

static int open_wire(tuner *t, cvk_wire *wire)
{
    char text[CVK_WIRE_TEXT];
    if (!g_str_has_prefix(t->address, "sim:")) {
        return cvk_wire_open(wire, t->address, text) == CVK_OK ? EXIT_DONE
                                                               : tune_complain("%s", text);
    }
    cvk_refusal why = {0};
    if (t->controller == NULL) {
        const int status = read_bench(TUNE_VERB, t->address + 4, NULL, NULL, &t->rig);
        if (status != EXIT_DONE) {
            return status;
        }
        const cvk_status opened = cvk_sim_controller_open(&t->controller, &t->rig, 1, &why);
        if (opened != CVK_OK) {
            return complain_refusal(TUNE_VERB, opened, &why);
        }
    }
    return cvk_sim_wire_open(wire, t->controller, t->interactive) == CVK_OK
               ? EXIT_DONE
               : tune_complain("%s: no link is free", t->address);
}

/* Wanted values of a session before stay, when it is the same kind of controller. */
static void make_arrays(tuner *t)
{
    if (t->parameters == t->session.parameters) {
        return;
    }
    g_free(t->is_wanted);
    g_free(t->wanted);
    g_free(t->from);
    t->parameters = t->session.parameters;
    t->is_wanted = g_new0(gboolean, t->parameters);
    t->wanted = g_new0(float, t->parameters);
    t->from = g_new0(char *, t->parameters);
    g_array_set_size(t->undo, 0);
}

int tune_connect(tuner *t)
{
    cvk_wire wire;
    if (t->connected) {
        return tune_complain("connected already");
    }
    const int status = open_wire(t, &wire);
    if (status != EXIT_DONE) {
        return status;
    }
    const cvk_status opened = cvk_session_open(&t->session, &wire);
    if (opened != CVK_OK) {
        tune_complain("%s: %s", t->address,
                      t->session.text[0] != '\0' ? t->session.text : cvk_status_text(opened));
        cvk_session_close(&t->session);
        return EXIT_BAD_USAGE;
    }
    t->connected = TRUE;
    t->session.calls = (cvk_session_calls){.context = t, .state = on_state};
    make_arrays(t);
    t->request = (cvk_request){.mode = CVK_MODE_OFF};
    const int owner = t->session.state.owner;
    g_print("%s: %s (%s), %.4g kHz control, %u parameters, %u signals; link %d, ", t->address,
            t->session.name, t->session.version, 1e-3 / (double)t->session.period_s,
            t->session.parameters, t->session.signals, t->session.number);
    if (owner == CVK_NOBODY) {
        g_print("nobody commands\n");
    } else {
        g_print("link %d commands: you may watch\n", owner);
    }
    return EXIT_DONE;
}

/* ---- commands ------------------------------------------------------------------------------- */

static const tune_command *command_named(const char *name)
{
    for (unsigned n = 0; n < tune_command_count; n++) {
        if (strcmp(tune_commands[n].name, name) == 0) {
            return &tune_commands[n];
        }
    }
    return NULL;
}

static const char *closest_command(const char *name)
{
    const char *best = NULL;
    size_t least = 3;
    for (unsigned n = 0; n < tune_command_count; n++) {
        const size_t distance = cvk_name_distance(name, tune_commands[n].name);
        if (distance < least) {
            least = distance;
            best = tune_commands[n].name;
        }
    }
    return best;
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
        const char *closest = closest_command(argv[0]);
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

/* Lines of a file or a pipe. The first that is refused ends it. */
static int run_script(tuner *t, FILE *in)
{
    char line[1024];
    int status = EXIT_DONE;
    while (status == EXIT_DONE && !t->quit && fgets(line, sizeof line, in) != NULL) {
        g_strstrip(line);
        if (line[0] == '#') {
            g_print("%s\n", line);
        } else if (line[0] != '\0') {
            g_print("> %s\n", line);
            fflush(stdout);
            status = tune_line(t, line);
        } else {
            g_print("\n");
        }
        if (tune_interrupted && status == EXIT_DONE) {
            status = t->connected ? tune_stop_motor(t) : EXIT_DONE;
            status = status == EXIT_DONE ? EXIT_ANSWER_NO : status;
        }
    }
    return status;
}

static void on_interrupt(int number)
{
    (void)number;
    tune_interrupted = 1;
}

/* The end of a session, however it came: the motor stands, the device is free. */
static int finish(tuner *t, int status)
{
    tune_interrupted = 0;
    if (t->connected) {
        const int stopped = tune_stop_motor(t);
        status = status == EXIT_DONE ? stopped : status;
    }
    t->session.calls.state = NULL;
    cvk_session_close(&t->session);
    return status == EXIT_DONE && t->faulted ? EXIT_ANSWER_NO : status;
}

static int read_inertia(tuner *t, const char *path)
{
    cvk_card card;
    cvk_complaint complaint;
    t->inertia_kg_m2 = NAN;
    if (path == NULL) {
        return EXIT_DONE;
    }
    if (cvk_card_file_read(&card, path, &complaint) != CVK_OK) {
        return complain_file(TUNE_VERB, &complaint);
    }
    const cvk_card_entry *e = &card.entry[CVK_CARD_INERTIA];
    t->inertia_kg_m2 = e->known ? e->value : NAN;
    return e->known ? EXIT_DONE
                    : complain_usage(TUNE_VERB,
                                     "%s: the card has no inertia; record a spin and a "
                                     "coast and estimate it, or leave --card out",
                                     path);
}

static int session(tuner *t, const char *script)
{
    struct sigaction action = {.sa_handler = on_interrupt};
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    signal(SIGPIPE, SIG_IGN);
    FILE *in = script != NULL && strcmp(script, "-") != 0 ? fopen(script, "r") : stdin;
    if (in == NULL) {
        return complain_usage(TUNE_VERB, "%s: cannot be read", script);
    }
    t->interactive = script == NULL && isatty(STDIN_FILENO) && isatty(STDOUT_FILENO);
    int status = tune_connect(t);
    if (status == EXIT_DONE) {
        t->begun_s = cvk_session_now_s(&t->session);
        status = t->interactive ? tune_prompt(t) : run_script(t, in);
        status = finish(t, status);
    }
    if (in != stdin) {
        fclose(in);
    }
    return status;
}

static void free_tuner(tuner *t)
{
    for (unsigned n = 0; n < t->parameters; n++) {
        g_free(t->from[n]);
    }
    g_free(t->is_wanted);
    g_free(t->wanted);
    g_free(t->from);
    g_array_unref(t->undo);
    g_array_unref(t->changes);
    cvk_measured_step_free(&t->step[0]);
    cvk_measured_step_free(&t->step[1]);
    cvk_sim_controller_close(t->controller);
    if (t->history != NULL) {
        fclose(t->history);
    }
    g_free(t);
}

int cmd_tune(int argc, char **argv)
{
    char *script = NULL, *card = NULL, *history = NULL;
    double lease_s = LEASE_S;
    const GOptionEntry entries[] = {
        {"script", 'x', 0, G_OPTION_ARG_FILENAME, &script,
         "commands from a file (-: from standard input)", "FILE"},
        {"card", 'c', 0, G_OPTION_ARG_FILENAME, &card,
         "motor card: its inertia predicts the speed loop", "FILE"},
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
    tuner *t = g_new0(tuner, 1);
    t->undo = g_array_new(FALSE, TRUE, sizeof(wanted_before));
    t->changes = g_array_new(FALSE, TRUE, sizeof(made_change));
    int status = EXIT_DONE;
    if (argc != 2) {
        status = complain_usage(TUNE_VERB, "name one device, such as tcp:127.0.0.1:4242 or "
                                           "sim:data/wheel.rig.yaml");
    } else if (history != NULL && (t->history = fopen(history, "a")) == NULL) {
        status = complain_usage(TUNE_VERB, "%s: cannot be written", history);
    }
    if (!(lease_s >= 0.1 && lease_s <= 60.0)) {
        status = complain_usage(TUNE_VERB, "--lease %g: 0.1 .. 60 s", lease_s);
    }
    t->lease_s = lease_s;
    t->address = argc > 1 ? argv[1] : "";
    status = status == EXIT_DONE ? read_inertia(t, card) : status;
    status = status == EXIT_DONE ? session(t, script) : status;
    free_tuner(t);
    g_free(script);
    g_free(card);
    g_free(history);
    return status;
}
