/* SPDX-License-Identifier: Apache-2.0
 *
 * The page that a practitioner looks at first: what the logs show (steps, voltage against current,
 * the turning motor, flux circle, inertia, speed), each only where there is something to see, and
 * the card. Drawn by gnuplot from a script with inline data.
 */

#include "corvak/document/figures.h"
#include "corvak/document/number.h"

#include "corvak/core/units.h"
#include "gnuplot.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define MOST_PANELS 5 /* beside the card */

static void put_curve(FILE *g, const char *name, const cvk_curve *c, double x, double y)
{
    fprintf(g, "$%s << EOD\n", name);
    for (size_t n = 0; n < c->points; n++) {
        if (isnan(c->x[n])) {
            fputc('\n', g); /* a gap is drawn as a gap */
        } else {
            fprintf(g, "%.9g %g %g\n", x * c->x[n], y * c->y[n], y * c->fit[n]);
        }
    }
    fprintf(g, "EOD\n");
}

static void step_panel(FILE *g, const cvk_estimate *e)
{
    put_curve(g, "step", &e->curves->step, 1e3, 1.0);
    fprintf(g,
            "set title 'Step: measured against fitted current'\nset xlabel 'time / ms'\n"
            "set ylabel 'current / A'\n"
            "plot $step using 1:2 with points pt 7 ps 0.4 lc rgb '" BLUE "' title 'measured', "
            "'' using 1:3 with lines lw 1.5 lc rgb '" ORANGE
            "' title 'fitted (rms misfit %.0f mA)'\n",
            1e3 * e->residual_a);
}

/* Inverter's share along a phase's direction: I in that phase, -I/2 in the two others. */
static void line_panel(FILE *g, const cvk_estimate *e)
{
    const cvk_curve *c = &e->curves->line;
    const cvk_card_entry *r = &e->card.entry[CVK_CARD_RESISTANCE];
    const cvk_card_entry *u = &e->card.entry[CVK_CARD_DEAD_TIME_VOLTAGE];
    double reach = 0.0;
    for (size_t n = 0; n < c->points; n++) {
        reach = fmax(reach, 1.08 * fabs(c->x[n]));
    }
    put_curve(g, "line", c, 1.0, 1.0);
    fprintf(g, "$model << EOD\n");
    for (int n = -200; n <= 200; n++) {
        double i = reach * n / 200.0;
        double own =
            (2.0 * cvk_inverter_voltage(u->value, e->line_knee_a, e->line_curve, i) +
             2.0 * cvk_inverter_voltage(u->value, e->line_knee_a, e->line_curve, 0.5 * i)) /
            3.0;
        fprintf(g, "%g %g %g %g\n", i, own, r->value * i, own + r->value * i);
    }
    fprintf(g, "EOD\nset title 'DC levels: voltage against current'\nset xlabel 'current / A'\n"
               "set ylabel 'voltage / V'\nplot $model using 1:4 with lines lw 1.5 lc rgb '" ORANGE
               "' title 'fitted', "
               "'' using 1:3 with lines lw 1.5 dt 2 lc rgb '" GREY "' title 'resistance', "
               "'' using 1:2 with lines lw 1.5 lc rgb '" GREEN "' title 'inverter', "
               "$line using 1:2 with points pt 7 ps 0.7 lc rgb '" BLUE "' title 'measured'\n");
}

static void turning_panel(FILE *g, const cvk_estimate *e)
{
    double square = 0.0;
    for (size_t n = 0; n < e->curves->turning.points; n++) {
        square += pow(e->curves->turning.y[n] - e->curves->turning.fit[n], 2.0);
    }
    put_curve(g, "turning", &e->curves->turning, 1e3, 1.0);
    fprintf(g,
            "set title 'Turning: measured against predicted current'\nset xlabel 'time / ms'\n"
            "set ylabel 'current, alpha / A'\nset autoscale xfix\n"
            "plot $turning using 1:2 with points pt 7 ps 0.4 lc rgb '" BLUE "' title 'measured', "
            "'' using 1:3 with lines lw 1.5 lc rgb '" ORANGE
            "' title 'predicted one row ahead (rms %.0f mA off)'\n",
            1e3 * sqrt(square / (double)e->curves->turning.points));
}

