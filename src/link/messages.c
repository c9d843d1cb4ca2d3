/* SPDX-License-Identifier: Apache-2.0
 *
 * Messages to frames and back.
 */
#include "corvak/link/messages.h"

#include <pb_decode.h>
#include <pb_encode.h>
#include <string.h>

static size_t write_message(const pb_msgdesc_t *fields, const void *message, uint8_t *wire,
                            size_t room)
{
    uint8_t bytes[CVK_MESSAGE_BYTES_MAX];
    pb_ostream_t stream = pb_ostream_from_buffer(bytes, sizeof bytes);
    return pb_encode(&stream, fields, message)
               ? cvk_frame_write(bytes, stream.bytes_written, wire, room)
               : 0;
}

size_t cvk_write_to_controller(const corvak_ToController *message, uint8_t *wire, size_t room)
{
    return write_message(corvak_ToController_fields, message, wire, room);
}

size_t cvk_write_from_controller(const corvak_FromController *message, uint8_t *wire, size_t room)
{
    return write_message(corvak_FromController_fields, message, wire, room);
}

bool cvk_read_to_controller(const uint8_t *bytes, size_t length, corvak_ToController *message)
{
    pb_istream_t stream = pb_istream_from_buffer(bytes, length);
    return pb_decode(&stream, corvak_ToController_fields, message);
}

bool cvk_read_from_controller(const uint8_t *bytes, size_t length, corvak_FromController *message)
{
    pb_istream_t stream = pb_istream_from_buffer(bytes, length);
    return pb_decode(&stream, corvak_FromController_fields, message);
}

size_t cvk_length_from_controller(const corvak_FromController *message)
{
    size_t length = 0;
    return pb_get_encoded_size(&length, corvak_FromController_fields, message) ? length : 0;
}

uint32_t cvk_check_of_bytes(const uint8_t *bytes, size_t count)
{
    uint32_t check = UINT32_MAX;
    for (size_t n = 0; n < count; n++) {
        check = cvk_check_next(check, bytes[n]);
    }
    return ~check;
}

uint32_t cvk_check_of_values(uint32_t before, const float *values, size_t count)
{
    uint32_t check = ~before;
    for (size_t n = 0; n < count; n++) {
        uint32_t word;
        memcpy(&word, &values[n], sizeof word);
        for (int byte = 0; byte < 4; byte++) {
            check = cvk_check_next(check, (uint8_t)(word >> (8 * byte)));
        }
    }
    return ~check;
}
