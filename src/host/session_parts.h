/* SPDX-License-Identifier: Apache-2.0
 *
 * What the files of a session share: session.c talks, session_open.c reads who is there, and
 * session_commands.c asks for things.
 */
#ifndef CORVAK_HOST_SESSION_PARTS_H
#define CORVAK_HOST_SESSION_PARTS_H

#include "corvak/host/session.h"
#include "corvak/link/messages.h"

#define CVK_ANSWER_S 0.5 /* a question is asked again after that time, */
#define CVK_TRIES 6      /* so often */

struct cvk_session_inside {
    cvk_wire wire;
    cvk_frame_reader reader;
    corvak_FromController answer;
    uint32_t next_id, wanted_id; /* wanted: 0 when nothing is waited for */
    bool answered;
    uint32_t refresh_id;
    double said_s;      /* when something was sent last */
    char farewell[192]; /* why the controller sent this host away */
    double lease_s, refreshed_s;
    double looked_s; /* when the wire was looked at last */
    double waited_s; /* time spent on looking: what this host slept through does not count */
    double heard_s;  /* as waited_s, when the last message came */
    uint32_t decimation;
    unsigned columns, column[CVK_LINK_SIGNALS_MOST]; /* of the stream: places in the table */
    uint32_t messages;                               /* that were read as such */
    bool state_came;
};

/* Puts the sentence into the session's text, and returns `status`. */
#if defined(__GNUC__)
__attribute__((format(printf, 3, 4)))
#endif
cvk_status
cvk_session_complain(cvk_session *s, cvk_status status, const char *format, ...);

/* Text from the other end, fit for a terminal: what is no printing ASCII character becomes a
 * question mark. Two bytes of UTF-8 may be a control character as well. */
void cvk_copy_text(char *out, size_t size, const char *text);

/* Asks until there is an answer, which comes to `inside->answer`: of the kind `expected`, or
 * refused; then the status and the text say how. */
cvk_status cvk_session_ask(cvk_session *s, corvak_ToController *m,
                           pb_size_t expected) CVK_MUST_CHECK;
/* The same for what is answered by Done. */
cvk_status cvk_session_ask_done(cvk_session *s, corvak_ToController *m) CVK_MUST_CHECK;
corvak_ToController cvk_message_of(pb_size_t which);

#endif
