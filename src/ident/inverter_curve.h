/* SPDX-License-Identifier: Apache-2.0
 *
 * Curves of the inverter's own voltage against current, s(x) with x = current / knee. Which one
 * holds depends on the power stage and is not known before: all are tried.
 */
#ifndef CORVAK_IDENT_INVERTER_CURVE_H
#define CORVAK_IDENT_INVERTER_CURVE_H

#include <math.h>
#include <stddef.h>

/* From soft to sharp. */
enum {
    CVK_CURVE_SOFT,    /* x / (1 + |x|) */
    CVK_CURVE_CHARGE,  /* x/2 up to 1, then 1 - 1/(2|x|): the leg's own capacitance, theory.md */
    CVK_CURVE_ARC,     /* (2/pi) atan(pi x / 2), within 1e-5 */
    CVK_CURVE_ROUND,   /* x / sqrt(1 + x^2) */
    CVK_CURVE_TANH,    /* tanh x, as a quotient of polynomials: within 2e-4 */
    CVK_CURVE_CLIPPED, /* x up to 1 */
    CVK_CURVES
};

/* atan(y) / y for y^2 up to 1 (Hastings, Approximations for Digital
 * Computers, 1955). */
static inline double cvk_arc_series(double y2)
{
    return 0.9998660 + y2 * (-0.3302995 + y2 * (0.1801410 + y2 * (-0.0851330 + y2 * 0.0208351)));
}

/* atan(y) / y for y > 0. */
static inline double cvk_arc_over(double y)
{
    const double near = y < 1.0 ? y : 1.0, far = y > 1.0 ? 1.0 / y : 1.0;
    const double outside = far * (1.57079632679489662 - far * cvk_arc_series(far * far));
    return y > 1.0 ? outside : cvk_arc_series(near * near);
}

static inline double cvk_curve_at(double x, int curve)
{
    double x2 = x * x;
    switch (curve) {
    case CVK_CURVE_SOFT:
        return x / (1.0 + fabs(x));
    case CVK_CURVE_CHARGE: {
        double size = fabs(x), far = 1.0 - 0.5 / (size > 1.0 ? size : 1.0);
        return size < 1.0 ? 0.5 * x : copysign(far, x);
    }
    case CVK_CURVE_ARC:
        return x * cvk_arc_over(1.57079632679489662 * fabs(x));
    case CVK_CURVE_ROUND:
        return x / sqrt(1.0 + x2);
    case CVK_CURVE_TANH: {
        double y = x > 4.9 ? 4.9 : (x < -4.9 ? -4.9 : x), y2 = y * y;
        return y * (135135.0 + y2 * (17325.0 + y2 * (378.0 + y2))) /
               (135135.0 + y2 * (62370.0 + y2 * (3150.0 + y2 * 28.0)));
    }
    default:
        return x > 1.0 ? 1.0 : (x < -1.0 ? -1.0 : x);
    }
}

/* g(x) = x / s(x): how much wider than its knee the curve has become. While the argument goes from
 * x to y in a straight line, the mean of s is (x + y) / (g(x) + g(y)): exact for ROUND, close for
 * the others, also where the knee is crossed in one step. */
static inline double cvk_curve_width(double x, int curve)
{
    double x2 = x * x;
    switch (curve) {
    case CVK_CURVE_SOFT:
        return 1.0 + fabs(x);
    case CVK_CURVE_CHARGE: {
        double size = fabs(x), far = size > 1.0 ? size : 1.0;
        return 2.0 * far * far / (2.0 * far - 1.0);
    }
    case CVK_CURVE_ARC:
        return 1.0 / cvk_arc_over(1.57079632679489662 * fabs(x));
    case CVK_CURVE_ROUND:
        return sqrt(1.0 + x2);
    case CVK_CURVE_TANH: {
        double y2 = x2 < 24.0 ? x2 : 24.0, far = x2 > 24.0 ? sqrt(x2 * (1.0 / 24.0)) : 1.0;
        return far * (135135.0 + y2 * (62370.0 + y2 * (3150.0 + y2 * 28.0))) /
               (135135.0 + y2 * (17325.0 + y2 * (378.0 + y2)));
    }
    default:
        return fabs(x) > 1.0 ? fabs(x) : 1.0;
    }
}

/* The three phases' s(x) at a current in the stationary plane, as a vector there;
 * `per_knee` is one over the knee's current. */
static inline void cvk_curve_vector(double alpha, double beta, double per_knee, int curve,
                                    double out[2])
{
    const double half_sqrt3 = 0.86602540378443864676;
    double along = -0.5 * alpha, across = half_sqrt3 * beta;
    double ua = cvk_curve_at(per_knee * alpha, curve);
    double ub = cvk_curve_at(per_knee * (along + across), curve);
    double uc = cvk_curve_at(per_knee * (along - across), curve);
    out[0] = (2.0 * ua - ub - uc) / 3.0;
    out[1] = (ub - uc) / (2.0 * half_sqrt3);
}

/* The loss of a leg whose current is `x` in the mean, `ripple` (>= 0, in the same units) less where
 * the leg rises and as much more where it falls. A rise loses in full while the current flows into
 * the motor, a fall while it flows out; what the other way round is lost, the curve says. Without
 * ripple that is the curve itself. */
static inline double cvk_edges_at(double x, double ripple, int curve)
{
    const double rise = cvk_curve_at(x - ripple, curve), fall = cvk_curve_at(x + ripple, curve);
    return (rise < 0.0 ? rise : 0.0) + (fall > 0.0 ? fall : 0.0);
}

/* As cvk_curve_vector(), with each phase's ripple in A; null: none. */
static inline void cvk_edges_vector(double alpha, double beta, double per_knee, int curve,
                                    const double *ripple_a, double out[2])
{
    const double half_sqrt3 = 0.86602540378443864676;
    double along = -0.5 * alpha, across = half_sqrt3 * beta;
    if (ripple_a == NULL) {
        cvk_curve_vector(alpha, beta, per_knee, curve, out);
        return;
    }
    double ua = cvk_edges_at(per_knee * alpha, per_knee * ripple_a[0], curve);
    double ub = cvk_edges_at(per_knee * (along + across), per_knee * ripple_a[1], curve);
    double uc = cvk_edges_at(per_knee * (along - across), per_knee * ripple_a[2], curve);
    out[0] = (2.0 * ua - ub - uc) / 3.0;
    out[1] = (ub - uc) / (2.0 * half_sqrt3);
}

#endif
