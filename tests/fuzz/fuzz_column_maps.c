/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as a mapping file: read or refused with a message; what is read has a name and a finite
 * scale.
 */
#include "corvak/files/log_file.h"

#include <math.h>
#include <stdint.h>
#include <stdlib.h>

#define MOST 24

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    cvk_complaint complaint = {.text = ""};
    cvk_column_map maps[MOST];
    size_t count = 0;
    const cvk_status status = cvk_column_maps_parse(maps, MOST, &count, "fuzz.yaml",
                                                    (const char *)data, size, &complaint);
    if (status != CVK_OK && complaint.text[0] == '\0' && status != CVK_NO_MEMORY) {
        abort();
    }
    for (size_t n = 0; n < count && status == CVK_OK; n++) {
        if (maps[n].name[0] == '\0' || !isfinite(maps[n].scale) || maps[n].scale == 0.0 ||
            !isfinite(maps[n].offset)) {
            abort();
        }
    }
    return 0;
}
