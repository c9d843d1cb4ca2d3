/* SPDX-License-Identifier: Apache-2.0
 *
 * Rows of a stream, gathered while something happens.
 */
#ifndef CORVAK_HOST_COLLECT_H
#define CORVAK_HOST_COLLECT_H

#include "corvak/host/session.h"
#include "corvak/link/messages.h"

#define CVK_COLLECT_MOST 16u /* signals */

typedef struct cvk_collection {
    unsigned columns, decimation;
    size_t rows, room;
    double *value; /* rows times columns */
    bool full;     /* out of memory, or rows were lost */
    cvk_session_calls before;
    /* the stream that ran before */
    bool shared; /* it has all that is wanted: it goes on, and is listened to */
    unsigned place[CVK_COLLECT_MOST]; /* in its rows */
    unsigned others, other[CVK_LINK_SIGNALS_MOST], other_decimation;
    uint32_t lost, seen; /* rows of it */
} cvk_collection;

/* Begins a stream of these signals, by name, and gathers what comes; 16 signals at most. A stream
 * that somebody else listens to is shared when it has them all often enough; else it pauses.
 * CVK_UNKNOWN_NAME with the session's text when the controller has none of that name. */
cvk_status cvk_collect_begin(cvk_collection *c, cvk_session *session, const char *const *signal,
                             unsigned count, unsigned decimation) CVK_MUST_CHECK;

/* Gathers for so long, by the controller's own time. CVK_STOPPED, with the session's text, when
 * rows were lost or no more come. */
cvk_status cvk_collect_for(cvk_collection *c, cvk_session *session, double length_s) CVK_MUST_CHECK;

/* Ends the stream, or begins again the one before, unless `status` says that the controller is
 * gone; what was gathered stays. Returns `status`, or, when that is CVK_OK, what went wrong with
 * the stream. */
cvk_status cvk_collect_end(cvk_collection *c, cvk_session *session,
                           cvk_status status) CVK_MUST_CHECK;
void cvk_collect_free(cvk_collection *c);

static inline double cvk_collected(const cvk_collection *c, size_t row, unsigned column)
{
    return c->value[row * c->columns + column];
}

#endif
