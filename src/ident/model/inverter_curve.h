/* SPDX-License-Identifier: Apache-2.0
 *
 * Curves of the inverter's own voltage against current, s(x) with x = current / knee. Which one
 * holds depends on the power stage and is not known before: all are tried.
 */
#ifndef CORVAK_IDENT_MODEL_INVERTER_CURVE_H
#define CORVAK_IDENT_MODEL_INVERTER_CURVE_H

#include "math/wide.h"

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
INLINED double cvk_arc_series(double y2)
{
    return 0.9998660 + y2 * (-0.3302995 + y2 * (0.1801410 + y2 * (-0.0851330 + y2 * 0.0208351)));
}

/* atan(y) / y for y > 0. */
INLINED double cvk_arc_over(double y)
{
    const double near = y < 1.0 ? y : 1.0, far = y > 1.0 ? 1.0 / y : 1.0;
    const double outside = far * (1.57079632679489662 - far * cvk_arc_series(far * far));
    return y > 1.0 ? outside : cvk_arc_series(near * near);
}

INLINED double cvk_curve_at(double x, int curve)
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

/* g(x) = x / s(x), as above / below: how much wider than its knee the curve has become. While the
 * argument goes from x to y in a straight line, the mean of s is (x + y) / (g(x) + g(y)): exact for
 * ROUND, close for the others, also where the knee is crossed in one step. */
INLINED void cvk_curve_width(double x, int curve, double *above, double *below)
{
    const double size = fabs(x), x2 = x * x, far = size > 1.0 ? size : 1.0;
    switch (curve) {
    case CVK_CURVE_SOFT:
        *above = 1.0 + size;
        *below = 1.0;
        break;
    case CVK_CURVE_CHARGE:
        *above = 2.0 * far * far;
        *below = 2.0 * far - 1.0;
        break;
    case CVK_CURVE_ARC:
        *above = 1.0;
        *below = cvk_arc_over(1.57079632679489662 * size);
        break;
    case CVK_CURVE_ROUND:
        *above = sqrt(1.0 + x2);
        *below = 1.0;
        break;
    case CVK_CURVE_TANH: {
        const double y2 = x2 < 24.0 ? x2 : 24.0, wide = x2 > 24.0 ? sqrt(x2 * (1.0 / 24.0)) : 1.0;
        *above = wide * (135135.0 + y2 * (62370.0 + y2 * (3150.0 + y2 * 28.0)));
        *below = 135135.0 + y2 * (17325.0 + y2 * (378.0 + y2));
        break;
    }
    default:
        *above = far;
        *below = 1.0;
        break;
    }
}

/* Three quotients for the price of one division, which costs most in the loops over rows. */
INLINED void cvk_three_quotients(const double above[3], const double below[3], double out[3])
{
    const double first_two = below[0] * below[1], inverse = 1.0 / (first_two * below[2]);
    const double last = below[2] * inverse;
    out[0] = above[0] * below[1] * last;
    out[1] = above[1] * below[0] * last;
    out[2] = above[2] * first_two * inverse;
}

/* The three phases' s(x) at a current in the stationary plane, as a vector there;
 * `per_knee` is one over the knee's current. */
INLINED void cvk_curve_vector(double alpha, double beta, double per_knee, int curve, double out[2])
{
    const double half_sqrt3 = 0.86602540378443864676;
    double along = -0.5 * alpha, across = half_sqrt3 * beta;
    double ua = cvk_curve_at(per_knee * alpha, curve);
    double ub = cvk_curve_at(per_knee * (along + across), curve);
    double uc = cvk_curve_at(per_knee * (along - across), curve);
    out[0] = (2.0 * ua - ub - uc) * (1.0 / 3.0);
    out[1] = (ub - uc) * (0.5 / half_sqrt3);
}

/* s(up) - s(down) of three legs, no argument below 0. */
INLINED void cvk_curve_differences(const double up[3], const double down[3], int curve,
                                   double out[3])
{
    double above[3], below[3];
    switch (curve) {
    case CVK_CURVE_SOFT:
        for (int n = 0; n < 3; n++) {
            above[n] = up[n] - down[n];
            below[n] = (1.0 + up[n]) * (1.0 + down[n]);
        }
        cvk_three_quotients(above, below, out);
        break;
    case CVK_CURVE_CHARGE:
        /* s(x) = (y + z) / 2 with y = min(x, 1), z = 1 - 1 / max(x, 1) */
        for (int n = 0; n < 3; n++) {
            const double far_up = up[n] > 1.0 ? up[n] : 1.0;
            const double far_down = down[n] > 1.0 ? down[n] : 1.0;
            above[n] = 0.5 * (far_up - far_down);
            below[n] = far_up * far_down;
        }
        cvk_three_quotients(above, below, out);
        for (int n = 0; n < 3; n++) {
            out[n] += 0.5 * ((up[n] < 1.0 ? up[n] : 1.0) - (down[n] < 1.0 ? down[n] : 1.0));
        }
        break;
    default:
        for (int n = 0; n < 3; n++) {
            out[n] = cvk_curve_at(up[n], curve) - cvk_curve_at(down[n], curve);
        }
        break;
    }
}

/* The three phases of a vector in the stationary plane. */
INLINED void cvk_to_three(double alpha, double beta, double out[3])
{
    const double along = -0.5 * alpha, across = 0.86602540378443864676 * beta;
    out[0] = alpha;
    out[1] = along + across;
    out[2] = along - across;
}

/* As cvk_curve_vector(), of the phases' mean currents and the ripple in A (>= 0): by so much less
 * is the current where the leg rises, and more where it falls. A rise loses in full while the
 * current flows into the motor, a fall while it flows out; what the other way round is lost, the
 * curve says. Without ripple that is the curve itself. */
INLINED void cvk_edges_vector(const double current_a[3], double per_knee, int curve,
                              const double rise_a[3], const double fall_a[3], double out[2])
{
    const double half_sqrt3 = 0.86602540378443864676;
    double fall[3], rise[3], u[3];
    for (int n = 0; n < 3; n++) {
        const double at_fall = per_knee * (fall_a[n] + current_a[n]);
        const double at_rise = per_knee * (rise_a[n] - current_a[n]);
        fall[n] = at_fall > 0.0 ? at_fall : 0.0;
        rise[n] = at_rise > 0.0 ? at_rise : 0.0;
    }
    cvk_curve_differences(fall, rise, curve, u);
    out[0] = (2.0 * u[0] - u[1] - u[2]) * (1.0 / 3.0);
    out[1] = (u[1] - u[2]) * (0.5 / half_sqrt3);
}

#endif
