/* SPDX-License-Identifier: Apache-2.0
 *
 * Where log_writer.c puts rows when the log is HDF5.
 */
#ifndef CORVAK_FILES_LOG_LOG_SINK_H
#define CORVAK_FILES_LOG_LOG_SINK_H

#include "corvak/files/log_writer.h"

#include <stdio.h>

typedef struct cvk_log_hdf5 cvk_log_hdf5;

/* Before the first use of the library, for reading too. */
void cvk_hdf5_begin(void);

/* Null on failure. */
cvk_log_hdf5 *cvk_log_hdf5_open(const char *path, const cvk_log_writer_column *columns,
                                size_t column_count, const cvk_log_writer_note *notes,
                                size_t note_count);
bool cvk_log_hdf5_row(cvk_log_hdf5 *log, const double *cells);
bool cvk_log_hdf5_close(cvk_log_hdf5 *log);

#endif