static void circle_panel(FILE *g, const cvk_estimate *e)
{
    const double flux_mwb = 1e3 * e->card.entry[CVK_CARD_FLUX_LINKAGE].value;
    put_curve(g, "circle", &e->curves->circle, 1e3, 1e3);
    fprintf(g,
            "set title 'Flux circle: linkage of the magnet'\nset xlabel 'alpha / mWb'\n"
            "set ylabel 'beta / mWb'\nset size ratio -1\nset xrange [-%g:%g]\n"
            "set yrange [-%g:%g]\nset parametric\nset trange [0:2*pi]\n"
            "plot $circle using 1:2 with points pt 7 ps 0.4 lc rgb '" BLUE
            "' title 'from the log', %g*cos(t),%g*sin(t) with lines lw 1.5 lc rgb '" ORANGE
            "' title 'on the card'\nunset parametric\nset size noratio\n",
            1.25 * flux_mwb, 1.25 * flux_mwb, 1.25 * flux_mwb, 1.25 * flux_mwb, flux_mwb, flux_mwb);
}

static void balance_panel(FILE *g, const cvk_estimate *e)
{
    put_curve(g, "balance", &e->curves->balance, 1.0, 1e3);
    fprintf(g, "set title 'Inertia: torque against acceleration'\n"
               "set xlabel 'acceleration / (rad/s²)'\nset ylabel 'torque less friction / mN m'\n"
               "plot $balance using 1:2 with points pt 7 ps 0.5 lc rgb '" BLUE
               "' title 'a window of the log', '' using 1:3 with lines lw 1.5 lc rgb '" ORANGE
               "' title 'fitted inertia'\n");
}

static void speed_panel(FILE *g, const cvk_estimate *e)
{
    const cvk_card_entry *poles = &e->card.entry[CVK_CARD_POLE_PAIRS];
    const double rpm = poles->known ? CVK_RPM_PER_RAD_S / poles->value : 1.0;
    put_curve(g, "speed", &e->curves->speed, 1.0, rpm);
    fprintf(g,
            "set title 'Speed, from the back-EMF'\nset xlabel 'time / s'\nset ylabel '%s'\n"
            "plot $speed using 1:2 with linespoints pt 7 ps 0.3 lw 1.5 lc rgb '" BLUE
            "' title 'mean of a turn or more'\n",
            poles->known ? "speed / rpm" : "electrical speed / (rad/s)");
}

/* Each number as a bar around its own value, in percent: large percents are drawn closer together,
 * so that friction does not hide how well the rest is known. */
/* A row of the card: ends of its intervals in per cent. What is off by so much lies so far from the
 * truth, which is the zero; without a truth the value is. */
static double put_card_row(FILE *g, cvk_card_key key, const cvk_card_entry *e, double truth,
                           int row)
{
    const cvk_display how = cvk_display_of(cvk_card_key_name(key), e->value);
    const double zero = isfinite(truth) && truth != 0.0 ? truth : e->value;
    const double per_cent = 100.0 / fabs(zero);
    char number[48];
    print_number(number, sizeof number, how.factor * e->value,
                 0.5 * how.factor * (e->high - e->low));
    fprintf(g, "\"%s\\n%s %s\" %d %g %g %g %g %g %g\n", cvk_card_label(key), number, how.unit, -row,
            per_cent * (e->low - zero), per_cent * (e->high - zero),
            per_cent * (e->statistical_low - zero), per_cent * (e->statistical_high - zero),
            per_cent * (e->value - zero), isfinite(truth) ? 0.0 : NAN);
    return per_cent * fmax(e->high - zero, zero - e->low);
}

