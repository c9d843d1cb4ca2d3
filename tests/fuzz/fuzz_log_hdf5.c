/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as an HDF5 log: libhdf5 may die of them, in its child, but the reader refuses with a
 * message and goes on.
 */
#include "corvak/files/log_file.h"

#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static cvk_log_file file;

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    char path[64];
    cvk_complaint complaint = {.text = ""};
    snprintf(path, sizeof path, "/tmp/fuzz-%ld.h5", (long)getpid());
    FILE *stream = fopen(path, "wb");
    if (stream == NULL) {
        return 0;
    }
    size_t written = fwrite("\x89HDF\r\n\x1a\n", 1, 8, stream);
    written += size > 8 ? fwrite(data + 8, 1, size - 8, stream) : 0;
    fclose(stream);
    cvk_status status =
        written >= 8 ? cvk_log_file_read(&file, path, NULL, 0, &complaint) : CVK_NO_MEMORY;
    if (status != CVK_OK && complaint.text[0] == '\0' && status != CVK_NO_MEMORY) {
        abort(); /* a refusal without a word */
    }
    volatile double sum = 0.0;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) { /* every cell that is promised can be read */
        for (size_t k = 0; status == CVK_OK && file.cells[c] != NULL && k < file.log.rows; k++) {
            sum += file.cells[c][k];
        }
    }
    cvk_log_file_free(&file);
    (void)remove(path);
    (void)sum;
    return 0;
}
