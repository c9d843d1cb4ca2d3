/* SPDX-License-Identifier: Apache-2.0
 *
 * A calibration as one page: each sensor's angle error over a turn before and after, hall sectors
 * on a circle with both directions, the sin/cos ellipse before and after.
 */

#include "corvak/document/figures.h"

#include "corvak/core/units.h"

#include "gnuplot.h"

#include <math.h>

#define EXAGGERATED 10.0

/* The panels of a page: so many as there is something to draw in, three in a row. */
typedef struct page {
    FILE *g;
    int panels, next;
} page;

static void place_next(page *p)
{
    const int columns = p->panels < 3 ? p->panels : 3, rows = p->panels > 3 ? 2 : 1;
    const int column = p->next % columns, row = p->next / columns;
    const double width = 0.97 / columns, height = 0.93 / rows;
    const double left = 0.065 + width * column, bottom = 0.09 + height * (rows - 1 - row);
    FILE *g = p->g;
    p->next++;
    fprintf(g,
            "set lmargin at screen %g\nset rmargin at screen %g\nset bmargin at screen %g\n"
            "set tmargin at screen %g\nset autoscale\n"
            "set key at graph 0.5,1.01 center bottom horizontal maxrows 1 samplen 2\n"
            "set title offset 0,1.2\n",
            left, left + width - 0.08, bottom, bottom + height - 0.16);
}

static gboolean has_error(const cvk_sensor_calibration *s)
{
    return s->present && s->curve.points > 0;
}

static void draw_error(page *p, const cvk_sensor_calibration *s, cvk_rotor_kind kind)
{
    FILE *g = p->g;
    const int panel = p->next;
    static const char *const turns[CVK_ROTOR_ANGLE_KINDS] = {
        [CVK_ROTOR_HALLS] = "electrical angle by the halls",
        [CVK_ROTOR_ENCODER] = "shaft angle by the encoder",
        [CVK_ROTOR_SINCOS] = "angle of a period",
        [CVK_ROTOR_ABSOLUTE] = "shaft angle"};
    place_next(p);
    fprintf(g, "$error%d << EOD\n", panel);
    for (size_t n = 0; n < s->curve.points; n++) {
        fprintf(g, "%.6g %.6g %.6g\n", s->curve.sensor_rad[n] * CVK_DEG_PER_RAD,
                s->curve.before_rad[n] * CVK_DEG_PER_RAD, s->curve.after_rad[n] * CVK_DEG_PER_RAD);
    }
    fprintf(g,
            "EOD\nset title '%s: offset %.2f ± %.2f°'\nset xlabel '%s / °'\n"
            "set ylabel 'angle error / ° el.'\nset xrange [0:360]\nset xtics 90\n"
            "set offsets 0,0,graph 0.1,graph 0.1\n"
            "plot $error%d using 1:2 with lines lw 1.5 lc rgb '" ORANGE
            "' title 'offset alone', '' using 1:3 with lines lw 2 lc rgb '" BLUE
            "' title 'all taken off'\nset xtics auto\nset offsets\n",
            cvk_rotor_kind_name((int)kind), s->electrical_offset_rad.value * CVK_DEG_PER_RAD,
            0.5 * (s->electrical_offset_rad.high - s->electrical_offset_rad.low) * CVK_DEG_PER_RAD,
            turns[kind], panel);
}

static void square_axes(FILE *g, double reach)
{
    fprintf(g,
            "set size ratio -1\nset xrange [%g:%g]\nset yrange [%g:%g]\nset border 0\nunset xtics\n"
            "unset ytics\nset xlabel ''\nset ylabel ''\n",
            -reach, reach, -reach, reach);
}

static void round_axes(FILE *g)
{
    fprintf(g, "set size noratio\nset border 3\nset xtics auto\nset ytics auto\nunset label\n"
               "unset arrow\nunset object\n");
}

/* One spoke: angle, its interval as an arc at this radius. */
static void put_spoke(FILE *g, double angle, double half, double radius)
{
    const double wide = fmax(half, 0.004);
    fprintf(g, "%.6g %.6g\n", (radius - 0.16) * cos(angle), (radius - 0.16) * sin(angle));
    fprintf(g, "%.6g %.6g\n\n", radius * cos(angle), radius * sin(angle));
    for (int n = -8; n <= 8; n++) {
        const double at = angle + wide * n / 8.0;
        fprintf(g, "%.6g %.6g\n", radius * cos(at), radius * sin(at));
    }
    fprintf(g, "\n");
}

/* Edges going up lie later than going down: half the hysteresis either way. */
static void put_edges(FILE *g, const char *block, const cvk_sensor_calibration *s, int way,
                      double radius)
{
    fprintf(g, "$%s << EOD\n", block);
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        const cvk_measured *edge = &s->hall.edge_rad[n], *gap = &s->hall.hysteresis_rad[n];
        const double late = cvk_measured_known(gap) ? 0.5 * gap->value : 0.0;
        put_spoke(g, edge->value + s->direction * way * late, 0.5 * (edge->high - edge->low),
                  radius);
    }
    fprintf(g, "EOD\n");
}

static gboolean has_edges(const cvk_sensor_calibration *s)
{
    return s->present && cvk_measured_known(&s->hall.edge_rad[0]);
}

