/* SPDX-License-Identifier: Apache-2.0
 *
 * Two sinusoidal channels are an ellipse in their plane: its middle, its axes and how far it leans
 * are offsets, gains and quadrature. A conic through the points by least squares gives a start
 * (Heydemann, Applied Optics 20(19), 1981); then both channels are fitted to sine and cosine of the
 * angle, which weighs all angles alike.
 */
#include "calibration.h"

#include "corvak/core/units.h"

#include "math/numeric.h"

#include <math.h>
#include <string.h>

#define MOST_POINTS 20000u
#define BINS 36 /* of the turn: points must lie in nearly all of them */
#define FEWEST_BINS 33
#define ROUNDS 6
#define LARGEST_LEAN 0.7 /* rad */
#define FLOOR_SHARE 3e-4 /* of the amplitude */

typedef struct ellipse {
    double sin_offset, cos_offset, sin_size, cos_size, quadrature;
} ellipse;

/* Own angle: cos = o + C cos a, sin = o + S sin(a + q). */
static double angle_in(const ellipse *e, double sin_v, double cos_v)
{
    const double c = (cos_v - e->cos_offset) / e->cos_size;
    const double s = (sin_v - e->sin_offset) / e->sin_size;
    return atan2((s - c * sin(e->quadrature)) / cos(e->quadrature), c);
}

static bool start_from_conic(const cvk_sensor_column *col, size_t rows, size_t stride, ellipse *e)
{
    double mean_s = 0.0, mean_c = 0.0, size = 0.0, n = 0.0, h[25] = {0}, g[5] = {0};
    for (size_t k = 0; k < rows; k += stride) {
        if (isfinite(col->sin_v[k]) && isfinite(col->cos_v[k])) {
            mean_s += col->sin_v[k];
            mean_c += col->cos_v[k];
            n += 1.0;
        }
    }
    mean_s /= n;
    mean_c /= n;
    for (size_t k = 0; k < rows; k += stride) {
        const double d = hypot(col->sin_v[k] - mean_s, col->cos_v[k] - mean_c);
        size = isfinite(d) ? fmax(size, d) : size;
    }
    if (!(n > 50.0) || !(size > 0.0)) {
        return false;
    }
    for (size_t k = 0; k < rows; k += stride) {
        const double x = (col->cos_v[k] - mean_c) / size, y = (col->sin_v[k] - mean_s) / size;
        const double f[5] = {x * x, x * y, y * y, x, y};
        for (int r = 0; r < 25 && isfinite(x + y); r++) {
            h[r] += f[r / 5] * f[r % 5];
        }
        for (int r = 0; r < 5 && isfinite(x + y); r++) {
            g[r] += f[r];
        }
    }
    double p[5] = {0};
    if (!cvk_invert_spd(5, h)) {
        return false;
    }
    for (int r = 0; r < 25; r++) {
        p[r / 5] += h[r] * g[r % 5];
    }
    /* A x2 + B x y + C y2 + D x + E y = 1 */
    const double det = 4.0 * p[0] * p[2] - p[1] * p[1];
    if (!(det > 0.0) || !(p[0] > 0.0)) {
        return false;
    }
    const double x0 = (p[1] * p[4] - 2.0 * p[2] * p[3]) / det;
    const double y0 = (p[1] * p[3] - 2.0 * p[0] * p[4]) / det;
    const double level = 1.0 + p[0] * x0 * x0 + p[1] * x0 * y0 + p[2] * y0 * y0;
    *e = (ellipse){mean_s + size * y0, mean_c + size * x0, size * sqrt(level * 4.0 * p[0] / det),
                   size * sqrt(level * 4.0 * p[2] / det),
                   asin(fmax(-1.0, fmin(1.0, -p[1] / (2.0 * sqrt(p[0] * p[2])))))};
    return fabs(e->quadrature) < LARGEST_LEAN;
}

/* Weight of a point: bins of the turn count alike. */
static bool fill_bins(const cvk_sensor_column *col, size_t rows, size_t stride, const ellipse *e,
                      double per_bin[BINS])
{
    int filled = 0;
    memset(per_bin, 0, BINS * sizeof *per_bin);
    for (size_t k = 0; k < rows; k += stride) {
        const double a = angle_in(e, col->sin_v[k], col->cos_v[k]);
        if (isfinite(a)) {
            per_bin[(int)((a + CVK_PI_WIDE) / (2.0 * CVK_PI_WIDE) * BINS) % BINS] += 1.0;
        }
    }
    for (int n = 0; n < BINS; n++) {
        filled += per_bin[n] > 0.0;
    }
    return filled >= FEWEST_BINS;
}

