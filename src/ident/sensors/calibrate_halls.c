/* SPDX-License-Identifier: Apache-2.0
 *
 * Halls against a sensor of the same log that has been calibrated: it says where the rotor is at
 * each edge, so neither friction nor the magnets' detents matter.
 */
#include "calibration.h"

#include "corvak/core/units.h"

#include "math/numeric.h"

#include <math.h>
#include <string.h>

#define FEWEST_PASSES 1.0
#define EDGE_FLOOR_RAD 0.002
#define ONE_PASS_RAD 0.01 /* deviation of a single look at an edge */
#define AROUND 8u         /* rows about an edge, over which the speed is taken */

/* Electrical angle by a calibrated sensor, its known errors and age taken off. */
static double angle_by(const cvk_sensor_calibration *s, double own_rad, double omega_rad_s)
{
    double x = own_rad;
    for (int n = 0; n < CVK_SENSOR_HARMONICS; n++) {
        if (cvk_measured_known(&s->cosine_rad[n])) {
            x -= s->cosine_rad[n].value * cos((n + 1) * own_rad) +
                 s->sine_rad[n].value * sin((n + 1) * own_rad);
        }
    }
    const double late_s = cvk_measured_known(&s->latency_s) ? s->latency_s.value : 0.0;
    return s->direction * s->ratio * x + s->electrical_offset_rad.value + late_s * omega_rad_s;
}

typedef struct passes {
    double count, sum, square;
} passes;

static double mean_of(const passes *p)
{
    return p->sum / p->count;
}

static double deviation_of(const passes *p)
{
    const double mean = mean_of(p), variance = fmax(p->square / p->count - mean * mean, 0.0);
    return p->count > 1.0 ? sqrt(variance / (p->count - 1.0)) : ONE_PASS_RAD;
}

/* How far each edge lies from its place, going up and down. */
static void collect(const cvk_sensor_column *halls, int direction, const cvk_waveforms *s,
                    const cvk_sensor_column *c, const cvk_sensor_calibration *by,
                    passes out[2][CVK_HALL_EDGES])
{
    memset(out, 0, 2 * CVK_HALL_EDGES * sizeof(passes));
    for (size_t n = 0; n < halls->edges; n++) {
        const cvk_hall_edge *e = &halls->edge[n];
        const size_t k = (size_t)fmax(e->row, 0.0);
        if (k < AROUND || k + AROUND + 1u >= s->rows) {
            continue;
        }
        const double omega = by->direction * by->ratio *
                             (c->angle_rad[k + AROUND] - c->angle_rad[k - AROUND]) /
                             (2.0 * AROUND * s->period_s);
        const double own = 0.5 * (c->angle_rad[k] + c->angle_rad[k + 1u]);
        const double off =
            remainder(angle_by(by, own, omega) - direction * cvk_hall_edge_angle(e->edge) -
                          by->electrical_offset_rad.value,
                      2.0 * CVK_PI_WIDE);
        passes *p = &out[e->way < 0][e->edge];
        /* about the first: the mean of angles that may lie about half a turn */
        const double near =
            p->count > 0.0 ? mean_of(p) + remainder(off - mean_of(p), 2.0 * CVK_PI_WIDE) : off;
        if (isfinite(near)) {
            p->count += 1.0;
            p->sum += near;
            p->square += near * near;
        }
    }
}

static bool enough(passes out[2][CVK_HALL_EDGES], int way)
{
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        if (out[way][n].count < FEWEST_PASSES) {
            return false;
        }
    }
    return true;
}

void cvk_calibrate_halls_by_sensor(const cvk_sensor_column *halls, const cvk_waveforms *s,
                                   const cvk_sensor_column *column,
                                   const cvk_sensor_calibration *by, cvk_sensor_calibration *out)
{
    passes p[2][CVK_HALL_EDGES];
    double along = 0.0, across = 0.0, edges = 0.0;
    collect(halls, out->direction, s, column, by, p);
    const bool up = enough(p, 0), down = enough(p, 1);
    if (!up && !down) {
        return;
    }
    const double known = 0.5 * (by->electrical_offset_rad.high - by->electrical_offset_rad.low);
    const double zero = by->electrical_offset_rad.value;
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        const double first = up ? mean_of(&p[0][n]) : mean_of(&p[1][n]);
        const double second = down ? mean_of(&p[1][n]) : first;
        const double gap = remainder(first - second, 2.0 * CVK_PI_WIDE), middle = first - 0.5 * gap;
        const double sd =
            hypot(up ? deviation_of(&p[0][n]) : 0.0, down ? deviation_of(&p[1][n]) : 0.0) /
            (up && down ? 2.0 : 1.0);
        const double half = 2.2 * hypot(sd, EDGE_FLOOR_RAD);
        out->hall.edge_rad[n] = cvk_measured_of(
            remainder(zero + middle + out->direction * cvk_hall_edge_angle(n), 2.0 * CVK_PI_WIDE),
            hypot(half, known));
        if (up && down) {
            out->hall.hysteresis_rad[n] = cvk_measured_of(out->direction * gap, 2.0 * half);
        }
        along += cos(middle);
        across += sin(middle);
        edges += 1.0;
    }
    out->reference = CVK_REFERENCE_SENSOR;
    out->electrical_offset_rad =
        cvk_measured_of(remainder(zero + atan2(across, along), 2.0 * CVK_PI_WIDE),
                        hypot(2.2 * EDGE_FLOOR_RAD / sqrt(edges), known));
    out->lag_rad = CVK_UNKNOWN_MEASURED;
    out->curve.points = 0;
    out->why[0] = '\0';
    out->error_before_rad = out->error_after_rad = NAN;
}
