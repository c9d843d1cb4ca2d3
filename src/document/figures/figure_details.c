/* SPDX-License-Identifier: Apache-2.0
 *
 * The second page of an estimate: how white the misfit is, how likely other values are, how the
 * inductances depend on angle and current, and how sure the pole pairs are.
 */

#include "corvak/document/figures.h"
#include "corvak/document/number.h"

#include "corvak/core/units.h"
#include "gnuplot.h"

#include <math.h>
#include <stdio.h>

static void correlation_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "Misfit of the standstill current: autocorrelation";
    const cvk_curve *c = &e->curves->correlation;
    place_panel_of_six(g, 0, 0);
    if (c->points == 0) {
        empty_panel(g, title, "no standstill run among the logs");
        return;
    }
    fprintf(g, "$correlation << EOD\n");
    for (size_t n = 1; n < c->points; n++) { /* at no lag it is one */
        fprintf(g, "%g %g %g\n", c->x[n], c->y[n], c->fit[n]);
    }
    fprintf(
        g,
        "EOD\nset title '%s'\nset xlabel 'lag / rows'\nset ylabel 'correlation'\n"
        "set yrange [-0.3:1]\n"
        "plot $correlation using 1:2 with impulses lw 3 lc rgb '" BLUE
        "' title 'misfit (rms %.0f mA)', '' using 1:3 with lines lw 1.5 dt 2 lc rgb '" ORANGE
        "' title '95 %% of white noise', '' using 1:(-$3) with lines lw 1.5 dt 2 lc rgb '" ORANGE
        "' notitle\n",
        title, 1e3 * e->residual_a);
}

/* How much less likely other resistances are. */
static void profile_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "Likelihood profile of the resistance";
    const cvk_curve *c = &e->curves->profile;
    place_panel_of_six(g, 1, 0);
    if (c->points == 0) {
        empty_panel(g, title, "no standstill run among the logs");
        return;
    }
    const double middle = c->x[c->points / 2];
    fprintf(g, "$profile << EOD\n");
    for (size_t n = 0; n < c->points; n++) {
        fprintf(g, "%g %g %g\n", 100.0 * (c->x[n] / middle - 1.0), c->y[n], c->fit[n]);
    }
    fprintf(g,
            "EOD\nset title '%s'\nset xlabel 'resistance, off the fitted one / %%'\n"
            "set ylabel '-2 ln (likelihood / largest)'\nset yrange [0:*]\n"
            "plot $profile using 1:2 with linespoints lw 2 pt 7 ps 0.6 lc rgb '" BLUE
            "' title 'profile', '' using 1:3 with lines lw 1.5 dt 2 lc rgb '" ORANGE
            "' title 'parabola', 3.84 with lines lw 1 dt 3 lc rgb '" GREY "' title '95 %%'\n",
            title);
}

/* The misfit itself at the end of the standstill run. */
static void misfit_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "Misfit of the standstill current";
    const cvk_curve *c = &e->curves->residual;
    place_panel_of_six(g, 2, 1);
    if (c->points == 0) {
        empty_panel(g, title, "no standstill run among the logs");
        return;
    }
    fprintf(g, "$misfit << EOD\n");
    for (size_t n = 0; n < c->points; n++) {
        fprintf(g, "%g %g %g\n", c->x[n], 1e3 * c->y[n], 1e3 * c->fit[n]);
    }
    fprintf(g,
            "EOD\nset title '%s'\nset xlabel 't / s'\nset ylabel 'misfit / mA'\n"
            "plot $misfit using 1:2 with lines lw 1 lc rgb '" BLUE
            "' title 'along alpha', '' using 1:3 with lines lw 1.5 dt 2 lc rgb '" ORANGE
            "' title '95 %% of the noise', '' using 1:(-$3) with lines lw 1.5 dt 2 lc rgb '" ORANGE
            "' notitle\n",
            title);
}

