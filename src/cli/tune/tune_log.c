/* SPDX-License-Identifier: Apache-2.0
 *
 * A log of what runs while one tunes: the stream goes on beneath the other commands.
 */
#include "tune.h"

#include "base/record.h"

#include "corvak/link/messages.h"

#include <string.h>

/* What an estimate, a look at a start and the steps of this session want. */
static const char usual[] =
    "t,ia,ib,ic,vdc,duty_a,duty_b,duty_c,mode,start_phase,angle_source,theta_e,speed_e,"
    "speed_request,speed_set,id,iq,id_set,iq_set,quality,headroom,fault,trial,settings";

struct tune_log {
    char *path;
    cvk_log_writer *writer;
    record_channel channel[CVK_LOG_WRITER_MOST];
    size_t channels;
    unsigned signal[CVK_LINK_SIGNALS_MOST], signals;
    double period_s;
    unsigned decimation;
    uint32_t tick; /* of the row before */
    guint64 ticks, rows, missing;
};

static void free_log(tune_log *l)
{
    g_free(l->path);
    g_free(l);
}

static void write_row(tune_log *l, uint32_t tick, const float *value)
{
    double cells[CVK_LOG_WRITER_MOST];
    if (l->rows > 0) {
        const uint32_t on = tick - l->tick; /* the count wraps around */
        l->missing += on / l->decimation - (on >= l->decimation);
        l->ticks += on;
    }
    l->tick = tick;
    l->rows++;
    for (size_t c = 0; c < l->channels; c++) {
        cells[c] = record_cell(&l->channel[c], l->period_s * (double)l->ticks, value, NULL);
    }
    cvk_log_writer_row(l->writer, cells);
}

static void on_samples(void *context, const cvk_session_samples *s)
{
    tuner *t = context;
    if (s->columns != t->log->signals) {
        return;
    }
    for (unsigned r = 0; r < s->rows; r++) {
        write_row(t->log, s->tick + r * s->decimation, s->value + (size_t)r * s->columns);
    }
}

/* Where each channel is in a row of the stream. */
static int choose_signals(const tuner *t, tune_log *l)
{
    for (size_t c = 0; c < l->channels; c++) {
        record_channel *channel = &l->channel[c];
        if (channel->of_bench) {
            return tune_complain("%s: only a simulated bench knows it", channel->column.name);
        }
        if (channel->signal == NULL) { /* the time */
            continue;
        }
        const int row = cvk_session_signal_named(&t->session, channel->column.name);
        if (row < 0) {
            return tune_complain("%s has no signal %s", t->session.name, channel->column.name);
        }
        if (l->signals == CVK_LINK_SIGNALS_MOST) {
            return tune_complain("a log has at most %d signals", CVK_LINK_SIGNALS_MOST);
        }
        channel->place = (int)l->signals;
        l->signal[l->signals++] = (unsigned)row;
    }
    return l->signals > 0 ? EXIT_DONE : tune_complain("a log wants a signal beside the time");
}

static int open_writer(const tuner *t, tune_log *l)
{
    cvk_log_writer_column columns[CVK_LOG_WRITER_MOST];
    cvk_log_writer_note notes[SESSION_NOTES];
    cvk_complaint complaint;
    const size_t note_count = notes_of_session(&t->session, notes);
    for (size_t c = 0; c < l->channels; c++) {
        columns[c] = l->channel[c].column;
    }
    l->writer = cvk_log_writer_open(l->path, columns, l->channels, notes, note_count, &complaint);
    return l->writer != NULL ? EXIT_DONE : complain_file(TUNE_VERB, &complaint);
}

static int begin_log(tuner *t, const char *path, const char *list)
{
    tune_log *l = g_new0(tune_log, 1);
    l->path = g_strdup(path);
    int status = check_output(TUNE_VERB, path, FALSE, NULL, 0);
    if (status == EXIT_DONE && !choose_channels(TUNE_VERB, list, l->channel, &l->channels)) {
        status = EXIT_BAD_USAGE;
    }
    status = status == EXIT_DONE ? choose_signals(t, l) : status;
    status = status == EXIT_DONE ? open_writer(t, l) : status;
    if (status != EXIT_DONE) {
        free_log(l);
        return status;
    }
    l->period_s = (double)t->session.period_s;
    l->decimation = cvk_session_decimation(&t->session, l->signals, 0.0);
    t->log = l;
    t->session.calls.samples = on_samples;
    status = tune_check(t, cvk_session_stream(&t->session, l->signal, l->signals, l->decimation));
    if (status == EXIT_DONE) {
        g_print("%s: a row every %s ms; `log end` ends it\n", path,
                digits(1e3 * l->period_s * l->decimation, 3));
    } else {
        (void)tune_end_log(t);
    }
    return status;
}

int tune_end_log(tuner *t)
{
    tune_log *l = t->log;
    cvk_complaint complaint;
    if (l == NULL) {
        return EXIT_DONE;
    }
    int status = EXIT_DONE;
    if (t->connected) {
        status = tune_check(t, cvk_session_stream(&t->session, NULL, 0, 1));
    }
    if (t->log == NULL) { /* the device was lost, and the log ended with it */
        return status;
    }
    t->session.calls.samples = NULL;
    t->log = NULL;
    tune_give_way(t);
    if (cvk_log_writer_close(l->writer, l->rows > 0, &complaint) != CVK_OK) {
        status = complain_file(TUNE_VERB, &complaint);
    } else if (l->rows == 0) {
        g_print("%s: no row came, so there is no log\n", l->path);
    } else {
        g_print("%s: %" G_GUINT64_FORMAT " rows, %s s", l->path, l->rows,
                digits(l->period_s * (double)l->ticks, 4));
        if (l->missing > 0) {
            g_print("; %" G_GUINT64_FORMAT " more are missing: gaps", l->missing);
        }
        g_print("\n");
    }
    free_log(l);
    return status;
}

int tune_write_log(tuner *t, int argc, char **argv)
{
    const gboolean end = argc == 2 && strcmp(argv[1], "end") == 0;
    if (argc < 2 || argc > 3) {
        return tune_complain("log FILE [A,B,...] begins a log, `log end` ends it");
    }
    if (end) {
        return t->log != NULL ? tune_end_log(t) : tune_complain("no log runs");
    }
    return t->log == NULL ? begin_log(t, argv[1], argc > 2 ? argv[2] : usual)
                          : tune_complain("%s is being written: `log end` first", t->log->path);
}
