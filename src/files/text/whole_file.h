/* SPDX-License-Identifier: Apache-2.0
 *
 * The one way in which files are written: beside their place, then renamed. Whatever happens, what
 * stands there is the old file or the new one.
 */
#ifndef CORVAK_FILES_TEXT_WHOLE_FILE_H
#define CORVAK_FILES_TEXT_WHOLE_FILE_H

#include "corvak/files/complaint.h"

#include <stdbool.h>
#include <stdio.h>

typedef struct cvk_whole_file {
    char *path, *beside; /* `beside` is where it is written: the path and .part */
    FILE *stream;        /* null when somebody else writes there */
} cvk_whole_file;

/* Makes sure that nothing stands beside `path`: what a killed writer has left goes, links are not
 * followed. CVK_FILE_ERROR when `path` is no file or may not be written, and when another program
 * writes there at this moment. */
cvk_status cvk_whole_file_place(cvk_whole_file *file, const char *path,
                                cvk_complaint *complaint) CVK_MUST_CHECK;

/* The same, and opens `stream`. */
cvk_status cvk_whole_file_open(cvk_whole_file *file, const char *path,
                               cvk_complaint *complaint) CVK_MUST_CHECK;

/* What was written takes the place, when it is on the disk (`keep`); else it goes. Closes the
 * stream, if there is one. CVK_FILE_ERROR when it could not be written: the old file stays. */
cvk_status cvk_whole_file_close(cvk_whole_file *file, bool keep, cvk_complaint *complaint);

#endif
