/* SPDX-License-Identifier: Apache-2.0
 *
 * The port: the little that the core must ask of the hardware. Samples and duties are passed as
 * arguments, not fetched. docs/porting.md walks through a port.
 */
#ifndef CORVAK_CORE_PORT_H
#define CORVAK_CORE_PORT_H

#include <stdbool.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_port {
    void *context; /* handed back to every callback; may be null */

    /* Turns all six switches off (false), or lets them follow the duties (true).
     * Called from the current-sample interrupt; must not block; cannot fail. Called only when the
     * state is to change. After "false" no switch may be on when the callback returns. */
    void (*gate_enable)(void *context, bool enable);
} cvk_port;

#ifdef __cplusplus
}
#endif
#endif
