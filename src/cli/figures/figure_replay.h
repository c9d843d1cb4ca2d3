/* SPDX-License-Identifier: Apache-2.0
 *
 * The figure of a replay: observers side by side.
 */
#ifndef CORVAK_CLI_FIGURES_FIGURE_REPLAY_H
#define CORVAK_CLI_FIGURES_FIGURE_REPLAY_H

#include "base/cli.h"

#include "corvak/host/replay.h"

/* `search` may be null. */
gboolean draw_replay(const cvk_replay *replay, const cvk_replay_trace *trace,
                     const cvk_search *search, double pole_pairs, const char *log, const char *path,
                     cvk_complaint *complaint);

/* "flux", "emf", "kalman". */
const char *observer_name(int kind);

#endif
