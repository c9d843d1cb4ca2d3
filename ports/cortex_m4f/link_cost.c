/* SPDX-License-Identifier: Apache-2.0
 *
 * What the link costs a microcontroller, in instructions: a byte read, a byte written, and each
 * kind of message from its first byte to the last of its answer. Runs on an emulated board
 * (scripts/check-core.sh).
 */
#include "corvak/link/controller.h"
#include "corvak/link/messages.h"
#include "timer.h"

#include <stdio.h>
#include <string.h>

static uint8_t message[CVK_MESSAGE_BYTES_MAX], wire[CVK_FRAME_BYTES_MAX];
static cvk_frame_reader reader;

/* Messages of `length` bytes, each of them `byte`. */
static int measure_frame(const char *of_what, uint8_t byte, size_t length)
{
    memset(message, byte, length);
    uint32_t before = timer_now();
    const size_t sent = cvk_frame_write(message, length, wire, sizeof wire);
    const uint32_t writing = timer_since(before);
    unsigned whole = 0;
    before = timer_now();
    for (size_t n = 0; n < sent; n++) {
        whole += cvk_frame_read(&reader, wire[n]);
    }
    const uint32_t reading = timer_since(before);
    printf("%s, %u bytes: written in %lu instructions, read in %lu, %.1f for each of %u on the "
           "wire\n",
           of_what, (unsigned)length, (unsigned long)(writing * TIMER_INSTRUCTIONS),
           (unsigned long)(reading * TIMER_INSTRUCTIONS),
           (double)reading * TIMER_INSTRUCTIONS / (double)sent, (unsigned)sent);
    return whole == 1 ? 0 : 1;
}

/* ---- messages -------------------------------------------------------------------------------- */

static cvk_drive drive;
static cvk_link end;
static uint32_t store[2048], coming, taken, going;

static void gate_enable(void *context, bool enable)
{
    (void)context;
    (void)enable;
}

static uint32_t stream_read(void *context, uint8_t stream, uint8_t *bytes, uint32_t room)
{
    const uint32_t left = coming - taken, now = left < room ? left : room;
    (void)context;
    (void)stream;
    memcpy(bytes, wire + taken, now);
    taken += now;
    return now;
}

static uint32_t stream_write(void *context, uint8_t stream, const uint8_t *bytes, uint32_t count)
{
    (void)context;
    (void)stream;
    (void)bytes;
    going += count;
    return count;
}

static const cvk_port port = {
    .gate_enable = gate_enable, .stream_read = stream_read, .stream_write = stream_write};

/* All calls that one message takes, and the dearest of them. */
static int measure_message(const char *of_what, corvak_ToController *m)
{
    static uint32_t id;
    uint32_t all = 0, most = 0, calls = 0;
    bool more = true;
    m->id = ++id;
    coming = (uint32_t)cvk_write_to_controller(m, wire, sizeof wire);
    taken = going = 0;
    while (more || taken < coming) {
        const uint32_t before = timer_now();
        more = cvk_link_poll(&end);
        const uint32_t took = timer_since(before);
        all += took;
        most = took > most ? took : most;
        calls++;
    }
    printf("%-26s %3lu bytes in, %3lu out: %6lu instructions, %lu calls of %lu at most\n", of_what,
           (unsigned long)coming, (unsigned long)going, (unsigned long)(all * TIMER_INSTRUCTIONS),
           (unsigned long)calls, (unsigned long)(most * TIMER_INSTRUCTIONS));
    return going > 0 ? 0 : 1;
}

static int measure_messages(void)
{
    const cvk_hardware hardware = cvk_hardware_default();
    const cvk_settings settings = cvk_settings_default();
    const cvk_link_config config = {.owner = 1,
                                    .name = "wheel",
                                    .version = "1",
                                    .store = store,
                                    .store_words = sizeof store / sizeof store[0]};
    if (cvk_drive_init(&drive, &port, &hardware, &settings, NULL) != CVK_OK ||
        cvk_link_init(&end, &drive, &port, &hardware, &config, NULL) != CVK_OK) {
        return 1;
    }
    cvk_link_poll(&end); /* the first state */
    corvak_ToController m[] = {{.which_what = corvak_ToController_identify_tag},
                               {.which_what = corvak_ToController_parameters_tag},
                               {.which_what = corvak_ToController_signals_tag},
                               {.which_what = corvak_ToController_values_tag},
                               {.which_what = corvak_ToController_claim_tag},
                               {.which_what = corvak_ToController_stage_tag},
                               {.which_what = corvak_ToController_request_tag},
                               {.which_what = corvak_ToController_word_tag},
                               {.which_what = corvak_ToController_stream_tag}};
    static const char *const names[] = {
        "identify",      "a page of parameters", "a page of signals", "all values",
        "claim",         "stage 2 settings",     "request",           "a word",
        "begin a stream"};
    m[4].what.claim.lease_s = 1.0f;
    m[5].what.stage = (corvak_Stage){.setting_count = 2, .setting = {{10, 5.0f}, {11, 6.0f}}};
    m[8].what.stream = (corvak_Stream){.signal_count = 8, .decimation = 1};
    int failed = 0;
    for (unsigned n = 0; n < sizeof m / sizeof m[0]; n++) {
        failed |= measure_message(names[n], &m[n]);
    }
    return failed;
}

/* Eight signals of each control period: the interrupt's part of a row, and a message of 15 rows. */
static int measure_stream(void)
{
    const cvk_readings calm = {.current_valid = CVK_ALL_CURRENTS_VALID, .bus_v = 24.0f};
    uint32_t keeping = 0;
    coming = taken = going = 0;
    for (int n = 0; n < 15; n++) {
        cvk_drive_control(&drive, &calm);
        const uint32_t before = timer_now();
        cvk_link_sample(&end);
        keeping += timer_since(before);
    }
    uint32_t before = timer_now();
    while (cvk_link_poll(&end)) {
    }
    const uint32_t sending = timer_since(before);
    printf("a row of 8 signals: about %lu instructions in the interrupt; 15 of them sent in %lu, "
           "%lu bytes\n",
           (unsigned long)(keeping * TIMER_INSTRUCTIONS / 15u),
           (unsigned long)(sending * TIMER_INSTRUCTIONS), (unsigned long)going);
    printf("memory of a link: %u bytes, and its store\n", (unsigned)sizeof end);
    return going > 400u ? 0 : 1;
}

int main(void)
{
    return measure_frame("a short message", 'x', 32) |
           measure_frame("the longest", 'x', sizeof message) |
           measure_frame("the longest, all escaped", 0x7E, sizeof message) | measure_messages() |
           measure_stream();
}
