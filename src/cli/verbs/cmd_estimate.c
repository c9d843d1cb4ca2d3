/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak estimate: one or several logs of one motor to its card.
 */
#include "base/cli.h"
#include "base/log_set.h"

#include "corvak/files/card_yaml.h"
#include "corvak/files/rig_yaml.h"

#include <string.h>

#define VERB "estimate"

typedef struct arguments {
    gboolean json, each, why;
    int pole_pairs;
    char *plot, *details, *output, *name, *compare, *refine;
    log_options logs;
} arguments;

typedef struct job {
    log_set set;
    cvk_rig_config truth;
    cvk_card before; /* that these logs refine */
    cvk_estimate estimate;
    cvk_estimate_curves curves;
} job;

/* Error findings on stderr, as every other refusal. */
static int complain_findings(const job *j)
{
    int status = EXIT_ANSWER_NO;
    for (size_t n = 0; n < j->estimate.findings; n++) {
        const cvk_finding *finding = &j->estimate.finding[n];
        if (finding->severity == CVK_ERROR) {
            status = complain_usage(VERB, "%s: %s", finding->log, finding->text);
        }
    }
    propose_for_unknown_columns(&j->set);
    return status;
}

/* By the machine that the logs name in their heads, else "wheel" of wheel-standstill.csv; of
 * several the first, whatever their order. */
static void name_card(job *j, const arguments *a)
{
    const char *rig = NULL, *log = j->set.log[0]->name;
    for (size_t n = 0; n < j->set.count; n++) {
        const char *named = j->set.file[n].rig;
        rig = named[0] != '\0' && (rig == NULL || strcmp(named, rig) < 0) ? named : rig;
        log = strcmp(j->set.log[n]->name, log) < 0 ? j->set.log[n]->name : log;
    }
    char *name = g_strdup(a->name != NULL ? a->name : rig != NULL ? rig : log);
    if (a->name == NULL && rig == NULL) {
        name[strcspn(name, "-.")] = '\0';
    }
    g_strlcpy(j->estimate.card.name, name, sizeof j->estimate.card.name);
    g_free(name);
}

static cvk_estimate_options options_of(const arguments *a)
{
    cvk_estimate_options options = estimate_options_of(&a->logs);
    options.pole_pairs = a->pole_pairs;
    return options;
}

static int estimate(job *j, const arguments *a)
{
    cvk_estimate_options options = options_of(a);
    options.curves = a->plot != NULL || a->details != NULL ? &j->curves : NULL;
    j->curves.with_profile = a->details != NULL;
    cvk_status status = cvk_estimate_logs(j->set.log, j->set.count, &options, &j->estimate);
    add_reader_findings(&j->estimate, &j->set);
    name_card(j, a);
    if (status != CVK_OK && status != CVK_NOT_IN_LOG) {
        return complain_usage(VERB, "%s", cvk_status_text(status));
    }
    return status == CVK_OK ? EXIT_DONE : complain_findings(j);
}