static void draw_halls(page *p, const cvk_sensor_calibration *s)
{
    FILE *g = p->g;
    static const int code_of[6] = {1, 3, 2, 6, 4, 5};
    place_next(p);
    square_axes(g, 1.3);
    put_edges(g, "up", s, 1, 1.0);
    put_edges(g, "down", s, -1, 0.78);
    fprintf(g, "set object 1 circle at 0,0 size 1 fs empty border lc rgb '" GREY "' lw 0.5\n"
               "set object 2 circle at 0,0 size 0.78 fs empty border lc rgb '" GREY "' lw 0.5\n");
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        const double nominal =
            s->electrical_offset_rad.value + s->direction * (n + 0.5) * CVK_PI_WIDE / 3.0;
        const double from = s->hall.edge_rad[(n + 5) % 6].value;
        const double middle =
            from + 0.5 * remainder(s->hall.edge_rad[n].value - from, 2.0 * CVK_PI_WIDE);
        fprintf(g, "set arrow %d from 0,0 to %.4g,%.4g nohead dt 3 lc rgb '" GREY "'\n", n + 1,
                0.6 * cos(nominal), 0.6 * sin(nominal));
        fprintf(g, "set label %d '%d' at %.4g,%.4g center font ',12'\n", n + 1, code_of[n],
                0.45 * cos(middle), 0.45 * sin(middle));
        fprintf(g, "set label %d '%.1f°' at %.4g,%.4g center font ',9'\n", n + 11,
                s->hall.edge_rad[n].value * CVK_DEG_PER_RAD, 1.2 * cos(s->hall.edge_rad[n].value),
                1.15 * sin(s->hall.edge_rad[n].value));
    }
    fprintf(g, "set title 'halls: codes and edges, electrical'\n"
               "plot $up using 1:2 with lines lw 2.5 lc rgb '" BLUE
               "' title 'up', $down using 1:2 with lines lw 2.5 lc rgb '" ORANGE
               "' title 'down', NaN with lines dt 3 lc rgb '" GREY "' title 'even'\n");
    round_axes(g);
}

/* A point with its distance from the circle made larger, so that it is seen. */
static void put_exaggerated(FILE *g, double x, double y)
{
    const double radius = hypot(x, y), shown = 1.0 + EXAGGERATED * (radius - 1.0);
    fprintf(g, "%.6g %.6g ", x / radius * shown, y / radius * shown);
}

static gboolean has_ellipse(const cvk_sincos_calibration *s)
{
    return s->points > 0 && cvk_measured_known(&s->amplitude_v);
}

static void draw_ellipse(page *p, const cvk_sincos_calibration *s)
{
    FILE *g = p->g;
    place_next(p);
    const double size = s->amplitude_v.value, lean = s->quadrature_rad.value;
    square_axes(g, 1.7);
    fprintf(g, "$ellipse << EOD\n");
    for (size_t n = 0; n < s->points; n++) {
        const double gain = sqrt(s->gain_ratio.value);
        const double c = gain * (s->cos_v[n] - s->cos_offset_v.value) / size;
        const double y = (s->sin_v[n] - s->sin_offset_v.value) / size / gain;
        put_exaggerated(g, s->cos_v[n] / size, s->sin_v[n] / size);
        put_exaggerated(g, c, (y - c * sin(lean)) / cos(lean));
        fprintf(g, "\n");
    }
    fprintf(g,
            "EOD\nset border 3\nset xtics 1\nset ytics 1\n"
            "set object 1 circle at 0,0 size 1 fs empty border lc rgb '" GREY "' lw 1\n"
            "set xlabel 'cos / amplitude; distance from the circle drawn %g times as large'\n"
            "set ylabel 'sin / amplitude'\n"
            "set title 'sin/cos: gain ratio %.4f, quadrature %.2f°'\n"
            "plot $ellipse using 1:2 with points pt 7 ps 0.3 lc rgb '" ORANGE
            "' title 'as read', '' using 3:4 with points pt 7 ps 0.3 lc rgb '" BLUE
            "' title 'made round'\n",
            EXAGGERATED, s->gain_ratio.value, s->quadrature_rad.value * CVK_DEG_PER_RAD);
    round_axes(g);
}

bool cvk_draw_calibration(const cvk_calibration *c, const char *log, const char *path,
                          cvk_complaint *complaint)
{
    char *title = g_strdup_printf("calibration from %s", log);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    const cvk_sensor_calibration *halls = &c->sensor[CVK_ROTOR_HALLS];
    const cvk_sincos_calibration *sincos = &c->sensor[CVK_ROTOR_SINCOS].sincos;
    page p = {.g = g, .panels = has_edges(halls) + has_ellipse(sincos)};
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS; n++) {
        p.panels += has_error(&c->sensor[n]);
    }
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS; n++) {
        if (has_error(&c->sensor[n])) {
            draw_error(&p, &c->sensor[n], (cvk_rotor_kind)n);
        }
    }
    if (has_edges(halls)) {
        draw_halls(&p, halls);
    }
    if (has_ellipse(sincos)) {
        draw_ellipse(&p, sincos);
    }
    if (p.panels == 0) {
        p.panels = 1;
        place_next(&p);
        empty_panel(g, "no sensor could be calibrated", c->why_best);
    }
    return close_figure(g, path, complaint);
}
