/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated controller as a device: its link and its rig are in this process.
 */
#ifndef CORVAK_SIM_DEVICE_H
#define CORVAK_SIM_DEVICE_H

#include "corvak/host/device.h"
#include "corvak/sim/sim.h"

#ifdef __cplusplus
extern "C" {
#endif

/* A controller on a rig of its own, with `config->tune`; its bench knows the truth. `paced`: its
 * time passes no faster than ours. CVK_NO_MEMORY; refusals of cvk_sim_init(). Close the device in
 * any case. */
cvk_status cvk_sim_device_open(cvk_device *device, const cvk_rig_config *config, uint64_t seed,
                               bool paced, cvk_refusal *why) CVK_MUST_CHECK;

/* What is inside: for scenarios, scopes, a shaft that somebody frees, and what only a rig shows.
 * Null of a device that is not simulated. Its time runs ahead of the rows that were taken. */
cvk_sim *cvk_sim_device_inside(const cvk_device *device);

#ifdef __cplusplus
}
#endif
#endif
