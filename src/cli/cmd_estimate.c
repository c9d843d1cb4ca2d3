/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak estimate: one or several logs of one motor to its card.
 */
#include "cli.h"

#include "corvak/files/card_yaml.h"
#include "corvak/files/log_csv.h"
#include "corvak/files/rig_yaml.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#define VERB "estimate"
#define MOST_LOGS 64
#define MOST_MAPS 32

typedef struct arguments {
    gboolean json;
    char *plot, *card, *name, *compare;
    char **maps;
    double current_tolerance, voltage_tolerance, largest_current;
} arguments;

typedef struct job {
    size_t count;
    cvk_log_file file[MOST_LOGS];
    const cvk_log *log[MOST_LOGS];
    cvk_column_map map[MOST_MAPS];
    size_t map_count;
    cvk_rig_config truth;
    cvk_estimate estimate;
} job;

static int parse_maps(job *j, char **maps)
{
    for (size_t n = 0; maps != NULL && maps[n] != NULL; n++) {
        if (n == MOST_MAPS || cvk_column_map_parse(&j->map[n], maps[n]) != CVK_OK) {
            return complain_usage(VERB,
                                  "--map %s: write COLUMN=NAME with a canonical column such as t, "
                                  "ia, va, duty_a, vdc, theta_m (at most %d)",
                                  maps[n], MOST_MAPS);
        }
        j->map_count = n + 1;
    }
    return EXIT_DONE;
}

static void add_finding(cvk_estimate *estimate, const char *log, const char *format, ...)
    G_GNUC_PRINTF(3, 4);
static void add_finding(cvk_estimate *estimate, const char *log, const char *format, ...)
{
    if (estimate->findings == CVK_MAX_FINDINGS) {
        return;
    }
    cvk_finding *finding = &estimate->finding[estimate->findings++];
    finding->severity = CVK_WARNING;
    g_strlcpy(finding->log, log, sizeof finding->log);
    va_list values;
    va_start(values, format);
    g_vsnprintf(finding->text, sizeof finding->text, format, values);
    va_end(values);
}

/* What the reader noticed becomes findings of the estimate, behind its own. */
static void add_reader_findings(cvk_estimate *estimate, const cvk_log_file *file)
{
    if (file->bad_cells > 0) {
        add_finding(estimate, file->log.name,
                    "%zu cells are empty or not numbers, the first in line %ld: \"%s\"",
                    file->bad_cells, file->first_bad_line, file->first_bad_cell);
    }
    if (file->truncated) {
        add_finding(estimate, file->log.name,
                    "the last line is cut off and left out: was the recording interrupted?");
    }
}

static int read_logs(job *j, char **paths, int count)
{
    cvk_complaint complaint;
    if (count < 1 || count > MOST_LOGS) {
        return complain_usage(VERB, "name 1 to %d logs of one motor", MOST_LOGS);
    }
    for (int n = 0; n < count; n++) {
        show_progress("reading", (double)n / count);
        if (cvk_log_file_read(&j->file[n], paths[n], j->map, j->map_count, &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
        j->log[n] = &j->file[n].log;
        j->count = (size_t)n + 1;
    }
    show_progress("reading", 1.0);
    return EXIT_DONE;
}

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
    return status;
}

static void name_card(job *j, const arguments *a)
{
    const char *name = a->name;
    if (name == NULL) { /* "wheel" of wheel-standstill.csv */
        name = j->log[0]->name;
    }
    g_strlcpy(j->estimate.card.name, name, sizeof j->estimate.card.name);
    if (a->name == NULL) {
        j->estimate.card.name[strcspn(j->estimate.card.name, "-.")] = '\0';
    }
}

static int estimate(job *j, const arguments *a)
{
    cvk_estimate_options options = cvk_estimate_options_default();
    options.current_gain_tolerance = a->current_tolerance;
    options.voltage_gain_tolerance = a->voltage_tolerance;
    options.largest_current_a = a->largest_current;
    cvk_status status = cvk_estimate_logs(j->log, j->count, &options, &j->estimate);
    for (size_t n = 0; n < j->count; n++) {
        add_reader_findings(&j->estimate, &j->file[n]);
    }
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
    if (a->json) {
        print_estimate_json(&j->estimate);
    } else {
        print_estimate_table(&j->estimate, truth);
    }
    if (a->card != NULL && cvk_card_file_write(&j->estimate.card, a->card, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    if (a->plot != NULL && !draw_estimate(&j->estimate, truth, a->plot, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    return EXIT_DONE;
}

static int work(job *j, const arguments *a, char **paths, int count)
{
    cvk_complaint complaint;
    int status = parse_maps(j, a->maps);
    if (status == EXIT_DONE && a->compare != NULL &&
        cvk_rig_file_read(&j->truth, a->compare, &complaint) != CVK_OK) {
        status = complain_file(VERB, &complaint);
    }
    if (status == EXIT_DONE) {
        status = read_logs(j, paths, count);
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

int cmd_estimate(int argc, char **argv)
{
    arguments a = {.current_tolerance = -1.0, .voltage_tolerance = -1.0, .largest_current = 500.0};
    const GOptionEntry entries[] = {
        {"json", 0, 0, G_OPTION_ARG_NONE, &a.json, "print one JSON document", NULL},
        {"plot", 0, 0, G_OPTION_ARG_FILENAME, &a.plot, "draw the page to look at first",
         "FILE.png|.svg"},
        {"card", 'c', 0, G_OPTION_ARG_FILENAME, &a.card, "write the motor card (YAML)", "FILE"},
        {"name", 'n', 0, G_OPTION_ARG_STRING, &a.name, "name on the card", "NAME"},
        {"map", 'm', 0, G_OPTION_ARG_STRING_ARRAY, &a.maps,
         "the log calls this column NAME (may be repeated)", "COLUMN=NAME"},
        {"compare", 0, 0, G_OPTION_ARG_FILENAME, &a.compare,
         "compare with the truth of a simulated rig", "RIG"},
        {"current-tolerance", 0, 0, G_OPTION_ARG_DOUBLE, &a.current_tolerance,
         "bound of the gain error common to the current channels (from the log, else 0.01)",
         "SHARE"},
        {"voltage-tolerance", 0, 0, G_OPTION_ARG_DOUBLE, &a.voltage_tolerance,
         "the same of the voltage channels (from the log, else 0.005)", "SHARE"},
        {"largest-current", 0, 0, G_OPTION_ARG_DOUBLE, &a.largest_current,
         "a log with more is taken for one in milliampere (500)", "A"},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "LOG [LOG...]",
                       "Reads one or several logs of the same motor (CSV) and estimates "
                       "resistance, inductances,\nflux linkage and pole pairs, each with a 95 % "
                       "interval, and the inverter's own voltage\nand delay. What the logs do not "
                       "show is named, with the run that would show it.",
                       "corvak estimate data/wheel-standstill.csv --plot wheel.png", entries, &argc,
                       &argv)) {
        return EXIT_BAD_USAGE;
    }
    job *j = g_new0(job, 1);
    int status = work(j, &a, argv + 1, argc - 1);
    for (size_t n = 0; n < MOST_LOGS; n++) {
        cvk_log_file_free(&j->file[n]);
    }
    g_free(j);
    g_free(a.plot);
    g_free(a.card);
    g_free(a.name);
    g_free(a.compare);
    g_strfreev(a.maps);
    return status;
}
