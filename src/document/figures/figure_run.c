/* SPDX-License-Identifier: Apache-2.0
 *
 * A run as one page against time: wanted and true speed, currents against their set-points, the
 * angle's error, the observer's quality, and what the start does.
 */

#include "corvak/document/figures.h"

#include "corvak/core/units.h"

#include "gnuplot.h"

#include <math.h>
#include <stdio.h>

#define POINTS 1500

/* What happened during one point: the last values, and the extremes where they matter. */
typedef struct point {
    double t, speed_set, speed_seen, speed_true, d, q, d_set, q_set, quality;
    double off_low, off_high; /* angle error, degrees; NaN while the vector is imposed */
    int phase;
    gboolean used;
} point;

struct cvk_run_figure {
    double length_s, pole_pairs;
    gboolean has_truth;
    point point[POINTS];
};

cvk_run_figure *cvk_run_figure_new(double length_s)
{
    cvk_run_figure *f = g_new0(cvk_run_figure, 1);
    f->length_s = length_s;
    return f;
}

void cvk_run_figure_free(cvk_run_figure *f)
{
    g_free(f);
}

void cvk_run_figure_row(cvk_run_figure *f, const cvk_device_row *row, const cvk_bench_truth *truth,
                        double pole_pairs)
{
    const float *now = row->value;
    const int n = (int)(POINTS * row->time_s / f->length_s);
    if (n < 0 || n >= POINTS) {
        return;
    }
    point *p = &f->point[n];
    if (!p->used) {
        *p = (point){.off_low = NAN, .off_high = NAN, .used = TRUE};
    }
    f->pole_pairs = pole_pairs;
    f->has_truth = f->has_truth || truth != NULL;
    p->t = row->time_s;
    p->speed_set = (double)now[CVK_RUN_ROW_SPEED_SET];
    p->speed_seen = (double)now[CVK_RUN_ROW_SPEED];
    p->speed_true = truth != NULL ? truth->speed_mech_rad_s * pole_pairs : NAN;
    p->d = (double)now[CVK_RUN_ROW_ID];
    p->q = (double)now[CVK_RUN_ROW_IQ];
    p->d_set = (double)now[CVK_RUN_ROW_ID_SET];
    p->q_set = (double)now[CVK_RUN_ROW_IQ_SET];
    p->quality = (double)now[CVK_RUN_ROW_QUALITY];
    p->phase = (int)now[CVK_RUN_ROW_START_PHASE];
    const int mode = (int)now[CVK_RUN_ROW_MODE];
    if (truth != NULL && (mode == CVK_MODE_SPEED || mode == CVK_MODE_STOP) &&
        now[CVK_RUN_ROW_BRIDGE_ON] > 0.5f && (int)now[CVK_RUN_ROW_SOURCE] != CVK_ANGLE_IMPOSED) {
        const double off =
            CVK_DEG_PER_RAD *
            remainder((double)now[CVK_RUN_ROW_THETA] - truth->angle_e_rad, CVK_TWO_PI_WIDE);
        p->off_low = isnan(p->off_low) ? off : fmin(p->off_low, off);
        p->off_high = isnan(p->off_high) ? off : fmax(p->off_high, off);
    }
}

static void put_points(FILE *g, const cvk_run_figure *f)
{
    const double rpm = CVK_RPM_PER_RAD_S / f->pole_pairs;
    fprintf(g, "$run << EOD\n");
    for (int n = 0; n < POINTS; n++) {
        const point *p = &f->point[n];
        if (p->used) {
            fprintf(g, "%.9g %g %g %g %g %g %g %g %g %g %g %d\n", p->t, rpm * p->speed_set,
                    rpm * p->speed_seen, rpm * p->speed_true, p->d, p->q, p->d_set, p->q_set,
                    p->quality, p->off_low, p->off_high, p->phase);
        }
    }
    fprintf(g, "EOD\n");
}

static void place(FILE *g, int panel, int panels, const char *quantity)
{
    const double height = 0.88 / panels, bottom = 0.07 + height * (panels - 1 - panel);
    fprintf(g,
            "set lmargin at screen 0.075\nset rmargin at screen 0.86\nset bmargin at screen %g\n"
            "set tmargin at screen %g\nset key outside right center\nset ylabel '%s'\n"
            "set xlabel '%s'\nset format x '%s'\nset yrange [*:*]\n",
            bottom + 0.02, bottom + height - 0.015, quantity, panel == panels - 1 ? "time / s" : "",
            panel == panels - 1 ? "%g" : "");
}

bool cvk_run_figure_draw(const cvk_run_figure *f, const char *path, const char *rig,
                         const char *scenario, cvk_complaint *complaint)
{
    char *title = g_strdup_printf("%s: %s", rig, scenario);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    put_points(g, f);
    fprintf(g, "set xrange [0:%g]\n", f->length_s);
    place(g, 0, 4, "speed / rpm");
    fprintf(g, "plot $run using 1:4 with lines lw 2 lc rgb '" BLUE "' title 'true', "
               "'' using 1:3 with lines lw 1 lc rgb '" GREEN "' title 'in use', "
               "'' using 1:2 with lines lw 1.5 dt 2 lc rgb '" ORANGE "' title 'wanted'\n");
    place(g, 1, 4, "current / A");
    fprintf(g, "plot $run using 1:6 with lines lw 1 lc rgb '" BLUE "' title 'iq', "
               "'' using 1:5 with lines lw 1 lc rgb '" GREEN "' title 'id', "
               "'' using 1:8 with lines lw 1.5 dt 2 lc rgb '" ORANGE "' title 'iq wanted', "
               "'' using 1:7 with lines lw 1.5 dt 3 lc rgb '" GREY "' title 'id wanted'\n");
    place(g, 2, 4, "angle error / deg");
    if (!f->has_truth) {
        fprintf(g, "set label 1 'the true angle is not known' at graph 0.5,0.5 center\n");
    }
    fprintf(
        g, "set yrange [-30<*<-12:12<*<30]\nplot $run using 1:10:11 with filledcurves lc rgb '" BLUE
           "' title 'in use', 10 with lines lw 1 dt 3 lc rgb '" GREY
           "' title '10 deg', -10 with lines lw 1 dt 3 lc rgb '" GREY "' notitle\n");
    fprintf(g, "unset label 1\n");
    place(g, 3, 4, "quality, start");
    fprintf(g, "set yrange [-0.05:1.05]\n"
               "plot $run using 1:9 with lines lw 1.5 lc rgb '" BLUE "' title 'quality', "
               "'' using 1:($12==3||$12==4 ? 1 : 0) with steps lw 1.5 lc rgb '" ORANGE
               "' title 'vector imposed'\n");
    return close_figure(g, path, complaint);
}
