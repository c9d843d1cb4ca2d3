/* SPDX-License-Identifier: Apache-2.0
 *
 * Measured values, and the sensors' names.
 */
#include "calibration.h"

#include <math.h>

const char *cvk_sensor_kind_name(cvk_sensor_kind kind)
{
    static const char *const names[CVK_SENSES_KINDS] = {"hall", "encoder", "sincos", "absolute"};
    return (unsigned)kind < CVK_SENSES_KINDS ? names[kind] : "none";
}

cvk_measured cvk_measured_of(double value, double half)
{
    return (cvk_measured){value, value - half, value + half};
}

bool cvk_measured_known(const cvk_measured *x)
{
    return isfinite(x->value);
}
