/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak replay: a log through the observers, and the search for their settings.
 */

#include "corvak/core/units.h"

#include "base/log_set.h"

#include "corvak/files/card_yaml.h"
#include "corvak/files/tune_yaml.h"
#include "corvak/ident/estimate.h"

#include <math.h>
#include <string.h>

#define ALL ((1u << CVK_OBSERVER_KINDS) - 1u) /* observers */
#define VERB "replay"
#define POINTS 3000

typedef struct arguments {
    char *card, *tune, *output, *plot, *observer;
    char **parameters;
    gboolean json, search;
    int pole_pairs;
    log_options log;
} arguments;

typedef struct job {
    const arguments *given;
    log_set set;
    cvk_estimate findings;
    cvk_card card;
    gboolean has_card;
    cvk_tune tune;
    cvk_replay_rows rows;
    unsigned which;
    int searched; /* cvk_observer_kind */
    cvk_replay replay;
    cvk_replay_trace trace;
    cvk_search found;
} job;

/* ---- what is known of the motor -------------------------------------------------------------- */

static int settings_from_card(job *j)
{
    const cvk_log *log = j->set.log[0];
    const double bus_v = cvk_log_has(log, CVK_COLUMN_VDC) ? log->column[CVK_COLUMN_VDC][0] : NAN;
    char missing[CVK_CARD_TEXT] = "";
    const cvk_status status =
        cvk_replay_settings(&j->rows, &j->card, bus_v, &j->tune.settings, missing);
    if (status == CVK_NOT_IN_LOG) {
        g_printerr("corvak replay: the card lacks %s\n", missing);
        return EXIT_ANSWER_NO;
    }
    /* a margin that the loops cannot keep is nothing to an observer */
    return status == CVK_OK || status == CVK_CONTRADICTION
               ? EXIT_DONE
               : complain_usage(VERB, "%s", cvk_status_text(status));
}

/* Without card and tune the log itself has to tell what the motor is. */
static int card_from_log(job *j)
{
    cvk_estimate *e = g_new0(cvk_estimate, 1);
    cvk_estimate_options options = estimate_options_of(&j->given->log);
    options.pole_pairs = j->given->pole_pairs;
    const cvk_status status = cvk_estimate_logs((const cvk_log *const *)j->set.log, 1, &options, e);
    j->card = e->card;
    j->has_card = status == CVK_OK;
    if (!j->has_card) {
        g_printerr("corvak replay: this log alone does not tell what the motor is: give --card or "
                   "--tune\n");
    }
    g_free(e);
    return j->has_card ? EXIT_DONE : EXIT_ANSWER_NO;
}