static int write_results(job *j, const arguments *a)
{
    cvk_complaint complaint;
    const cvk_rig_config *truth = a->compare != NULL ? &j->truth : NULL;
    if (a->refine != NULL) {
        (void)cvk_card_join(&j->estimate.card, &j->before);
    }
    show_document(cvk_estimate_document(&j->estimate, truth, a->why), a->json);
    if (a->output != NULL &&
        cvk_card_file_write(&j->estimate.card, a->output, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    if (a->plot != NULL && !cvk_draw_estimate(&j->estimate, truth, a->plot, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    if (a->details != NULL && !cvk_draw_details(&j->estimate, a->details, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    return EXIT_DONE;
}

/* Refuses before the work what could not be written after it. */
static int check_outputs(const arguments *a, char **paths, int count)
{
    int status = check_output(VERB, a->plot, TRUE, paths, count);
    status = status == EXIT_DONE ? check_output(VERB, a->details, TRUE, paths, count) : status;
    return status == EXIT_DONE ? check_output(VERB, a->output, FALSE, paths, count) : status;
}

/* A log states how its rig was changed from the file; the truth is that of the first that does. */
static int change_truth(job *j)
{
    const char *changes = "";
    for (size_t n = 0; n < j->set.count && changes[0] == '\0'; n++) {
        changes = j->set.file[n].rig_changes;
    }
    char **list = g_strsplit(changes, " ", -1);
    int status = EXIT_DONE;
    for (int n = 0; list[n] != NULL && status == EXIT_DONE; n++) {
        char *one[] = {list[n], NULL};
        if (strcmp(list[n], "imperfections.all=off") == 0) {
            status = cvk_rig_switch(&j->truth, "all", false) ? EXIT_DONE : EXIT_BAD_USAGE;
        } else if (list[n][0] != '\0') {
            status = set_rig_keys(VERB, one, &j->truth);
        }
    }
    g_strfreev(list);
    j->truth = cvk_rig_effective(&j->truth);
    return status;
}

static int work(job *j, const arguments *a, char **paths, int count)
{
    cvk_complaint complaint;
    int status = check_outputs(a, paths, count);
    if (status == EXIT_DONE && a->compare != NULL) {
        status = read_bench(VERB, a->compare, NULL, NULL, &j->truth);
    }
    if (status == EXIT_DONE && a->refine != NULL &&
        cvk_card_file_read(&j->before, a->refine, &complaint) != CVK_OK) {
        status = complain_file(VERB, &complaint);
    }
    if (status == EXIT_DONE) {
        status = read_log_set(&j->set, VERB, &a->logs, paths, count);
    }
    if (status == EXIT_DONE && a->compare != NULL) {
        status = change_truth(j);
    }
    if (status == EXIT_DONE) {
        status = estimate(j, a);
        if (status != EXIT_BAD_USAGE) { /* with "no" as the answer, say what is missing */
            int written = write_results(j, a);
            status = MAX(status, written);
        }
    }
    return status;
}

/* Every log is a motor of its own: one line of JSON each, as soon as it is done. */
static int work_each(const arguments *a, char **paths, int count)
{
    int worst = count > 0 ? EXIT_DONE : complain_usage(VERB, "name logs, one of each motor");
    if (a->plot != NULL || a->details != NULL || a->output != NULL || a->refine != NULL ||
        a->compare != NULL) {
        return complain_usage(VERB, "--each prints lines of JSON: leave --plot, --plot-details, "
                                    "--output, --refine and --compare out");
    }
    for (int n = 0; n < count; n++) {
        job *j = g_new0(job, 1);
        int status = read_log_set(&j->set, VERB, &a->logs, &paths[n], 1);
        if (status == EXIT_DONE) {
            const cvk_estimate_options options = options_of(a);
            const cvk_status done =
                cvk_estimate_logs(j->set.log, j->set.count, &options, &j->estimate);
            add_reader_findings(&j->estimate, &j->set);
            name_card(j, a);
            status = done == CVK_OK ? EXIT_DONE : EXIT_ANSWER_NO;
        }
        show_json_line(cvk_estimate_line_document(
            &j->estimate, paths[n], status, status == EXIT_BAD_USAGE ? last_complaint() : NULL));
        worst = MAX(worst, MIN(status, EXIT_ANSWER_NO));
        free_log_set(&j->set);
        g_free(j);
    }
    return worst;
}

int cmd_estimate(int argc, char **argv)
{
    arguments a = {.logs = LOG_OPTIONS_DEFAULT};
    const GOptionEntry entries[] = {
        JSON_OPTION(&a.json),
        {"why", 0, 0, G_OPTION_ARG_NONE, &a.why, "tell what would show what is missing", NULL},
        PLOT_OPTION(&a.plot, "draw the page to look at first"),
        {"plot-details", 0, 0, G_OPTION_ARG_FILENAME, &a.details,
         "draw the second page: misfit, likelihood, inductance against angle and current, pole "
         "pairs",
         "FILE.png|.svg"},
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &a.output, "write the motor card (YAML)", "FILE"},
        {"name", 'n', 0, G_OPTION_ARG_STRING, &a.name, "name on the card", "NAME"},
        {"compare", 0, 0, G_OPTION_ARG_FILENAME, &a.compare,
         "compare with the truth of a simulated rig", "RIG"},
        {"pole-pairs", 0, 0, G_OPTION_ARG_INT, &a.pole_pairs,
         "you know them: they stand unless the logs show other ones (from the log, else found)",
         "N"},
        {"refine", 0, 0, G_OPTION_ARG_FILENAME, &a.refine,
         "join what an earlier card of this motor knows (write the result with -o)", "CARD"},
        {"each", 0, 0, G_OPTION_ARG_NONE, &a.each,
         "every log is a motor of its own: one line of JSON each, as soon as it is done", NULL},
        LOG_OPTION_ENTRIES(a.logs),
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "LOG [LOG...]",
                       "Reads one or several logs of the same motor (CSV) and estimates "
                       "resistance, inductances,\nflux linkage and pole pairs, each with a 95 % "
                       "interval, and the inverter's own voltage\nand delay. What the logs do not "
                       "show is named, with the run that would show it. `-` reads a CSV log from a "
                       "pipe.",
                       "corvak estimate data/wheel-standstill.csv --plot wheel.png", entries, &argc,
                       &argv)) {
        return EXIT_BAD_USAGE;
    }
    job *j = g_new0(job, 1);
    int status =
        a.pole_pairs < 0 || a.pole_pairs > CVK_MOST_POLE_PAIRS
            ? complain_usage(VERB, "--pole-pairs %d: 1 to %d", a.pole_pairs, CVK_MOST_POLE_PAIRS)
        : a.each ? work_each(&a, argv + 1, argc - 1)
                 : work(j, &a, argv + 1, argc - 1);
    free_log_set(&j->set);
    g_free(j);
    g_free(a.plot);
    g_free(a.details);
    g_free(a.output);
    g_free(a.name);
    g_free(a.compare);
    g_free(a.refine);
    free_log_options(&a.logs);
    return status;
}
