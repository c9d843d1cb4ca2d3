/* SPDX-License-Identifier: Apache-2.0
 *
 * A small text file as a whole, and where a file may be written.
 */
#ifndef CORVAK_FILES_TEXT_TEXT_FILE_H
#define CORVAK_FILES_TEXT_TEXT_FILE_H

#include "corvak/files/complaint.h"

#include <stdbool.h>
#include <stddef.h>

#define CVK_TEXT_FILE_MOST 65536u

/* Reads at most CVK_TEXT_FILE_MOST - 1 bytes; larger files are refused. */
cvk_status cvk_text_file_read(const char *path, char text[CVK_TEXT_FILE_MOST], size_t *length,
                              cvk_complaint *complaint);

/* A file, or nothing yet: what a finished file may be renamed to. Not a device or a pipe. */
bool cvk_may_be_replaced(const char *path);

#endif
