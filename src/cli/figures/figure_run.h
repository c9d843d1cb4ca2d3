/* SPDX-License-Identifier: Apache-2.0
 *
 * The figure of a closed-loop run.
 */
#ifndef CORVAK_CLI_FIGURES_FIGURE_RUN_H
#define CORVAK_CLI_FIGURES_FIGURE_RUN_H

#include "corvak/files/complaint.h"
#include "corvak/host/run.h"

#include <glib.h>

/* Collects a run of this length in bounded memory. */
typedef struct run_figure run_figure;
run_figure *run_figure_new(double length_s);
void run_figure_row(run_figure *figure, const cvk_device_row *row, const cvk_bench_truth *truth,
                    double pole_pairs);
gboolean run_figure_draw(const run_figure *figure, const char *path, const char *rig,
                         const char *scenario, cvk_complaint *complaint);
void run_figure_free(run_figure *figure);

#endif
