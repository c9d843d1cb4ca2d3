/* SPDX-License-Identifier: Apache-2.0
 *
 * A session from its begin to its end, by a script or at a prompt. Whatever ends it, the motor is
 * stopped in a controlled way first.
 */
#include "tune.h"

#include "base/open_device.h"

#include "corvak/files/card_yaml.h"

#include <errno.h>
#include <math.h>
#include <poll.h>
#include <string.h>
#include <unistd.h>

#define LINE_BYTES 65536

/* What has been read of a file or a pipe, and not yet been run. */
typedef struct pending {
    int fd, line;
    const char *name;
    GString *text;
    gboolean ended;
} pending;

/* Waits for more; meanwhile the session lives on, and the lease with it. */
static int read_more(tuner *t, pending *in)
{
    struct pollfd coming = {.fd = in->fd, .events = POLLIN};
    char bytes[4096];
    if (poll(&coming, 1, t->connected ? 20 : 200) == 0 || interrupted) {
        const double passes_s =
            t->controller != NULL ? 0.02 : 0.0; /* a simulation's time is ours */
        return t->connected ? tune_check(t, cvk_session_pump(&t->session, passes_s)) : EXIT_DONE;
    }
    const gssize got = read(in->fd, bytes, sizeof bytes);
    if (got < 0 && errno != EINTR && errno != EAGAIN) {
        return tune_complain("the script cannot be read: %s", g_strerror(errno));
    }
    g_string_append_len(in->text, bytes, MAX(got, 0));
    in->ended = got == 0;
    return in->text->len > LINE_BYTES && strchr(in->text->str, '\n') == NULL
               ? tune_complain("a line of the script is longer than %d bytes", LINE_BYTES)
               : EXIT_DONE;
}

/* The next line, of any length; null while there is none. */
static char *take_line(pending *in)
{
    const char *end = memchr(in->text->str, '\n', in->text->len);
    if (end == NULL && !(in->ended && in->text->len > 0)) {
        return NULL;
    }
    const gsize length = end != NULL ? (gsize)(end - in->text->str) : in->text->len;
    char *line = g_strndup(in->text->str, length);
    g_string_erase(in->text, 0, (gssize)(length + (end != NULL ? 1 : 0)));
    complain_from(in->name, ++in->line);
    return g_strstrip(line);
}

static int run_one(tuner *t, const char *line)
{
    if (line[0] == '#' || line[0] == '\0') {
        g_print("%s\n", line);
        return EXIT_DONE;
    }
    g_print("> %s\n", line);
    fflush(stdout);
    return tune_line(t, line);
}

/* Lines of a file or a pipe. The first that is refused ends it. */
static int run_script(tuner *t, FILE *file, const char *name)
{
    pending in = {.fd = fileno(file), .name = name, .text = g_string_new(NULL)};
    int status = EXIT_DONE;
    while (status == EXIT_DONE && !t->quit && !(in.ended && in.text->len == 0)) {
        char *line = take_line(&in);
        status = line != NULL ? run_one(t, line) : read_more(t, &in);
        g_free(line);
        if (interrupted && status == EXIT_DONE) {
            status = t->connected ? tune_stop_motor(t) : EXIT_DONE;
            status = status == EXIT_DONE ? EXIT_ANSWER_NO : status;
        }
    }
    complain_from(NULL, 0);
    g_string_free(in.text, TRUE);
    return status;
}

/* The values of a tune file, as if they had been loaded by hand. */
static int begin_with(tuner *t, char *tune)
{
    char *const load[] = {"load", tune}, *const apply[] = {"apply"};
    if (tune == NULL) {
        return EXIT_DONE;
    }
    g_print("> load %s\n", tune);
    int status = tune_load(t, 2, (char **)load);
    if (status == EXIT_DONE && tune_wanted_count(t) > 0) {
        g_print("> apply\n");
        status = tune_apply(t, 1, (char **)apply);
    }
    return status;
}

/* The session so far, as one document. */
static void print_document(const tuner *t)
{
    const cvk_change **change = g_new(const cvk_change *, t->changes->len + 1);
    for (guint n = 0; n < t->changes->len; n++) {
        change[n] = &g_array_index(t->changes, made_change, n).change;
    }
    const cvk_tuning tuning = {.device = t->address,
                               .session = &t->session,
                               .change = change,
                               .changes = t->changes->len,
                               .current = t->measured[0] ? &t->step[0] : NULL,
                               .speed = t->measured[1] ? &t->step[1] : NULL};
    show_document(cvk_tuning_document(&tuning), TRUE);
    g_free(change);
}

/* The end of a session, however it came: the motor stands, the device is free. */
static int finish(tuner *t, int status, GPrintFunc usual)
{
    interrupted = 0;
    if (t->connected) {
        const int stopped = tune_stop_motor(t);
        status = status == EXIT_DONE ? stopped : status;
    }
    const int logged = tune_end_log(t);
    status = status == EXIT_DONE ? logged : status;
    if (t->json && t->connected) { /* what is told meanwhile went to stderr */
        g_set_print_handler(usual);
        print_document(t);
    }
    t->session.calls.state = NULL;
    cvk_session_close(&t->session);
    if (status == EXIT_DONE && t->history_lost) {
        return EXIT_BAD_USAGE;
    }
    return status == EXIT_DONE && t->faulted ? EXIT_ANSWER_NO : status;
}

static void tell_on_stderr(const char *text)
{
    fputs(text, stderr);
}

/* Connects, runs the lines of `in` (or a prompt), stops the motor, and lets go of the device. */
int tune_session(tuner *t, FILE *in, const char *name, char *tune)
{
    const GPrintFunc usual = t->json ? g_set_print_handler(tell_on_stderr) : NULL;
    catch_interrupt();
    int status = tune_connect(t);
    if (status == EXIT_DONE) {
        t->begun_s = cvk_session_now_s(&t->session);
        status = begin_with(t, tune);
        if (status == EXIT_DONE) {
            status = t->interactive ? tune_prompt(t) : run_script(t, in, name);
        }
        status = finish(t, status, usual);
    }
    return status;
}

tuner *tune_new(const char *address, gboolean json)
{
    tuner *t = g_new0(tuner, 1);
    t->trial_ended = tune_trial_ended;
    t->lost = tune_end_log;
    t->undo = g_array_new(FALSE, TRUE, sizeof(wanted_before));
    t->changes = g_array_new(FALSE, TRUE, sizeof(made_change));
    t->lease_s = TUNE_LEASE_S;
    t->inertia_kg_m2 = NAN;
    t->json = json;
    t->address = address;
    return t;
}

void tune_free(tuner *t)
{
    tune_free_values(t);
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

int tune_read_inertia(tuner *t, const char *path)
{
    cvk_card card;
    cvk_complaint complaint;
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
