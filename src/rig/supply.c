/* SPDX-License-Identifier: Apache-2.0
 *
 * The bus: source, cable, capacitor. Solved by steps short against the resonance of cable and
 * capacitor, the resistance implicit, so that no choice of values makes it ring by itself.
 */
#include "parts.h"

#define RADIANS_PER_STEP 0.5 /* of that resonance */
#define LEAST_OHM 1e-6
#define GATHERED_SHARE (1.0 / 64) /* of a period: the bus moves by millivolts in it */

void cvk_supply_derive(cvk_rig *rig)
{
    const cvk_rig_supply *supply = &rig->config.supply;
    double resonance = supply->cable_inductance_h > 0.0
                           ? 1.0 / sqrt(supply->cable_inductance_h * supply->capacitor_f)
                           : 0.0;
    double steps = ceil(resonance * rig->derived.period_s / RADIANS_PER_STEP);
    rig->derived.supply_steps = (int)cvk_smaller(64.0, cvk_larger(1.0, steps));
}

static double limit_source(const cvk_rig_supply *supply, double current_a)
{
    if (supply->kind == CVK_SUPPLY_BATTERY) {
        return current_a;
    }
    double most = supply->current_limit_a > 0.0 ? supply->current_limit_a : INFINITY;
    return cvk_clamp(current_a, 0.0, most);
}

void cvk_supply_step(cvk_rig *rig, double charge_as, double dt_s)
{
    const cvk_rig_supply *supply = &rig->config.supply;
    cvk_rig_state *x = &rig->state;
    const double source_v = rig->acting.source_v;
    if (supply->resistance_ohm < LEAST_OHM && supply->kind == CVK_SUPPLY_BATTERY) {
        x->supply_a = charge_as / dt_s; /* a stiff source */
        x->bus_v = source_v;
        rig->meter.source_j += source_v * charge_as;
        return;
    }
    const double r = cvk_larger(supply->resistance_ohm, LEAST_OHM), l = supply->cable_inductance_h;
    double share = dt_s / rig->derived.period_s;
    int steps = (int)ceil(share * rig->derived.supply_steps);
    double h = dt_s / steps, per_farad = h / supply->capacitor_f, load_a = charge_as / dt_s;
    double gain = 1.0 / (l + h * r + h * per_farad);
    for (int n = 0; n < steps; n++) {
        /* implicit in source current and bus voltage */
        double i = gain * (l * x->supply_a + h * (source_v - x->bus_v + per_farad * load_a));
        x->supply_a = limit_source(supply, i);
        x->bus_v += per_farad * (x->supply_a - load_a);
        if (rig->meter.on) {
            double c = x->supply_a - load_a;
            rig->meter.source_j += h * source_v * x->supply_a;
            rig->meter.supply_j += h * r * x->supply_a * x->supply_a;
            rig->meter.capacitor_a2_s += h * c * c;
        }
    }
}

void cvk_supply_gather(cvk_rig *rig, double charge_as, double dt_s)
{
    rig->gathered_as += charge_as;
    rig->gathered_s += dt_s;
    if (rig->gathered_s > GATHERED_SHARE * rig->derived.period_s) {
        cvk_supply_settle(rig);
    }
}

void cvk_supply_settle(cvk_rig *rig)
{
    if (rig->gathered_s > 0.0) {
        cvk_supply_step(rig, rig->gathered_as, rig->gathered_s);
        rig->gathered_as = rig->gathered_s = 0.0;
    }
}
