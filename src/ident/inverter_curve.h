/* SPDX-License-Identifier: Apache-2.0
 *
 * Curves of the inverter's own voltage against current, s(x) with x = current / knee. Which one
 * holds depends on the power stage and is not known before: all are tried.
 */
#ifndef CORVAK_IDENT_INVERTER_CURVE_H
#define CORVAK_IDENT_INVERTER_CURVE_H

#include <math.h>

/* From soft to sharp. */
enum {
    CVK_CURVE_SOFT,   /* x / (1 + |x|) */
    CVK_CURVE_CHARGE, /* x/2 up to 1, then 1 - 1/(2|x|): the leg's own capacitance, theory.md */
    CVK_CURVE_ROUND,  /* x / sqrt(1 + x^2) */
    CVK_CURVE_TANH,   /* tanh x, as a quotient of polynomials: within 2e-4 */
    CVK_CURVE_FIRM,   /* x / (1 + x^4)^(1/4) */
    CVK_CURVE_SHARP,  /* x / (1 + x^8)^(1/8), nearly a clipped ramp */
    CVK_CURVES
};

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
    case CVK_CURVE_ROUND:
        return x / sqrt(1.0 + x2);
    case CVK_CURVE_TANH: {
        double y = x > 4.9 ? 4.9 : (x < -4.9 ? -4.9 : x), y2 = y * y;
        return y * (135135.0 + y2 * (17325.0 + y2 * (378.0 + y2))) /
               (135135.0 + y2 * (62370.0 + y2 * (3150.0 + y2 * 28.0)));
    }
    case CVK_CURVE_FIRM:
        return x / sqrt(sqrt(1.0 + x2 * x2));
    default: {
        double x4 = x2 * x2;
        return x / sqrt(sqrt(sqrt(1.0 + x4 * x4)));
    }
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

#endif
