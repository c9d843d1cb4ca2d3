/* SPDX-License-Identifier: Apache-2.0
 *
 * What every command of a live session stands on: the device, time that passes, numbers and
 * complaints. It knows no command.
 */
#include "tune.h"

#include "base/open_device.h"

#include <math.h>
#include <string.h>

#define PUMP_S 0.02
#define STOP_S 15.0

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

void tune_give_way(tuner *t)
{
    if (t->at_prompt) {
        g_print("\r\033[K");
        fflush(stdout);
        t->restless = TRUE;
    }
}

static void lose(tuner *t)
{
    if (t->connected) {
        t->connected = FALSE;
        t->lost_at_s = 1e-6 * (double)g_get_monotonic_time();
        char *why = g_strdup(t->session.text);
        cvk_session_close(&t->session);
        tune_give_way(t);
        tune_complain("%s. The device is lost; a motor that ran begins to stop when the lease of "
                      "%.1f s is over. `connect` tries again; what is wanted stays",
                      why, t->lease_s);
        g_free(why);
        (void)t->lost(t);
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

/* 1 when they are not known. */
static double pole_pairs_of(const tuner *t)
{
    const double pole_pairs = cvk_session_value(&t->session, "motor.pole_pairs");
    return pole_pairs >= 1.0 ? pole_pairs : 1.0;
}

double tune_rpm(const tuner *t, double speed_rad_s)
{
    return speed_rad_s * 60.0 / (2.0 * G_PI * pole_pairs_of(t));
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
    if (rpm && !(cvk_session_value(&t->session, "motor.pole_pairs") >= 1.0)) {
        tune_complain("motor.pole_pairs is not known: give the speed in rad/s (electrical)");
        return FALSE;
    }
    *speed_rad_s = rpm ? number * pole_pairs_of(t) * 2.0 * G_PI / 60.0 : number;
    return TRUE;
}

/* ---- what happens meanwhile ----------------------------------------------------------------- */

static void on_state(void *context, const cvk_session_state *before, const cvk_session_state *now)
{
    tuner *t = context;
    if (now->fault != before->fault) {
        tune_give_way(t);
        t->faulted = t->faulted || now->fault != CVK_FAULT_NONE;
        const char *text = cvk_session_state_text(&t->session, "fault", now->fault);
        g_print("! %s%s\n", text != NULL ? text : "a fault that this corvak does not know",
                now->fault != CVK_FAULT_NONE ? ": the bridge is off; `clear` ends it" : "");
    }
    if (now->owner != before->owner && before->owner == t->session.number) {
        tune_give_way(t);
        g_print("! link %d does not command any more\n", t->session.number);
    }
    const gboolean ended = now->trial == CVK_TRIAL_KEPT || now->trial == CVK_TRIAL_GONE_BACK;
    if (cvk_trial_runs(before->trial) && ended) {
        t->trial_ended(t, now->trial, now->trial_reason);
    }
}

int tune_wait(tuner *t, double length_s)
{
    const double until_s = cvk_session_now_s(&t->session) + length_s;
    int status = EXIT_DONE;
    for (double left_s = length_s; status == EXIT_DONE && left_s > 0.0;
         left_s = t->connected ? until_s - cvk_session_now_s(&t->session) : 0.0) {
        if (interrupted) {
            interrupted = 0;
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
    return t->session.owner ? tune_stop_whoever(t) : EXIT_DONE;
}

int tune_stop_whoever(tuner *t)
{
    cvk_session *s = &t->session;
    t->request = (cvk_request){.mode = CVK_MODE_STOP};
    if (!s->state.bridge_on) {
        return EXIT_DONE;
    }
    int status = EXIT_DONE;
    if (s->owner && cvk_trial_runs(s->state.trial)) {
        status = tune_check(t, cvk_session_take_back(s)); /* a stop is no part of its trial */
        status = status == EXIT_DONE ? tune_check(t, cvk_session_pump(s, PUMP_S)) : status;
    }
    status = status == EXIT_DONE ? tune_check(t, cvk_session_request(s, &t->request)) : status;
    const double until_s = status == EXIT_DONE ? cvk_session_now_s(s) + STOP_S : 0.0;
    while (status == EXIT_DONE && s->state.bridge_on && cvk_session_now_s(s) < until_s) {
        status = tune_check(t, cvk_session_pump(s, PUMP_S));
        if (interrupted && status == EXIT_DONE) { /* a second Ctrl-C: off at once */
            interrupted = 0;
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

void tune_free_values(tuner *t)
{
    for (unsigned n = 0; n < t->parameters; n++) {
        g_free(t->from[n]);
        g_free(t->wanted_from[n]);
    }
    g_free(t->is_wanted);
    g_free(t->wanted);
    g_free(t->from);
    g_free(t->wanted_from);
}

/* Wanted values of a session before stay, when it is the same kind of controller. */
static void make_arrays(tuner *t)
{
    if (t->parameters == t->session.parameters) {
        return;
    }
    tune_free_values(t);
    t->parameters = t->session.parameters;
    t->is_wanted = g_new0(gboolean, t->parameters);
    t->wanted = g_new0(float, t->parameters);
    t->from = g_new0(char *, t->parameters);
    t->wanted_from = g_new0(char *, t->parameters);
    g_array_set_size(t->undo, 0);
}

int tune_connect(tuner *t)
{
    cvk_wire wire;
    if (t->connected) {
        return tune_complain("connected already");
    }
    const int status = open_wire(TUNE_VERB, t->address, t->interactive, &t->controller, &wire);
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
    g_print("%s: %s (%s), %s kHz control, %u parameters, %u signals; link %d, ", t->address,
            t->session.name, t->session.version, digits(1e-3 / (double)t->session.period_s, 4),
            t->session.parameters, t->session.signals, t->session.number);
    if (owner == CVK_NOBODY) {
        g_print("nobody commands\n");
    } else {
        g_print("link %d commands: you may watch\n", owner);
    }
    return EXIT_DONE;
}
