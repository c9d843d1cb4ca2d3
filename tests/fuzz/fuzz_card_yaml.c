/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as a motor card: read or refused with a message; what is read can be set again.
 */
#include "corvak/files/card_yaml.h"

#include <stdint.h>
#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    cvk_complaint complaint = {.text = ""};
    cvk_card card;
    cvk_status status = cvk_card_parse(&card, "fuzz.yaml", (const char *)data, size, &complaint);
    if (status != CVK_OK && complaint.text[0] == '\0' && status != CVK_NO_MEMORY) {
        abort();
    }
    for (int key = 0; status == CVK_OK && key < CVK_CARD_COUNT; key++) {
        const cvk_card_entry entry = card.entry[key];
        if (entry.known && cvk_card_set(&card, (cvk_card_key)key, entry.value, entry.low,
                                        entry.high, "fuzz") != CVK_OK) {
            abort();
        }
    }
    return 0;
}
