/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading the logs named on the command line.
 */
#include "log_set.h"

#include "corvak/files/closest.h"

#include <stdarg.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#define MOST_DELAY_S 2e-5 /* of a current reading, that is believed */

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

/* What a log's mapping could be goes to stdout, to be put in a file. */
static void propose_mapping(const char *path)
{
    char *proposal = cvk_propose_mapping(path);
    if (proposal != NULL) {
        g_print("%s", proposal);
        free(proposal);
    }
}

/* The column whose name is closest to one that a map asks for. */
static char *closest_name(const char *wanted, const char *names)
{
    char **list = g_strsplit(names, ",", -1), *best = NULL;
    size_t least = SIZE_MAX;
    for (int n = 0; list[n] != NULL; n++) {
        const char *name = g_strstrip(list[n]);
        const size_t distance = cvk_name_distance(wanted, name);
        if (distance < least) {
            least = distance;
            g_free(best);
            best = g_strdup(name);
        }
    }
    g_strfreev(list);
    return best;
}

/* A column that a map names must be in some log. */
static int check_maps(const log_set *set, const char *verb)
{
    unsigned long used = 0;
    for (size_t n = 0; n < set->count; n++) {
        used |= set->file[n].maps_used;
    }
    for (size_t m = 0; m < set->map_count; m++) {
        if ((used >> m & 1ul) == 0) {
            const cvk_log_file *first = &set->file[0];
            char *closest = closest_name(set->map[m].name, first->names);
            int status = complain_usage(
                verb,
                "%s: there is no column \"%s\" to be taken for %s; there are %s. Did you "
                "mean \"%s\"?",
                first->path, set->map[m].name, cvk_column_name(set->map[m].column), first->names,
                closest != NULL ? closest : "");
            g_free(closest);
            return status;
        }
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
    const double delay_s = options->current_delay;
    if (delay_s != -1.0 && !(delay_s >= 0.0 && delay_s <= MOST_DELAY_S)) {
        return complain_usage(verb, "--current-delay %g: 0 to %g seconds", delay_s, MOST_DELAY_S);
    }
    for (int n = 0; n < count; n++) {
        show_progress("reading", (double)n / count);
        cvk_log_file *file = &set->file[set->count];
        if (cvk_log_file_read(file, paths[n], set->map, set->map_count, &complaint) == CVK_OK) {
            file->log.current_delay_s = delay_s >= 0.0 ? delay_s : file->log.current_delay_s;
            set->log[set->count++] = &file->log;
            continue;
        }
        show_progress("reading", 1.0);
        complain_file(verb, &complaint);
        if (strstr(complaint.text, "--map") != NULL) {
            propose_mapping(paths[n]);
        }
        set->unreadable++;
    }
    show_progress("reading", 1.0);
    if (set->count == 0) {
        return EXIT_BAD_USAGE;
    }
    if (set->unreadable > 0) {
        g_printerr("corvak %s: %zu of %d logs cannot be read and are left out\n", verb,
                   set->unreadable, count);
    }
    return check_maps(set, verb);
}

static gboolean has_voltages(const cvk_log *log)
{
    return (cvk_log_has(log, CVK_COLUMN_VA) && cvk_log_has(log, CVK_COLUMN_VB)) ||
           (cvk_log_has(log, CVK_COLUMN_VAB) && cvk_log_has(log, CVK_COLUMN_VBC)) ||
           (cvk_log_has(log, CVK_COLUMN_DUTY_A) && cvk_log_has(log, CVK_COLUMN_DUTY_B) &&
            cvk_log_has(log, CVK_COLUMN_VDC));
}

void propose_for_unknown_columns(const log_set *set)
{
    for (size_t n = 0; n < set->count; n++) {
        const cvk_log_file *file = &set->file[n];
        if (file->ignored_columns > 0 &&
            (!has_voltages(&file->log) || !cvk_log_has(&file->log, CVK_COLUMN_T))) {
            propose_mapping(file->path);
        }
    }
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
            char where[32] = "";
            if (file->first_bad_line > 0) {
                g_snprintf(where, sizeof where, " in line %ld", file->first_bad_line);
            }
            add_finding(estimate, CVK_WARNING, file->log.name,
                        "%zu cells are empty or not numbers, the first%s: \"%s\"", file->bad_cells,
                        where, file->first_bad_cell);
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
