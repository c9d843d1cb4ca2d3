/* SPDX-License-Identifier: Apache-2.0
 *
 * A bench scope on the switched rig: few channels at a high rate, with every edge in it.
 */
#ifndef CORVAK_RIG_SCOPE_H
#define CORVAK_RIG_SCOPE_H

#include "corvak/rig/rig.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What the scope's probes see at one instant: eight bits of their ranges, and noise. */
typedef struct cvk_rig_scope_row {
    double time_s;
    double leg_v[3]; /* legs against the negative bus */
    double leg_a[3];
    double bus_v;
} cvk_rig_scope_row;

typedef struct cvk_rig_scope {
    double from_s, until_s; /* what is caught */
    double rate_hz;         /* 1e3 .. 1e9 */
    void (*row)(void *context, const cvk_rig_scope_row *row);
    void *context;
    /* kept by the scope */
    unsigned long long taken;
    cvk_rig_scope_row before;
    bool started;
} cvk_rig_scope;

/* From now on the scope gets what the rig does; it must outlive that. The rig's fidelity should be
 * "switched": the averaged inverter has no edges to see. */
void cvk_rig_scope_attach(cvk_rig *rig, cvk_rig_scope *scope);

#ifdef __cplusplus
}
#endif
#endif
