/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading logs from HDF5: every one-dimensional data set of numbers in the root group is a column;
 * its attribute `unit`, when there is one, is what CSV has in brackets.
 *
 * libhdf5 can crash on a damaged file, so a child reads, into memory that both share: what kills it
 * does not kill us. Of a very long log evenly spread stretches are read, as of a long CSV.
 */
#include "log_parts.h"
#include "log_sink.h"

#include <fcntl.h>
#include <hdf5.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#define MOST_ROWS 2000000000u
#define SHORTEST_READ_S 10u /* what a reading may take, and how fast it must be beyond that */
#define SLOWEST_BYTES_S 2000000
#define MOST_WHOLE_ROWS 4000000u /* of a longer log, stretches: */
#define STRETCHES 40u
#define STRETCH_ROWS 16384u
#define MOST_MEMORY_BYTES (4ull << 30) /* more than any sound file needs */

/* At the start of the shared memory: what the child has found. */
typedef struct shared {
    bool done;
    cvk_status status;
    double sample_rate_hz;
    size_t bytes;                    /* of the memory, cells included */
    size_t offset[CVK_COLUMN_COUNT]; /* of a column's cells; 0: none */
    cvk_log_file file;
    cvk_complaint complaint;
} shared;

typedef struct hdf5_reader {
    const char *path;
    const cvk_column_map *maps;
    size_t map_count;
    cvk_log_file *file;
    cvk_complaint *complaint;
    cvk_status status;
    shared *memory;
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
    if (!read_rows(set, rows, kept, cells)) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                            "column %s cannot be read: the file is damaged; record it again", name);
    }
    for (hsize_t n = 0; n < kept && (head->factor != 1.0 || head->offset != 0.0); n++) {
        cells[n] = cells[n] * head->factor + head->offset;
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

/* A damaged file must not take the machine's memory: beyond this libhdf5 gets no more. */
static void limit_memory(void)
{
    unsigned long long pages = 0;
    FILE *statm = fopen("/proc/self/statm", "r");
    if (statm != NULL && fscanf(statm, "%llu", &pages) == 1) {
        const rlim_t most = pages * (unsigned long long)sysconf(_SC_PAGESIZE) + MOST_MEMORY_BYTES;
        const struct rlimit limit = {most, most};
        (void)setrlimit(RLIMIT_AS, &limit);
    }
    if (statm != NULL) {
        fclose(statm);
    }
}

static void read_as_child(const cvk_log_file *file, int memory_file, shared *memory,
                          const char *path, const cvk_column_map *maps, size_t map_count)
{
    int quiet = open("/dev/null", O_WRONLY);
    (void)dup2(quiet, STDERR_FILENO);
    struct stat about = {.st_size = 0};
    (void)stat(path, &about);
    (void)signal(SIGALRM, SIG_DFL); /* whatever the caller's program does with it */
    (void)alarm(SHORTEST_READ_S + (unsigned)(about.st_size / SLOWEST_BYTES_S));
    limit_memory();
    memory->file = *file;
    hdf5_reader r = {path,   maps,   map_count,  &memory->file, &memory->complaint,
                     CVK_OK, memory, memory_file};
    memory->status = read_file(&r, &memory->sample_rate_hz);
    memory->done = true;
    _exit(0);
}

/* Takes over what the child has left in the shared memory. */
static cvk_status adopt(cvk_log_file *file, int memory_file, const shared *memory,
                        cvk_complaint *complaint)
{
    if (memory->status != CVK_OK) {
        if (complaint != NULL) {
            *complaint = memory->complaint;
        }
        return memory->status;
    }
    char *all = mmap(NULL, memory->bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE, memory_file, 0);
    if (all == MAP_FAILED) {
        return cvk_complain(complaint, CVK_NO_MEMORY, file->path, 0,
                            "not enough memory for this log: cut it into pieces");
    }
    *file = memory->file; /* its pointers are from before the fork: they hold here too */
    file->mapping = all;
    file->mapping_bytes = memory->bytes;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        file->cells[c] = memory->offset[c] > 0 ? (double *)(void *)(all + memory->offset[c]) : NULL;
    }
    return cvk_log_finish(file, memory->sample_rate_hz);
}

cvk_status cvk_log_hdf5_read(cvk_log_file *file, const char *path, const cvk_column_map *maps,
                             size_t map_count, cvk_complaint *complaint)
{
    const size_t page = (size_t)sysconf(_SC_PAGESIZE);
    const size_t bytes = (sizeof(shared) + page - 1) / page * page;
    int memory_file = memfd_create("corvak-log", MFD_CLOEXEC), how = 0;
    shared *memory = MAP_FAILED;
    if (memory_file >= 0 && ftruncate(memory_file, (off_t)bytes) == 0) {
        memory = mmap(NULL, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, memory_file, 0);
    }
    pid_t child = -1;
    if (memory != MAP_FAILED) {
        memory->bytes = bytes;
        child = fork();
    }
    if (child == 0) {
        read_as_child(file, memory_file, memory, path, maps, map_count);
    }
    cvk_status status = CVK_NO_MEMORY;
    if (child < 0) {
        (void)cvk_complain(complaint, status, path, 0, "not enough memory to read HDF5");
    } else if (waitpid(child, &how, 0) == child && WIFEXITED(how) && memory->done) {
        status = adopt(file, memory_file, memory, complaint);
    } else {
        status = cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                              "this HDF5 file is damaged: record it again, or export it as CSV");
    }
    if (memory != MAP_FAILED) {
        (void)munmap(memory, bytes);
    }
    if (memory_file >= 0) {
        (void)close(memory_file);
    }
    return status;
}
