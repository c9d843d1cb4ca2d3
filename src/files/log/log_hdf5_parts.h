/* SPDX-License-Identifier: Apache-2.0
 *
 * What a reading of an HDF5 log leaves in memory that two processes share.
 */
#ifndef CORVAK_FILES_LOG_LOG_HDF5_PARTS_H
#define CORVAK_FILES_LOG_LOG_HDF5_PARTS_H

#include "log_parts.h"

/* At the start of the shared memory. */
typedef struct cvk_hdf5_found {
    bool done;
    cvk_status status;
    double sample_rate_hz;
    size_t bytes;                    /* of the memory, cells included */
    size_t offset[CVK_COLUMN_COUNT]; /* of a column's cells; 0: none */
    cvk_log_file file;
    cvk_complaint complaint;
} cvk_hdf5_found;

/* Reads in this process, which a damaged file may end; cells go to the end of `memory_file`. */
void cvk_hdf5_read_file(const cvk_log_file *file, const char *path, const cvk_column_map *maps,
                        size_t map_count, cvk_hdf5_found *memory, int memory_file);

/* cvk_log_hdf5_read() without its child: for files that libhdf5 survives. */
cvk_status cvk_log_hdf5_read_here(cvk_log_file *file, const char *path, const cvk_column_map *maps,
                                  size_t map_count, cvk_complaint *complaint);

#endif