static int put_card_rows(FILE *g, const cvk_estimate *e, const cvk_rig_config *truth,
                         double *widest)
{
    static const cvk_card_key keys[] = {CVK_CARD_RESISTANCE,        CVK_CARD_INDUCTANCE_D,
                                        CVK_CARD_INDUCTANCE_Q,      CVK_CARD_FLUX_LINKAGE,
                                        CVK_CARD_DEAD_TIME_VOLTAGE, CVK_CARD_INERTIA,
                                        CVK_CARD_FRICTION_COULOMB,  CVK_CARD_FRICTION_VISCOUS};
    int rows = 0;
    fprintf(g, "$card << EOD\n");
    for (size_t n = 0; n < G_N_ELEMENTS(keys); n++) {
        const cvk_card_entry *entry = &e->card.entry[keys[n]];
        if (entry->known) {
            const double true_value = truth != NULL ? cvk_rig_truth(truth, keys[n]) : NAN;
            *widest = fmax(*widest, put_card_row(g, keys[n], entry, true_value, rows++));
        }
    }
    return rows;
}

static void card_panel(FILE *g, const cvk_estimate *e, const cvk_rig_config *truth)
{
    double widest = 0.1;
    const int rows = put_card_rows(g, e, truth, &widest);
    const cvk_card_entry *poles = &e->card.entry[CVK_CARD_POLE_PAIRS];
    char title[96] = "Card with 95 % intervals";
    if (poles->known) {
        g_snprintf(title, sizeof title, "Card with 95 %% intervals; %.0f pole pairs", poles->value);
    }
    fprintf(g,
            "EOD\nset title '%s'\n"
            "set xrange [-%g:%g]\nset yrange [-%d.6:0.6]\nset xlabel '%s / %% (compressed)'\n"
            "unset ylabel\nset ytics font ',%d'\n"
            "set nonlinear x via asinh(x) inverse sinh(x)\n"
            "set xtics (-100,-40,-15,-5,-2,0,2,5,15,40,100)\n",
            title, 1.15 * widest, 1.15 * widest, rows > 0 ? rows - 1 : 0,
            truth != NULL ? "off by" : "relative to the value", rows > 5 ? 8 : 10);
    if (rows == 0) {
        fprintf(g, "plot NaN notitle\n");
        return;
    }
    fprintf(g,
            "plot $card using 7:2:3:4:ytic(1) with xerrorbars pt 7 ps 0.8 lw 1.5 lc rgb '" BLUE
            "' title 'total', "
            "'' using 7:2:5:6 with xerrorbars pt 7 ps 0.8 lw 4 lc rgb '" ORANGE
            "' title 'statistical'%s\n",
            truth != NULL ? ", '' using 8:2 with points pt 2 ps 1.5 lw 2 lc rgb 'black' title "
                            "\"rig's truth\""
                          : "");
}

typedef void (*panel)(FILE *g, const cvk_estimate *e);

/* The panels with something in them, in the order of their worth. */
static int choose_panels(const cvk_estimate *e, panel chosen[])
{
    const cvk_card_entry *entry = e->card.entry;
    const gboolean levels = e->curves->line.points > 0 && entry[CVK_CARD_RESISTANCE].known &&
                            entry[CVK_CARD_DEAD_TIME_VOLTAGE].known;
    const gboolean circle = e->curves->circle.points > 0 && entry[CVK_CARD_FLUX_LINKAGE].known;
    const struct {
        gboolean filled;
        panel draw;
    } all[] = {
        {e->curves->step.points > 0, step_panel},       {levels, line_panel},
        {e->curves->turning.points > 0, turning_panel}, {circle, circle_panel},
        {e->curves->balance.points > 0, balance_panel}, {e->curves->speed.points > 0, speed_panel}};
    int count = 0;
    for (size_t n = 0; n < G_N_ELEMENTS(all) && count < MOST_PANELS; n++) {
        if (all[n].filled) {
            chosen[count++] = all[n].draw;
        }
    }
    return count;
}

bool cvk_draw_estimate(const cvk_estimate *estimate, const cvk_rig_config *truth, const char *path,
                       cvk_complaint *complaint)
{
    panel chosen[MOST_PANELS];
    const int count = choose_panels(estimate, chosen);
    char *title = g_strconcat("Motor card: ", estimate->card.name, NULL);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    for (int n = 0; n < count; n++) {
        place_panel(g, n, count + 1, 0.0);
        chosen[n](g, estimate);
    }
    place_panel(g, count, count + 1, 0.055);
    card_panel(g, estimate, truth);
    return close_figure(g, path, complaint);
}
