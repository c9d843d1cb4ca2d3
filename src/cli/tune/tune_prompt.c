/* SPDX-License-Identifier: Apache-2.0
 *
 * The session at a terminal: line editing, completion and history by libedit. While the user types,
 * the session lives on: the lease is kept, what happens is told, a lost device is looked for.
 */
#include "tune.h"

#include "base/open_device.h"

#include <errno.h>
#include <histedit.h>
#include <locale.h>
#include <poll.h>
#include <string.h>
#include <unistd.h>

#define RECONNECT_S 1.0

static tuner *the_tuner; /* libedit's callbacks get no context of ours */

static char *prompt(EditLine *edit)
{
    static char text[96];
    const tuner *t = the_tuner;
    (void)edit;
    if (!t->connected) {
        return strcpy(text, "(lost)> ");
    }
    const unsigned wanted = tune_wanted_count(t);
    char count[32] = "";
    if (cvk_trial_runs(t->session.state.trial)) {
        g_strlcpy(count, ", change on trial", sizeof count);
    } else if (wanted > 0) {
        g_snprintf(count, sizeof count, ", %u wanted", wanted);
    }
    g_snprintf(text, sizeof text, "%s (%s%s)> ", t->session.name,
               t->session.state.bridge_on ? "running" : "off", count);
    return text;
}

/* A lost device is looked for in silence, once in a while. */
static void look_for_device(tuner *t)
{
    const double now_s = 1e-6 * (double)g_get_monotonic_time();
    cvk_wire wire;
    char text[CVK_WIRE_TEXT];
    if (t->connected || t->controller != NULL || now_s - t->lost_at_s < RECONNECT_S) {
        return;
    }
    t->lost_at_s = now_s;
    if (cvk_wire_open(&wire, t->address, text) == CVK_OK) {
        cvk_wire_close(&wire);
        tune_give_way(t);
        g_print("! it is there again: ");
        tune_connect(t);
    }
}

/* Waits for a key; meanwhile the session goes on. */
static int get_key(EditLine *edit, wchar_t *key)
{
    tuner *t = the_tuner;
    for (;;) {
        const int descriptor = t->connected ? cvk_session_descriptor(&t->session) : -1;
        struct pollfd in[2] = {{.fd = STDIN_FILENO, .events = POLLIN},
                               {.fd = descriptor, .events = POLLIN}};
        const gboolean simulated = t->connected && descriptor < 0;
        const int ready = poll(in, descriptor >= 0 ? 2 : 1, 20);
        if (interrupted) {
            errno = EINTR;
            return -1;
        }
        if (ready > 0 && (in[0].revents & (POLLIN | POLLHUP)) != 0) {
            unsigned char byte;
            const ssize_t got = read(STDIN_FILENO, &byte, 1);
            *key = (wchar_t)byte;
            return got == 1 ? 1 : 0;
        }
        if (t->connected) {
            tune_check(t, cvk_session_pump(&t->session, simulated ? 0.02 : 0.0));
        } else {
            look_for_device(t);
        }
        if (t->restless) {
            t->restless = FALSE;
            el_set(edit, EL_REFRESH);
        }
    }
}

/* ---- completion ----------------------------------------------------------------------------- */

/* The nth thing that may stand as word `word` of a line that begins with `first`; null: no more. */
static const char *candidate(const tuner *t, int word, const char *first, const char *second,
                             unsigned n)
{
    if (word == 0) {
        return n < tune_command_count ? tune_commands[n].name : NULL;
    }
    const gboolean keys =
        strcmp(first, "set") == 0 || strcmp(first, "undo") == 0 || strcmp(first, "show") == 0;
    if (keys && word == 1 && t->connected) {
        return n < t->parameters ? t->session.parameter[n].key : NULL;
    }
    if (strcmp(first, "set") == 0 && word == 2 && t->connected) {
        const int row = cvk_session_parameter_named(&t->session, second);
        const char *const *names = row >= 0 ? t->session.parameter[row].row.names : NULL;
        return names != NULL ? names[n] : NULL; /* ended by null, and asked for in order */
    }
    if (strcmp(first, "watch") == 0 && t->connected) {
        return n < t->session.signals ? t->session.signal[n].name : NULL;
    }
    if (strcmp(first, "step") == 0 && word == 1) {
        return n < 2 ? (n == 0 ? "current" : "speed") : NULL;
    }
    if (strcmp(first, "help") == 0) {
        return n < tune_command_count ? tune_commands[n].name : NULL;
    }
    return NULL;
}

typedef struct matches {
    unsigned count;
    char common[64];
    GString *list;
} matches;

