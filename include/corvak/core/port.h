/* SPDX-License-Identifier: Apache-2.0
 *
 * The port: the little that the core must ask of the hardware. Samples and duties are passed as
 * arguments, not fetched. docs/porting.md walks through a port.
 */
#ifndef CORVAK_CORE_PORT_H
#define CORVAK_CORE_PORT_H

#include <stdbool.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_port {
    void *context; /* handed back to every callback; may be null */

    /* Turns all six switches off (false), or lets them follow the duties (true).
     * Called from cvk_drive_init() and then from the current-sample interrupt; must not block;
     * cannot fail. From the interrupt it is called only when the state is to change. After "false"
     * no switch may be on when the callback returns. */
    void (*gate_enable)(void *context, bool enable);

    /* The gate driver's 16-bit registers, as over SPI. Null when it has none. Called from slow work
     * only, never from the interrupt; may block for some 10 us. False when the address is unknown
     * or the driver does not answer; `value` is then untouched. */
    bool (*gate_register_read)(void *context, uint8_t address, uint16_t *value);
    bool (*gate_register_write)(void *context, uint8_t address, uint16_t value);

    /* Byte streams, numbered from 0: a serial line, a USB endpoint. Null when there are none.
     * Called from slow work only; must not block: each returns how many bytes it took or gave, 0
     * when it cannot now. */
    uint32_t (*stream_read)(void *context, uint8_t stream, uint8_t *bytes, uint32_t room);
    uint32_t (*stream_write)(void *context, uint8_t stream, const uint8_t *bytes, uint32_t count);

    /* Microseconds since any instant; wraps around. Null when there is none. Any context. */
    uint32_t (*clock_us)(void *context);

    /* The watchdog starts anew: without it for its time the hardware resets, gates off. Null when
     * there is none. Called from cvk_drive_supervise(), and only while control calls come. */
    void (*watchdog_kick)(void *context);

    /* Persistent storage, like flash memory: an erase sets a page to 0xFF, programming can only
     * clear bits. Null when there is none. Called from slow work only; may block for the time that
     * the memory needs. False when out of range or when the memory fails; what was done until then
     * stays done: a cut at any byte must be expected. */
    bool (*storage_read)(void *context, uint32_t at, void *bytes, uint32_t count);
    bool (*storage_program)(void *context, uint32_t at, const void *bytes, uint32_t count);
    bool (*storage_erase)(void *context, uint32_t page);
} cvk_port;

#ifdef __cplusplus
}
#endif
#endif
