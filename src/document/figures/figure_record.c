/* SPDX-License-Identifier: Apache-2.0
 *
 * The figure of a recording: its columns against time, one panel for each unit.
 */
#include "corvak/document/figures.h"

#include "gnuplot.h"

#include <math.h>
#include <string.h>

#define BINS 1600
#define MOST_PANELS 5
#define GAP 8.0           /* bins without rows: the line is broken */
#define REACH 40          /* bins to either side, looked at for */
#define MOST_CROSSINGS 12 /* of the middle: more are no line any more */

typedef struct bin {
    float low[CVK_LOG_WRITER_MOST], high[CVK_LOG_WRITER_MOST];
    gboolean filled[CVK_LOG_WRITER_MOST]; /* drawn as a range */
    double t;
} bin;

struct cvk_record_figure {
    cvk_log_writer_column column[CVK_LOG_WRITER_MOST];
    size_t columns, bins;
    unsigned rows_per_bin, rows_in_last;
    bin bin[BINS];
};

cvk_record_figure *cvk_record_figure_new(const cvk_log_writer_column *columns, size_t count)
{
    cvk_record_figure *f = g_new0(cvk_record_figure, 1);
    memcpy(f->column, columns, count * sizeof *columns);
    f->columns = count;
    f->rows_per_bin = 1;
    return f;
}

void cvk_record_figure_free(cvk_record_figure *f)
{
    g_free(f);
}

static void widen(bin *b, size_t column, float low, float high)
{
    b->low[column] = isnan(b->low[column]) ? low : fminf(b->low[column], low);
    b->high[column] = isnan(b->high[column]) ? high : fmaxf(b->high[column], high);
}

/* All bins are full: each two become one. */
static void halve(cvk_record_figure *f)
{
    for (size_t n = 0; n < BINS / 2; n++) {
        bin merged = f->bin[2 * n];
        for (size_t c = 0; c < f->columns; c++) {
            widen(&merged, c, f->bin[2 * n + 1].low[c], f->bin[2 * n + 1].high[c]);
        }
        f->bin[n] = merged;
    }
    f->bins = BINS / 2;
    f->rows_per_bin *= 2;
    f->rows_in_last = f->rows_per_bin;
}

void cvk_record_figure_row(cvk_record_figure *f, const double *cells)
{
    if (f->bins == 0 || f->rows_in_last == f->rows_per_bin) {
        if (f->bins == BINS) {
            halve(f);
        }
        f->rows_in_last = 0;
        bin *fresh = &f->bin[f->bins++];
        fresh->t = cells[0];
        for (size_t c = 0; c < f->columns; c++) {
            fresh->low[c] = fresh->high[c] = NAN;
        }
    }
    f->rows_in_last++;
    for (size_t c = 0; c < f->columns; c++) {
        if (!isnan(cells[c])) {
            widen(&f->bin[f->bins - 1], c, (float)cells[c], (float)cells[c]);
        }
    }
}

/* Columns of one panel: same unit; columns without one go by the start of their names, and voltages
 * of the power stage apart from those of sensors. */
static gboolean same_panel(const cvk_log_writer_column *a, const cvk_log_writer_column *b)
{
    return strcmp(a->unit, b->unit) == 0 &&
           (a->unit[0] != '\0' ? (a->name[0] == 'v') == (b->name[0] == 'v')
                               : strncmp(a->name, b->name, 3) == 0);
}

static const char *quantity_of(const cvk_log_writer_column *column)
{
    static const char *const known[][2] = {{"A", "current / A"},   {"V", "voltage / V"},
                                           {"rad", "angle / rad"}, {"rad/s", "speed / (rad/s)"},
                                           {"s", "time / s"},      {"degC", "temperature / °C"}};
    for (size_t n = 0; n < G_N_ELEMENTS(known); n++) {
        if (strcmp(column->unit, known[n][0]) == 0) {
            return known[n][1];
        }
    }
    return strncmp(column->name, "duty", 4) == 0 ? "duty" : column->name;
}

/* Alternating faster than an eye can follow: many crossings of the middle near this bin. */
static gboolean is_dense(const cvk_record_figure *f, size_t column, float middle, size_t at)
{
    const size_t from = at > REACH ? at - REACH : 0, to = MIN(at + REACH, f->bins - 1);
    int crossings = 0;
    for (size_t n = from; n < to; n++) {
        const float now = f->bin[n].low[column] + f->bin[n].high[column] - 2.0f * middle;
        const float next = f->bin[n + 1].low[column] + f->bin[n + 1].high[column] - 2.0f * middle;
        crossings += now * next < 0.0f;
    }
    return crossings > MOST_CROSSINGS;
}

static float middle_of(const cvk_record_figure *f, size_t column)
{
    float low = NAN, high = NAN;
    for (size_t n = 0; n < f->bins; n++) {
        low = isnan(low) ? f->bin[n].low[column] : fminf(low, f->bin[n].low[column]);
        high = isnan(high) ? f->bin[n].high[column] : fmaxf(high, f->bin[n].high[column]);
    }
    return 0.5f * (low + high);
}

/* Where three or more columns of a panel are drawn as a range: by the first of them, for all. */
static void mark_filled(cvk_record_figure *f)
{
    for (size_t column = 1; column < f->columns; column++) {
        size_t first = column, alike = 0;
        for (size_t c = f->columns; c-- > 1;) {
            if (same_panel(&f->column[column], &f->column[c])) {
                first = c;
                alike++;
            }
        }
        const float middle = middle_of(f, first);
        for (size_t n = 0; n < f->bins; n++) {
            f->bin[n].filled[column] = alike >= 3 && is_dense(f, first, middle, n);
        }
    }
}

