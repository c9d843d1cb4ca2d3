/* SPDX-License-Identifier: Apache-2.0
 *
 * Messages as frames, for both ends. What they say: src/link/corvak.proto, of which corvak.pb.h is
 * made when Corvak is built. Protocol Buffers by nanopb: no heap, sizes fixed by corvak.options.
 */
#ifndef CORVAK_LINK_MESSAGES_H
#define CORVAK_LINK_MESSAGES_H

#include "corvak/link/corvak.pb.h"
#include "corvak/link/framing.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    CVK_LINK_PROTOCOL = 1,
    CVK_LINK_SIGNALS_MOST = 48,  /* of one stream or look */
    CVK_LINK_SETTINGS_MOST = 32, /* of one Stage */
    CVK_LINK_SAMPLES_MOST = 120, /* values in one Samples */
};

/* Each writes one message as a frame to `wire` and returns the bytes written; 0 when it is longer
 * than a message may be, or `room` is too small. Any context. */
size_t cvk_write_to_controller(const corvak_ToController *message, uint8_t *wire, size_t room);
size_t cvk_write_from_controller(const corvak_FromController *message, uint8_t *wire, size_t room);

/* Each reads what a frame held. False when it is no such message. Any context. */
bool cvk_read_to_controller(const uint8_t *bytes, size_t length, corvak_ToController *message);
bool cvk_read_from_controller(const uint8_t *bytes, size_t length, corvak_FromController *message);

/* Encoded, a message has so many bytes; 0 when it cannot be encoded. */
size_t cvk_length_from_controller(const corvak_FromController *message);

/* CRC-32. */
uint32_t cvk_check_of_bytes(const uint8_t *bytes, size_t count);

/* The check of a draft: CRC-32 of values as little-endian floats. Begin with 0; go on with what
 * came back. */
uint32_t cvk_check_of_values(uint32_t before, const float *values, size_t count);

#ifdef __cplusplus
}
#endif
#endif
