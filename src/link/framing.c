/* SPDX-License-Identifier: Apache-2.0
 *
 * Framing after RFC 1662. The check sequence is kept while the bytes come, so that the last byte of
 * a long frame costs no more than the first.
 */
#include "corvak/link/framing.h"

#define FLAG 0x7Eu
#define ESCAPE 0x7Du
#define ESCAPE_BIT 0x20u
#define CHECK_START 0xFFFFFFFFu
#define CHECK_OF_WHOLE 0xDEBB20E3u /* what remains after a message and its own check sequence */

enum { SKIPPING, INSIDE, ESCAPED };

/* Two table steps of four bits: 64 bytes of flash where a byte's table would take a kilobyte. */
uint32_t cvk_check_next(uint32_t check, uint8_t byte)
{
    static const uint32_t of_nibble[16] = {
        0x00000000u, 0x1DB71064u, 0x3B6E20C8u, 0x26D930ACu, 0x76DC4190u, 0x6B6B51F4u,
        0x4DB26158u, 0x5005713Cu, 0xEDB88320u, 0xF00F9344u, 0xD6D6A3E8u, 0xCB61B38Cu,
        0x9B64C2B0u, 0x86D3D2D4u, 0xA00AE278u, 0xBDBDF21Cu,
    };
    check ^= byte;
    check = (check >> 4) ^ of_nibble[check & 15u];
    return (check >> 4) ^ of_nibble[check & 15u];
}

static void begin(cvk_frame_reader *r)
{
    r->state = INSIDE;
    r->filled = 0;
    r->check = CHECK_START;
}

/* A flag has come: is what lies before it a message? */
static bool end_of_frame(cvk_frame_reader *r)
{
    const bool given_up = r->state == ESCAPED, too_short = r->filled <= CVK_CHECK_BYTES;
    if (r->state == SKIPPING || (r->filled == 0 && !given_up)) {
        return false; /* no frame: noise before the first flag, or flags that fill the time */
    }
    if (given_up || too_short) {
        r->counts.broken++;
        return false;
    }
    if (r->check != CHECK_OF_WHOLE) {
        r->counts.damaged++;
        return false;
    }
    r->counts.messages++;
    r->length = (uint16_t)(r->filled - CVK_CHECK_BYTES);
    return true;
}

bool cvk_frame_read(cvk_frame_reader *r, uint8_t byte)
{
    if (byte == FLAG) {
        const bool whole = end_of_frame(r);
        begin(r);
        return whole;
    }
    if (r->state == SKIPPING) {
        return false;
    }
    if (byte == ESCAPE && r->state == INSIDE) {
        r->state = ESCAPED;
        return false;
    }
    if (r->filled == sizeof r->bytes) {
        r->counts.broken++;
        r->state = SKIPPING;
        return false;
    }
    const uint8_t plain = r->state == ESCAPED ? (uint8_t)(byte ^ ESCAPE_BIT) : byte;
    r->state = INSIDE;
    r->bytes[r->filled++] = plain;
    r->check = cvk_check_next(r->check, plain);
    return false;
}

typedef struct writer {
    uint8_t *wire;
    size_t room, used;
} writer;

static void put(writer *w, uint8_t byte)
{
    if (w->used < w->room) {
        w->wire[w->used] = byte;
    }
    w->used++;
}

static void put_inside(writer *w, uint8_t byte)
{
    if (byte == FLAG || byte == ESCAPE) {
        put(w, ESCAPE);
        byte ^= ESCAPE_BIT;
    }
    put(w, byte);
}

size_t cvk_frame_write(const uint8_t *message, size_t length, uint8_t *wire, size_t room)
{
    if (length < 1 || length > CVK_MESSAGE_BYTES_MAX) {
        return 0;
    }
    writer w = {.wire = wire, .room = room};
    uint32_t check = CHECK_START;
    put(&w, FLAG);
    for (size_t n = 0; n < length; n++) {
        put_inside(&w, message[n]);
        check = cvk_check_next(check, message[n]);
    }
    check = ~check;
    for (int n = 0; n < CVK_CHECK_BYTES; n++) {
        put_inside(&w, (uint8_t)(check >> (8 * n)));
    }
    put(&w, FLAG);
    return w.used <= room ? w.used : 0;
}
