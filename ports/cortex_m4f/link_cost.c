/* SPDX-License-Identifier: Apache-2.0
 *
 * What the link costs a microcontroller, in instructions: a byte read, a message written. Runs on
 * an emulated board (scripts/check-core.sh).
 */
#include "corvak/link/framing.h"
#include "timer.h"

#include <stdio.h>

static uint8_t message[CVK_MESSAGE_BYTES_MAX], wire[CVK_FRAME_BYTES_MAX];
static cvk_frame_reader reader;

/* Messages of `length` bytes, each of them `byte`. */
static int measure(const char *of_what, uint8_t byte, size_t length)
{
    for (size_t n = 0; n < length; n++) {
        message[n] = byte;
    }
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

int main(void)
{
    return measure("a short message", 'x', 32) | measure("the longest", 'x', sizeof message) |
           measure("the longest, all escaped", 0x7E, sizeof message);
}
