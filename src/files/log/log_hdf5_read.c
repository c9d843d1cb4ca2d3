/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading logs from HDF5: every one-dimensional data set of numbers in the root group is a column;
 * its attribute `unit`, when there is one, is what CSV has in brackets. Of a very long log evenly
 * spread stretches are read, as of a long CSV.
 */
#include "log_hdf5_parts.h"
#include "log_sink.h"

#include <hdf5.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

#define MOST_ROWS 2000000000u
#define MOST_WHOLE_ROWS 4000000u /* of a longer log, stretches: */
#define STRETCHES 40u
#define STRETCH_ROWS 16384u

typedef struct hdf5_reader {
    const char *path;
    const cvk_column_map *maps;
    size_t map_count;
    cvk_log_file *file;
    cvk_complaint *complaint;
    cvk_status status;
    cvk_hdf5_found *memory;
    int memory_file;
} hdf5_reader;

/* A text attribute, of fixed or variable length; empty when there is none. */
static void read_text(hid_t object, const char *key, char *text, size_t size)
{
    text[0] = '\0';
    if (H5Aexists(object, key) <= 0) {
        return;
    }
    hid_t attribute = H5Aopen(object, key, H5P_DEFAULT);
    hid_t type = attribute >= 0 ? H5Aget_type(attribute) : -1;
    hid_t space = attribute >= 0 ? H5Aget_space(attribute) : -1;
    if (type >= 0 && space >= 0 && H5Tget_class(type) == H5T_STRING &&
        H5Sget_simple_extent_npoints(space) == 1) {
        hid_t wanted = H5Tcopy(H5T_C_S1);
        char *pointed = NULL, fixed[64] = "";
        H5Tset_cset(wanted, H5Tget_cset(type));
        if (H5Tis_variable_str(type) > 0 && H5Tset_size(wanted, H5T_VARIABLE) >= 0 &&
            H5Aread(attribute, wanted, &pointed) >= 0 && pointed != NULL) {
            snprintf(text, size, "%s", pointed);
            H5Dvlen_reclaim(wanted, space, H5P_DEFAULT, &pointed);
        } else if (H5Tis_variable_str(type) == 0 && H5Tset_size(wanted, sizeof fixed) >= 0 &&
                   H5Aread(attribute, wanted, fixed) >= 0) {
            fixed[sizeof fixed - 1] = '\0';
            snprintf(text, size, "%s", fixed);
        }
        H5Tclose(wanted);
    }
    if (space >= 0) {
        H5Sclose(space);
    }
    if (type >= 0) {
        H5Tclose(type);
    }
    if (attribute >= 0) {
        H5Aclose(attribute);
    }
}

/* Room for a column at the end of the shared memory. */
static double *take_cells(hdf5_reader *r, cvk_column column, size_t rows)
{
    const size_t page = (size_t)sysconf(_SC_PAGESIZE), offset = r->memory->bytes;
    const size_t bytes = (rows * sizeof(double) + page - 1) / page * page;
    if (ftruncate(r->memory_file, (off_t)(offset + bytes)) != 0) {
        return NULL;
    }
    double *cells =
        mmap(NULL, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, r->memory_file, (off_t)offset);
    if (cells == MAP_FAILED) {
        return NULL;
    }
    r->memory->offset[column] = offset;
    r->memory->bytes = offset + bytes;
    return cells;
}

/* Rows of a data set: all, or evenly spread stretches. */
static bool read_rows(hid_t set, hsize_t rows, hsize_t kept, double *cells)
{
    if (kept == rows) {
        return H5Dread(set, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, cells) >= 0;
    }
    const hsize_t start = 0, stride = rows / STRETCHES, count = STRETCHES, block = STRETCH_ROWS;
    hid_t from = H5Dget_space(set), to = H5Screate_simple(1, &kept, NULL);
    bool fine = from >= 0 && to >= 0 &&
                H5Sselect_hyperslab(from, H5S_SELECT_SET, &start, &stride, &count, &block) >= 0 &&
                H5Dread(set, H5T_NATIVE_DOUBLE, to, from, H5P_DEFAULT, cells) >= 0;
    H5Sclose(to);
    H5Sclose(from);
    return fine;
}

static cvk_status read_cells(hdf5_reader *r, hid_t set, const cvk_column_head *head, hsize_t rows)
{
    cvk_log_file *file = r->file;
    const char *name = cvk_column_name(head->column);
    const hsize_t kept = rows > MOST_WHOLE_ROWS ? STRETCHES * STRETCH_ROWS : rows;
    if (file->log.rows != 0 && file->log.rows != rows) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                            "column %s has %llu rows, the ones before have %zu: record it again",
                            name, (unsigned long long)rows, file->log.rows);
    }
    if (r->memory->offset[head->column] != 0) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                            "column %s appears twice: rename one, or choose with --map %s=NAME",
                            name, name);
    }
    double *cells = take_cells(r, head->column, (size_t)kept);
    if (cells == NULL) {
        return cvk_complain(r->complaint, CVK_NO_MEMORY, r->path, 0,
                            "not enough memory for this log: cut it into pieces");
    }
    const bool fine = read_rows(set, rows, kept, cells);
    for (hsize_t n = 0; fine && n < kept && (head->factor != 1.0 || head->offset != 0.0); n++) {
        cells[n] = cells[n] * head->factor + head->offset;
    }
    (void)munmap(cells, (size_t)kept * sizeof(double));
    if (!fine) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                            "column %s cannot be read: the file is damaged; record it again", name);
    }
    file->log.rows = (size_t)rows;
    file->stretched = kept != rows;
    return CVK_OK;
}