/* Phase inductance along an axis at an angle from the magnet: Ld cos^2 + Lq sin^2. */
static void angle_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "Inductance against angle from the magnet (polar)";
    const cvk_card_entry *d = &e->card.entry[CVK_CARD_INDUCTANCE_D];
    const cvk_card_entry *q = &e->card.entry[CVK_CARD_INDUCTANCE_Q];
    place_panel_of_six(g, 2, 0);
    if (!d->known || !q->known) {
        empty_panel(g, title, "the inductances are not known");
        return;
    }
    const cvk_display how = cvk_display_of("_h", q->value);
    fprintf(g, "$angle << EOD\n");
    for (int n = 0; n <= 360; n += 2) {
        double c = cos(n * CVK_PI_WIDE / 180.0), s = sin(n * CVK_PI_WIDE / 180.0);
        double l[3] = {d->low * c * c + q->low * s * s, d->value * c * c + q->value * s * s,
                       d->high * c * c + q->high * s * s};
        for (int k = 0; k < 3; k++) {
            fprintf(g, "%g %g ", how.factor * l[k] * c, how.factor * l[k] * s);
        }
        fprintf(g, "\n");
    }
    fprintf(g,
            "EOD\nset title '%s'\nset xlabel 'along d / %s'\nset ylabel 'along q / %s'\n"
            "set size ratio -1\nset xrange [-%g:%g]\nset yrange [-%g:%g]\n"
            "plot $angle using 1:2 with lines lw 1 dt 2 lc rgb '" GREY "' title '95 %%', "
            "'' using 5:6 with lines lw 1 dt 2 lc rgb '" GREY "' notitle, "
            "'' using 3:4 with lines lw 2 lc rgb '" BLUE "' title 'estimated'\nset size noratio\n",
            title, how.unit, how.unit, 1.2 * how.factor * q->high, 1.2 * how.factor * q->high,
            1.2 * how.factor * q->high, 1.2 * how.factor * q->high);
}

static void current_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "Incremental inductance against current";
    const cvk_saturation *s = &e->saturation;
    place_panel_of_six(g, 0, 1);
    if (!s->known) {
        empty_panel(g, title, "no standstill run among the logs");
        return;
    }
    const cvk_display how = cvk_display_of("_h", s->q_h[0]);
    fprintf(g, "$saturation << EOD\n");
    for (int n = 0; n < CVK_SATURATION_POINTS; n++) {
        double share = (double)n / (CVK_SATURATION_POINTS - 1.0);
        fprintf(g, "%g %g %g %g %g %g %g %g\n", (2.0 * share - 1.0) * s->reach_a,
                how.factor * s->d_h[n], how.factor * (s->d_h[n] - s->d_half_h[n]),
                how.factor * (s->d_h[n] + s->d_half_h[n]), share * s->reach_a,
                how.factor * s->q_h[n], how.factor * (s->q_h[n] - s->q_half_h[n]),
                how.factor * (s->q_h[n] + s->q_half_h[n]));
    }
    fprintf(g,
            "EOD\nset title '%s'\nset xlabel 'current along the axis / A'\nset ylabel 'L / %s'\n"
            "set yrange [0:*]\n"
            "plot $saturation using 1:3:4 with filledcurves fs transparent solid 0.3 lc rgb '" BLUE
            "' notitle, '' using 5:7:8 with filledcurves fs transparent solid 0.3 lc rgb '" ORANGE
            "' notitle, '' using 1:2 with lines lw 2 lc rgb '" BLUE
            "' title 'd, with 95 %% band', '' using 5:6 with lines lw 2 lc rgb '" ORANGE
            "' title 'q, with 95 %% band'\n",
            title, how.unit);
}

static void poles_panel(FILE *g, const cvk_estimate *e)
{
    const char *title = "Pole pairs: probability from all evidence";
    place_panel_of_six(g, 1, 1);
    if (e->pole_probability[0] != 0.0) {
        empty_panel(g, title, "no evidence: log a rotor angle, or a coast-down");
        return;
    }
    int last = 1;
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        last = e->pole_probability[p] > 1e-6 ? p : last;
    }
    fprintf(g, "$poles << EOD\n");
    for (int p = 1; p <= MIN(last + 4, CVK_MOST_POLE_PAIRS); p++) {
        fprintf(g, "%d %g\n", p, fmax(e->pole_probability[p], 1e-12));
    }
    fprintf(g,
            "EOD\nset title '%s'\nset xlabel 'pole pairs'\nset ylabel 'probability'\n"
            "set logscale y\nset yrange [1e-9:3]\nset format y '%%.0e'\n"
            "plot $poles using 1:2:(0.7) with boxes fs solid 0.8 lc rgb '" BLUE
            "' title 'posterior', 0.99 with lines dt 2 lc rgb '" GREY "' title '0.99'\n"
            "unset logscale y\nset format y\n",
            title);
}

bool cvk_draw_details(const cvk_estimate *estimate, const char *path, cvk_complaint *complaint)
{
    char *title = g_strconcat("Motor card: ", estimate->card.name, ", details", NULL);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    correlation_panel(g, estimate);
    profile_panel(g, estimate);
    angle_panel(g, estimate);
    current_panel(g, estimate);
    poles_panel(g, estimate);
    misfit_panel(g, estimate);
    return close_figure(g, path, complaint);
}
