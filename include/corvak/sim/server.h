/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated controller as a process of its own, in real time: serves hosts over TCP or a
 * pseudo-terminal until it is told to end.
 */
#ifndef CORVAK_SIM_SERVER_H
#define CORVAK_SIM_SERVER_H

#include "corvak/sim/controller.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_SIM_SERVER_TEXT 512u

typedef struct cvk_sim_server_config {
    const char *listen; /* tcp:ADDRESS:PORT (port 0: any free one), or pty */
    const char *secret; /* a file: only hosts that know what stands in it may in; or null */
    bool open;          /* beyond this machine without a secret */
    void *context;
    void (*address)(void *context, const char *text);             /* where a host finds it */
    void (*tell)(void *context, double time_s, const char *text); /* what happens; or null */
} cvk_sim_server_config;

/* Serves until SIGINT, SIGTERM or SIGHUP, which stop the motor first, whoever commands. Another
 * status when it cannot listen, with what and the cure in `text` (CVK_SIM_SERVER_TEXT). The
 * controller stays open. */
cvk_status cvk_sim_server_run(cvk_sim_controller *controller, const cvk_sim_server_config *config,
                              char *text) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
