/* SPDX-License-Identifier: Apache-2.0
 *
 * Framing: what goes in comes out, whatever the bytes and however the stream is hurt.
 */
#include "corvak/link/framing.h"
#include "noise.h"
#include "suite.h"

#include <string.h>

static size_t random_message(uint8_t *message)
{
    /* many flags and escapes: a quarter of the bytes is one or the other */
    static const uint8_t hard[4] = {0x7E, 0x7D, 0x5E, 0x5D};
    const size_t length = 1 + (size_t)((uniform() + 0.5) * (CVK_MESSAGE_BYTES_MAX - 1));
    for (size_t n = 0; n < length; n++) {
        const unsigned x = (unsigned)((uniform() + 0.5) * 512.0);
        message[n] = (uint8_t)(x < 256 ? x : x < 384 ? x & 0xFFu : hard[x & 3u]);
    }
    return length;
}

static unsigned feed(cvk_frame_reader *reader, const uint8_t *wire, size_t length)
{
    unsigned whole = 0;
    for (size_t n = 0; n < length; n++) {
        whole += cvk_frame_read(reader, wire[n]);
    }
    return whole;
}

/* The check value of this polynomial, CBF43926 for "123456789", is published in many places. */
START_TEST(a_known_frame)
{
    static const uint8_t known[] = {0x7E, '1', '2',  '3',  '4',  '5',  '6', '7',
                                    '8',  '9', 0x26, 0x39, 0xF4, 0xCB, 0x7E};
    uint8_t wire[CVK_FRAME_BYTES_MAX];
    ck_assert_uint_eq(cvk_frame_write((const uint8_t *)"123456789", 9, wire, sizeof wire),
                      sizeof known);
    ck_assert_mem_eq(wire, known, sizeof known);
}
END_TEST

START_TEST(flags_and_escapes_inside_are_escaped)
{
    static const uint8_t message[] = {0x7E, 0x7D, 0x5E},
                         start[] = {0x7E, 0x7D, 0x5E, 0x7D, 0x5D, 0x5E};
    uint8_t wire[CVK_FRAME_BYTES_MAX];
    const size_t length = cvk_frame_write(message, sizeof message, wire, sizeof wire);
    ck_assert_mem_eq(wire, start, sizeof start);
    cvk_frame_reader reader = {.length = 0};
    ck_assert_uint_eq(feed(&reader, wire, length), 1);
    ck_assert_uint_eq(reader.length, sizeof message);
    ck_assert_mem_eq(reader.bytes, message, sizeof message);
}
END_TEST

START_TEST(any_message_comes_through)
{
    static uint8_t message[CVK_MESSAGE_BYTES_MAX], wire[CVK_FRAME_BYTES_MAX];
    cvk_frame_reader reader = {.length = 0};
    lcg = 1;
    for (unsigned n = 0; n < 5000; n++) {
        const size_t length = random_message(message);
        const size_t sent = cvk_frame_write(message, length, wire, sizeof wire);
        ck_assert_uint_gt(sent, length);
        ck_assert_uint_eq(feed(&reader, wire, sent - 1), 0);
        ck_assert(cvk_frame_read(&reader, wire[sent - 1]));
        ck_assert_uint_eq(reader.length, length);
        ck_assert_mem_eq(reader.bytes, message, length);
    }
    ck_assert_uint_eq(reader.counts.messages, 5000);
    ck_assert_uint_eq(reader.counts.damaged + reader.counts.broken, 0);
}
END_TEST

/* One byte in a hundred with one to eight of its bits turned: the messages that arrive are exactly
 * those whose own frame is clean, and no other. */
