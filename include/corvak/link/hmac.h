/* SPDX-License-Identifier: Apache-2.0
 *
 * HMAC-SHA-256 (FIPS 180-4, RFC 2104) for a controller that asks its hosts for a shared secret and
 * has no library for it. A host takes GLib's.
 */
#ifndef CORVAK_LINK_HMAC_H
#define CORVAK_LINK_HMAC_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_HMAC_BYTES 32u

/* Of any lengths. Takes some 400 bytes of stack, and about 70 000 instructions on a Cortex-M4F for
 * a challenge. Task. */
void cvk_hmac(const uint8_t *key, size_t key_bytes, const uint8_t *message, size_t message_bytes,
              uint8_t out[CVK_HMAC_BYTES]);

/* Compared in a time that does not tell where they differ. */
bool cvk_hmac_is(const uint8_t a[CVK_HMAC_BYTES], const uint8_t b[CVK_HMAC_BYTES]);

#ifdef __cplusplus
}
#endif
#endif