/* One data set of the root group. */
static cvk_status read_set(hdf5_reader *r, hid_t set, const char *name)
{
    char unit[32], head_text[128];
    read_text(set, "unit", unit, sizeof unit);
    int length =
        snprintf(head_text, sizeof head_text, unit[0] != '\0' ? "%.64s [%s]" : "%.64s", name, unit);
    cvk_column_head head = cvk_column_of_head(head_text, (size_t)length, r->maps, r->map_count);
    const size_t used = strlen(r->file->names);
    (void)snprintf(r->file->names + used, sizeof r->file->names - used, "%s%.64s",
                   used > 0 ? ", " : "", name);
    if (head.known && head.map >= 0) {
        r->file->maps_used |= 1ul << head.map;
    }
    hid_t space = H5Dget_space(set), type = H5Dget_type(set);
    hsize_t rows = 0;
    bool numbers =
        type >= 0 && (H5Tget_class(type) == H5T_FLOAT || H5Tget_class(type) == H5T_INTEGER);
    bool column = space >= 0 && H5Sget_simple_extent_ndims(space) == 1 &&
                  H5Sget_simple_extent_dims(space, &rows, NULL) == 1;
    cvk_status status = CVK_OK;
    if (!head.known || !numbers || !column) {
        r->file->ignored_columns++;
    } else if (head.bad_unit) {
        status = cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                              "column %s: the unit \"%s\" is not known; allowed: %s", name,
                              head.unit, cvk_column_units(head.column));
    } else if (rows == 0 || rows > MOST_ROWS) {
        status = cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                              "column %s has %llu rows; allowed: 1 .. %u", name,
                              (unsigned long long)rows, MOST_ROWS);
    } else {
        status = read_cells(r, set, &head, rows);
    }
    if (space >= 0) {
        H5Sclose(space);
    }
    if (type >= 0) {
        H5Tclose(type);
    }
    return status;
}

static herr_t visit(hid_t group, const char *name, const H5L_info_t *info, void *context)
{
    hdf5_reader *r = context;
    (void)info;
    H5O_info_t object;
    if (H5Oget_info_by_name(group, name, &object, H5P_DEFAULT) < 0 ||
        object.type != H5O_TYPE_DATASET) {
        return 0;
    }
    hid_t set = H5Dopen2(group, name, H5P_DEFAULT);
    if (set < 0) {
        r->status = cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                                 "data set %s cannot be opened: the file is damaged", name);
        return 1;
    }
    r->status = read_set(r, set, name);
    H5Dclose(set);
    return r->status == CVK_OK ? 0 : 1;
}

bool cvk_is_hdf5(const char *head, size_t length)
{
    return length >= 8 && memcmp(head, "\x89HDF\r\n\x1a\n", 8) == 0;
}

static cvk_status read_file(hdf5_reader *r, double *sample_rate_hz)
{
    cvk_hdf5_begin();
    hid_t root = H5Fopen(r->path, H5F_ACC_RDONLY, H5P_DEFAULT);
    if (root < 0) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                            "begins like HDF5 but cannot be opened: it is cut off or damaged");
    }
    for (size_t n = 0; n < CVK_LOG_KEYS; n++) {
        char text[256];
        read_text(root, cvk_log_keys[n], text, sizeof text);
        cvk_log_key(r->file, cvk_log_keys[n], text, text + strlen(text), sample_rate_hz);
    }
    hsize_t next = 0;
    if (H5Literate(root, H5_INDEX_NAME, H5_ITER_NATIVE, &next, visit, r) < 0 &&
        r->status == CVK_OK) {
        r->status = cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                                 "its contents cannot be listed: the file is damaged");
    }
    H5Fclose(root);
    if (r->status == CVK_OK && r->file->log.rows == 0) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                            "no data set with a known column name in the root group. Name them "
                            "t, ia, ib, ic, va, vb, vc (or duty_a, duty_b, duty_c, vdc), or map "
                            "them: --map t=NAME --map ia=NAME");
    }
    if (r->status == CVK_OK && r->file->stretched) {
        if (r->memory->offset[CVK_COLUMN_T] == 0) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                                "more than %u rows without a time column: stretches of it are "
                                "read, which needs one; or cut it into pieces",
                                MOST_WHOLE_ROWS);
        }
        r->file->log.rows = STRETCHES * STRETCH_ROWS;
    }
    return r->status;
}

void cvk_hdf5_read_file(const cvk_log_file *file, const char *path, const cvk_column_map *maps,
                        size_t map_count, cvk_hdf5_found *memory, int memory_file)
{
    memory->file = *file;
    hdf5_reader r = {path,   maps,   map_count,  &memory->file, &memory->complaint,
                     CVK_OK, memory, memory_file};
    memory->status = read_file(&r, &memory->sample_rate_hz);
    memory->done = true;
}
