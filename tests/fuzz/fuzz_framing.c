/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as a stream of frames: what is taken as a message is one, written again and read
 * again it is the same; the bytes themselves as a message come through too.
 */
#include "corvak/link/framing.h"

#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void comes_through(const uint8_t *message, size_t length)
{
    static cvk_frame_reader reader;
    static uint8_t wire[CVK_FRAME_BYTES_MAX];
    const size_t sent = cvk_frame_write(message, length, wire, sizeof wire);
    bool whole = false;
    for (size_t n = 0; n < sent; n++) {
        whole = cvk_frame_read(&reader, wire[n]);
    }
    if (sent == 0 || !whole || reader.length != length ||
        memcmp(reader.bytes, message, length) != 0) {
        abort();
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    cvk_frame_reader reader = {.length = 0};
    for (size_t n = 0; n < size; n++) {
        if (cvk_frame_read(&reader, data[n])) {
            comes_through(reader.bytes, reader.length);
        }
    }
    if (size >= 1 && size <= CVK_MESSAGE_BYTES_MAX) {
        comes_through(data, size);
    }
    return 0;
}
