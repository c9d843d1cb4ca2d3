/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs as HDF5: one data set per column in the root group, named as in CSV, its unit as attribute
 * `unit`; what CSV has in `#` lines are attributes of the root group. Columns are 64-bit floats,
 * chunked. Not compressed: unpacking would take longer than reading CSV.
 */
#include "log_sink.h"

#include <hdf5.h>
#include <stdlib.h>

#define CHUNK 4096u

struct cvk_log_hdf5 {
    hid_t file, set[CVK_LOG_WRITER_MOST];
    size_t columns, buffered;
    hsize_t written;
    double *cells; /* CHUNK rows of each column */
    bool good;
};

static bool write_text(hid_t object, const char *key, const char *text)
{
    hid_t type = H5Tcopy(H5T_C_S1), space = H5Screate(H5S_SCALAR);
    bool good = H5Tset_size(type, H5T_VARIABLE) >= 0 && H5Tset_cset(type, H5T_CSET_UTF8) >= 0;
    hid_t attribute = H5Acreate2(object, key, type, space, H5P_DEFAULT, H5P_DEFAULT);
    good = good && attribute >= 0 && H5Awrite(attribute, type, &text) >= 0;
    if (attribute >= 0) {
        H5Aclose(attribute);
    }
    H5Sclose(space);
    H5Tclose(type);
    return good;
}

static hid_t create_column(hid_t file, const cvk_log_writer_column *column)
{
    const hsize_t none = 0, without_end = H5S_UNLIMITED, chunk = CHUNK;
    hid_t space = H5Screate_simple(1, &none, &without_end);
    hid_t plan = H5Pcreate(H5P_DATASET_CREATE), set = -1;
    /* without times, the same rows give the same bytes */
    if (H5Pset_obj_track_times(plan, false) >= 0 && H5Pset_chunk(plan, 1, &chunk) >= 0) {
        set = H5Dcreate2(file, column->name, H5T_IEEE_F64LE, space, H5P_DEFAULT, plan, H5P_DEFAULT);
    }
    H5Pclose(plan);
    H5Sclose(space);
    return set;
}

static bool broken; /* a file could not be written */

static void end_library(void)
{
    if (!broken) {
        (void)H5close();
    }
}

/* At exit the library would flush files anew that could not be written, and crash (1.10). */
void cvk_hdf5_begin(void)
{
    static bool begun;
    if (!begun && H5dont_atexit() >= 0) {
        (void)atexit(end_library);
    }
    begun = true;
    H5Eset_auto2(H5E_DEFAULT, NULL, NULL); /* we report in our own words */
}

cvk_log_hdf5 *cvk_log_hdf5_open(const char *path, const cvk_log_writer_column *columns,
                                size_t column_count, const cvk_log_writer_note *notes,
                                size_t note_count)
{
    cvk_hdf5_begin();
    cvk_log_hdf5 *log = calloc(1, sizeof *log);
    double *cells = malloc(column_count * CHUNK * sizeof *cells);
    if (log == NULL || cells == NULL) {
        free(log);
        free(cells);
        return NULL;
    }
    log->cells = cells;
    log->columns = column_count;
    log->file = H5Fcreate(path, H5F_ACC_EXCL, H5P_DEFAULT, H5P_DEFAULT);
    log->good = log->file >= 0;
    for (size_t n = 0; n < note_count && log->good; n++) {
        log->good = write_text(log->file, notes[n].key, notes[n].value);
    }
    for (size_t c = 0; c < column_count; c++) {
        log->set[c] = log->good ? create_column(log->file, &columns[c]) : -1;
        log->good = log->set[c] >= 0 && write_text(log->set[c], "unit", columns[c].unit);
    }
    if (!log->good) {
        cvk_log_hdf5_close(log);
        return NULL;
    }
    return log;
}

static bool flush_column(const cvk_log_hdf5 *log, size_t column)
{
    const hsize_t count = log->buffered, end = log->written + count;
    if (H5Dset_extent(log->set[column], &end) < 0) {
        return false;
    }
    hid_t memory = H5Screate_simple(1, &count, NULL), space = H5Dget_space(log->set[column]);
    bool good =
        H5Sselect_hyperslab(space, H5S_SELECT_SET, &log->written, NULL, &count, NULL) >= 0 &&
        H5Dwrite(log->set[column], H5T_NATIVE_DOUBLE, memory, space, H5P_DEFAULT,
                 log->cells + column * CHUNK) >= 0;
    H5Sclose(space);
    H5Sclose(memory);
    return good;
}

static void flush_rows(cvk_log_hdf5 *log)
{
    for (size_t c = 0; c < log->columns && log->buffered > 0; c++) {
        log->good = log->good && flush_column(log, c);
    }
    log->written += log->buffered;
    log->buffered = 0;
}

bool cvk_log_hdf5_row(cvk_log_hdf5 *log, const double *cells)
{
    for (size_t c = 0; c < log->columns; c++) {
        log->cells[c * CHUNK + log->buffered] = cells[c];
    }
    log->buffered++;
    if (log->buffered == CHUNK) {
        flush_rows(log);
    }
    return log->good;
}

bool cvk_log_hdf5_close(cvk_log_hdf5 *log)
{
    if (log->good) {
        flush_rows(log);
    }
    bool good = log->good;
    for (size_t c = 0; c < log->columns; c++) {
        if (log->set[c] >= 0) {
            good = H5Dclose(log->set[c]) >= 0 && good;
        }
    }
    if (log->file >= 0) {
        good = H5Fclose(log->file) >= 0 && good;
    }
    broken = broken || !good;
    free(log->cells);
    free(log);
    return good;
}
