/* SPDX-License-Identifier: Apache-2.0
 *
 * A ladder of speeds.
 */
#include "corvak/document/figures.h"

#include "corvak/core/units.h"
#include "gnuplot.h"

#include <math.h>

/* Off by and ripple over the speed, without and with load. */
bool cvk_draw_ladder(const cvk_ladder *ladder, int count, const cvk_run_setting *how,
                     const char *path, cvk_complaint *complaint)
{
    const double rpm = CVK_RPM_PER_RAD_S / how->pole_pairs;
    const char *const quantity[] = {"ripple / %", how->distant ? "quality" : "angle off / deg",
                                    "current / A"};
    char *title = g_strdup_printf("%s: a ladder of speeds", how->name);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    for (int n = 0; n < count; n++) {
        fprintf(g, "$w%d << EOD\n", n);
        for (size_t k = 0; k < ladder[n].count; k++) {
            const cvk_rung *rung = &ladder[n].rung[k];
            const cvk_run_result *r = &rung->run;
            const double trust = how->distant ? r->quality : CVK_DEG_PER_RAD * r->angle_rms_rad;
            fprintf(g, "%g %g %g %g\n", rpm * r->wanted_rad_s,
                    rung->seen ? 100.0 * r->ripple_rad_s / r->wanted_rad_s : NAN,
                    rung->seen ? trust : NAN, r->current_a);
        }
        fprintf(g, "EOD\n");
    }
    for (int panel = 0; panel < 3; panel++) {
        const double bottom = 0.08 + 0.3 * (2 - panel);
        fprintf(g,
                "set lmargin at screen 0.08\nset rmargin at screen 0.84\nset bmargin at screen %g\n"
                "set tmargin at screen %g\nset logscale x\nset key outside right center\n"
                "set ylabel '%s'\nset yrange [0:*]\nset xlabel '%s'\nset format x '%s'\nplot ",
                bottom, bottom + 0.26, quantity[panel], panel == 2 ? "speed / rpm" : "",
                panel == 2 ? "%g" : "");
        for (int n = 0; n < count; n++) {
            fprintf(g, "$w%d using 1:%d with linespoints lw 1.4 pt 7 ps 0.6 lc rgb '%s' %s%s", n,
                    2 + panel, (n >= 2) ? ORANGE : BLUE,
                    (n % 2 == 1)   ? "notitle"
                    : (n >= 2)     ? "title 'with load'"
                    : how->distant ? "title 'as it stands'"
                                   : "title 'without load'",
                    n + 1 < count ? ", " : "\n");
        }
    }
    return close_figure(g, path, complaint);
}
