/* SPDX-License-Identifier: Apache-2.0
 *
 * Messages on a byte stream: where one begins and ends, and whether it came through whole.
 *
 * A frame is a flag 0x7E, the message, its 32-bit check sequence (least significant byte first) and
 * a flag; 0x7E and 0x7D inside are sent as 0x7D and the byte XOR 0x20. One flag may end a frame and
 * begin the next. Source: RFC 1662, "PPP in HDLC-like Framing", sections 3.1, 4 and appendix C.3,
 * without its address, control and protocol fields, which have no use between two ends.
 *
 * No heap, no state but the caller's, a bounded number of instructions a byte: fit for both ends.
 */
#ifndef CORVAK_LINK_FRAMING_H
#define CORVAK_LINK_FRAMING_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

enum {
    CVK_MESSAGE_BYTES_MAX = 512, /* the longest message */
    CVK_CHECK_BYTES = 4,
    /* what the longest message can take on the wire: every byte escaped, and two flags */
    CVK_FRAME_BYTES_MAX = 2 * (CVK_MESSAGE_BYTES_MAX + CVK_CHECK_BYTES) + 2,
};

/* What a reader has seen so far; the counts wrap. */
typedef struct cvk_framing_counts {
    uint32_t messages; /* came through whole */
    uint32_t damaged;  /* the check sequence does not fit */
    uint32_t broken;   /* too short, too long, or given up by the sender (0x7D 0x7E) */
} cvk_framing_counts;

/* One end's reader. Starts as all zeros; then it skips to the first flag. */
typedef struct cvk_frame_reader {
    uint8_t bytes[CVK_MESSAGE_BYTES_MAX + CVK_CHECK_BYTES]; /* the message, then its check */
    uint16_t length;                                        /* of the message, once it is whole */
    cvk_framing_counts counts;
    /* private */
    uint16_t filled;
    uint32_t check;
    uint8_t state;
} cvk_frame_reader;

/* Takes the next byte of the stream. True when it ends a whole message, which is then
 * `reader->bytes[0 .. length - 1]`, `length` >= 1, until the next call. A damaged or broken frame
 * is dropped and counted; the next flag begins anew, so one frame at most is lost with it. Bytes
 * before the first flag are not a frame and not counted. One context for each reader. */
bool cvk_frame_read(cvk_frame_reader *reader, uint8_t byte);

/* The check sequence over one more byte; it begins as 0xFFFFFFFF and is inverted at the end. */
uint32_t cvk_check_next(uint32_t check, uint8_t byte);

/* Writes `message` (`length` bytes, 1 .. CVK_MESSAGE_BYTES_MAX) as a frame to `wire` and returns
 * the bytes written; 0, and nothing that may be sent, when the length is out of range or `room`
 * too small (CVK_FRAME_BYTES_MAX always suffices). Any context. */
size_t cvk_frame_write(const uint8_t *message, size_t length, uint8_t *wire, size_t room);

#ifdef __cplusplus
}
#endif
#endif
