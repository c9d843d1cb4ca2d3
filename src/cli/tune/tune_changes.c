/* SPDX-License-Identifier: Apache-2.0
 *
 * Guarded changes: what is wanted goes to the device, is watched, and stays or goes back. Each one
 * is kept with what it did.
 */
#include "tune.h"

#include <math.h>
#include <string.h>

#define WATCH_S 1.5
#define CONFIRM_S 20.0

static made_change *last_change(const tuner *t)
{
    return t->changes->len > 0 ? &g_array_index(t->changes, made_change, t->changes->len - 1)
                               : NULL;
}

/* ---- words ---------------------------------------------------------------------------------- */

/* `for S`, `confirm S`, `current A`, `speed RPM`, `quality Q`: in any order. */
static int read_terms(const tuner *t, int argc, char **argv, cvk_trial_terms *terms)
{
    *terms = (cvk_trial_terms){.watch_s = (float)WATCH_S, .confirm_s = (float)CONFIRM_S};
    for (int n = 1; n < argc; n += 2) {
        double value;
        if (strcmp(argv[n], "speed") == 0 && n + 1 < argc) {
            if (!tune_speed(t, argv[n + 1], &value)) {
                return EXIT_BAD_USAGE;
            }
            terms->speed_error_rad_s = (float)value;
            continue;
        }
        float *place = strcmp(argv[n], "for") == 0       ? &terms->watch_s
                       : strcmp(argv[n], "confirm") == 0 ? &terms->confirm_s
                       : strcmp(argv[n], "current") == 0 ? &terms->current_a
                       : strcmp(argv[n], "quality") == 0 ? &terms->least_quality
                                                         : NULL;
        if (place == NULL || n + 1 >= argc || !tune_number(argv[n + 1], &value) || value <= 0.0) {
            return tune_complain("apply [for S] [confirm S] [current A] [speed RPM] [quality Q]: "
                                 "\"%s\" is none of these with a number above 0",
                                 argv[n]);
        }
        *place = (float)value;
    }
    return EXIT_DONE;
}

static void print_terms(const tuner *t, const cvk_trial_terms *terms)
{
    g_print("  watched for %g s: phase current up to %s A", (double)terms->watch_s,
            digits((double)terms->current_a, 3));
    if (terms->speed_error_rad_s > 0.0f) {
        g_print(", speed within %s rpm of its set-point",
                digits(tune_rpm(t, (double)terms->speed_error_rad_s), 3));
    }
    if (terms->least_quality > 0.0f) {
        g_print(", angle's quality above %s", digits((double)terms->least_quality, 2));
    }
    g_print("\n");
}

static void print_figures(const tuner *t, const cvk_change *c)
{
    const cvk_running_figures *a = &c->before, *b = &c->during;
    g_print("  %-28s %10s %10s\n", "", "before", "since");
    if (isfinite(a->speed_error_rad_s)) {
        g_print("  %-28s %10s %10s\n", "speed error, rms / rpm",
                digits(tune_rpm(t, a->speed_error_rad_s), 3),
                digits(tune_rpm(t, b->speed_error_rad_s), 3));
    }
    g_print("  %-28s %10s %10s\n", "current ripple, rms / A", digits(a->ripple_a, 3),
            digits(b->ripple_a, 3));
    g_print("  %-28s %10s %10s\n", "current, largest / A", digits(a->peak_a, 3),
            digits(b->peak_a, 3));
    g_print("  %-28s %10.2f %10.2f\n", "angle's quality, least", a->quality, b->quality);
}

static void print_items(const tuner *t, const cvk_change *c)
{
    for (unsigned n = 0; n < c->count; n++) {
        char before[64], after[64];
        const unsigned p = c->item[n].parameter;
        tune_value_text(t, p, c->before_value[n], before, sizeof before);
        tune_value_text(t, p, c->item[n].value, after, sizeof after);
        g_print("  %s: %s -> %s\n", t->session.parameter[p].key, before, after);
    }
}

