/* SPDX-License-Identifier: Apache-2.0
 *
 * The common part of writing logs, and CSV.
 */
#include "log_sink.h"
#include "text/whole_file.h"

#include <errno.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

struct cvk_log_writer {
    cvk_log_writer_column column[CVK_LOG_WRITER_MOST];
    size_t columns;
    FILE *csv; /* or */
    cvk_log_hdf5 *hdf5;
    cvk_whole_file file; /* empty on stdout */
    bool failed;
};

static bool ends_with(const char *text, const char *end)
{
    size_t a = strlen(text), b = strlen(end);
    return a >= b && strcmp(text + a - b, end) == 0;
}

static void write_csv_head(cvk_log_writer *w, const cvk_log_writer_note *notes, size_t count)
{
    for (size_t n = 0; n < count; n++) {
        fprintf(w->csv, "# %s: %s\n", notes[n].key, notes[n].value);
    }
    for (size_t c = 0; c < w->columns; c++) {
        const char *unit = w->column[c].unit;
        fprintf(w->csv, "%s%s%s%s%s", c > 0 ? "," : "", w->column[c].name,
                unit[0] != '\0' ? " [" : "", unit, unit[0] != '\0' ? "]" : "");
    }
    fputc('\n', w->csv);
}

static bool open_beside(cvk_log_writer *w, const char *path, const cvk_log_writer_note *notes,
                        size_t note_count, cvk_complaint *complaint)
{
    if (!ends_with(path, ".h5") && !ends_with(path, ".hdf5")) {
        const cvk_status status = cvk_whole_file_open(&w->file, path, complaint);
        w->csv = w->file.stream;
        return status == CVK_OK;
    }
    if (cvk_whole_file_place(&w->file, path, complaint) != CVK_OK) {
        return false;
    }
    w->hdf5 = cvk_log_hdf5_open(w->file.beside, w->column, w->columns, notes, note_count);
    if (w->hdf5 == NULL) {
        cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                     "cannot be written (%s): check the folder; is the disk full?",
                     strerror(errno));
        (void)cvk_whole_file_close(&w->file, false, NULL);
    }
    return w->hdf5 != NULL;
}

cvk_log_writer *cvk_log_writer_open(const char *path, const cvk_log_writer_column *columns,
                                    size_t column_count, const cvk_log_writer_note *notes,
                                    size_t note_count, cvk_complaint *complaint)
{
    cvk_log_writer *w = calloc(1, sizeof *w);
    if (w == NULL || column_count == 0 || column_count > CVK_LOG_WRITER_MOST) {
        free(w);
        cvk_complain(complaint, CVK_OUT_OF_RANGE, path != NULL ? path : "log", 0,
                     "%zu columns; allowed: 1 .. %d", column_count, CVK_LOG_WRITER_MOST);
        return NULL;
    }
    w->columns = column_count;
    memcpy(w->column, columns, column_count * sizeof *columns);
    if (path == NULL) {
        w->csv = stdout;
    } else if (!open_beside(w, path, notes, note_count, complaint)) {
        free(w);
        return NULL;
    }
    if (w->csv != NULL) {
        write_csv_head(w, notes, note_count);
    }
    return w;
}

void cvk_log_writer_row(cvk_log_writer *w, const double *cells)
{
    if (w->hdf5 != NULL) {
        w->failed = !cvk_log_hdf5_row(w->hdf5, cells) || w->failed;
        return;
    }
    for (size_t c = 0; c < w->columns; c++) {
        if (c > 0) {
            fputc(',', w->csv);
        }
        if (!isnan(cells[c])) {
            fprintf(w->csv, "%.*f", w->column[c].decimals, cells[c]);
        }
    }
    fputc('\n', w->csv);
}

cvk_status cvk_log_writer_close(cvk_log_writer *w, bool keep, cvk_complaint *complaint)
{
    bool whole = !w->failed;
    if (w->hdf5 != NULL) {
        whole = cvk_log_hdf5_close(w->hdf5) && whole;
    } else {
        whole = fflush(w->csv) == 0 && ferror(w->csv) == 0;
    }
    cvk_status status = CVK_OK;
    if (!whole) {
        status =
            cvk_complain(complaint, CVK_FILE_ERROR, w->file.path != NULL ? w->file.path : "stdout",
                         0, "cannot be written completely: is the disk full?");
    }
    if (w->file.path != NULL) {
        const cvk_status closed = cvk_whole_file_close(&w->file, keep && whole, complaint);
        status = status == CVK_OK ? closed : status;
    }
    free(w);
    return status;
}
