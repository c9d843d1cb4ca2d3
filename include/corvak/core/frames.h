/* SPDX-License-Identifier: Apache-2.0
 *
 * Reference frames: three phases, the stationary alpha-beta plane, the rotor's d-q plane.
 *
 * Amplitude-invariant: a balanced set of phase amplitude X is a vector of length X.
 * Alpha lies on phase a; d lies on the magnet flux; positive rotation goes a, b, c.
 */
#ifndef CORVAK_CORE_FRAMES_H
#define CORVAK_CORE_FRAMES_H

#include <math.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_PI 3.14159265358979f
#define CVK_TWO_PI 6.28318530717959f
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

static inline cvk_rotation cvk_rotation_of(float angle_rad)
{
    cvk_rotation r = {cosf(angle_rad), sinf(angle_rad)};
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

#ifdef __cplusplus
}
#endif
#endif
