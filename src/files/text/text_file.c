/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading a small text file, and where one may be written.
 */
#include "text_file.h"

#include <stdio.h>
#include <sys/stat.h>

cvk_status cvk_text_file_read(const char *path, char text[CVK_TEXT_FILE_MOST], size_t *length,
                              cvk_complaint *complaint)
{
    FILE *stream = fopen(path, "rb");
    if (stream == NULL) {
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "cannot be opened: check the name and that it may be read");
    }
    *length = fread(text, 1, CVK_TEXT_FILE_MOST, stream);
    bool failed = ferror(stream) != 0;
    fclose(stream);
    if (failed || *length == CVK_TEXT_FILE_MOST) {
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "cannot be read as a text file of at most %u bytes",
                            CVK_TEXT_FILE_MOST - 1u);
    }
    return CVK_OK;
}

bool cvk_may_be_replaced(const char *path)
{
    struct stat info;
    return stat(path, &info) != 0 || S_ISREG(info.st_mode);
}
