/* SPDX-License-Identifier: Apache-2.0
 *
 * Starting and ending gnuplot.
 */
#include "gnuplot.h"

void put_quoted(FILE *g, const char *text)
{
    fputc('\'', g);
    for (; *text != '\0'; text++) {
        if (*text == '\'') {
            fputs("''", g);
        } else {
            fputc((unsigned char)*text < ' ' ? ' ' : *text, g);
        }
    }
    fputc('\'', g);
}

static void place(FILE *g, double left, double width, int row, double sample)
{
    const double bottom = row == 0 ? 0.565 : 0.08;
    fprintf(g,
            "set lmargin at screen %g\nset rmargin at screen %g\nset bmargin at screen %g\n"
            "set tmargin at screen %g\nset autoscale\nset title offset 0,1.3\n"
            "set key at graph 0.5,1.015 center bottom horizontal maxrows 1 samplen %g\n",
            left, left + width, bottom, bottom + 0.325, sample);
}

void place_panel_of_six(FILE *g, int column, int row)
{
    place(g, 0.055 + 0.325 * column, 0.265, row, 1.5);
}

void place_panel(FILE *g, int panel, int panels, double labels)
{
    const int columns = (panels + 1) / 2, row = panel / columns, column = panel % columns;
    const int reach = panel == panels - 1 ? 2 * columns - column - columns * row : 1;
    const double pitch = 0.985 / columns, left = 0.065 + labels;
    place(g, left + pitch * column, pitch * (reach - 1) + pitch - left - 0.01, row, 1.5);
}

FILE *open_figure(const char *path, const char *title, cvk_complaint *complaint)
{
    const char *terminal;
    if (g_str_has_suffix(path, ".png")) {
        terminal = "pngcairo size 1280,800 font 'DejaVu Sans,10'";
    } else if (g_str_has_suffix(path, ".svg")) {
        terminal = "svg size 1280,800 font 'DejaVu Sans,12' background rgb 'white'";
    } else {
        cvk_complain(complaint, CVK_BAD_FORMAT, path, 0, "name the figure FILE.png or FILE.svg");
        return NULL;
    }
    FILE *g = popen("LC_ALL=C.UTF-8 gnuplot", "w");
    if (g == NULL) {
        cvk_complain(complaint, CVK_FILE_ERROR, path, 0, "gnuplot cannot be started: install it");
        return NULL;
    }
    fprintf(g,
            "set terminal %s noenhanced\nset encoding utf8\nset border 3\nset title font ',12'\n"
            "set tics nomirror\nset grid back lt 1 lw 0.7 lc rgb '#dddddd'\nset output ",
            terminal);
    put_quoted(g, path);
    fputs("\nset multiplot title ", g);
    put_quoted(g, title);
    fputs(" font ',14'\n", g);
    return g;
}

void empty_panel(FILE *g, const char *title, const char *why)
{
    fprintf(g,
            "set title '%s'\nunset key\nset label 1 '%s' at graph 0.5,0.5 center\n"
            "set xrange [0:1]\nset yrange [0:1]\nunset xtics\nunset ytics\nunset xlabel\n"
            "unset ylabel\nplot NaN\nunset label 1\nset xtics nomirror\nset ytics nomirror\n",
            title, why);
}

gboolean close_figure(FILE *g, const char *path, cvk_complaint *complaint)
{
    fprintf(g, "unset multiplot\n");
    if (pclose(g) != 0) {
        cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                     "gnuplot failed: check that it is installed and the folder may be written");
        return FALSE;
    }
    return TRUE;
}
