/* SPDX-License-Identifier: Apache-2.0
 *
 * Writing a log row by row, as CSV or HDF5 by the name of the file. Memory does not grow with the
 * rows. The log is written beside its place and renamed when it is whole.
 */
#ifndef CORVAK_FILES_LOG_WRITER_H
#define CORVAK_FILES_LOG_WRITER_H

#include "corvak/files/complaint.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_LOG_WRITER_MOST 48 /* columns */

typedef struct cvk_log_writer_column {
    const char *name; /* canonical: docs/file-formats.md */
    const char *unit; /* "A", "V", ...; "" for none */
    int decimals;     /* written to CSV */
} cvk_log_writer_column;

/* What stands before the columns: a `# key: value` line, or an attribute of the HDF5 file. */
typedef struct cvk_log_writer_note {
    const char *key;
    char value[256];
} cvk_log_writer_note;

typedef struct cvk_log_writer cvk_log_writer;

/* Opens a log. `path` null writes CSV to stdout; a name ending in .h5 or .hdf5 is HDF5, any other
 * is CSV. Null on failure, with the complaint filled in. */
cvk_log_writer *cvk_log_writer_open(const char *path, const cvk_log_writer_column *columns,
                                    size_t column_count, const cvk_log_writer_note *notes,
                                    size_t note_count, cvk_complaint *complaint);

/* One row; NaN is an empty cell in CSV. Errors show when the log is closed. */
void cvk_log_writer_row(cvk_log_writer *writer, const double *cells);

/* Closes and frees. With `keep` the log takes its place; without, nothing is left behind.
 * CVK_FILE_ERROR when it could not be written completely. */
cvk_status cvk_log_writer_close(cvk_log_writer *writer, bool keep,
                                cvk_complaint *complaint) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
