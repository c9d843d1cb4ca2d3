/* SPDX-License-Identifier: Apache-2.0
 *
 * What torque a motor has at which speed.
 */
#include "common.h"

#include "corvak/core/units.h"
#include "corvak/document/number.h"

#include <math.h>

static void put_torques(cvk_doc *doc, const cvk_torque_map *r, double winding_degc)
{
    const bool known = isfinite(r->continuous_nm);
    cvk_doc_number(doc, "torque_nm", "torque at standstill", r->torque_nm);
    if (r->current_d_a < 0.0) {
        cvk_doc_remark(doc, ", with %s A of d current the least current (torque.least_current)",
                       digits(r->current_d_a, 3));
    }
    cvk_doc_number(doc, "continuous_torque_nm", known ? "for long" : NULL, r->continuous_nm);
    cvk_doc_remark(doc, "%s %.0f °C",
                   r->continuous_nm < r->torque_nm ? "the winding comes to"
                                                   : "all of it, the winding stays below",
                   winding_degc);
    cvk_doc_number(doc, "least_current_d_a", NULL, r->current_d_a);
    cvk_doc_number(doc, "switch_off_mech_rad_s", NULL, r->off_mech_rad_s);
    cvk_doc_numbers(doc, "speed_mech_rad_s", NULL, r->speed_mech_rad_s, CVK_TORQUE_MAP_POINTS);
}

static void put_depth(cvk_doc *doc, const char *name, const cvk_torque_depth *k)
{
    char weakened[32] = "no end by the voltage";
    if (isfinite(k->weakened_mech_rad_s)) {
        g_snprintf(weakened, sizeof weakened, "%.0f rpm",
                   CVK_RPM_PER_RAD_S * k->weakened_mech_rad_s);
    }
    cvk_doc_row(doc, name, name);
    cvk_doc_number(doc, "voltage_v", "voltage", k->voltage_v);
    cvk_doc_number(doc, "base_mech_rad_s", "all torque", k->base_mech_rad_s);
    cvk_doc_number(doc, "top_mech_rad_s", "without load", k->top_mech_rad_s);
    cvk_doc_text(doc, NULL, "with field weakening", weakened);
    cvk_doc_number(doc, "weakened_mech_rad_s", NULL, k->weakened_mech_rad_s);
    cvk_doc_numbers(doc, "torque_nm", NULL, k->torque_nm, CVK_TORQUE_MAP_POINTS);
    cvk_doc_numbers(doc, "weakened_torque_nm", NULL, k->weakened_nm, CVK_TORQUE_MAP_POINTS);
    cvk_doc_end(doc);
}

cvk_doc *cvk_range_document(const cvk_torque_motor *motor, const cvk_torque_map *map,
                            const char *name, double winding_degc)
{
    const char *const *depths = cvk_parameter_named("modulation.depth")->names;
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_title(doc, "Range: %s at %s V and %s A", name, digits(motor->bus_v, 4),
                  digits(motor->current_a, 4));
    cvk_doc_text(doc, "name", NULL, name);
    put_torques(doc, map, winding_degc);
    cvk_doc_table(doc, "depths", "by modulation.depth");
    for (int d = 0; d < CVK_DEPTHS; d++) {
        put_depth(doc, depths[d], &map->depth[d]);
    }
    cvk_doc_end(doc);
    cvk_doc_title(doc,
                  "torque.weakening takes %s A of d current at most (torque.weakening_current_a). "
                  "Faster than %.0f rpm a bridge that is switched off lifts the bus beyond %s V "
                  "(protect.bus_max_v): the back-EMF is larger there, and only the d current holds "
                  "it down",
                  digits(motor->weakening_a, 3), CVK_RPM_PER_RAD_S * map->off_mech_rad_s,
                  digits(motor->bus_most_v, 4));
    return doc;
}
