/* SPDX-License-Identifier: Apache-2.0
 *
 * The torque-speed map: at each speed the d current is searched with which the limits of current
 * and voltage leave most torque. For a d current the voltage limit is a quadratic in the q current.
 */
#include "corvak/host/torque_map.h"

#include "corvak/core/units.h"

#include <math.h>

#define SEARCH 120   /* d currents that are tried */
#define FARTHEST 3.0 /* times the speed without load, that the map shows at most */
#define ALL_OF_IT 0.999

/* Fundamental over the bus: the mean radius of what lies in the circle and, with its corners at
 * two thirds of the bus times the largest duty, in the hexagon. Six steps: 2 / pi. */
static double depth_share(cvk_depth depth, double most_duty)
{
    enum { PARTS = 200 };
    const double circle = depth == CVK_DEPTH_SINE     ? 0.5
                          : depth == CVK_DEPTH_LINEAR ? 1.0 / sqrt(3.0)
                                                      : 1.0;
    double mean = 0.0;
    for (int n = 0; n < PARTS; n++) {
        const double hexagon = most_duty / sqrt(3.0) / cos(CVK_PI_WIDE / 6.0 * (n + 0.5) / PARTS);
        mean += fmin(circle, hexagon) / PARTS;
    }
    return depth == CVK_DEPTH_SIX_STEP ? most_duty * 2.0 / CVK_PI_WIDE : mean;
}

static double torque_of(const cvk_torque_motor *m, double d_a, double q_a)
{
    return 1.5 * m->pole_pairs *
           (m->flux_linkage_wb + (m->inductance_d_h - m->inductance_q_h) * d_a) * q_a;
}

/* The largest q current beside a d current; below 0: there is none. */
static double most_q(const cvk_torque_motor *m, double w, double v, double d_a)
{
    const double R = m->resistance_ohm, x_q = w * m->inductance_q_h,
                 e = w * (m->inductance_d_h * d_a + m->flux_linkage_wb);
    const double a = R * R + x_q * x_q, b = R * (e - x_q * d_a),
                 c = R * R * d_a * d_a + e * e - v * v;
    const double root = b * b - a * c;
    const double left = m->current_a * m->current_a - d_a * d_a;
    if (root < 0.0 || left < 0.0) {
        return -1.0;
    }
    return fmin(sqrt(left), (sqrt(root) - b) / a);
}

/* The best torque with d currents from 0 down to -most_d_a; 0 when the speed cannot be had. */
static double best_torque(const cvk_torque_motor *m, double w, double v, double most_d_a,
                          double *at_d_a)
{
    double best = 0.0;
    for (int n = 0; n <= SEARCH; n++) {
        const double d_a = -most_d_a * n / SEARCH, q_a = most_q(m, w, v, d_a);
        const double torque = q_a > 0.0 ? torque_of(m, d_a, q_a) : 0.0;
        if (torque > best) {
            best = torque;
            *at_d_a = d_a;
        }
    }
    return best;
}

/* The highest speed at which there is more torque than that. */
static double fastest(const cvk_torque_motor *m, double v, double most_d_a, double torque_nm,
                      double most_rad_s)
{
    double low = 0.0, high = most_rad_s, unused;
    if (best_torque(m, high, v, most_d_a, &unused) > torque_nm) {
        return INFINITY;
    }
    for (int n = 0; n < 50; n++) {
        const double middle = 0.5 * (low + high);
        *(best_torque(m, middle, v, most_d_a, &unused) > torque_nm ? &low : &high) = middle;
    }
    return low;
}

static void compute_depth(const cvk_torque_motor *m, const cvk_torque_map *r, cvk_depth depth,
                          cvk_torque_depth *out)
{
    const double share = depth_share(depth, m->most_duty);
    const double v = fmax(0.0, share * m->bus_v - m->inverter_v), p = m->pole_pairs;
    const double sparing_a = -r->current_d_a, beyond = 20.0 * v / m->flux_linkage_wb;
    const double weakening_a = fmin(m->weakening_a, m->current_a);
    double unused;
    out->voltage_v = v;
    out->base_mech_rad_s = fastest(m, v, sparing_a, ALL_OF_IT * r->torque_nm, beyond) / p;
    out->top_mech_rad_s = share * m->bus_v / m->flux_linkage_wb / p; /* no current, no loss */
    out->weakened_mech_rad_s = fastest(m, v, weakening_a, 0.0, beyond) / p;
    for (int n = 0; n < CVK_TORQUE_MAP_POINTS; n++) {
        const double w = p * r->speed_mech_rad_s[n];
        const bool beyond_top = r->speed_mech_rad_s[n] > out->top_mech_rad_s;
        out->torque_nm[n] = beyond_top ? 0.0 : best_torque(m, w, v, sparing_a, &unused);
        out->weakened_nm[n] = best_torque(m, w, v, fmax(sparing_a, weakening_a), &unused);
    }
}

void cvk_torque_map_compute(const cvk_torque_motor *m, cvk_torque_map *out)
{
    *out = (cvk_torque_map){.torque_nm = 0.0};
    const double plenty_v = 100.0 * m->bus_v, p = m->pole_pairs;
    out->torque_nm = best_torque(m, 0.0, plenty_v, 0.9 * m->current_a, &out->current_d_a);
    out->continuous_nm =
        m->continuous_a > 0.0 ? out->torque_nm * fmin(1.0, m->continuous_a / m->current_a) : NAN;
    out->off_mech_rad_s = m->bus_most_v / (sqrt(3.0) * m->flux_linkage_wb * p);
    const double top = m->bus_v / sqrt(3.0) / m->flux_linkage_wb / p;
    double end = 1.2 * top;
    cvk_torque_depth six;
    compute_depth(m, out, CVK_DEPTH_SIX_STEP, &six);
    end = fmax(end, fmin(1.05 * six.weakened_mech_rad_s, FARTHEST * top));
    for (int n = 0; n < CVK_TORQUE_MAP_POINTS; n++) {
        out->speed_mech_rad_s[n] = end * n / (CVK_TORQUE_MAP_POINTS - 1);
    }
    for (int d = 0; d < CVK_DEPTHS; d++) {
        compute_depth(m, out, (cvk_depth)d, &out->depth[d]);
    }
}
