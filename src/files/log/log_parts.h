/* SPDX-License-Identifier: Apache-2.0
 *
 * What the readers of CSV and HDF5 logs share.
 */
#ifndef CORVAK_FILES_LOG_LOG_PARTS_H
#define CORVAK_FILES_LOG_LOG_PARTS_H

#include "column_names.h"

/* An empty log with its name. */
void cvk_log_start(cvk_log_file *file, const char *path);

/* Keys of a log beside its columns. */
#define CVK_LOG_KEYS 11
extern const char *const cvk_log_keys[CVK_LOG_KEYS];

/* Takes the value of one of those keys, when it is a number, or of `rig` a name of one word, or of
 * `rig_changes` a text; others are passed over. */
void cvk_log_key(cvk_log_file *file, const char *key, const char *value, const char *stop,
                 double *sample_rate_hz);

/* Columns into the log; without a time column but with a stated rate, time is the row number. */
cvk_status cvk_log_finish(cvk_log_file *file, double sample_rate_hz);

bool cvk_is_hdf5(const char *head, size_t length);
cvk_status cvk_log_hdf5_read(cvk_log_file *file, const char *path, const cvk_column_map *maps,
                             size_t map_count, cvk_complaint *complaint);

#endif
