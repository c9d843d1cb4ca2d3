/* SPDX-License-Identifier: Apache-2.0
 *
 * A wire: the bytes between a host and a controller, whatever carries them. A new kind fills in
 * this struct.
 */
#ifndef CORVAK_HOST_WIRE_H
#define CORVAK_HOST_WIRE_H

#include "corvak/core/status.h"
#include "corvak/host/secret.h"
#include "corvak/link/controller.h"

#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_wire {
    void *context;
    /* Up to `room` bytes that have come; waits for the first one, timeout_s at most. Returns their
     * count, 0 when none came in time, -1 when the other end is gone. */
    int (*read)(void *context, uint8_t *bytes, size_t room, double timeout_s);
    /* All of them, within a second; else false: the other end is gone or does not take any. */
    bool (*write)(void *context, const uint8_t *bytes, size_t count);
    /* Seconds since any instant, by the clock that timeouts go by. */
    double (*now_s)(void *context);
    /* To be waited for together with other input: readable when bytes have come. -1: none; then a
     * read with a timeout is what makes time pass. */
    int (*descriptor)(void *context);
    /* Null, unless the controller is in this process: rows of its stream, which come without being
     * made bytes: cvk_link_take_rows(). Then a read also ends when there are some. */
    bool (*rows)(void *context, float *value, unsigned room, cvk_link_rows *rows);
    void (*close)(void *context);
    double bytes_per_s;               /* that it carries; 0: more than are ever needed */
    uint8_t secret[CVK_SECRET_BYTES]; /* to be proved when the controller asks for it */
    size_t secret_bytes;              /* 0: none */
} cvk_wire;

#define CVK_WIRE_TEXT 256u

/* Opens `tcp:HOST:PORT` or `serial:PATH`; behind it may stand `?baud=RATE` (115200; of a line) and
 * `?secret=FILE`, joined by `&`. A line is this host's alone while it is open. CVK_NO_ANSWER when
 * there is nobody, CVK_BUSY when another host has the line, CVK_BAD_FORMAT for another address, and
 * what cvk_secret_file_read() returns; `text` (CVK_WIRE_TEXT) says what and the cure. */
cvk_status cvk_wire_open(cvk_wire *wire, const char *address, char *text) CVK_MUST_CHECK;

void cvk_wire_close(cvk_wire *wire);

/* Each serial line of this machine: its path, and what it says of itself ("" when nothing). */
void cvk_serial_lines(void (*on_line)(void *context, const char *path, const char *what),
                      void *context);

#ifdef __cplusplus
}
#endif
#endif
