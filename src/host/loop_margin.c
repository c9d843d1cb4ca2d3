/* SPDX-License-Identifier: Apache-2.0
 *
 * The controller's loops as their own difference equations, in q = 1/z.
 */
#include "corvak/host/loop_margin.h"

#include "corvak/core/units.h"

#include "corvak/core/current_control.h"

#include <complex.h>
#include <math.h>

/* ---- current -------------------------------------------------------------------------------- */

/* From the model flux X = Lm i to the voltage times T, u(z) / X(z), with the learnt disturbance in
 * it; and the plant i = u / (L (z - 1)). With q = 1/z:
 *     e (1 - q + l q) = l ((1 - q) X - q u),   u (z + a) = -a X - (1 + a) e
 * (docs/theory.md section 11). */
static double complex loop_gain(double omega, double a, double l, double ratio)
{
    const double complex z = cexp(I * omega), q = 1.0 / z;
    const double complex learnt = l / (1.0 - q + l * q);
    const double complex u =
        -(a + (1.0 + a) * learnt * (1.0 - q)) / (z + a - (1.0 + a) * learnt * q);
    return -u / ((z - 1.0) * ratio);
}

void cvk_current_loop_step(double bandwidth_hz, double period_s, double ratio, double *response,
                           size_t count)
{
    const double a = 1.0 - exp(-2.0 * CVK_PI_WIDE * bandwidth_hz * period_s),
                 l = (double)CVK_LEARNING_RATIO * a;
    double x = 0.0, predicted = 0.0, e = 0.0, acting = 0.0; /* x: model flux of the current */
    for (size_t n = 0; n < count; n++) {
        response[n] = x;
        e += n > 0 ? l * (x - predicted) : 0.0;
        const double next = x + acting + e;
        const double wanted = a * (1.0 - next) - e;
        predicted = next;
        x += acting / ratio;
        acting = wanted;
    }
}

/* Largest overshoot of a step of the set-point, by running the loop. */
static double overshoot_of(double bandwidth_hz, double period_s, double ratio)
{
    double response[400], highest = 0.0;
    cvk_current_loop_step(bandwidth_hz, period_s, ratio, response, 400);
    for (int n = 0; n < 400; n++) {
        highest = fmax(highest, response[n]);
    }
    return fmax(0.0, highest - 1.0);
}

void cvk_current_loop_analysis(double bandwidth_hz, double period_s, double ratio,
                               double *margin_rad, double *overshoot)
{
    const double a = 1.0 - exp(-2.0 * CVK_PI_WIDE * bandwidth_hz * period_s),
                 l = (double)CVK_LEARNING_RATIO * a;
    *margin_rad = CVK_PI_WIDE;
    double before = INFINITY;
    for (int n = 1; n < 4000; n++) {
        const double omega = CVK_PI_WIDE * n / 4000.0;
        const double complex g = loop_gain(omega, a, l, ratio);
        if (before > 1.0 && cabs(g) <= 1.0) {
            *margin_rad = fmin(*margin_rad, carg(-g)); /* below 0: unstable */
        }
        before = cabs(g);
    }
    *overshoot = overshoot_of(bandwidth_hz, period_s, ratio);
}

/* ---- speed and position ---------------------------------------------------------------------- */

/* What stands between a wanted torque current and the speed, all at one frequency. */
typedef struct path {
    double complex speed;          /* control's output -> speed */
    double complex seen, followed; /* speed -> speed as seen; angle -> angle as seen */
    double complex angle;          /* speed -> angle */
    double complex control;        /* error of the speed -> torque current */
} path;

/* The tracking filter is e = x - q (y + T v), y (1 - q) = T q v + g e, v (1 - q) = h e with angle
 * x, its estimate y and that of the speed v. */
static path path_at(const cvk_motion_loop *l, double omega)
{
    const double T = l->period_s, r = exp(-l->tracking_rad_s * T);
    const double g = 1.0 - r * r, h = (1.0 - r) * (1.0 - r) / T;
    const double a = 1.0 - exp(-2.0 * CVK_PI_WIDE * l->current_bandwidth_hz * T);
    const double complex z = cexp(I * omega), q = 1.0 / z, d = 1.0 - q;
    const double complex current = a / (z * (z - (1.0 - a)));
    const double complex sum = 0.5 * T * (1.0 + q) / d;
    const double complex speed_of_e = h / d, angle_of_e = (T * q * speed_of_e + g) / d;
    const double complex e_of_angle = 1.0 / (1.0 + q * (angle_of_e + T * speed_of_e));
    return (path){.speed = current * l->reach * sum,
                  .seen = speed_of_e * e_of_angle * sum,
                  .followed = angle_of_e * e_of_angle,
                  .angle = sum,
                  .control = l->gain_a_s + l->integral_gain_a * T * q / d};
}

static double complex speed_loop_at(const cvk_motion_loop *l, double omega)
{
    const path p = path_at(l, omega);
    return p.control * p.speed * p.seen;
}

static double complex position_loop_at(const cvk_motion_loop *l, double omega)
{
    const path p = path_at(l, omega);
    return l->gain_per_s * p.control * p.speed / (1.0 + p.control * p.speed * p.seen) * p.angle *
           p.followed;
}

/* Looked for over seven decades below the highest frequency that there is. */
static cvk_loop_margin margin_of(const cvk_motion_loop *l,
                                 double complex (*gain)(const cvk_motion_loop *, double))
{
    enum { POINTS = 2800 };
    cvk_loop_margin out = {CVK_PI_WIDE, 0.0};
    double before = 0.0;
    for (int n = 0; n <= POINTS; n++) {
        const double omega = CVK_PI_WIDE * pow(10.0, -7.0 + 7.0 * n / POINTS);
        const double complex at = gain(l, omega);
        const double margin = carg(-at);
        if (before > 1.0 && cabs(at) <= 1.0 && margin < out.margin_rad) {
            out = (cvk_loop_margin){margin, omega / l->period_s};
        }
        before = cabs(at);
    }
    return out;
}

cvk_loop_margin cvk_speed_loop_margin(const cvk_motion_loop *loop)
{
    return margin_of(loop, speed_loop_at);
}

cvk_loop_margin cvk_position_loop_margin(const cvk_motion_loop *loop)
{
    return margin_of(loop, position_loop_at);
}
