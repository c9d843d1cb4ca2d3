/* SPDX-License-Identifier: Apache-2.0
 *
 * A session over bytes from the fuzzer: what the targets of a host's end share.
 */
#ifndef CORVAK_TESTS_FUZZED_SESSION_H
#define CORVAK_TESTS_FUZZED_SESSION_H

#include "corvak/host/session.h"
#include "corvak/link/messages.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static const uint8_t *rest;
static size_t left;
static double clock_s;
static cvk_frame_reader reader;

static double now_s(void *context)
{
    (void)context;
    return clock_s;
}

static void close_it(void *context)
{
    (void)context;
}

static void fuzz_session(const uint8_t *data, size_t size, cvk_wire wire,
                         void (*use)(cvk_session *session))
{
    cvk_session session;
    rest = data;
    left = size;
    clock_s = 0.0;
    reader = (cvk_frame_reader){.state = 0};
    wire.now_s = now_s;
    wire.close = close_it;
    if (cvk_session_open(&session, &wire) == CVK_OK) {
        use(&session);
    }
    cvk_session_close(&session);
}

#endif
