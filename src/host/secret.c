/* SPDX-License-Identifier: Apache-2.0
 *
 * A shared secret and its proof, by GLib.
 */
#include "corvak/host/secret.h"

#include <glib.h>
#include <string.h>

#define FEWEST 8u

cvk_status cvk_secret_file_read(const char *path, uint8_t *secret, size_t room, size_t *bytes,
                                char *text, size_t text_room)
{
    char *contents = NULL;
    gsize count = 0;
    GError *error = NULL;
    if (!g_file_get_contents(path, &contents, &count, &error)) {
        g_snprintf(text, text_room, "%s: cannot be read: %s", path, error->message);
        g_error_free(error);
        return CVK_FILE_ERROR;
    }
    while (count > 0 && (contents[count - 1] == '\n' || contents[count - 1] == '\r')) {
        count--;
    }
    const bool fits = count >= FEWEST && count <= room;
    if (fits) {
        memcpy(secret, contents, count);
        *bytes = count;
    } else {
        g_snprintf(text, text_room,
                   "%s: a secret has %u .. %zu bytes, and this one %zu: make one with `head -c 24 "
                   "/dev/urandom | base64`",
                   path, FEWEST, room, count);
    }
    g_free(contents);
    return fits ? CVK_OK : CVK_OUT_OF_RANGE;
}

void cvk_prove_secret(const uint8_t *secret, size_t bytes, const uint8_t challenge[16],
                      uint8_t proof[32])
{
    gsize count = 32;
    GHmac *hmac = g_hmac_new(G_CHECKSUM_SHA256, secret, bytes);
    g_hmac_update(hmac, challenge, 16);
    g_hmac_get_digest(hmac, proof, &count);
    g_hmac_unref(hmac);
}
