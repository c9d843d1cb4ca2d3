/* SPDX-License-Identifier: Apache-2.0
 *
 * A small text file as a whole.
 */
#ifndef CORVAK_FILES_TEXT_FILE_H
#define CORVAK_FILES_TEXT_FILE_H

#include "corvak/files/complaint.h"

#include <stddef.h>

#define CVK_TEXT_FILE_MOST 65536u

/* Reads at most CVK_TEXT_FILE_MOST - 1 bytes; larger files are refused. */
cvk_status cvk_text_file_read(const char *path, char text[CVK_TEXT_FILE_MOST], size_t *length,
                              cvk_complaint *complaint);

#endif
