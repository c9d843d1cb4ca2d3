/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated controller as one sees it from outside: drive and rig run on, and all that comes in
 * or goes out are the bytes of its links. No clock but the rig's.
 */
#ifndef CORVAK_SIM_CONTROLLER_H
#define CORVAK_SIM_CONTROLLER_H

#include "corvak/host/device.h"
#include "corvak/link/controller.h"
#include "corvak/sim/sim.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_SIM_LINKS 8

typedef struct cvk_sim_controller cvk_sim_controller;

/* A controller on a rig of its own, with `config->tune`, bridge off, owned by nobody.
 * CVK_NO_MEMORY; refusals of cvk_sim_init(). */
cvk_status cvk_sim_controller_open(cvk_sim_controller **controller, const cvk_rig_config *config,
                                   uint64_t seed, cvk_refusal *why) CVK_MUST_CHECK;

/* Frees it; null is allowed. */
void cvk_sim_controller_close(cvk_sim_controller *controller);

/* Runs on to this time of the rig (s), and serves the links. */
void cvk_sim_controller_run(cvk_sim_controller *controller, double until_s);

double cvk_sim_controller_time_s(const cvk_sim_controller *controller);
const cvk_moment *cvk_sim_controller_now(const cvk_sim_controller *controller);

/* What the rig knew at the sample of this control call; false when it is longer ago than
 * CVK_SIM_REMEMBERED calls. */
#define CVK_SIM_REMEMBERED 16384u
bool cvk_sim_controller_truth(const cvk_sim_controller *controller, uint32_t tick,
                              cvk_bench_truth *truth);

/* What is inside: for scenarios, and what only a rig shows. */
cvk_sim *cvk_sim_controller_inside(cvk_sim_controller *controller);

/* A new link, 0 .. CVK_SIM_LINKS - 1; -1 when all are taken. Its owner number is 1 more.
 * `rows_apart`: rows of its stream do not become bytes. */
int cvk_sim_controller_connect(cvk_sim_controller *controller, bool rows_apart);

/* They are taken here: cvk_link_take_rows(). */
bool cvk_sim_controller_has_rows(const cvk_sim_controller *controller, int link);
bool cvk_sim_controller_take_rows(cvk_sim_controller *controller, int link, float *value,
                                  unsigned room, cvk_link_rows *rows);

void cvk_sim_controller_disconnect(cvk_sim_controller *controller, int link);

/* Links that connect from now on have to prove a secret; null: none. The lock must outlive them. */
void cvk_sim_controller_lock(cvk_sim_controller *controller, const cvk_link_lock *lock);

/* A host has identified itself on this link, and proved the secret where one is asked for. */
bool cvk_sim_controller_is_there(const cvk_sim_controller *controller, int link);

/* Tells the host why it has to go. */
void cvk_sim_controller_dismiss(cvk_sim_controller *controller, int link, const char *reason);

/* The controller has told this link to go: once what is there for it has been sent, disconnect. */
bool cvk_sim_controller_has_ended(const cvk_sim_controller *controller, int link);

/* Whoever commands: the motor stops in a controlled way, or the bridge is switched off. */
void cvk_sim_controller_stop(cvk_sim_controller *controller, bool at_once);

/* Bytes from the host: takes as many as there is room for, and answers at once what needs no
 * control call. */
size_t cvk_sim_controller_put(cvk_sim_controller *controller, int link, const uint8_t *bytes,
                              size_t count);

/* Bytes for the host. */
size_t cvk_sim_controller_get(cvk_sim_controller *controller, int link, uint8_t *bytes,
                              size_t room);

#ifdef __cplusplus
}
#endif
#endif
