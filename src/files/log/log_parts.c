/* SPDX-License-Identifier: Apache-2.0
 *
 * The life of a log in memory, whatever it was read from.
 */
#include "log_parts.h"

#include "text/number.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>

void cvk_log_start(cvk_log_file *file, const char *path)
{
    *file = (cvk_log_file){.log = cvk_log_empty("")};
    snprintf(file->path, sizeof file->path, "%s", path);
    const char *slash = strrchr(file->path, '/');
    file->log.name = strcmp(path, "-") == 0 ? "stdin" : (slash != NULL ? slash + 1 : file->path);
}

enum { NUMBERS = CVK_LOG_KEYS - 2 }; /* of the keys; then texts */

const char *const cvk_log_keys[CVK_LOG_KEYS] = {"current_gain_tolerance",
                                                "voltage_gain_tolerance",
                                                "encoder_counts",
                                                "sample_rate_hz",
                                                "shaft_turns",
                                                "added_inertia_kg_m2",
                                                "pole_pairs",
                                                "current_delay_s",
                                                "pwm_hz",
                                                "rig",
                                                "rig_changes"};

static void take_rig(cvk_log_file *file, const char *value, const char *stop)
{
    size_t length = 0;
    while (value + length < stop &&
           (isalnum((unsigned char)value[length]) || strchr("_.-", value[length]) != NULL)) {
        length++;
    }
    const char *after = value + length;
    while (after < stop && isspace((unsigned char)*after)) {
        after++;
    }
    if (length > 0 && length < sizeof file->rig && after == stop) {
        memcpy(file->rig, value, length);
        file->rig[length] = '\0';
    }
}

void cvk_log_key(cvk_log_file *file, const char *key, const char *value, const char *stop,
                 double *sample_rate_hz)
{
    cvk_log *log = &file->log;
    double *const places[NUMBERS] = {&log->current_gain_tolerance,
                                     &log->voltage_gain_tolerance,
                                     &log->encoder_counts,
                                     sample_rate_hz,
                                     &log->shaft_turns,
                                     &log->added_inertia_kg_m2,
                                     &log->pole_pairs,
                                     &log->current_delay_s,
                                     &log->pwm_hz};
    double number;
    const char *after;
    for (size_t n = 0; n < NUMBERS; n++) {
        if (strcmp(cvk_log_keys[n], key) == 0 &&
            cvk_read_number(value, stop, '.', &number, &after) && number >= 0.0) {
            *places[n] = number;
        }
    }
    if (strcmp(cvk_log_keys[NUMBERS], key) == 0) {
        take_rig(file, value, stop);
    } else if (strcmp(cvk_log_keys[NUMBERS + 1], key) == 0) {
        snprintf(file->rig_changes, sizeof file->rig_changes, "%.*s", (int)(stop - value), value);
    }
}

cvk_status cvk_log_finish(cvk_log_file *file, double sample_rate_hz)
{
    if (file->cells[CVK_COLUMN_T] == NULL && sample_rate_hz > 0.0) {
        file->no_time = true;
        file->cells[CVK_COLUMN_T] = malloc(file->log.rows * sizeof(double));
        if (file->cells[CVK_COLUMN_T] == NULL) {
            return CVK_NO_MEMORY;
        }
        for (size_t row = 0; row < file->log.rows; row++) {
            file->cells[CVK_COLUMN_T][row] = (double)row / sample_rate_hz;
        }
    }
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        file->log.column[c] = file->cells[c];
    }
    return CVK_OK;
}

void cvk_log_file_free(cvk_log_file *file)
{
    const char *begin = file->mapping;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        const char *cells = (const char *)file->cells[c];
        if (begin == NULL || cells < begin || cells >= begin + file->mapping_bytes) {
            free(file->cells[c]);
        }
        file->cells[c] = NULL;
        file->log.column[c] = NULL;
    }
    if (file->mapping != NULL) {
        (void)munmap(file->mapping, file->mapping_bytes);
        file->mapping = NULL;
    }
    file->log.rows = 0;
    file->capacity = 0;
}
