/* SPDX-License-Identifier: Apache-2.0
 *
 * Signals from the interrupt to the wire. A row of a stream is its tick and its values; rows wait
 * in a ring that the interrupt fills and the task empties. One that finds no room is counted.
 */
#include "parts.h"

#include <stdatomic.h>
#include <string.h>

_Static_assert(CVK_LINK_STREAM_SIGNALS == CVK_LINK_SIGNALS_MOST &&
                   CVK_LINK_SIGNALS_MOST <= CVK_LINK_SAMPLES_MOST,
               "A message has room for the signals of a stream, and for one row of them.");
#define WAIT_TICKS 200u /* a row waits no longer than that for others to go with */

static cvk_status choose(cvk_link_sampler *sampler, const uint32_t *signal, unsigned count,
                         cvk_refusal *why)
{
    for (unsigned n = 0; n < count; n++) {
        const cvk_signal *row = cvk_signal_at(signal[n]);
        if (row == NULL) {
            return cvk_check_range("signal", (float)signal[n], 0.0f,
                                   (float)cvk_signal_count() - 1.0f, why);
        }
        sampler->signal[n] = row;
    }
    sampler->count = (uint8_t)count;
    return CVK_OK;
}

/* The largest one that is not above `most`: then counts of rows may wrap around. */
static uint32_t power_of_two(uint32_t most)
{
    uint32_t power = 1;
    while (power <= most / 2u) {
        power *= 2u;
    }
    return power;
}

cvk_status cvk_link_begin_stream(cvk_link *link, const corvak_Stream *wanted, cvk_refusal *why)
{
    const uint32_t decimation = wanted->decimation;
    link->stream_on = false;
    atomic_signal_fence(memory_order_seq_cst);
    if (wanted->signal_count == 0) {
        return CVK_OK;
    }
    cvk_status status = cvk_check_range("decimation", (float)decimation, 1.0f, 1000000.0f, why);
    if (status == CVK_OK) {
        status = choose(&link->stream, wanted->signal, wanted->signal_count, why);
    }
    if (status == CVK_OK) {
        link->rows = power_of_two(link->config.store_words / (1u + link->stream.count));
        link->rows_in = link->rows_out = link->lost = 0;
        link->decimation = decimation;
        link->until_row = 0;
        atomic_signal_fence(memory_order_release);
        link->stream_on = true;
    }
    return status;
}

cvk_status cvk_link_begin_look(cvk_link *link, uint32_t id, const corvak_Look *wanted,
                               cvk_refusal *why)
{
    link->look_wanted = false;
    atomic_signal_fence(memory_order_seq_cst);
    const cvk_status status = choose(&link->look, wanted->signal, wanted->signal_count, why);
    if (status == CVK_OK) {
        link->look_id = id;
        atomic_signal_fence(memory_order_release);
        link->look_wanted = true;
    }
    return status;
}

/* ---- in the interrupt ----------------------------------------------------------------------- */

static uint32_t *place_of_row(cvk_link *link, uint32_t row)
{
    return &link->config.store[(row % link->rows) * (1u + link->stream.count)];
}

static void keep_row(cvk_link *link, const cvk_moment *now)
{
    const cvk_link_sampler *s = &link->stream;
    if (link->rows_in - link->rows_out >= link->rows) {
        link->lost++;
        return;
    }
    uint32_t *place = place_of_row(link, link->rows_in);
    *place++ = now->tick;
    for (unsigned n = 0; n < s->count; n++) {
        const float value = cvk_signal_value(now, s->signal[n]);
        memcpy(place++, &value, sizeof value);
    }
    atomic_signal_fence(memory_order_release);
    link->rows_in++;
}

static void keep_look(cvk_link *link, const cvk_moment *now)
{
    for (unsigned n = 0; n < link->look.count; n++) {
        link->look_value[n] = cvk_signal_value(now, link->look.signal[n]);
    }
    link->look_tick = now->tick;
    atomic_signal_fence(memory_order_release);
    link->look_wanted = false;
}

void cvk_link_sample(cvk_link *link)
{
    const cvk_moment *now = cvk_drive_now(link->drive);
    if (link->look_wanted) {
        keep_look(link, now);
    }
    if (link->stream_on) {
        if (link->until_row == 0u) {
            keep_row(link, now);
            link->until_row = link->decimation;
        }
        link->until_row--;
    }
}

/* ---- in the task ---------------------------------------------------------------------------- */

bool cvk_link_take_look(cvk_link *link, corvak_FromController *message)
{
    if (link->look_id == 0u || link->look_wanted) {
        return false;
    }
    message->id = link->look_id;
    message->which_what = corvak_FromController_seen_tag;
    corvak_Values *seen = &message->what.seen;
    seen->first = link->look_tick;
    seen->value_count = link->look.count;
    memcpy(seen->value, link->look_value, link->look.count * sizeof link->look_value[0]);
    link->look_id = 0;
    return true;
}

bool cvk_link_take_rows(cvk_link *link, float *value, unsigned room, cvk_link_rows *rows)
{
    const uint32_t waiting = link->stream_on ? link->rows_in - link->rows_out : 0u;
    const unsigned columns = link->stream.count;
    if (waiting == 0u) {
        return false;
    }
    atomic_signal_fence(memory_order_acquire);
    *rows = (cvk_link_rows){.tick = *place_of_row(link, link->rows_out),
                            .decimation = link->decimation,
                            .lost = link->lost,
                            .columns = columns};
    while (rows->count < waiting && (rows->count + 1u) * columns <= room) {
        const uint32_t *row = place_of_row(link, link->rows_out + rows->count);
        if (row[0] != rows->tick + rows->count * link->decimation) {
            break; /* rows were lost in between: those behind it go by the next message */
        }
        memcpy(&value[rows->count * columns], row + 1, columns * sizeof(float));
        rows->count++;
    }
    atomic_signal_fence(memory_order_release);
    link->rows_out += rows->count;
    return true;
}

bool cvk_link_take_samples(cvk_link *link, corvak_FromController *message)
{
    const uint32_t waiting = link->stream_on ? link->rows_in - link->rows_out : 0u;
    if (waiting == 0u || link->config.rows_apart) {
        return false;
    }
    const uint32_t most = (uint32_t)CVK_LINK_SAMPLES_MOST / link->stream.count;
    const uint32_t age = (waiting - 1u) * link->decimation;
    if (waiting < most && age < WAIT_TICKS && link->decimation < WAIT_TICKS) {
        return false;
    }
    corvak_Samples *samples = &message->what.samples;
    cvk_link_rows rows;
    message->which_what = corvak_FromController_samples_tag;
    (void)cvk_link_take_rows(link, samples->value, (unsigned)CVK_LINK_SAMPLES_MOST, &rows);
    samples->tick = rows.tick;
    samples->lost = rows.lost;
    samples->value_count = (pb_size_t)(rows.count * rows.columns);
    return true;
}
