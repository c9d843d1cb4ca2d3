/* SPDX-License-Identifier: Apache-2.0
 *
 * The page that a practitioner looks at first: step, voltage against current, flux circle, card.
 * Drawn by gnuplot from a script with inline data.
 */
#include "cli.h"
#include "gnuplot.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

static void step_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "Step: measured against fitted current";
    const cvk_curve *c = &e->step;
    place_panel(g, 0, 0);
    if (c->points == 0) {
        empty_panel(g, title, "no standstill run among the logs");
        return;
    }
    fprintf(g, "$step << EOD\n");
    for (size_t n = 0; n < c->points; n++) {
        fprintf(g, "%g %g %g\n", 1e3 * c->x[n], c->y[n], c->fit[n]);
    }
    fprintf(g,
            "EOD\nset title '%s'\nset xlabel 'time / ms'\nset ylabel 'current / A'\n"
            "plot $step using 1:2 with points pt 7 ps 0.4 lc rgb '" BLUE "' title 'measured', "
            "'' using 1:3 with lines lw 1.5 lc rgb '" ORANGE
            "' title 'fitted (rms misfit %.0f mA)'\n",
            title, 1e3 * e->residual_a);
}

/* Inverter's share along a phase's direction: I in that phase, -I/2 in the two others. */
static void line_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "DC levels: voltage against current";
    const cvk_curve *c = &e->line;
    place_panel(g, 1, 0);
    const cvk_card_entry *r = &e->card.entry[CVK_CARD_RESISTANCE];
    const cvk_card_entry *u = &e->card.entry[CVK_CARD_DEAD_TIME_VOLTAGE];
    if (c->points == 0 || !r->known || !u->known) {
        empty_panel(g, title, "no DC levels among the logs");
        return;
    }
    double reach = 0.0;
    fprintf(g, "$line << EOD\n");
    for (size_t n = 0; n < c->points; n++) {
        fprintf(g, "%g %g\n", c->x[n], c->y[n]);
        reach = fmax(reach, 1.08 * fabs(c->x[n]));
    }
    fprintf(g, "EOD\n$model << EOD\n");
    for (int n = -200; n <= 200; n++) {
        double i = reach * n / 200.0;
        double own =
            (2.0 * cvk_inverter_voltage(u->value, e->line_knee_a, e->line_curve, i) +
             2.0 * cvk_inverter_voltage(u->value, e->line_knee_a, e->line_curve, 0.5 * i)) /
            3.0;
        fprintf(g, "%g %g %g %g\n", i, own, r->value * i, own + r->value * i);
    }
    fprintf(g,
            "EOD\nset title '%s'\nset xlabel 'current / A'\nset ylabel 'voltage / V'\n"
            "plot $model using 1:4 with lines lw 1.5 lc rgb '" ORANGE "' title 'fitted', "
            "'' using 1:3 with lines lw 1.5 dt 2 lc rgb '" GREY "' title 'resistance', "
            "'' using 1:2 with lines lw 1.5 lc rgb '" GREEN "' title 'inverter', "
            "$line using 1:2 with points pt 7 ps 0.7 lc rgb '" BLUE "' title 'measured'\n",
            title);
}

static void circle_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "Flux circle: linkage of the magnet";
    const cvk_curve *c = &e->circle;
    place_panel(g, 0, 1);
    const cvk_card_entry *flux = &e->card.entry[CVK_CARD_FLUX_LINKAGE];
    if (c->points == 0 || !flux->known) {
        empty_panel(g, title, "the motor does not turn in the logs");
        return;
    }
    fprintf(g, "$circle << EOD\n");
    for (size_t n = 0; n < c->points; n++) {
        fprintf(g, "%g %g\n", 1e3 * c->x[n], 1e3 * c->y[n]);
    }
    fprintf(g,
            "EOD\nset title '%s'\nset xlabel 'alpha / mWb'\nset ylabel 'beta / mWb'\n"
            "set size ratio -1\nset xrange [-%g:%g]\nset yrange [-%g:%g]\nset parametric\n"
            "set trange [0:2*pi]\n"
            "plot $circle using 1:2 with points pt 7 ps 0.4 lc rgb '" BLUE
            "' title 'from the log', %g*cos(t),%g*sin(t) with lines lw 1.5 lc rgb '" ORANGE
            "' title 'flux linkage on the card'\nunset parametric\nset size noratio\n",
            title, 1.25e3 * flux->value, 1.25e3 * flux->value, 1.25e3 * flux->value,
            1.25e3 * flux->value, 1e3 * flux->value, 1e3 * flux->value);
}

