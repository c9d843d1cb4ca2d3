/* SPDX-License-Identifier: Apache-2.0
 *
 * What the parts of `corvak record` share: the channels of a log and its figure.
 */
#ifndef CORVAK_CLI_RECORD_H
#define CORVAK_CLI_RECORD_H

#include "cli.h"

#include "corvak/files/log_writer.h"
#include "corvak/sim/sim.h"

typedef struct record_channel {
    cvk_log_writer_column column;
    const char *meaning;
    double (*read)(const cvk_sim *sim, const cvk_sim_row *row);
} record_channel;

/* All channels; the count goes to `count`. */
const record_channel *record_channels(size_t *count);

/* The channels of a comma-separated list, or the usual ones of an excitation when `list` is null.
 * False, with the message printed, when there is no such channel. */
gboolean choose_channels(const char *list, const char *excitation, const cvk_rig_config *rig,
                         const record_channel *chosen[CVK_LOG_WRITER_MOST], size_t *count);

/* Collects what a figure of a log needs, in bounded memory: the least and the most of each column
 * in each of a number of time bins. */
typedef struct record_figure record_figure;
record_figure *record_figure_new(const cvk_log_writer_column *columns, size_t count);
void record_figure_row(record_figure *figure, const double *cells);
gboolean record_figure_draw(const record_figure *figure, const char *title, const char *path,
                            cvk_complaint *complaint);
void record_figure_free(record_figure *figure);

#endif
