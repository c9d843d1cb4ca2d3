/* SPDX-License-Identifier: Apache-2.0
 *
 * The secret that a controller shares with its hosts: read from a file, and proved by HMAC-SHA-256
 * of a challenge.
 */
#ifndef CORVAK_HOST_SECRET_H
#define CORVAK_HOST_SECRET_H

#include "corvak/core/status.h"

#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_SECRET_BYTES 256u /* at most; 8 at least */

/* What stands in a file, without the ends of lines behind it. CVK_FILE_ERROR, CVK_OUT_OF_RANGE for
 * less than 8 or more than `room` bytes; `text` says what and the cure. */
cvk_status cvk_secret_file_read(const char *path, uint8_t *secret, size_t room, size_t *bytes,
                                char *text, size_t text_room) CVK_MUST_CHECK;

/* What proves that somebody knows it: 32 bytes, of a challenge of 16. */
void cvk_prove_secret(const uint8_t *secret, size_t bytes, const uint8_t challenge[16],
                      uint8_t proof[32]);

#ifdef __cplusplus
}
#endif
#endif
