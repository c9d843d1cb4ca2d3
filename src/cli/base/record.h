/* SPDX-License-Identifier: Apache-2.0
 *
 * What the parts of `corvak record` share: the channels of a log and its figure.
 */
#ifndef CORVAK_CLI_BASE_RECORD_H
#define CORVAK_CLI_BASE_RECORD_H

#include "cli.h"

#include "corvak/core/signals.h"
#include "corvak/files/log_writer.h"
#include "corvak/host/device.h"
#include "corvak/rig/config.h"
#include "corvak/core/programs.h"

/* What a column of a log shows: a signal of the controller; or the time, or something that only the
 * rig knows. */
typedef struct record_channel {
    cvk_log_writer_column column;
    const char *help;
    double (*read)(double time_s, const cvk_bench_truth *truth); /* or null */
    bool of_bench;                                               /* it reads the truth */
    const cvk_signal *signal;
    int place; /* of the signal in the rows that come, for who asks for these */
} record_channel;

/* A cell of a log: of the signal, or of the time, or of the truth; NaN where there is none. */
double record_cell(const record_channel *channel, double time_s, const float *row,
                   const cvk_bench_truth *truth);

size_t record_channel_count(void);
record_channel record_channel_at(size_t index);

/* The channels of a comma-separated list. False, with the message printed, when there is no such
 * channel. */
gboolean choose_channels(const char *verb, const char *list,
                         record_channel chosen[CVK_LOG_WRITER_MOST], size_t *count);

/* What a controller knows of itself, for the head of a log: its rig, pwm_hz, and where they are
 * known current_delay_s and encoder_counts. Returns how many. */
#define SESSION_NOTES 4
size_t notes_of_session(const cvk_session *session, cvk_log_writer_note notes[SESSION_NOTES]);

/* The usual ones of a program; free the list. */
char *usual_channels(const cvk_program *program, const cvk_rig_config *rig);

#endif
