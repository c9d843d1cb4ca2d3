/* SPDX-License-Identifier: Apache-2.0
 *
 * The examination of a log as one page: currents, their sum, the time base, and what can be hoped
 * for.
 */
#include "corvak/document/figures.h"
#include "corvak/document/number.h"

#include "gnuplot.h"

#include <math.h>
#include <stdio.h>

#define SHOWN 1200 /* points of a curve: the lowest and highest of every stretch */
#define GAP 4.0    /* points left out: the line is broken */

/* Lowest and highest value of each of SHOWN stretches, so that no spike is lost. */
static void put_envelope(FILE *g, const char *name, const cvk_log *log,
                         double (*value)(const cvk_log *, size_t))
{
    const double *t = log->column[CVK_COLUMN_T];
    fprintf(g, "$%s << EOD\n", name);
    const double gap_s = GAP * (t[log->rows - 1] - t[0]) / SHOWN;
    double before = t[0];
    for (size_t n = 0; n < SHOWN; n++) {
        size_t from = log->rows * n / SHOWN, to = log->rows * (n + 1) / SHOWN;
        double low = INFINITY, high = -INFINITY;
        for (size_t k = from; k < to; k++) {
            double now = value(log, k);
            low = now < low ? now : low;
            high = now > high ? now : high;
        }
        if (low <= high && isfinite(t[from])) {
            fputs(t[from] - before > gap_s ? "\n" : "", g); /* a gap is drawn as a gap */
            before = t[from];
            fprintf(g, "%.9g %g %g\n", t[from], low, high);
        }
    }
    fprintf(g, "EOD\n");
}

static double current_a(const cvk_log *log, size_t k)
{
    return log->column[CVK_COLUMN_IA][k];
}

static double current_b(const cvk_log *log, size_t k)
{
    return log->column[CVK_COLUMN_IB][k];
}

static double current_c(const cvk_log *log, size_t k)
{
    return log->column[CVK_COLUMN_IC][k];
}

static double current_sum(const cvk_log *log, size_t k)
{
    return current_a(log, k) + current_b(log, k) + current_c(log, k);
}

static double time_step_us(const cvk_log *log, size_t k)
{
    return k > 0 ? 1e6 * (log->column[CVK_COLUMN_T][k] - log->column[CVK_COLUMN_T][k - 1]) : NAN;
}

static void currents_panel(FILE *g, const cvk_log *log)
{
    static double (*const value[3])(const cvk_log *, size_t) = {current_a, current_b, current_c};
    static const char *const colours[] = {BLUE, ORANGE, GREEN};
    char names[3][4] = {"ia", "ib", "ic"};
    place_panel(g, 0, 4, 0.0);
    for (int c = 0; c < 3; c++) {
        if (cvk_log_has(log, (cvk_column)(CVK_COLUMN_IA + c))) {
            put_envelope(g, names[c], log, value[c]);
        }
    }
    fprintf(g, "set title 'Phase currents (lowest to highest)'\nset xlabel 'time / s'\n"
               "set ylabel 'current / A'\nplot ");
    for (int c = 0; c < 3; c++) {
        if (cvk_log_has(log, (cvk_column)(CVK_COLUMN_IA + c))) {
            fprintf(g,
                    "$%s using 1:2:3 with filledcurves fs transparent solid 0.4 lc rgb '%s' "
                    "notitle, '' using 1:2 with lines lw 1.2 lc rgb '%s' title '%s', ",
                    names[c], colours[c], colours[c], names[c]);
        }
    }
    fprintf(g, "NaN notitle\n");
}

static void sum_panel(FILE *g, const cvk_log *log, const cvk_examination *e)
{
    place_panel(g, 1, 4, 0.0);
    if (!isfinite(e->current_sum_mean_a)) {
        empty_panel(g, "Sum of the currents", "not all three currents are logged");
        return;
    }
    put_envelope(g, "sum", log, current_sum);
    fprintf(g,
            "set title 'Sum of the currents: offsets and gain mismatch'\nset xlabel 'time / s'\n"
            "set ylabel 'ia + ib + ic / A'\n"
            "plot $sum using 1:2:3 with filledcurves lc rgb '" BLUE "' title 'lowest to highest', "
            "%g with lines lw 1.5 lc rgb '" ORANGE "' title 'mean %.3g A'\n",
            e->current_sum_mean_a, e->current_sum_mean_a);
}

static void time_panel(FILE *g, const cvk_log *log, const cvk_examination *e)
{
    place_panel(g, 2, 4, 0.0);
    put_envelope(g, "step", log, time_step_us);
    fprintf(g,
            "set title 'Time base: step from row to row'\nset xlabel 'time / s'\n"
            "set ylabel 'step / µs'\nset yrange [0:%g<*]\n"
            "plot $step using 1:2:3 with filledcurves lc rgb '" BLUE "' notitle, "
            "'' using 1:3 with lines lw 1.5 lc rgb '" BLUE "' title 'longest', "
            "'' using 1:2 with lines lw 1.5 lc rgb '" GREEN "' title 'shortest', "
            "%g with lines dt 2 lc rgb '" GREY "' title 'median %.4g µs'\n",
            1.4e6 * e->period_s, 1e6 * e->period_s, 1e6 * e->period_s);
}

static void hope_panel(FILE *g, const cvk_examination *e)
{
    int rows = 0;
    place_panel(g, 3, 4, 0.0);
    fprintf(g, "$hope << EOD\n");
    /* without what only follows from the resistance */
    for (int key = 0; key <= CVK_CARD_FRICTION_VISCOUS; key++) {
        double hope = cvk_examine_hope(e, (cvk_card_key)key);
        if (key == CVK_CARD_POLE_PAIRS) {
            continue;
        }
        fprintf(g, "%d %g \"%s%s\"\n", -rows, isfinite(hope) ? fmax(100.0 * hope, 0.01) : 0.01,
                cvk_card_label((cvk_card_key)key), isfinite(hope) ? "" : "\\n(nothing)");
        rows++;
    }
    fprintf(
        g,
        "EOD\nset title 'What this log can show: half width of the 95 %% interval'\n"
        "set logscale x\nset xrange [0.01:100]\nset yrange [-%d.6:0.6]\n"
        "set xlabel 'relative to the value / %%'\nunset ylabel\n"
        "plot $hope using (0.005*($2+0.02)):1:(0.01):2:($1-0.3):($1+0.3):ytic(3) with boxxyerror "
        "fs solid 0.8 lc rgb '" BLUE "' title 'statistical'\nunset logscale x\n",
        rows - 1);
}

bool cvk_draw_examination(const cvk_log *log, const cvk_examination *e, const char *path,
                          cvk_complaint *complaint)
{
    char *title = g_strconcat("Health of the log ", log->name, NULL);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    if (cvk_log_has(log, CVK_COLUMN_T)) {
        currents_panel(g, log);
        sum_panel(g, log, e);
        time_panel(g, log, e);
    }
    hope_panel(g, e);
    return close_figure(g, path, complaint);
}
