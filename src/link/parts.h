/* SPDX-License-Identifier: Apache-2.0
 *
 * What the files of the controller's end share.
 */
#ifndef CORVAK_LINK_PARTS_H
#define CORVAK_LINK_PARTS_H

#include "corvak/link/controller.h"
#include "corvak/link/messages.h"

/* answers.c: what `message` asks for, into `answer` (all zeros but its id). False when the answer
 * is to come later. */
bool cvk_link_answer(cvk_link *link, const corvak_ToController *message,
                     corvak_FromController *answer);
void cvk_link_refuse(corvak_FromController *answer, cvk_status status, const cvk_refusal *why);

/* sampling.c */
cvk_status cvk_link_begin_stream(cvk_link *link, const corvak_Stream *wanted, cvk_refusal *why);
cvk_status cvk_link_begin_look(cvk_link *link, uint32_t id, const corvak_Look *wanted,
                               cvk_refusal *why);
/* Rows that wait, as one message; false when there are too few for one yet. */
bool cvk_link_take_samples(cvk_link *link, corvak_FromController *message);
/* The answer to a look; false while there is none. */
bool cvk_link_take_look(cvk_link *link, corvak_FromController *message);

#endif
