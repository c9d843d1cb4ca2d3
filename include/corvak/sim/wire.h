/* SPDX-License-Identifier: Apache-2.0
 *
 * A wire to a simulated controller in this process. Its time is the rig's: it passes while somebody
 * waits for bytes.
 */
#ifndef CORVAK_SIM_WIRE_H
#define CORVAK_SIM_WIRE_H

#include "corvak/host/wire.h"
#include "corvak/sim/controller.h"

#ifdef __cplusplus
extern "C" {
#endif

/* One of the controller's links; the controller must outlive it. `paced`: time passes no faster
 * than for whoever looks on; else as fast as it can be computed. CVK_BUSY when all links are taken.
 */
cvk_status cvk_sim_wire_open(cvk_wire *wire, cvk_sim_controller *controller,
                             bool paced) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
