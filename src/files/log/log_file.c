/* SPDX-License-Identifier: Apache-2.0
 *
 * The entry for reading any log: CSV or HDF5 by its first bytes, a pipe, a file longer than memory.
 */
#include "corvak/files/log_file.h"

#include "log_parts.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

/* Of a longer file (about 1.5 million rows) so many stretches are read, which keeps memory below
 * 200 MB whatever its length. */
#define LONG_FILE ((size_t)160 << 20)
#define STRETCHES 40u
#define STRETCH_BYTES ((size_t)1200 << 10)
#define LARGEST_PIPED ((size_t)1 << 30) /* of what can be read only once */

/* Size of a file that can be read in parts; 0 for a pipe. */
static size_t size_of(FILE *stream)
{
    long size = fseek(stream, 0, SEEK_END) == 0 ? ftell(stream) : 0;
    return fseek(stream, 0, SEEK_SET) == 0 && size > 0 ? (size_t)size : 0;
}

/* Drops the line that begins before `text` and the one that ends behind it. */
static size_t whole_lines(char *text, size_t length, bool first)
{
    const char *start = first ? text : memchr(text, '\n', length);
    size_t end = length;
    while (end > 0 && text[end - 1] != '\n') {
        end--;
    }
    size_t begin = start == NULL ? length : (size_t)(start - text) + (first ? 0u : 1u);
    if (begin >= end) {
        return 0;
    }
    memmove(text, text + begin, end - begin);
    return end - begin;
}

static cvk_status unreadable(const char *path, cvk_complaint *complaint)
{
    return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                        "cannot be read: is it a directory, or a damaged disk?");
}

/* A log too long for memory: evenly spread stretches of whole lines, the first with the header. To
 * the parser it is a log with gaps. */
static cvk_status read_stretches(FILE *stream, size_t size, const char *path, char **text,
                                 size_t *length, cvk_complaint *complaint)
{
    char *block = malloc(STRETCHES * STRETCH_BYTES);
    size_t used = 0;
    if (block == NULL) {
        return cvk_complain(complaint, CVK_NO_MEMORY, path, 0, "too large for memory");
    }
    for (size_t n = 0; n < STRETCHES; n++) {
        size_t offset = (size - STRETCH_BYTES) / (STRETCHES - 1u) * n;
        size_t got = fseek(stream, (long)offset, SEEK_SET) == 0
                         ? fread(block + used, 1, STRETCH_BYTES, stream)
                         : 0;
        used += whole_lines(block + used, got, n == 0);
    }
    if (ferror(stream) != 0) {
        free(block);
        return unreadable(path, complaint);
    }
    *text = block;
    *length = used;
    return CVK_OK;
}

/* The whole file into one block, or stretches of it. */
static cvk_status read_all(const char *path, char **text, size_t *length, bool *stretched,
                           cvk_complaint *complaint)
{
    FILE *stream = strcmp(path, "-") == 0 ? stdin : fopen(path, "rb");
    if (stream == NULL) {
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "cannot be opened: check the name and that it may be read");
    }
    const size_t size = size_of(stream);
    *stretched = size > LONG_FILE;
    if (*stretched) {
        cvk_status status = read_stretches(stream, size, path, text, length, complaint);
        fclose(stream);
        return status;
    }
    size_t capacity = 0, used = 0, got = 1;
    char *block = NULL;
    while (got > 0 && used <= LARGEST_PIPED) {
        if (used == capacity) {
            capacity = capacity == 0 ? (size_t)1 << 20 : 2 * capacity;
            char *larger = realloc(block, capacity);
            if (larger == NULL) {
                free(block);
                fclose(stream);
                return cvk_complain(complaint, CVK_NO_MEMORY, path, 0, "too large for memory");
            }
            block = larger;
        }
        got = fread(block + used, 1, capacity - used, stream);
        used += got;
    }
    bool failed = ferror(stream) != 0;
    fclose(stream);
    if (used > LARGEST_PIPED) {
        free(block);
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "more than %zu MB come out of a pipe: write them to a file, of which "
                            "stretches are read",
                            LARGEST_PIPED >> 20);
    }
    if (failed) {
        free(block);
        return unreadable(path, complaint);
    }
    *text = block;
    *length = used;
    return CVK_OK;
}

/* A pipe brings CSV: what was read of it to look would be lost. */
static bool begins_as_hdf5(const char *path)
{
    char head[8];
    struct stat is;
    const bool regular = strcmp(path, "-") != 0 && stat(path, &is) == 0 && S_ISREG(is.st_mode);
    FILE *stream = regular ? fopen(path, "rb") : NULL;
    size_t got = stream != NULL ? fread(head, 1, sizeof head, stream) : 0;
    if (stream != NULL) {
        fclose(stream);
    }
    return cvk_is_hdf5(head, got);
}

cvk_status cvk_log_file_read(cvk_log_file *file, const char *path, const cvk_column_map *maps,
                             size_t map_count, cvk_complaint *complaint)
{
    char *text = NULL;
    size_t length = 0;
    cvk_log_start(file, path);
    if (begins_as_hdf5(path)) {
        cvk_status read = cvk_log_hdf5_read(file, path, maps, map_count, complaint);
        if (read != CVK_OK) {
            cvk_log_file_free(file);
        }
        return read;
    }
    bool stretched = false;
    cvk_status status = read_all(path, &text, &length, &stretched, complaint);
    if (status == CVK_OK) {
        status = cvk_log_file_parse(file, path, text, length, maps, map_count, complaint);
    }
    free(text);
    file->stretched = stretched;
    file->first_bad_line = stretched ? 0 : file->first_bad_line; /* lines were not counted */
    if (status == CVK_OK && stretched && file->no_time) {
        cvk_log_file_free(file);
        status = cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                              "more than %u MB without a time column: stretches of it are read, "
                              "which needs one; or cut it into pieces",
                              (unsigned)(LONG_FILE >> 20));
    }
    return status;
}
