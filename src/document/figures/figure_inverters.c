/* SPDX-License-Identifier: Apache-2.0
 *
 * The figure of `corvak rig`: averaged against switched inverter.
 */
#include "corvak/document/figures.h"

#include "gnuplot.h"

#include <math.h>

static void put_points(FILE *g, const cvk_rig_comparison *c)
{
    fprintf(g, "$points << EOD\n");
    for (size_t n = 0; n < c->points; n++) {
        const cvk_rig_comparison_point *p = &c->point[n];
        fprintf(g, "%g %g %g %g %g %g\n", p->voltage_v, p->averaged_a, p->switched_a, p->ripple_a,
                100.0 * (p->averaged_a / p->switched_a - 1.0), p->capacitor_ripple_a);
    }
    fprintf(g, "EOD\n");
}

bool cvk_draw_inverters(const cvk_rig_config *config, const cvk_rig_comparison *c, const char *path,
                        cvk_complaint *complaint)
{
    char *title = g_strdup_printf("%s: averaged against switched inverter, shaft blocked, voltage "
                                  "along phase a",
                                  config->name);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    /* where ripple and the capacitance of the legs blur the zero crossing */
    double blur_a = 5.0 * c->crossover_a;
    for (size_t n = 0; n < c->points; n++) {
        blur_a = fmax(blur_a, 0.5 * c->point[n].ripple_a + c->crossover_a);
    }
    double v_max = fabs(c->point[0].voltage_v);
    put_points(g, c);
    place_panel(g, 0, 4, 0.0);
    fprintf(g, "set xlabel 'commanded voltage / V'\nset ylabel 'mean current / A'\n"
               "set title 'Up to the allowed current'\n"
               "plot $points using 1:2 with lines lw 2 lc rgb '" ORANGE "' title 'averaged', "
               "'' using 1:3 with points pt 7 ps 0.7 lc rgb '" BLUE "' title 'switched'\n");
    place_panel(g, 1, 4, 0.0);
    fprintf(g,
            "set title 'Near zero'\nset xrange [-%g:%g]\n"
            "plot $points using 1:2 with linespoints lw 2 pt 1 lc rgb '" ORANGE
            "' title 'averaged', "
            "'' using 1:3 with linespoints pt 7 ps 0.7 lc rgb '" BLUE "' title 'switched'\n",
            0.12 * v_max, 0.12 * v_max);
    place_panel(g, 2, 4, 0.0);
    fprintf(g,
            "set title 'Difference (shaded: ripple or node charge blur the zero crossing)'\n"
            "set xlabel 'mean current / A'\nset ylabel 'averaged against switched / %%'\n"
            "set xrange [*:*]\nset yrange [-6:6]\n"
            "set object 1 rectangle from %g,-6 to %g,6 fc rgb '#eeeeee' fs solid noborder behind\n"
            "plot 1 with lines dt 2 lc rgb '" GREY "' title '±1 %%', "
            "-1 with lines dt 2 lc rgb '" GREY "' notitle, "
            "$points using 3:5 with linespoints pt 7 ps 0.7 lc rgb '" BLUE "' title 'difference'\n"
            "unset object 1\n",
            -blur_a, blur_a);
    place_panel(g, 3, 4, 0.0);
    fprintf(g, "set title 'What only the switched inverter shows'\nset ylabel 'current / A'\n"
               "set yrange [0:*]\n"
               "plot $points using 3:4 with linespoints pt 7 ps 0.7 lc rgb '" GREEN
               "' title 'ripple of phase a, peak to peak', "
               "'' using 3:6 with linespoints pt 5 ps 0.7 lc rgb '" ORANGE
               "' title 'bus capacitor, rms'\n");
    return close_figure(g, path, complaint);
}
