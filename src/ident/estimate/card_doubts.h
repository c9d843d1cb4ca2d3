/* SPDX-License-Identifier: Apache-2.0
 *
 * What a value on the card may be off by beside its fit.
 */
#ifndef CORVAK_IDENT_ESTIMATE_CARD_DOUBTS_H
#define CORVAK_IDENT_ESTIMATE_CARD_DOUBTS_H

#include "card_writing.h"

/* Relative deviations that the model itself may be off by: loss in the iron is in no model and
 * looks like as much more resistance, inductance and flux linkage (bench_accuracy). */
#define CVK_FLOOR_RESISTANCE 2.2e-3
#define CVK_FLOOR_INDUCTANCE 3e-3

/* How far the logs in which the motor stands still go; 0 without one. */
typedef struct cvk_reach {
    double largest_a;                   /* of any path, */
    double current_a, voltage_v, bus_v; /* and of the log that goes furthest on the card's */
    double flux_floor;
    bool commanded; /* by duties */
    bool turning;   /* no standstill log has shown the resistance */
} cvk_reach;

cvk_reach cvk_reach_of(const cvk_prepared *logs, size_t count, cvk_path path);

/* A motor without current is among the logs. */
bool cvk_any_coasting(const cvk_windows *windows);

/* Relative deviation of the flux linkage that the model itself may be off by. */
double cvk_flux_floor(const cvk_windows *windows);

/* The entry of a parameter that is known, with all of that. */
void cvk_write_entry(cvk_card_entry *entry, const cvk_belief *belief, int parameter, double dof,
                     const cvk_scale_share *share, const cvk_reach *r);

#endif
