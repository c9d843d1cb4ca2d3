/* SPDX-License-Identifier: Apache-2.0
 *
 * Torque over speed.
 */
#include "corvak/document/figures.h"

#include "corvak/core/units.h"
#include "gnuplot.h"

#include <math.h>

#define NEAR 1.4 /* times the end of the map, to which the speed of a lifted bus is drawn */

bool cvk_draw_range(const cvk_torque_map *r, const char *name, const char *path,
                    cvk_complaint *complaint)
{
    static const char *const colours[CVK_DEPTHS] = {GREY, GREEN, BLUE, ORANGE};
    static const char *const titles[CVK_DEPTHS] = {"sine", "linear", "hexagon", "six steps"};
    char *title = g_strdup_printf("%s: torque over speed", name);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    const double last_rpm = CVK_RPM_PER_RAD_S * r->speed_mech_rad_s[CVK_TORQUE_MAP_POINTS - 1],
                 off_rpm = CVK_RPM_PER_RAD_S * r->off_mech_rad_s;
    const double end_rpm = off_rpm < NEAR * last_rpm ? fmax(last_rpm, 1.05 * off_rpm) : last_rpm;
    fprintf(g, "$map << EOD\n");
    for (int n = 0; n < CVK_TORQUE_MAP_POINTS; n++) {
        fprintf(g, "%g", CVK_RPM_PER_RAD_S * r->speed_mech_rad_s[n]);
        for (int d = 0; d < CVK_DEPTHS; d++) {
            fprintf(g, " %g %g", r->depth[d].torque_nm[n], r->depth[d].weakened_nm[n]);
        }
        fprintf(g, "\n");
    }
    fprintf(g,
            "EOD\nset lmargin at screen 0.08\nset rmargin at screen 0.76\nset bmargin at screen "
            "0.09\nset tmargin at screen 0.92\nset key outside right center\nset xlabel 'speed / "
            "rpm'\nset ylabel 'torque / N m'\nset yrange [0:*]\nset xrange [0:%g]\n",
            end_rpm);
    if (off_rpm < end_rpm) {
        fprintf(
            g, "set arrow 1 from %g, graph 0 to %g, graph 1 nohead dt 3 lw 1.5 lc rgb '" GREY "'\n",
            off_rpm, off_rpm);
    }
    fprintf(g, "plot ");
    for (int d = 0; d < CVK_DEPTHS; d++) {
        fprintf(g, "$map using 1:%d with lines lw 2 lc rgb '%s' title '%s', ", 2 + 2 * d,
                colours[d], titles[d]);
    }
    for (int d = 0; d < CVK_DEPTHS; d++) {
        fprintf(g, "$map using 1:%d with lines lw 1.5 dt 2 lc rgb '%s' %s, ", 3 + 2 * d, colours[d],
                d == CVK_DEPTHS - 1 ? "title 'the same, weakened'" : "notitle");
    }
    if (isfinite(r->continuous_nm)) {
        fprintf(g, "%g with lines lw 1.5 dt 4 lc rgb 'black' title 'for long', ", r->continuous_nm);
    }
    fprintf(g, "NaN with lines dt 3 lw 1.5 lc rgb '" GREY "' %s\n",
            off_rpm < end_rpm ? "title 'bus lifted when off'" : "notitle");
    return close_figure(g, path, complaint);
}