/* Each number as a bar around its own value, in percent. */
static void card_panel(FILE *g, const cvk_estimate *e, const cvk_rig_config *truth)
{
    static const cvk_card_key keys[] = {CVK_CARD_RESISTANCE, CVK_CARD_INDUCTANCE_D,
                                        CVK_CARD_INDUCTANCE_Q, CVK_CARD_FLUX_LINKAGE,
                                        CVK_CARD_DEAD_TIME_VOLTAGE};
    int rows = 0;
    double widest = 0.1;
    place_panel(g, 1, 1);
    fprintf(g, "$card << EOD\n");
    for (size_t n = 0; n < G_N_ELEMENTS(keys); n++) {
        const cvk_card_entry *entry = &e->card.entry[keys[n]];
        if (!entry->known) {
            continue;
        }
        display how = display_of(keys[n], entry->value);
        char number[48];
        double per_cent = 100.0 / fabs(entry->value);
        print_number(number, sizeof number, how.factor * entry->value,
                     0.5 * how.factor * (entry->high - entry->low));
        double off = truth != NULL ? per_cent * (rig_truth(truth, keys[n]) - entry->value) : NAN;
        fprintf(g, "\"%s\\n%s %s\" %d %g %g %g %g %g\n", how.label, number, how.unit, -rows,
                per_cent * (entry->low - entry->value), per_cent * (entry->high - entry->value),
                per_cent * (entry->statistical_low - entry->value),
                per_cent * (entry->statistical_high - entry->value), off);
        widest = fmax(widest, per_cent * 0.5 * (entry->high - entry->low));
        widest = isnan(off) ? widest : fmax(widest, fabs(off));
        rows++;
    }
    const cvk_card_entry *poles = &e->card.entry[CVK_CARD_POLE_PAIRS];
    char title[96] = "Card with 95 % intervals";
    if (poles->known) {
        g_snprintf(title, sizeof title, "Card with 95 %% intervals; %.0f pole pairs (p = %.3f)",
                   poles->value, poles->probability);
    }
    fprintf(g,
            "EOD\nset title '%s'\n"
            "set xrange [-%g:%g]\nset yrange [-%d.6:0.6]\nset xlabel 'relative to the value / %%'\n"
            "unset ylabel\n",
            title, 1.3 * widest, 1.3 * widest, rows > 0 ? rows - 1 : 0);
    if (rows == 0) {
        fprintf(g, "plot NaN notitle\n");
        return;
    }
    fprintf(g,
            "plot $card using (0):2:3:4:ytic(1) with xerrorbars pt 7 ps 0.8 lw 1.5 lc rgb '" BLUE
            "' title 'total', "
            "'' using (0):2:5:6 with xerrorbars pt 7 ps 0.8 lw 4 lc rgb '" ORANGE
            "' title 'statistical'%s\n",
            truth != NULL ? ", '' using 7:2 with points pt 2 ps 1.5 lw 2 lc rgb 'black' title "
                            "\"rig's truth\""
                          : "");
}

gboolean draw_estimate(const cvk_estimate *estimate, const cvk_rig_config *truth, const char *path,
                       cvk_complaint *complaint)
{
    char *title = g_strconcat("Motor card: ", estimate->card.name, NULL);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    step_panel(g, estimate);
    line_panel(g, estimate);
    circle_panel(g, estimate);
    card_panel(g, estimate, truth);
    return close_figure(g, path, complaint);
}