static matches match(const tuner *t, int word, char **words, const char *begun)
{
    matches m = {.list = g_string_new(NULL)};
    const char *first = word > 0 ? words[0] : "", *second = word > 1 ? words[1] : "", *text;
    for (unsigned n = 0; (text = candidate(t, word, first, second, n)) != NULL; n++) {
        if (!g_str_has_prefix(text, begun)) {
            continue;
        }
        if (m.count++ == 0) {
            g_strlcpy(m.common, text, sizeof m.common);
        }
        size_t k = 0;
        while (m.common[k] != '\0' && m.common[k] == text[k]) {
            k++;
        }
        m.common[k] = '\0';
        g_string_append_printf(m.list, "  %s", text);
    }
    return m;
}

static unsigned char complete(EditLine *edit, int key)
{
    const LineInfo *line = el_line(edit);
    (void)key;
    char *before = g_strndup(line->buffer, (gsize)(line->cursor - line->buffer));
    char **words = g_strsplit_set(g_strchug(before), " ", -1);
    const int word = (int)g_strv_length(words) - 1;
    const char *begun = word >= 0 ? words[word] : "";
    matches m = match(the_tuner, word < 0 ? 0 : word, words, begun);
    unsigned char result = CC_ERROR;
    if (m.count > 0 && strlen(m.common) > strlen(begun)) {
        el_insertstr(edit, m.common + strlen(begun));
        result = CC_REFRESH;
    } else if (m.count > 1) {
        g_print("\n%s\n", m.list->str);
        result = CC_REDISPLAY;
    }
    if (m.count == 1) {
        el_insertstr(edit, " ");
        result = CC_REFRESH;
    }
    g_string_free(m.list, TRUE);
    g_strfreev(words);
    g_free(before);
    return result;
}

/* ---- the loop ------------------------------------------------------------------------------- */

static char *history_path(void)
{
    char *folder = g_build_filename(g_get_user_state_dir(), "corvak", NULL);
    g_mkdir_with_parents(folder, 0700);
    char *path = g_build_filename(folder, "tune-lines", NULL);
    g_free(folder);
    return path;
}

/* Ctrl-C at the prompt: first the motor. */
static void stop_on_interrupt(tuner *t)
{
    interrupted = 0;
    g_print("\n");
    if (t->connected && t->session.state.bridge_on && t->session.owner) {
        tune_stop_motor(t);
    } else {
        g_print("the motor is off; `quit` ends the session\n");
    }
}

static void loop(tuner *t, EditLine *edit, History *lines)
{
    HistEvent event;
    while (!t->quit) {
        int count = 0;
        t->at_prompt = TRUE;
        const char *line = el_gets(edit, &count);
        t->at_prompt = FALSE;
        if (interrupted) {
            stop_on_interrupt(t);
            el_reset(edit);
            continue;
        }
        if (line == NULL || count <= 0) { /* end of input */
            g_print("\n");
            break;
        }
        char *text = g_strdup(line);
        g_strstrip(text);
        if (text[0] != '\0') {
            history(lines, &event, H_ENTER, line);
            tune_line(t, text);
            t->restless = FALSE;
        }
        g_free(text);
    }
}

int tune_prompt(tuner *t)
{
    HistEvent event;
    char *path = history_path();
    the_tuner = t;
    History *lines = history_init();
    EditLine *edit = el_init("corvak", stdin, stdout, stderr);
    if (edit == NULL || lines == NULL) {
        g_free(path);
        return tune_complain("this terminal cannot edit lines; give commands by a pipe");
    }
    history(lines, &event, H_SETSIZE, 500);
    history(lines, &event, H_SETUNIQUE, 1);
    history(lines, &event, H_LOAD, path);
    el_set(edit, EL_PROMPT, prompt);
    el_set(edit, EL_EDITOR, "emacs");
    el_set(edit, EL_SIGNAL, 0);
    el_set(edit, EL_HIST, history, lines);
    el_set(edit, EL_GETCFN, get_key);
    el_set(edit, EL_ADDFN, "corvak-complete", "complete a word", complete);
    el_set(edit, EL_BIND, "^I", "corvak-complete", NULL);
    el_set(edit, EL_BIND, "^R", "em-inc-search-prev", NULL);
    g_print("`help` lists the commands, Tab completes, Ctrl-C stops the motor, `quit` ends.\n");
    loop(t, edit, lines);
    history(lines, &event, H_SAVE, path);
    history_end(lines);
    el_end(edit);
    g_free(path);
    return EXIT_DONE;
}
