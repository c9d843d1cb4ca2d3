/* SPDX-License-Identifier: Apache-2.0
 *
 * The inverter's own voltage, for figures.
 */
#include "inverter_curve.h"

#include "corvak/ident/result.h"

double cvk_inverter_voltage(double dead_time_voltage_v, double knee_a, int curve, double current_a)
{
    double x = fmax(-1e6, fmin(1e6, current_a / knee_a));
    return dead_time_voltage_v * cvk_curve_at(x, curve);
}
