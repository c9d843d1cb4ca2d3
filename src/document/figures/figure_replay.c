/* SPDX-License-Identifier: Apache-2.0
 *
 * The figure of a replay: speed, angle error and quality of each observer over time; and after a
 * search, how the error depends on each setting.
 */

#include "corvak/document/figures.h"

#include "corvak/core/units.h"

#include "gnuplot.h"

#include <math.h>

#define EDGE_DEG 60.0

static const char *const colours[] = {BLUE, GREEN, ORANGE, GREY};

/* Speeds by `speed_unit`, angles no further than the panel's edge. */
static void put_trace(FILE *g, const cvk_replay_trace *t, double speed_unit)
{
    fprintf(g, "$trace << EOD\n");
    for (size_t n = 0; n < t->points; n++) {
        fprintf(g, "%.9g %g", t->time_s[n], speed_unit * t->speed_rad_s[n]);
        for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
            const double off =
                CVK_DEG_PER_RAD *
                remainder(t->angle_rad[kind][n] - t->reference_rad[n], CVK_TWO_PI_WIDE);
            fprintf(g, " %g %g %g", speed_unit * t->seen_rad_s[kind][n],
                    isfinite(off) ? CLAMP(off, -EDGE_DEG, EDGE_DEG) : off, t->quality[kind][n]);
        }
        fputc('\n', g);
    }
    fprintf(g, "EOD\n");
}

/* One panel: the column `at` of each observer that ran. */
static void put_curves(FILE *g, const cvk_replay *r, int at, const char *first)
{
    fprintf(g, "plot %s", first);
    const char *comma = first[0] != '\0' ? ", " : "";
    for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
        if (r->result[kind].ran) {
            fprintf(g, "%s$trace using 1:%d with lines lw 1.2 lc rgb '%s' title '%s'", comma,
                    3 + 3 * kind + at, colours[(size_t)kind % (sizeof colours / sizeof colours[0])],
                    cvk_observer_name(kind));
            comma = ", ";
        }
    }
    fputc('\n', g);
}

static void place(FILE *g, int panel, int panels, double floor, const char *quantity)
{
    const double height = (0.92 - floor) / panels, bottom = floor + height * (panels - 1 - panel);
    fprintf(g,
            "set lmargin at screen 0.08\nset rmargin at screen 0.87\nset bmargin at screen %g\n"
            "set tmargin at screen %g\nset key outside right center\nset ylabel '%s'\n"
            "set xlabel '%s'\nset format x '%s'\nset yrange [*:*]\nset xrange [*:*]\n",
            bottom + 0.02, bottom + height - 0.015, quantity, panel == panels - 1 ? "time / s" : "",
            panel == panels - 1 ? "%g" : "");
}

static void put_search(FILE *g, const cvk_search *s)
{
    for (int key = 0; key < CVK_SEARCH_KEYS; key++) {
        fprintf(g, "$key%d << EOD\n", key);
        for (int n = 0; n < CVK_SEARCH_POINTS; n++) {
            fprintf(g, "%g %g\n", s->value[key][n], CVK_DEG_PER_RAD * s->error_rad[key][n]);
        }
        fprintf(g, "EOD\n");
    }
    for (int key = 0; key < CVK_SEARCH_KEYS; key++) {
        const double left = 0.08 + 0.42 * key;
        fprintf(g,
                "set lmargin at screen %g\nset rmargin at screen %g\nset bmargin at screen 0.08\n"
                "set tmargin at screen 0.25\nset logscale x\nunset key\nset format x '%%g'\n"
                "set xlabel '%s.%s / %s'\nset ylabel '%s'\nset yrange [0:*]\n"
                "plot $key%d using 1:2 with linespoints lw 1.5 pt 7 ps 0.7 lc rgb '" BLUE "'\n",
                left, left + 0.36, s->key[key]->section, s->key[key]->name, s->key[key]->unit,
                key == 0 ? "worst error / deg rms" : "", key);
    }
    fprintf(g, "unset logscale x\n");
}

bool cvk_draw_replay(const cvk_replay *r, const cvk_replay_trace *trace, const cvk_search *search,
                     double pole_pairs, const char *log, const char *path, cvk_complaint *complaint)
{
    char *title = g_strdup_printf("%s through the observers", log);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    const double floor = search != NULL ? 0.33 : 0.07;
    const char *against =
        r->reference == CVK_REPLAY_CONSENSUS ? "less their mean / deg" : "angle error / deg el.";
    put_trace(g, trace, pole_pairs > 0.0 ? CVK_RPM_PER_RAD_S / pole_pairs : 1.0);
    place(g, 0, 3, floor, pole_pairs > 0.0 ? "speed / rpm" : "electrical speed / (rad/s)");
    put_curves(g, r, 0,
               r->reference == CVK_REPLAY_CONSENSUS
                   ? ""
                   : "$trace using 1:2 with lines lw 3 lc rgb '" GREY "' title 'by the log'");
    place(g, 1, 3, floor, against);
    fprintf(g, "set yrange [-%g<*<-2:2<*<%g]\nset offsets 0,0,graph 0.04,graph 0.04\n", EDGE_DEG,
            EDGE_DEG);
    put_curves(g, r, 1, "");
    fprintf(g, "set offsets\n");
    place(g, 2, 3, floor, "quality");
    fprintf(g, "set yrange [-0.05:1.05]\n");
    put_curves(g, r, 2, "");
    if (search != NULL) {
        put_search(g, search);
    }
    return close_figure(g, path, complaint);
}
