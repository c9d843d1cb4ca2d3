/* SPDX-License-Identifier: Apache-2.0
 *
 * Gathering a stream.
 */
#include "collect.h"

#include "session_parts.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define ROWS_MOST 4000000u
#define PUMP_S 0.005
#define IDLE_MOST 1000 /* looks at the wire without a new row */
#define DRAIN_S 0.02   /* rows wait for others to go with: the last ones come a little later */

static bool make_room(cvk_collection *c, size_t rows)
{
    if (rows <= c->room) {
        return true;
    }
    const size_t room = 2 * rows;
    double *value = realloc(c->value, room * c->columns * sizeof *value);
    if (value == NULL) {
        return false;
    }
    c->value = value;
    c->room = room;
    return true;
}

/* Where a row's columns are. */
static unsigned column_of(const cvk_collection *c, unsigned k)
{
    return c->shared ? c->place[k] : k;
}

static void take(void *context, const cvk_session_samples *s)
{
    cvk_collection *c = context;
    const unsigned columns = c->shared ? c->others : c->columns;
    if (c->shared) {
        c->before.samples(c->before.context, s);
        c->lost = c->seen == 0 ? s->lost : c->lost; /* those before are not missed here */
    }
    if (s->lost > c->lost || s->columns != columns || c->rows + s->rows > ROWS_MOST ||
        !make_room(c, c->rows + s->rows)) {
        c->full = true;
        return;
    }
    for (unsigned r = 0; r < s->rows; r++) {
        if (c->seen++ % (c->decimation / s->decimation) != 0) {
            continue;
        }
        for (unsigned k = 0; k < c->columns; k++) {
            c->value[c->rows * c->columns + k] = (double)s->value[r * columns + column_of(c, k)];
        }
        c->rows++;
    }
}

/* Whether the stream that runs has these signals, and rows as often; `c->place` tells where. */
static bool can_share(cvk_collection *c, const unsigned *signal)
{
    if (c->others == 0 || c->decimation % c->other_decimation != 0) {
        return false;
    }
    for (unsigned n = 0; n < c->columns; n++) {
        for (c->place[n] = 0; c->other[c->place[n]] != signal[n];) {
            if (++c->place[n] == c->others) {
                return false;
            }
        }
    }
    return true;
}

static void keep_stream(cvk_collection *c, const cvk_session *session)
{
    const struct cvk_session_inside *in = session->inside;
    if (session->calls.samples != NULL) {
        c->others = in->columns;
        c->other_decimation = in->decimation;
        memcpy(c->other, in->column, in->columns * sizeof in->column[0]);
    }
}

cvk_status cvk_collect_begin(cvk_collection *c, cvk_session *session, const char *const *signal,
                             unsigned count, unsigned decimation)
{
    unsigned wanted[CVK_COLLECT_MOST] = {0};
    *c = (cvk_collection){.columns = count, .decimation = decimation, .before = session->calls};
    for (unsigned n = 0; n < count && n < CVK_COLLECT_MOST; n++) {
        const int row = cvk_session_signal_named(session, signal[n]);
        if (row < 0) {
            snprintf(session->text, sizeof session->text, "%s has no signal %s", session->name,
                     signal[n]);
            return CVK_UNKNOWN_NAME;
        }
        wanted[n] = (unsigned)row;
    }
    keep_stream(c, session);
    c->shared = can_share(c, wanted);
    const cvk_status status =
        c->shared ? CVK_OK : cvk_session_stream(session, wanted, count, decimation);
    if (status == CVK_OK) {
        session->calls.context = c;
        session->calls.samples = take;
        session->calls.state = NULL;
    }
    return status;
}

static cvk_status complain(cvk_session *session)
{
    snprintf(session->text, sizeof session->text,
             "rows of the stream were lost: the link or this machine is too slow for it");
    return CVK_STOPPED;
}

cvk_status cvk_collect_for(cvk_collection *c, cvk_session *session, double length_s)
{
    const double row_s = (double)session->period_s * c->decimation;
    const size_t wanted = c->rows + (size_t)(length_s / row_s + 0.5);
    cvk_status status = CVK_OK;
    size_t before = c->rows;
    for (int idle = 0; status == CVK_OK && c->rows < wanted && !c->full && idle < IDLE_MOST;) {
        status = cvk_session_pump(session, PUMP_S);
        idle = c->rows > before ? 0 : idle + 1;
        before = c->rows;
    }
    return status == CVK_OK && c->rows < wanted ? complain(session) : status;
}

static cvk_status end_stream(cvk_collection *c, cvk_session *session)
{
    cvk_status status = cvk_session_wait(session, DRAIN_S);
    if (status == CVK_OK && !c->shared) {
        session->calls.samples = NULL; /* of the stream before from here on, not of this one */
        status = cvk_session_stream(session, c->other, c->others,
                                    c->others > 0 ? c->other_decimation : 1);
    }
    return status == CVK_OK && c->full ? complain(session) : status;
}

cvk_status cvk_collect_end(cvk_collection *c, cvk_session *session, cvk_status status)
{
    const cvk_status ended = status == CVK_NO_ANSWER ? status : end_stream(c, session);
    session->calls = c->before;
    return status == CVK_OK ? ended : status;
}

void cvk_collect_free(cvk_collection *c)
{
    free(c->value);
    *c = (cvk_collection){.value = NULL};
}