static int read_motor(job *j)
{
    const arguments *a = j->given;
    cvk_complaint complaint;
    cvk_tune_start(&j->tune);
    if (a->card != NULL) {
        if (cvk_card_file_read(&j->card, a->card, &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
        j->has_card = TRUE;
    }
    if (a->tune != NULL && cvk_tune_file_read(&j->tune, a->tune, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    return EXIT_DONE;
}

static double pole_pairs_of(const job *j)
{
    const cvk_card_entry *e = &j->card.entry[CVK_CARD_POLE_PAIRS];
    return j->given->pole_pairs > 0                ? j->given->pole_pairs
           : j->tune.settings.motor.pole_pairs > 0 ? j->tune.settings.motor.pole_pairs
           : j->has_card && e->known               ? e->value
                                                   : j->set.log[0]->pole_pairs;
}

static int change_parameters(job *j)
{
    cvk_complaint complaint;
    for (char **p = j->given->parameters; p != NULL && *p != NULL; p++) {
        if (cvk_tune_set(&j->tune, *p, "command line", &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
    }
    return EXIT_DONE;
}

/* Why this log cannot be replayed; what else was found is in the document. */
static void complain_findings(const cvk_estimate *e)
{
    for (size_t n = 0; n < e->findings; n++) {
        if (e->finding[n].severity == CVK_ERROR) {
            complain_usage(VERB, "%s: %s", e->finding[n].log, e->finding[n].text);
        }
    }
}

static int prepare(job *j, char **paths)
{
    const cvk_estimate_options options = estimate_options_of(&j->given->log);
    int status = read_log_set(&j->set, VERB, &j->given->log, paths, 1);
    status = status == EXIT_DONE ? read_motor(j) : status;
    if (status == EXIT_DONE && !j->has_card && j->given->tune == NULL) {
        status = card_from_log(j);
    }
    if (status == EXIT_DONE) {
        const cvk_status read = cvk_replay_rows_from_log(&j->rows, j->set.log[0], &options,
                                                         pole_pairs_of(j), &j->findings);
        add_reader_findings(&j->findings, &j->set);
        complain_findings(&j->findings);
        status = read == CVK_OK           ? EXIT_DONE
                 : read == CVK_NOT_IN_LOG ? EXIT_BAD_USAGE
                                          : complain_usage(VERB, "%s", cvk_status_text(read));
    }
    if (status == EXIT_DONE && j->given->tune == NULL) {
        status = settings_from_card(j);
    }
    return status == EXIT_DONE ? change_parameters(j) : status;
}

/* ---- results --------------------------------------------------------------------------------- */

static void show_results(const job *j)
{
    const cvk_replay_setting how = {
        .log = j->set.log[0]->name,
        .least_speed_rad_s = (double)j->tune.settings.observer.least_speed_rad_s,
        .search = j->given->search ? &j->found : NULL,
        .searched = j->searched,
        .corners = j->has_card ? "card's intervals" : "+-5 % of R, L, flux",
        .findings = &j->findings};
    show_document(cvk_replay_document(&j->replay, &j->rows, &how), j->given->json);
}

/* ---- the search ------------------------------------------------------------------------------ */

static bool on_progress(void *context, double share)
{
    (void)context;
    show_progress(VERB, share);
    return true;
}

static int search(job *j)
{
    cvk_refusal why = {0};
    const cvk_search_wish wish = {.kind = (cvk_observer_kind)j->searched,
                                  .card = j->has_card ? &j->card : NULL,
                                  .progress = on_progress};
    const cvk_status status =
        cvk_replay_search(&j->rows, &j->tune.settings, &wish, &j->found, &why);
    show_progress(VERB, 1.0);
    if (status == CVK_NOT_IN_LOG) {
        g_printerr("corvak replay: --search needs the rotor's angle in the log: column theta_e, or "
                   "theta_m with --pole-pairs\n");
        return EXIT_ANSWER_NO;
    }
    return status == CVK_OK ? EXIT_DONE : complain_refusal(VERB, status, &why);
}

static int write_tune(job *j)
{
    cvk_complaint complaint;
    cvk_settings *s = &j->tune.settings;
    *s = j->given->search ? j->found.best : *s;
    char *from = g_strdup_printf("replay of %s: worst error %.2f deg rms over the corners",
                                 j->set.log[0]->name, CVK_DEG_PER_RAD * j->found.after_rad);
    cvk_tune_give(&j->tune, cvk_parameter_named("observer.kind"), from);
    for (int key = 0; key < CVK_SEARCH_KEYS; key++) {
        cvk_tune_give(&j->tune, j->found.key[key], from);
    }
    g_free(from);
    return cvk_tune_file_write(&j->tune, j->given->output, &complaint) == CVK_OK
               ? EXIT_DONE
               : complain_file(VERB, &complaint);
}

static int replay(job *j)
{
    const arguments *a = j->given;
    cvk_refusal why = {0};
    cvk_complaint complaint;
    int status = a->search ? search(j) : EXIT_DONE;
    if (status != EXIT_DONE) {
        return status;
    }
    const cvk_settings *settings = a->search ? &j->found.best : &j->tune.settings;
    const cvk_status ran =
        cvk_replay_run(&j->rows, settings, j->which, POINTS, &j->replay, &j->trace, &why);
    if (ran == CVK_NOT_IN_LOG) {
        g_printerr("corvak replay: the rotor does not turn faster than observer.least_speed_rad_s "
                   "(%.3g rad/s) for two turns in this log: nothing can be judged\n",
                   (double)settings->observer.least_speed_rad_s);
        status = EXIT_ANSWER_NO;
    } else if (ran != CVK_OK) {
        return complain_refusal(VERB, ran, &why);
    }
    if (a->json || status == EXIT_DONE) {
        show_results(j);
    }
    if (a->plot != NULL && !cvk_draw_replay(&j->replay, &j->trace, a->search ? &j->found : NULL,
                                            (double)j->tune.settings.motor.pole_pairs,
                                            j->set.log[0]->name, a->plot, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    return a->output != NULL && status == EXIT_DONE ? write_tune(j) : status;
}

/* ---- the command ----------------------------------------------------------------------------- */

/* Which observers run: all, or the one that is named; and which one is searched for. */
static int choose_observers(job *j)
{
    const char *name = j->given->observer;
    j->which = ALL;
    j->searched = -1;
    for (int kind = 0; kind < CVK_OBSERVER_KINDS && name != NULL; kind++) {
        if (strcmp(cvk_observer_name(kind), name) == 0) {
            j->which = j->given->search ? ALL : 1u << kind;
            j->searched = kind;
        }
    }
    if (name != NULL && j->searched < 0) {
        return complain_usage(
            VERB, "--observer %s: none of those of observer.kind (corvak list parameters observer)",
            name);
    }
    return EXIT_DONE;
}

static int check_options(const arguments *a, int argc, char **argv)
{
    if (argc != 2) {
        return complain_usage(VERB, "name one log");
    }
    if (a->output != NULL && !a->search) {
        return complain_usage(VERB, "-o writes what --search has found: add --search");
    }
    if (a->pole_pairs < 0 || a->pole_pairs > CVK_MOST_POLE_PAIRS) {
        return complain_usage(VERB, "--pole-pairs %d: 1 to %d", a->pole_pairs, CVK_MOST_POLE_PAIRS);
    }
    char *const inputs[] = {argv[1], a->card, a->tune};
    const int status = check_output(VERB, a->output, FALSE, inputs, G_N_ELEMENTS(inputs));
    return status == EXIT_DONE ? check_output(VERB, a->plot, TRUE, inputs, G_N_ELEMENTS(inputs))
                               : status;
}

static gboolean parse(arguments *a, int *argc, char ***argv)
{
    const GOptionEntry entries[] = {
        {"card", 0, 0, G_OPTION_ARG_FILENAME, &a->card,
         "motor card: what the motor is, and how sure that is", "FILE"},
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &a->tune,
         "tune file: the observers' settings (else as gains would give them)", "FILE"},
        {"parameter", 'P', 0, G_OPTION_ARG_STRING_ARRAY, &a->parameters, "change a parameter",
         "KEY=VALUE"},
        {"observer", 0, 0, G_OPTION_ARG_STRING, &a->observer,
         "only this one: flux, emf or kalman (all)", "NAME"},
        {"search", 0, 0, G_OPTION_ARG_NONE, &a->search,
         "search the settings of the observer in use, or of --observer, for the smallest error",
         NULL},
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &a->output, "write what was found as a tune file",
         "FILE"},
        {"pole-pairs", 0, 0, G_OPTION_ARG_INT, &a->pole_pairs,
         "pole pairs (else from tune, card or log): for theta_m", "N"},
        PLOT_OPTION(&a->plot, "draw the observers side by side"),
        JSON_OPTION(&a->json),
        LOG_OPTION_ENTRIES(a->log),
        G_OPTION_ENTRY_NULL};
    return parse_options(
        VERB, "LOG",
        "Runs the controller's observers over a log: their angle against a rotor "
        "sensor, against the true\nangle of a simulated log (--map "
        "theta_e=true_theta_e), or against each other. Exit status 1 when\nthe "
        "log does not show it.",
        "corvak replay data/wheel-duty.h5 --tune wheel.tune.yaml --plot replay.png", entries, argc,
        argv);
}

int cmd_replay(int argc, char **argv)
{
    arguments a = {.log = LOG_OPTIONS_DEFAULT};
    if (!parse(&a, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = check_options(&a, argc, argv);
    if (status == EXIT_DONE) {
        job *j = g_new0(job, 1);
        j->given = &a;
        status = choose_observers(j);
        status = status == EXIT_DONE ? prepare(j, argv + 1) : status;
        if (status == EXIT_DONE) {
            j->searched = j->searched < 0 ? j->tune.settings.observer.kind : j->searched;
            status = replay(j);
        }
        cvk_replay_trace_free(&j->trace);
        cvk_replay_rows_free(&j->rows);
        free_log_set(&j->set);
        g_free(j);
    }
    free_log_options(&a.log);
    g_free(a.card);
    g_free(a.tune);
    g_free(a.output);
    g_free(a.plot);
    g_free(a.observer);
    g_strfreev(a.parameters);
    return status;
}