/* ---- the record ----------------------------------------------------------------------------- */

static void write_history(tuner *t, const made_change *m)
{
    if (t->history == NULL) {
        return;
    }
    GDateTime *now = g_date_time_new_now_utc();
    char *when = g_date_time_format_iso8601(now);
    cvk_doc *doc = cvk_change_document(&t->session, &m->change, when);
    char *text = cvk_doc_as_json(doc, false);
    fprintf(t->history, "%s\n", text);
    if (fflush(t->history) != 0 || ferror(t->history)) {
        t->history_lost = TRUE;
        tune_complain("the history cannot be written: is the disk full? The change stands");
    }
    cvk_doc_free(doc);
    g_free(text);
    g_free(when);
    g_date_time_unref(now);
}

/* What a tune file will say of a value that was kept. */
static void note_where_from(tuner *t, const made_change *m)
{
    const cvk_change *c = &m->change;
    for (unsigned n = 0; n < c->count; n++) {
        char before[64];
        const unsigned p = c->item[n].parameter;
        tune_value_text(t, p, c->before_value[n], before, sizeof before);
        g_free(t->from[p]);
        if (t->wanted_from[p] != NULL) { /* as the file says */
            t->from[p] = g_steal_pointer(&t->wanted_from[p]);
            continue;
        }
        t->from[p] =
            c->on_trial && isfinite(c->before.speed_error_rad_s)
                ? g_strdup_printf("tune: was %s; speed error %s -> %s rpm rms, current ripple "
                                  "%s -> %s A rms",
                                  before, digits(tune_rpm(t, c->before.speed_error_rad_s), 3),
                                  digits(tune_rpm(t, c->during.speed_error_rad_s), 3),
                                  digits(c->before.ripple_a, 3), digits(c->during.ripple_a, 3))
                : g_strdup_printf("tune: was %s", before);
    }
}

/* What was wanted is in the device now, or is not wanted any more. */
static void end_change(tuner *t, made_change *m)
{
    for (unsigned n = 0; n < m->change.count; n++) {
        t->is_wanted[m->change.item[n].parameter] = FALSE;
        if (m->change.state == CVK_TRIAL_KEPT) {
            t->session.value[m->change.item[n].parameter] = m->change.item[n].value;
        } else {
            t->session.value[m->change.item[n].parameter] = m->change.before_value[n];
        }
    }
    g_array_set_size(t->undo, 0);
    if (m->change.state == CVK_TRIAL_KEPT) {
        for (unsigned n = 0; n < m->change.count; n++) { /* undo wants the value before */
            const wanted_before before = {m->change.item[n].parameter, TRUE,
                                          m->change.before_value[n]};
            g_array_append_val(t->undo, before);
        }
        note_where_from(t, m);
    }
    write_history(t, m);
}

void tune_trial_ended(tuner *t, int32_t state, int32_t reason)
{
    made_change *m = last_change(t);
    tune_give_way(t);
    if (m == NULL || !m->change.on_trial || !cvk_trial_runs(m->change.state)) {
        g_print("! a change of another link: %s\n", cvk_trial_words(&t->session, state, reason));
        return;
    }
    m->change.state = state;
    m->change.reason = reason;
    g_print(state == CVK_TRIAL_KEPT ? "! change %u is kept\n" : "! change %u has gone back: %s\n",
            t->changes->len, cvk_trial_words(&t->session, state, reason));
    end_change(t, m);
}

/* ---- commands ------------------------------------------------------------------------------- */

static int collect_wanted(const tuner *t, cvk_change *c)
{
    for (unsigned n = 0; n < t->parameters; n++) {
        if (t->is_wanted[n] && c->count == CVK_CHANGE_MOST) {
            return tune_complain("a change has at most %d parameters: `undo` some",
                                 CVK_CHANGE_MOST);
        }
        if (t->is_wanted[n]) {
            c->item[c->count++] = (cvk_session_change){n, t->wanted[n]};
        }
    }
    return c->count > 0 ? EXIT_DONE
                        : tune_complain("nothing is wanted that is not in the device: `set` it");
}

