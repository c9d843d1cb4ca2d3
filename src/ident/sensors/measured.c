/* SPDX-License-Identifier: Apache-2.0
 *
 * Measured values.
 */
#include "calibration.h"

#include <math.h>

cvk_measured cvk_measured_of(double value, double half)
{
    return (cvk_measured){value, value - half, value + half};
}

bool cvk_measured_known(const cvk_measured *x)
{
    return isfinite(x->value);
}