START_TEST(a_damaged_frame_is_lost_and_no_other)
{
    static uint8_t message[CVK_MESSAGE_BYTES_MAX], wire[CVK_FRAME_BYTES_MAX];
    cvk_frame_reader reader = {.length = 0};
    unsigned lost = 0;
    lcg = 7;
    for (unsigned n = 0; n < 200000; n++) {
        size_t length = random_message(message) % 40 + 1;
        const size_t sent = cvk_frame_write(message, length, wire, sizeof wire);
        bool clean = true;
        for (size_t k = 0; k < sent; k++) {
            if (uniform() + 0.5 < 0.01) {
                wire[k] ^= (uint8_t)(1 + (unsigned)((uniform() + 0.5) * 254.0));
                clean = false;
            }
        }
        unsigned whole = 0;
        for (size_t k = 0; k < sent; k++) {
            if (cvk_frame_read(&reader, wire[k])) {
                whole++;
                ck_assert_uint_eq(reader.length, length);
                ck_assert_mem_eq(reader.bytes, message, length);
            }
        }
        ck_assert_uint_eq(whole, clean);
        lost += !clean;
    }
    ck_assert_uint_gt(lost, 20000);
    ck_assert_uint_eq(reader.counts.messages, 200000 - lost);
    ck_assert_uint_gt(reader.counts.damaged, 0);
    ck_assert_uint_gt(reader.counts.broken, 0);
}
END_TEST

START_TEST(a_stream_may_begin_in_the_middle)
{
    uint8_t wire[64];
    const size_t sent = cvk_frame_write((const uint8_t *)"wheel", 5, wire, sizeof wire);
    cvk_frame_reader reader = {.length = 0};
    ck_assert_uint_eq(feed(&reader, wire + 3, sent - 3), 0);
    ck_assert_uint_eq(reader.counts.damaged + reader.counts.broken, 0);
    ck_assert_uint_eq(feed(&reader, wire, sent), 1);
    ck_assert_uint_eq(feed(&reader, wire + 1, sent - 1), 1); /* one flag between two frames */
}
END_TEST

START_TEST(broken_frames_are_counted_once)
{
    static const uint8_t too_short[] = {0x7E, 1, 2, 3, 4, 0x7E}, given_up[] = {1, 2, 0x7D, 0x7E};
    uint8_t wire[64];
    const size_t sent = cvk_frame_write((const uint8_t *)"wheel", 5, wire, sizeof wire);
    cvk_frame_reader reader = {.length = 0};
    feed(&reader, too_short, sizeof too_short);
    ck_assert_uint_eq(reader.counts.broken, 1);
    feed(&reader, given_up, sizeof given_up);
    ck_assert_uint_eq(reader.counts.broken, 2);
    for (int n = 0; n < 10000; n++) {
        ck_assert(!cvk_frame_read(&reader, 0x55));
    }
    ck_assert_uint_eq(reader.counts.broken, 3);
    ck_assert_uint_eq(feed(&reader, wire, sent), 1);
    ck_assert_uint_eq(reader.counts.broken, 3);
    ck_assert_uint_eq(reader.counts.damaged, 0);
}
END_TEST

START_TEST(a_message_out_of_range_is_not_written)
{
    static uint8_t message[CVK_MESSAGE_BYTES_MAX + 1], wire[CVK_FRAME_BYTES_MAX + 1];
    ck_assert_uint_eq(cvk_frame_write(message, 0, wire, sizeof wire), 0);
    ck_assert_uint_eq(cvk_frame_write(message, sizeof message, wire, sizeof wire), 0);
    memset(message, 0x7E, sizeof message);
    const size_t sent = cvk_frame_write(message, CVK_MESSAGE_BYTES_MAX, wire, CVK_FRAME_BYTES_MAX);
    ck_assert_uint_gt(sent, 2 * CVK_MESSAGE_BYTES_MAX + CVK_CHECK_BYTES);
    for (size_t room = 0; room < sent; room++) {
        memset(wire, 0xA5, sizeof wire);
        ck_assert_uint_eq(cvk_frame_write(message, CVK_MESSAGE_BYTES_MAX, wire, room), 0);
        ck_assert_uint_eq(wire[room], 0xA5);
    }
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, a_known_frame);
    tcase_add_test(tests, flags_and_escapes_inside_are_escaped);
    tcase_add_test(tests, any_message_comes_through);
    tcase_add_test(tests, a_damaged_frame_is_lost_and_no_other);
    tcase_add_test(tests, a_stream_may_begin_in_the_middle);
    tcase_add_test(tests, broken_frames_are_counted_once);
    tcase_add_test(tests, a_message_out_of_range_is_not_written);
}

int main(void)
{
    return run_suite("framing", add);
}
