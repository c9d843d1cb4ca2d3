/* SPDX-License-Identifier: Apache-2.0
 *
 * Figures: a script for gnuplot with inline data.
 */
#ifndef CORVAK_DOCUMENT_FIGURES_GNUPLOT_H
#define CORVAK_DOCUMENT_FIGURES_GNUPLOT_H

#include "corvak/files/complaint.h"

#include <glib.h>
#include <stdio.h>

#define BLUE "#0072b2"
#define ORANGE "#d55e00"
#define GREEN "#009e73"
#define GREY "#808080"

/* A pipe to gnuplot, set up for one page into FILE.png or FILE.svg. Null, with the complaint, when
 * the name is another or gnuplot is missing. */
FILE *open_figure(const char *path, const char *title, cvk_complaint *complaint);

/* Panel 0 .. panels - 1 of a page with two rows, with room above it for a title and one line of
 * legend, and on its left for `labels` more (a share of the page's width). The last one takes the
 * rest of its row. */
void place_panel(FILE *gnuplot, int panel, int panels, double labels);
/* One of two rows of three. */
void place_panel_of_six(FILE *gnuplot, int column, int row);

/* A panel without data, with the reason in its middle. */
void empty_panel(FILE *gnuplot, const char *title, const char *why);

/* False, with the complaint, when gnuplot failed. */
gboolean close_figure(FILE *gnuplot, const char *path, cvk_complaint *complaint);

/* Text as gnuplot's single-quoted string, in which nothing has a meaning but the quote itself. */
void put_quoted(FILE *gnuplot, const char *text);

#endif
