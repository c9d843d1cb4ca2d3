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

/* Onto the circle, when it lies outside. */
static cvk_ab on_circle(cvk_ab v, float radius_v, float *headroom)
{
    const float length = cvk_length(v);
    const float shorten = length > radius_v ? radius_v / length : 1.0f;
    *headroom = length < radius_v ? 1.0f - length / radius_v : 0.0f;
    return (cvk_ab){shorten * v.alpha, shorten * v.beta};
}

static void cut_off(cvk_svm_output *out, float bus_v)
{
    cvk_abc *d = &out->duties;
    *d = (cvk_abc){unit_clamp(d->a), unit_clamp(d->b), unit_clamp(d->c)};
    out->voltage_v = cvk_clarke((cvk_abc){bus_v * d->a, bus_v * d->b, bus_v * d->c});
}

cvk_svm_output cvk_svm(cvk_ab voltage_v, float bus_v, cvk_depth depth)
{
    float circle = 0.0f;
    cvk_ab v = voltage_v;
    if (depth <= CVK_DEPTH_LINEAR) {
        v = on_circle(v, bus_v * (depth == CVK_DEPTH_SINE ? 0.5f : 1.0f / CVK_SQRT3), &circle);
    }
    const cvk_abc x = cvk_clarke_inverse(v);
    const float high = max3(x), low = min3(x), share = (high - low) / bus_v;
    const bool cuts = share > 1.0f && depth == CVK_DEPTH_SIX_STEP;
    const float shorten = share > 1.0f && !cuts ? 1.0f / share : 1.0f;
    const float per_volt = shorten / bus_v;
    const float centre = 0.5f - 0.5f * (high + low) * per_volt;
    cvk_svm_output out = {
        .duties = {centre + x.a * per_volt, centre + x.b * per_volt, centre + x.c * per_volt},
        .voltage_v = {v.alpha * shorten, v.beta * shorten},
        .headroom = depth <= CVK_DEPTH_LINEAR ? circle
                    : share < 1.0f            ? 1.0f - share
                                              : 0.0f,
    };
    if (cuts) {
        cut_off(&out, bus_v);
    } else if (!(share < SAFE_SHARE)) { /* rounding, and what is no number */
        cvk_abc *d = &out.duties;
        *d = (cvk_abc){unit_clamp(d->a), unit_clamp(d->b), unit_clamp(d->c)};
    }
    return out;
}
