/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as a rig file: read or refused with a message; what is read passes the rig's check.
 */
#include "corvak/files/rig_yaml.h"

#include <stdint.h>
#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    cvk_complaint complaint = {.text = ""};
    cvk_rig_config config;
    cvk_status status =
        cvk_rig_file_parse(&config, "fuzz.yaml", (const char *)data, size, &complaint);
    if (status != CVK_OK && complaint.text[0] == '\0' && status != CVK_NO_MEMORY) {
        abort();
    }
    if (status == CVK_OK && cvk_rig_check(&config, NULL) != CVK_OK) {
        abort();
    }
    return 0;
}
