/* SPDX-License-Identifier: Apache-2.0
 *
 * What a PWM frequency costs.
 */
#include "corvak/document/figures.h"

#include "corvak/core/units.h"
#include "gnuplot.h"

#include <math.h>

/* Each cost over the frequency, as a share of its usual limit; the present one marked. */
bool cvk_draw_pwm(const cvk_pwm_advice *a, const char *name, const char *path,
                  cvk_complaint *complaint)
{
    static const char *const colours[CVK_PWM_COSTS] = {BLUE,      ORANGE,    GREEN,
                                                       "#cc79a7", "#e69f00", "#56b4e9"};
    char *title = g_strdup_printf("%s: what a PWM frequency costs", name);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    fprintf(g, "$pwm << EOD\n");
    for (size_t n = 0; n < a->count; n++) {
        fprintf(g, "%g", 1e-3 * a->row[n].pwm_hz);
        for (int c = 0; c < CVK_PWM_COSTS; c++) {
            fprintf(g, " %g", fmax(a->row[n].cost[c] / cvk_pwm_limit((cvk_pwm_cost)c), 1e-3));
        }
        fprintf(g, "\n");
    }
    fprintf(
        g,
        "EOD\nset lmargin at screen 0.08\nset rmargin at screen 0.73\nset bmargin at screen 0.09\n"
        "set tmargin at screen 0.92\nset logscale xy\nset key outside right center\n"
        "set xlabel 'PWM frequency / kHz'\nset ylabel 'share of the usual limit'\n"
        "set yrange [0.01:*]\nset xrange [%g:%g]\nset arrow 1 from %g, graph 0 to %g, graph 1 "
        "nohead dt 2 lc rgb "
        "'" GREY "'\nplot 1 with lines lw 2 lc rgb '" GREY "' title 'usual limit'",
        1e-3 * a->row[0].pwm_hz, 1e-3 * a->row[a->count - 1].pwm_hz,
        1e-3 * a->row[a->present].pwm_hz, 1e-3 * a->row[a->present].pwm_hz);
    for (int c = 0; c < CVK_PWM_COSTS; c++) {
        fprintf(g, ", $pwm using 1:%d with linespoints lw 1.5 pt 7 ps 0.6 lc rgb '%s' title '%s'",
                2 + c, colours[c], cvk_pwm_cost_text((cvk_pwm_cost)c));
    }
    fprintf(g, ", NaN with lines dt 2 lc rgb '" GREY "' title 'as it is'\n");
    return close_figure(g, path, complaint);
}
