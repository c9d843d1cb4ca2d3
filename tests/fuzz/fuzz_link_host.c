/* SPDX-License-Identifier: Apache-2.0
 *
 * Any messages to the host's end: what a controller might say while a session is opened, its
 * settings changed and a stream watched. A byte of length stands before each; answers get the
 * number of the question, so that they are looked into.
 */
#include "fuzzed_session.h"

#include <string.h>

static uint32_t asked;

static int hear(void *context, uint8_t *bytes, size_t room, double timeout_s)
{
    corvak_FromController m = corvak_FromController_init_zero;
    (void)context;
    clock_s += timeout_s > 1e-3 ? timeout_s : 1e-3;
    if (left < 2) {
        return -1;
    }
    const size_t length = rest[0] < left - 1 ? rest[0] : left - 1;
    const bool fine = cvk_read_from_controller(rest + 1, length, &m);
    const uint8_t *raw = rest + 1;
    rest += length + 1;
    left -= length + 1;
    m.id = m.id != 0 ? asked : 0;
    return (int)(fine ? cvk_write_from_controller(&m, bytes, room)
                      : cvk_frame_write(raw, length, bytes, room));
}

static bool take(void *context, const uint8_t *bytes, size_t count)
{
    corvak_ToController m = corvak_ToController_init_zero;
    (void)context;
    for (size_t n = 0; n < count; n++) {
        if (cvk_frame_read(&reader, bytes[n]) &&
            cvk_read_to_controller(reader.bytes, reader.length, &m)) {
            asked = m.id;
        }
    }
    return true;
}

static void use(cvk_session *s)
{
    const cvk_session_change change = {0, 1.0f};
    const cvk_trial_terms terms = {1.0f, 1.0f, 0.0f, 0.0f, 0.0f};
    const unsigned signal[2] = {0, 1};
    float values[2];
    bool goes_on = cvk_session_claim(s, 1.0) != CVK_NO_ANSWER;
    goes_on = goes_on && cvk_session_adopt(s, &change, 1, &terms) != CVK_NO_ANSWER;
    goes_on = goes_on && cvk_session_look(s, signal, 2, values) != CVK_NO_ANSWER;
    goes_on = goes_on && cvk_session_stream(s, signal, 2, 1) != CVK_NO_ANSWER;
    while (goes_on && cvk_session_pump(s, 0.01) == CVK_OK) {
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    fuzz_session(data, size, (cvk_wire){.read = hear, .write = take}, use);
    return 0;
}
