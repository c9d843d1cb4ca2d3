/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading the logs named on the command line.
 */
#include "log_set.h"

#include <stdarg.h>

static int parse_maps(log_set *set, const char *verb, const log_options *options)
{
    cvk_complaint complaint = {.text = ""};
    if (options->mapping != NULL && cvk_column_maps_read(set->map, MOST_MAPS, &set->map_count,
                                                         options->mapping, &complaint) != CVK_OK) {
        return complain_file(verb, &complaint);
    }
    for (size_t n = 0; options->maps != NULL && options->maps[n] != NULL; n++) {
        if (set->map_count == MOST_MAPS ||
            cvk_column_map_parse(&set->map[set->map_count], options->maps[n]) != CVK_OK) {
            return complain_usage(verb,
                                  "--map %s: write COLUMN=NAME with a canonical column such as t, "
                                  "ia, va, duty_a, vdc, theta_m (at most %d)",
                                  options->maps[n], MOST_MAPS);
        }
        set->map_count++;
    }
    return EXIT_DONE;
}

int read_log_set(log_set *set, const char *verb, const log_options *options, char **paths,
                 int count)
{
    cvk_complaint complaint;
    int status = parse_maps(set, verb, options);
    if (status != EXIT_DONE) {
        return status;
    }
    if (count < 1 || count > MOST_LOGS) {
        return complain_usage(verb, "name 1 to %d logs of one motor", MOST_LOGS);
    }
    for (int n = 0; n < count; n++) {
        show_progress("reading", (double)n / count);
        set->count = (size_t)n + 1;
        if (cvk_log_file_read(&set->file[n], paths[n], set->map, set->map_count, &complaint) !=
            CVK_OK) {
            return complain_file(verb, &complaint);
        }
        set->log[n] = &set->file[n].log;
    }
    show_progress("reading", 1.0);
    return EXIT_DONE;
}

void free_log_set(log_set *set)
{
    for (size_t n = 0; n < set->count; n++) {
        cvk_log_file_free(&set->file[n]);
    }
}

void free_log_options(log_options *options)
{
    g_strfreev(options->maps);
    g_free(options->mapping);
}

cvk_estimate_options estimate_options_of(const log_options *options)
{
    cvk_estimate_options out = cvk_estimate_options_default();
    out.current_gain_tolerance = options->current_tolerance;
    out.voltage_gain_tolerance = options->voltage_tolerance;
    out.largest_current_a = options->largest_current;
    out.switch_resistance_ohm = options->switch_resistance;
    out.threads = (int)g_get_num_processors();
    return out;
}

static void add_finding(cvk_estimate *estimate, cvk_severity severity, const char *log,
                        const char *format, ...) G_GNUC_PRINTF(4, 5);
static void add_finding(cvk_estimate *estimate, cvk_severity severity, const char *log,
                        const char *format, ...)
{
    if (estimate->findings == CVK_MAX_FINDINGS) {
        return;
    }
    cvk_finding *finding = &estimate->finding[estimate->findings++];
    finding->severity = severity;
    g_strlcpy(finding->log, log, sizeof finding->log);
    va_list values;
    va_start(values, format);
    g_vsnprintf(finding->text, sizeof finding->text, format, values);
    va_end(values);
}

void add_reader_findings(cvk_estimate *estimate, const log_set *set)
{
    for (size_t n = 0; n < set->count; n++) {
        const cvk_log_file *file = &set->file[n];
        if (file->bad_cells > 0) {
            add_finding(estimate, CVK_WARNING, file->log.name,
                        "%zu cells are empty or not numbers, the first in line %ld: \"%s\"",
                        file->bad_cells, file->first_bad_line, file->first_bad_cell);
        }
        if (file->stretched) {
            add_finding(estimate, CVK_NOTE, file->log.name,
                        "too long to be held in memory: evenly spread stretches are used, %zu rows",
                        file->log.rows);
        }
        if (file->truncated) {
            add_finding(estimate, CVK_WARNING, file->log.name,
                        "the last line is cut off and left out: was the recording interrupted?");
        }
    }
}
