/* SPDX-License-Identifier: Apache-2.0
 *
 * Reference frames: three phases, the stationary alpha-beta plane, the rotor's d-q plane.
 *
 * Amplitude-invariant: a balanced set of phase amplitude X is a vector of length X.
 * Alpha lies on phase a; d lies on the magnet flux; positive rotation goes a, b, c.
 */
#ifndef CORVAK_CORE_FRAMES_H
#define CORVAK_CORE_FRAMES_H

#include "corvak/core/units.h"

#include <math.h>
#include <stdbool.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_SQRT3 1.73205080756888f

typedef struct cvk_abc {
    float a, b, c;
} cvk_abc;

typedef struct cvk_ab {
    float alpha, beta;
} cvk_ab;

typedef struct cvk_dq {
    float d, q;
} cvk_dq;

/* Cosine and sine of one angle, computed once and used for every rotation by it. */
typedef struct cvk_rotation {
    float cosine, sine;
} cvk_rotation;

/* Both at once, from one reduction of the angle to an eighth of a turn: within 2e-7 up to a turn,
 * 1e-5 up to a hundred turns. Polynomials: Moshier, Methods and Programs for Mathematical
 * Functions, 1989. */
static inline cvk_rotation cvk_rotation_of(float angle_rad)
{
    const float quarters = angle_rad * (2.0f / CVK_PI);
    const int n = (int)(quarters + (quarters < 0.0f ? -0.5f : 0.5f));
    const float x = (angle_rad - (float)n * 1.5703125f) - (float)n * 4.83826794897e-4f, y = x * x;
    const float sine =
        x + x * y * (-1.6666654611e-1f + y * (8.3321608736e-3f - y * 1.9515295891e-4f));
    const float cosine =
        1.0f - 0.5f * y +
        y * y * (4.166664568298827e-2f - y * (1.388731625493765e-3f - y * 2.443315711809948e-5f));
    const bool odd = ((unsigned)n & 1u) != 0u, back = ((unsigned)n & 2u) != 0u;
    const float c = odd ? -sine : cosine, s = odd ? cosine : sine;
    cvk_rotation r = {back ? -c : c, back ? -s : s};
    return r;
}

/* The same of an angle of less than a radian, as a motor turns in a sample: within 3e-6. */
static inline cvk_rotation cvk_small_rotation_of(float angle_rad)
{
    const float x = angle_rad, y = x * x;
    cvk_rotation r = {1.0f - y * (0.5f - y * (1.0f / 24.0f - y * (1.0f / 720.0f))),
                      x * (1.0f - y * (1.0f / 6.0f - y * (1.0f / 120.0f - y * (1.0f / 5040.0f))))};
    return r;
}

/* One rotation after the other, and a rotation the other way. */
static inline cvk_rotation cvk_rotation_then(cvk_rotation first, cvk_rotation then)
{
    cvk_rotation r = {first.cosine * then.cosine - first.sine * then.sine,
                      first.sine * then.cosine + first.cosine * then.sine};
    return r;
}

static inline cvk_rotation cvk_rotation_back(cvk_rotation x)
{
    cvk_rotation r = {x.cosine, -x.sine};
    return r;
}

/* Three phases to alpha-beta; what the three have in common drops out. */
static inline cvk_ab cvk_clarke(cvk_abc x)
{
    cvk_ab v = {(2.0f * x.a - x.b - x.c) * (1.0f / 3.0f), (x.b - x.c) * (1.0f / CVK_SQRT3)};
    return v;
}

/* Alpha-beta to three phases that sum to zero. */
static inline cvk_abc cvk_clarke_inverse(cvk_ab v)
{
    cvk_abc x = {v.alpha, -0.5f * v.alpha + 0.5f * CVK_SQRT3 * v.beta,
                 -0.5f * v.alpha - 0.5f * CVK_SQRT3 * v.beta};
    return x;
}

static inline float cvk_length(cvk_ab v)
{
    return sqrtf(v.alpha * v.alpha + v.beta * v.beta);
}

static inline float cvk_length_dq(cvk_dq v)
{
    return sqrtf(v.d * v.d + v.q * v.q);
}

/* A stationary vector as seen from a frame turned by `frame`. */
static inline cvk_dq cvk_park(cvk_ab v, cvk_rotation frame)
{
    cvk_dq x = {frame.cosine * v.alpha + frame.sine * v.beta,
                frame.cosine * v.beta - frame.sine * v.alpha};
    return x;
}

/* A vector of the turned frame as seen from the stationary one. */
static inline cvk_ab cvk_park_inverse(cvk_dq x, cvk_rotation frame)
{
    cvk_ab v = {frame.cosine * x.d - frame.sine * x.q, frame.sine * x.d + frame.cosine * x.q};
    return v;
}

/* The same angle in -pi .. pi, as precise as a float that large can be: to 1e-3 rad up to a
 * thousand turns. Angles beyond 2^31 turns are not allowed. */
static inline float cvk_wrap_angle(float angle_rad)
{
    float turns = angle_rad * (1.0f / CVK_TWO_PI);
    return angle_rad - CVK_TWO_PI * (float)(int)(turns + (turns < 0.0f ? -0.5f : 0.5f));
}

/* Angle of a vector, -pi .. pi, within 1e-5 rad; 0 for the null vector. Polynomial: Abramowitz,
 * Stegun, Handbook of Mathematical Functions, 1964, 4.4.49. */
static inline float cvk_angle_of(float x, float y)
{
    const float ax = fabsf(x), ay = fabsf(y);
    const float large = ax > ay ? ax : ay, small = ax > ay ? ay : ax;
    const float z = large > 0.0f ? small / large : 0.0f, zz = z * z;
    float angle =
        z * (0.9998660f +
             zz * (-0.3302995f + zz * (0.1801410f + zz * (-0.0851330f + zz * 0.0208351f))));
    angle = ay > ax ? 0.5f * CVK_PI - angle : angle;
    angle = x < 0.0f ? CVK_PI - angle : angle;
    return y < 0.0f ? -angle : angle;
}

#ifdef __cplusplus
}
#endif
#endif