static void put_data(FILE *g, const cvk_record_figure *f, double time_factor)
{
    double step_s = (f->bin[f->bins - 1].t - f->bin[0].t) / (double)(f->bins - 1);
    fprintf(g, "$log << EOD\n");
    for (size_t n = 0; n < f->bins; n++) {
        if (n > 0 && f->bin[n].t - f->bin[n - 1].t > GAP * step_s) {
            fputc('\n', g);
        }
        for (int high = 0; high < (f->rows_per_bin > 1 ? 2 : 1); high++) {
            fprintf(g, "%.9g", time_factor * f->bin[n].t);
            for (size_t c = 1; c < f->columns; c++) {
                const float cell = high ? f->bin[n].high[c] : f->bin[n].low[c];
                fprintf(g, " %g", f->bin[n].filled[c] ? (double)NAN : (double)cell);
            }
            fputc('\n', g);
        }
    }
    fprintf(g, "EOD\n");
}

/* Where a panel's columns alternate too fast to be seen one by one: the range that they fill.
 * Returns whether there is such a place. */
static gboolean put_envelope(FILE *g, const cvk_record_figure *f, size_t first, double time_factor)
{
    gboolean any = FALSE;
    fprintf(g, "$fill%zu << EOD\n", first);
    for (size_t n = 0; n < f->bins; n++) {
        float low = NAN, high = NAN;
        if (!f->bin[n].filled[first]) {
            fputc('\n', g);
            continue;
        }
        const size_t from = n > 1 ? n - 1 : 0, to = MIN(n + 1, f->bins - 1);
        for (size_t c = first; c < f->columns; c++) {
            for (size_t k = from; k <= to && same_panel(&f->column[first], &f->column[c]); k++) {
                low = isnan(low) ? f->bin[k].low[c] : fminf(low, f->bin[k].low[c]);
                high = isnan(high) ? f->bin[k].high[c] : fmaxf(high, f->bin[k].high[c]);
            }
        }
        fprintf(g, "%.9g %g %g\n", time_factor * f->bin[n].t, (double)low, (double)high);
        any = TRUE;
    }
    fprintf(g, "EOD\n");
    return any;
}

static void put_panel(FILE *g, const cvk_record_figure *f, size_t first, int panel, int panels,
                      double time_factor, const char *time_label)
{
    static const char *const colours[] = {BLUE, ORANGE, GREEN, GREY, "black"};
    double height = 0.86 / panels, bottom = 0.07 + height * (panels - 1 - panel);
    int drawn = 0;
    const gboolean filled = put_envelope(g, f, first, time_factor);
    fprintf(g,
            "set lmargin at screen 0.075\nset rmargin at screen 0.9\nset bmargin at screen %g\n"
            "set tmargin at screen %g\nset key outside right center\nset ylabel '%s'\n"
            "set xlabel '%s'\nset format x '%s'\nplot ",
            bottom + 0.02, bottom + height - 0.015, quantity_of(&f->column[first]),
            panel == panels - 1 ? time_label : "", panel == panels - 1 ? "%g" : "");
    if (filled) {
        fprintf(g,
                "$fill%zu using 1:2:3 with filledcurves fs solid 0.35 noborder lc rgb '" GREY
                "' title 'range', ",
                first);
    }
    for (size_t c = first; c < f->columns; c++) {
        if (same_panel(&f->column[first], &f->column[c])) {
            fprintf(g, "%s$log using 1:%zu with lines lw %g lc rgb '%s' title '%s'",
                    drawn > 0 ? ", " : "", c + 1, filled ? 1.0 : 1.3, colours[drawn % 5],
                    f->column[c].name);
            drawn++;
        }
    }
    fputc('\n', g);
}

bool cvk_record_figure_draw(cvk_record_figure *f, const char *title, const char *path,
                            cvk_complaint *complaint)
{
    size_t first[MOST_PANELS];
    int panels = 0;
    if (f->bins < 2 || strcmp(f->column[0].name, "t") != 0) {
        cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                     "a figure needs t as first channel and two rows at least");
        return FALSE;
    }
    for (size_t c = 1; c < f->columns && panels < MOST_PANELS; c++) {
        gboolean known = FALSE;
        for (int k = 0; k < panels; k++) {
            known = known || same_panel(&f->column[first[k]], &f->column[c]);
        }
        if (!known) {
            first[panels++] = c;
        }
    }
    FILE *g = open_figure(path, title, complaint);
    if (g == NULL) {
        return FALSE;
    }
    double length_s = f->bin[f->bins - 1].t - f->bin[0].t;
    gboolean brief = length_s < 0.5;
    mark_filled(f);
    put_data(g, f, brief ? 1e3 : 1.0);
    fprintf(g, "set ytics font ',%d'\n", panels > 3 ? 7 : 10);
    fprintf(g, "set xrange [%.9g:%.9g]\n", (brief ? 1e3 : 1.0) * f->bin[0].t,
            (brief ? 1e3 : 1.0) * f->bin[f->bins - 1].t);
    for (int k = 0; k < panels; k++) {
        put_panel(g, f, first[k], k, panels, brief ? 1e3 : 1.0, brief ? "time / ms" : "time / s");
    }
    return close_figure(g, path, complaint);
}
