/* SPDX-License-Identifier: Apache-2.0
 *
 * Space-vector modulation by min-max injection. With x = v / bus for the three phases,
 * duty = 1/2 + x - (max x + min x) / 2; the hexagon is max x - min x = 1.
 */
#include "corvak/core/svm.h"

#define SAFE_SHARE 0.999f /* of the hexagon: below it no rounding takes a duty out of 0 .. 1 */

static float max3(cvk_abc x)
{
    float m = x.a > x.b ? x.a : x.b;
    return m > x.c ? m : x.c;
}

static float min3(cvk_abc x)
{
    float m = x.a < x.b ? x.a : x.b;
    return m < x.c ? m : x.c;
}

static float unit_clamp(float x)
{
    return x >= 0.0f ? (x <= 1.0f ? x : 1.0f) : 0.0f; /* 0 for what is no number */
}

cvk_svm_output cvk_svm(cvk_ab voltage_v, float bus_v)
{
    const cvk_abc x = cvk_clarke_inverse(voltage_v);
    const float high = max3(x), low = min3(x), share = (high - low) / bus_v;
    const float shorten = share > 1.0f ? 1.0f / share : 1.0f;
    const float per_volt = shorten / bus_v;
    const float centre = 0.5f - 0.5f * (high + low) * per_volt;
    cvk_svm_output out = {
        .duties = {centre + x.a * per_volt, centre + x.b * per_volt, centre + x.c * per_volt},
        .voltage_v = {voltage_v.alpha * shorten, voltage_v.beta * shorten},
        .headroom = share < 1.0f ? 1.0f - share : 0.0f,
    };
    if (!(share < SAFE_SHARE)) { /* rounding, and what is no number */
        cvk_abc *d = &out.duties;
        *d = (cvk_abc){unit_clamp(d->a), unit_clamp(d->b), unit_clamp(d->c)};
    }
    return out;
}
