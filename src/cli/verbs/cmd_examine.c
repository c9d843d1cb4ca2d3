/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak examine: the health report of a log.
 */
#include "base/cli.h"
#include "base/log_set.h"

#define VERB "examine"

typedef struct job {
    log_set set;
    cvk_examination examination;
} job;

static int work(job *j, const log_options *options, gboolean json, const char *plot, char **paths,
                int count)
{
    cvk_complaint complaint;
    if (count != 1) {
        return complain_usage(VERB, "name one log");
    }
    if (check_output(VERB, plot, TRUE, paths, count) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    int status = read_log_set(&j->set, VERB, options, paths, count);
    if (status != EXIT_DONE) {
        return status;
    }
    const cvk_estimate_options how = estimate_options_of(options);
    const cvk_status examined = cvk_examine_log(j->set.log[0], &how, &j->examination);
    if (examined != CVK_OK && examined != CVK_NOT_IN_LOG) {
        return complain_usage(VERB, "%s", cvk_status_text(examined));
    }
    add_reader_findings(&j->examination.estimate, &j->set);
    show_document(cvk_examination_document(&j->examination), json);
    if (plot != NULL && !cvk_draw_examination(j->set.log[0], &j->examination, plot, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    return examined == CVK_OK ? EXIT_DONE : EXIT_ANSWER_NO;
}

int cmd_examine(int argc, char **argv)
{
    gboolean json = FALSE;
    char *plot = NULL;
    log_options options = LOG_OPTIONS_DEFAULT;
    const GOptionEntry entries[] = {JSON_OPTION(&json), PLOT_OPTION(&plot, "draw the report"),
                                    LOG_OPTION_ENTRIES(options), G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "LOG",
                       "Tells how healthy a log is before anything is believed: its time base, "
                       "noise, steps and\nclipping of each channel, whether the currents fit each "
                       "other and the voltages, and how\nsharply each parameter can be had from "
                       "it.",
                       "corvak examine data/wheel-standstill.csv --plot health.png", entries, &argc,
                       &argv)) {
        return EXIT_BAD_USAGE;
    }
    job *j = g_new0(job, 1);
    int status = work(j, &options, json, plot, argv + 1, argc - 1);
    free_log_set(&j->set);
    g_free(j);
    g_free(plot);
    free_log_options(&options);
    return status;
}