/* One channel on 1, cos a, sin a, cos 3a, sin 3a. */
static bool fit_channel(const double *v, const cvk_sensor_column *col, size_t rows, size_t stride,
                        const ellipse *e, const double per_bin[BINS], double p[5], double *rms)
{
    double h[25] = {0}, g[5] = {0}, yy = 0.0, weights = 0.0;
    for (size_t k = 0; k < rows; k += stride) {
        const double a = angle_in(e, col->sin_v[k], col->cos_v[k]);
        if (!isfinite(a)) {
            continue;
        }
        const double f[5] = {1.0, cos(a), sin(a), cos(3.0 * a), sin(3.0 * a)};
        const double w =
            1.0 / per_bin[(int)((a + CVK_PI_WIDE) / (2.0 * CVK_PI_WIDE) * BINS) % BINS];
        for (int r = 0; r < 25; r++) {
            h[r] += w * f[r / 5] * f[r % 5];
        }
        for (int r = 0; r < 5; r++) {
            g[r] += w * f[r] * v[k];
        }
        yy += w * v[k] * v[k];
        weights += w;
    }
    if (!cvk_invert_spd(5, h)) {
        return false;
    }
    double fitted = 0.0;
    for (int r = 0; r < 5; r++) {
        p[r] = 0.0;
        for (int c = 0; c < 5; c++) {
            p[r] += h[r * 5 + c] * g[c];
        }
        fitted += p[r] * g[r];
    }
    *rms = sqrt(fmax(yy - fitted, 0.0) / weights);
    return true;
}

void cvk_calibrate_ellipse(cvk_sensor_column *col, const cvk_waveforms *s,
                           cvk_sincos_calibration *out)
{
    const size_t rows = s->rows, stride = rows / MOST_POINTS + 1u;
    double per_bin[BINS], ps[5], pc[5], rms_s = 0.0, rms_c = 0.0;
    ellipse e;
    if (!start_from_conic(col, rows, stride, &e) || !fill_bins(col, rows, stride, &e, per_bin)) {
        return;
    }
    for (int round = 0; round < ROUNDS; round++) {
        if (!fill_bins(col, rows, stride, &e, per_bin) ||
            !fit_channel(col->sin_v, col, rows, stride, &e, per_bin, ps, &rms_s) ||
            !fit_channel(col->cos_v, col, rows, stride, &e, per_bin, pc, &rms_c)) {
            return;
        }
        /* a lean of the cosine channel would be the angle's own turning: it goes into the sine's */
        e = (ellipse){ps[0], pc[0], hypot(ps[1], ps[2]), hypot(pc[1], pc[2]),
                      atan2(ps[1], ps[2]) - atan2(-pc[2], pc[1])};
    }
    const double size = 0.5 * (e.sin_size + e.cos_size);
    const double count = (double)(rows / stride);
    const double half = 1.96 * hypot(hypot(rms_s, rms_c) * sqrt(2.0 / count), FLOOR_SHARE * size);
    out->sin_offset_v = cvk_measured_of(e.sin_offset, half);
    out->cos_offset_v = cvk_measured_of(e.cos_offset, half);
    out->amplitude_v = cvk_measured_of(size, half);
    out->gain_ratio = cvk_measured_of(e.sin_size / e.cos_size, 2.0 * half / size);
    out->quadrature_rad = cvk_measured_of(e.quadrature, 2.0 * half / size);
    const size_t every = rows / CVK_CALIBRATION_POINTS + 1u;
    double turns = 0.0, last = 0.0;
    for (size_t k = 0; k < rows; k++) {
        if (k % every == 0 && out->points < CVK_CALIBRATION_POINTS) {
            out->sin_v[out->points] = col->sin_v[k];
            out->cos_v[out->points++] = col->cos_v[k];
        }
        const double now = angle_in(&e, col->sin_v[k], col->cos_v[k]);
        turns -=
            isfinite(now) ? 2.0 * CVK_PI_WIDE * round((now - last) / (2.0 * CVK_PI_WIDE)) : 0.0;
        last = isfinite(now) ? now : last;
        col->angle_rad[k] = now + turns;
    }
}
