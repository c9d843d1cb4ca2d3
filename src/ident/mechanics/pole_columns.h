/* SPDX-License-Identifier: Apache-2.0
 *
 * Evidence for the number of pole pairs that needs no voltages: columns that count electrical turns
 * against those that count turns of the shaft, turns counted by hand, a disc of known inertia.
 */
#ifndef CORVAK_IDENT_MECHANICS_POLE_COLUMNS_H
#define CORVAK_IDENT_MECHANICS_POLE_COLUMNS_H

#include "pole_pairs.h"

/* theta_e or halls against theta_m, encoder, speed, index marks or turns counted by hand. */
void cvk_poles_from_columns(cvk_pole_evidence *evidence, const cvk_log *log);

/* Electrical turns found in the voltages against `shaft_turns`, counted by hand. */
void cvk_poles_from_count(cvk_pole_evidence *evidence, const cvk_turns *turns, double shaft_turns);

/* Inertias without and with a disc of `disc_kg_m2`, as they come out for one pole pair, with their
 * deviations. */
void cvk_poles_from_disc(cvk_pole_evidence *evidence, const double without[2],
                         const double with_disc[2], double disc_kg_m2);

#endif
