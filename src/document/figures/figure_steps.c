/* SPDX-License-Identifier: Apache-2.0
 *
 * Measured steps as one page: the current loop on the left, the speed loop on the right with its
 * torque current below.
 */

#include "corvak/document/figures.h"

#include "gnuplot.h"

#include <math.h>

#define LEAD 0.06           /* share of the step's time that is shown of before */
#define SHOWN_SETTLINGS 3.0 /* of what came after, in settling times */

/* Panels of one step have one time axis. */
static double shown_s(const cvk_measured_step *s)
{
    const double all_s = s->spacing_s * (double)s->rows;
    const double settled_s = fmax(s->shape.settling_s, s->predicted_shape.settling_s);
    return isfinite(s->shape.settling_s) ? fmin(all_s, SHOWN_SETTLINGS * settled_s) : all_s;
}

static void put_time_range(FILE *g, const cvk_measured_step *s, double time_scale)
{
    const double length = time_scale * shown_s(s);
    fprintf(g, "set xrange [%g:%g]\n", -LEAD * length, length);
}

/* Columns: time, set-point, measured, predicted, current. */
static void put_step(FILE *g, const char *block, const cvk_measured_step *s, double scale,
                     double time_scale)
{
    fprintf(g, "$%s << EOD\n", block);
    const double lead = LEAD * shown_s(s);
    fprintf(g, "%.9g %.9g %.9g %.9g NaN\n0 %.9g %.9g %.9g NaN\n", -lead * time_scale,
            scale * s->from, scale * s->from, scale * s->from, scale * s->from, scale * s->from,
            scale * s->from);
    for (size_t n = 0; n < s->rows; n++) {
        fprintf(g, "%.9g %.9g %.9g %.9g %.9g\n", time_scale * s->spacing_s * (double)n,
                scale * s->set[n], scale * s->measured[n],
                s->predicted != NULL ? scale * s->predicted[n] : (double)NAN,
                s->current_q_a != NULL ? s->current_q_a[n] : (double)NAN);
    }
    fprintf(g, "EOD\n");
}

static void place_at(FILE *g, double left, double right, double bottom, double top)
{
    fprintf(g,
            "set lmargin at screen %g\nset rmargin at screen %g\nset bmargin at screen %g\n"
            "set tmargin at screen %g\nset autoscale\nset key at graph 0.98,0.04 right bottom\n",
            left, right, bottom, top);
}

static void put_shape(FILE *g, const cvk_step_shape *m, const cvk_step_shape *p)
{
    fprintf(g,
            "set label 1 \"measured (predicted)\\nrise %.3g (%.3g) ms\\novershoot %.0f (%.0f) "
            "%%\\nsettled after %.3g (%.3g) ms\" at graph 0.97,0.42 right\n",
            1e3 * m->rise_s, 1e3 * p->rise_s, 100.0 * m->overshoot, 100.0 * p->overshoot,
            1e3 * m->settling_s, 1e3 * p->settling_s);
}

static const char three_curves[] =
    "using 1:2 with steps lw 1.5 lc rgb '" GREY "' title 'set-point', "
    "'' using 1:3 with lines lw 3 lc rgb '" BLUE "' title 'measured', "
    "'' using 1:4 with lines lw 1.5 dt 2 lc rgb '" ORANGE "' title 'predicted'\n";

static void draw_current(FILE *g, const cvk_measured_step *s)
{
    place_at(g, 0.065, 0.48, 0.09, 0.88);
    if (s == NULL) {
        empty_panel(g, "current loop", "no step of the current was measured");
        return;
    }
    put_step(g, "current", s, 1.0, 1e3);
    put_time_range(g, s, 1e3);
    put_shape(g, &s->shape, &s->predicted_shape);
    fprintf(g,
            "set title '%s current, bandwidth %.0f Hz, mean of %u steps'\nset xlabel 'time / ms'\n"
            "set ylabel 'current / A'\nset offsets 0,0,graph 0.08,graph 0.05\nplot $current %s"
            "unset label 1\nset offsets\n",
            s->kind == CVK_MEASURED_CURRENT_Q ? "q" : "d", s->bandwidth_hz, s->repeats,
            three_curves);
}

static void draw_speed(FILE *g, const cvk_measured_step *s, double rpm)
{
    if (s == NULL) {
        place_at(g, 0.565, 0.98, 0.09, 0.88);
        empty_panel(g, "speed loop", "no step of the speed was measured");
        return;
    }
    place_at(g, 0.565, 0.98, 0.36, 0.88);
    put_step(g, "speed", s, rpm, 1.0);
    put_time_range(g, s, 1.0);
    put_shape(g, &s->shape, &s->predicted_shape);
    fprintf(g,
            "set title 'speed: %.3g N m/rad and %.3g N m s/rad at the shaft'\nset xlabel ''\n"
            "set format x ''\nset ylabel 'speed / rpm'\nset offsets 0,0,graph 0.08,graph 0.05\n"
            "plot $speed %sunset label 1\nset offsets\nset format x '%%g'\n",
            s->stiffness_nm_rad, s->damping_nms_rad, three_curves);
    place_at(g, 0.565, 0.98, 0.09, 0.33);
    put_time_range(g, s, 1.0);
    fprintf(g, "set title ''\nset xlabel 'time / s'\nset ylabel 'q current / A'\nunset key\n"
               "plot $speed using 1:5 with lines lw 1 lc rgb '" BLUE "' notitle\n");
}

bool cvk_draw_steps(const cvk_measured_step *current, const cvk_measured_step *speed,
                    double rpm_per_rad_s, const char *name, const char *path,
                    cvk_complaint *complaint)
{
    char *title = g_strdup_printf("%s: measured steps", name);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    draw_current(g, current);
    draw_speed(g, speed, rpm_per_rad_s);
    return close_figure(g, path, complaint);
}
