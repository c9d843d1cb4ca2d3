/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading a log, CSV or HDF5. The dialects that are read: docs/file-formats.md.
 */
#ifndef CORVAK_FILES_LOG_FILE_H
#define CORVAK_FILES_LOG_FILE_H

#include "corvak/files/complaint.h"
#include "corvak/ident/log.h"

#include <stdio.h>

#ifdef __cplusplus
extern "C" {
#endif

/* One canonical column and the name it has in the file. SI value = factor of `unit` times
 * (scale * cell + offset): ADC counts, timer ticks and the like become a quantity that way. */
typedef struct cvk_column_map {
    cvk_column column;
    char name[64];
    char unit[24]; /* empty: that of the header, or SI */
    double scale, offset;
} cvk_column_map;

/* Reads "ia=NAME" or "ia=NAME [unit]". CVK_BAD_FORMAT when there is no such canonical column, or no
 * name. */
cvk_status cvk_column_map_parse(cvk_column_map *map, const char *text) CVK_MUST_CHECK;

/* Reads a mapping file: YAML lines such as `ia: CH1 Current [mA]`, or a section `ia:` with `name`,
 * `unit`, `scale` and `offset`. Adds to maps[0 .. *count - 1], at
 * most `most` in all. */
cvk_status cvk_column_maps_read(cvk_column_map *maps, size_t most, size_t *count, const char *path,
                                cvk_complaint *complaint) CVK_MUST_CHECK;

/* The same from a text that is there; `path` is for messages. */
cvk_status cvk_column_maps_parse(cvk_column_map *maps, size_t most, size_t *count, const char *path,
                                 const char *text, size_t length,
                                 cvk_complaint *complaint) CVK_MUST_CHECK;

/* A mapping file for a log whose header is not understood: every column of it, best guesses filled
 * in, the rest as comments. Null when the file has no row that looks like a header. Free it. */
char *cvk_propose_mapping(const char *path);

#define CVK_LOG_RIG_LENGTH 48

typedef struct cvk_log_file {
    cvk_log log; /* points into what follows */
    char path[256];
    char rig[CVK_LOG_RIG_LENGTH]; /* the machine that the log's head names; empty: none */
    char rig_changes[256];        /* of a simulated one: KEY=VALUE apart from its file, by blanks */
    double *cells[CVK_COLUMN_COUNT];
    size_t capacity;
    void *mapping; /* memory behind cells that were not allocated one by one; null otherwise */
    size_t mapping_bytes;
    long header_line; /* line of the header row */
    size_t bad_cells; /* empty or not a number; NaN in the columns */
    long first_bad_line;
    char first_bad_cell[48];
    bool stretched;          /* too long for memory: evenly spread stretches of it were read */
    bool no_time;            /* t follows from a sample rate */
    bool truncated;          /* the last line was cut; it is left out */
    size_t ignored_columns;  /* columns whose names are not known */
    unsigned long maps_used; /* bit n: the n-th map names a column of this file */
    char names[1024];        /* all columns of the header, separated by commas */
} cvk_log_file;

/* Reads a file. On failure `complaint` (may be null) says what, where and what to do; the log is
 * then empty. Free in any case. */
cvk_status cvk_log_file_read(cvk_log_file *file, const char *path, const cvk_column_map *maps,
                             size_t map_count, cvk_complaint *complaint) CVK_MUST_CHECK;

/* The same from a block of memory; `path` is used in messages. */
cvk_status cvk_log_file_parse(cvk_log_file *file, const char *path, const char *text, size_t length,
                              const cvk_column_map *maps, size_t map_count,
                              cvk_complaint *complaint) CVK_MUST_CHECK;

void cvk_log_file_free(cvk_log_file *file);

#ifdef __cplusplus
}
#endif
#endif
