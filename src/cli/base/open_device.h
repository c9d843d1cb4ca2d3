/* SPDX-License-Identifier: Apache-2.0
 *
 * A device as named on the command line: a controller behind a URL, or a simulated one inside.
 */
#ifndef CORVAK_CLI_BASE_OPEN_DEVICE_H
#define CORVAK_CLI_BASE_OPEN_DEVICE_H

#include "cli.h"

#include "corvak/host/linked_device.h"
#include "corvak/sim/controller.h"

#include <signal.h>

/* tcp:, serial: or sim:, not a file. */
gboolean names_device(const char *text);

/* Opens a wire to it. For sim:RIG a controller is made unless `*controller` holds one already; it
 * must outlive the wire. `paced`: its time passes no faster than ours. Returns an exit status, with
 * the message printed. */
int open_wire(const char *verb, const char *address, gboolean paced,
              cvk_sim_controller **controller, cvk_wire *wire);

/* A whole session, for a verb that does one thing. */
typedef struct device_session {
    cvk_sim_controller *controller; /* of sim:RIG; else null */
    cvk_session session;
    gboolean open;
} device_session;

int open_device(const char *verb, const char *address, gboolean paced, device_session *device);
void close_device(device_session *device);

/* The same, owned, as a device that runs are made on; its pole pairs are known. */
int open_motor(const char *verb, const char *address, device_session *session, cvk_device *device);

/* EXIT_DONE, or bad usage with what the session says printed. */
int check_device(const char *verb, const device_session *device, cvk_status status);

/* Set by Ctrl-C once catch_interrupt() has been called; who has acted on it may set it back. */
extern volatile sig_atomic_t interrupted;
void catch_interrupt(void);

#endif