static void report(tuner *t, made_change *m)
{
    const cvk_change *c = &m->change;
    if (!c->on_trial) {
        g_print("  the bridge is off: in force at once\n");
        end_change(t, m);
        return;
    }
    print_terms(t, &c->terms);
    print_figures(t, c);
    if (c->state == CVK_TRIAL_GONE_BACK) {
        g_print("  gone back by itself after %s ms: %s\n", digits(1e3 * c->during.length_s, 3),
                cvk_trial_words(&t->session, c->state, c->reason));
        end_change(t, m);
    } else {
        g_print("  `keep` it within %g s, or it goes back\n", (double)c->terms.confirm_s);
    }
}

int tune_apply(tuner *t, int argc, char **argv)
{
    made_change m = {.at_s = cvk_session_now_s(&t->session) - t->begun_s};
    if (cvk_trial_runs(t->session.state.trial)) {
        return tune_complain("a change is on trial: `keep` it or take it `back` first");
    }
    int status = read_terms(t, argc, argv, &m.change.terms);
    status = status == EXIT_DONE ? collect_wanted(t, &m.change) : status;
    status = status == EXIT_DONE ? tune_claim(t) : status;
    if (status != EXIT_DONE) {
        return status;
    }
    const int32_t fault = t->session.state.fault;
    status = tune_check(t, cvk_change_guarded(&t->session, &m.change));
    if (status != EXIT_DONE) {
        return status;
    }
    g_print("  change %u\n", t->changes->len + 1);
    print_items(t, &m.change);
    g_array_append_val(t->changes, m);
    report(t, last_change(t));
    if (t->session.state.fault != fault && t->session.state.fault != CVK_FAULT_NONE) {
        t->faulted = TRUE;
        g_print("! %s\n", cvk_session_state_text(&t->session, "fault", t->session.state.fault));
    }
    return EXIT_DONE;
}

static int say_a_word(tuner *t, cvk_status (*word)(cvk_session *))
{
    const unsigned before = (unsigned)t->session.state.trial;
    int status = tune_check(t, word(&t->session));
    const double until_s = status == EXIT_DONE ? cvk_session_now_s(&t->session) + 0.5 : 0.0;
    while (status == EXIT_DONE && (unsigned)t->session.state.trial == before &&
           cvk_session_now_s(&t->session) < until_s) {
        status = tune_wait(t, 0.01);
    }
    return status == EXIT_DONE ? tune_check(t, cvk_session_read_values(&t->session)) : status;
}

int tune_keep(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    if (t->session.state.trial == CVK_TRIAL_WATCHED) {
        return tune_complain("the change is still watched: keep it when the watch is over");
    }
    return say_a_word(t, cvk_session_keep);
}

int tune_good(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    int status = tune_claim(t);
    status = status == EXIT_DONE ? tune_check(t, cvk_session_call_good(&t->session)) : status;
    if (status == EXIT_DONE) {
        g_print("  guards of later changes are measured from here as well\n");
    }
    return status;
}

int tune_back(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    return say_a_word(t, cvk_session_take_back);
}

int tune_changes(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    if (t->changes->len == 0) {
        g_print("  nothing was changed\n");
    }
    for (guint n = 0; n < t->changes->len; n++) {
        const made_change *m = &g_array_index(t->changes, made_change, n);
        g_print("  %u  %7.1f s  %s\n", n + 1, m->at_s,
                m->change.state == CVK_TRIAL_KEPT
                    ? "kept"
                    : cvk_trial_words(&t->session, m->change.state, m->change.reason));
        print_items(t, &m->change);
        if (m->change.on_trial) {
            print_figures(t, &m->change);
        }
    }
    return EXIT_DONE;
}
