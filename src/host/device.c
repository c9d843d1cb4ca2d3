/* SPDX-License-Identifier: Apache-2.0
 *
 * Rows of a device, one after the other. They come while something else is asked, too; then they
 * wait here.
 */
#include "corvak/host/device.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define ROOM 8192u /* rows that wait to be taken; a power of two */
#define PUMP_S 0.005
#define IDLE_S 3.0 /* without a row */

struct cvk_device_rows {
    unsigned columns;
    uint32_t decimation, first_tick, last_tick;
    size_t head, tail; /* rows that came, and that were taken; wrap around */
    uint32_t tick[ROOM];
    float value[]; /* ROOM rows */
};

cvk_status cvk_device_open(cvk_device *device, const cvk_wire *wire)
{
    *device = (cvk_device){.rows = NULL};
    return cvk_session_open(&device->session, wire);
}

void cvk_device_close(cvk_device *device)
{
    free(device->rows);
    cvk_session_close(&device->session);
    if (device->bench.close != NULL) {
        device->bench.close(device->bench.context);
    }
    *device = (cvk_device){.rows = NULL};
}

/* One that finds no room is missing, and said to be so by the ticks. The place of the row that was
 * taken last is left alone. */
static void take(void *context, const cvk_session_samples *s)
{
    struct cvk_device_rows *r = context;
    for (unsigned n = 0; s->columns == r->columns && n < s->rows && r->head - r->tail < ROOM - 1u;
         n++) {
        const size_t place = r->head++ % ROOM;
        r->tick[place] = s->tick + n * s->decimation;
        memcpy(&r->value[place * r->columns], &s->value[(size_t)n * r->columns],
               r->columns * sizeof r->value[0]);
    }
}

static cvk_status find(cvk_session *s, const char *const *signal, unsigned count, unsigned *place)
{
    if (count > CVK_LINK_STREAM_SIGNALS) {
        snprintf(s->text, sizeof s->text, "rows have at most %u signals, not %u",
                 CVK_LINK_STREAM_SIGNALS, count);
        return CVK_OUT_OF_RANGE;
    }
    for (unsigned n = 0; n < count; n++) {
        const int row = cvk_session_signal_named(s, signal[n]);
        if (row < 0) {
            snprintf(s->text, sizeof s->text, "%s has no signal %s", s->name, signal[n]);
            return CVK_UNKNOWN_NAME;
        }
        place[n] = (unsigned)row;
    }
    return CVK_OK;
}

cvk_status cvk_device_begin(cvk_device *device, const char *const *signal, unsigned count,
                            double spacing_s)
{
    cvk_session *s = &device->session;
    unsigned place[CVK_LINK_STREAM_SIGNALS];
    cvk_device_end(device);
    cvk_status status = find(s, signal, count, place);
    if (status != CVK_OK) {
        return status;
    }
    struct cvk_device_rows *r = malloc(sizeof *r + (size_t)ROOM * count * sizeof r->value[0]);
    if (r == NULL) {
        return CVK_NO_MEMORY;
    }
    r->columns = count;
    r->head = r->tail = 0;
    r->decimation = cvk_session_decimation(s, count, spacing_s);
    device->rows = r;
    s->calls.context = r;
    s->calls.samples = take;
    return cvk_session_stream(s, place, count, r->decimation);
}

cvk_status cvk_device_next(cvk_device *device, cvk_device_row *row)
{
    struct cvk_device_rows *r = device->rows;
    cvk_session *s = &device->session;
    const double until_s = cvk_session_now_s(s) + IDLE_S;
    while (r->head == r->tail) {
        const cvk_status status = cvk_session_pump(s, PUMP_S);
        if (status != CVK_OK || (r->head == r->tail && cvk_session_now_s(s) > until_s)) {
            return CVK_NO_ANSWER;
        }
    }
    const size_t place = r->tail % ROOM;
    const uint32_t tick = r->tick[place];
    r->first_tick = r->tail == 0 ? tick : r->first_tick;
    const uint32_t steps = r->tail == 0 ? 1u : (tick - r->last_tick) / r->decimation;
    *row = (cvk_device_row){.time_s = (double)s->period_s * (tick - r->first_tick),
                            .tick = tick,
                            .missing = steps > 0u ? steps - 1u : 0u,
                            .value = &r->value[place * r->columns]};
    r->last_tick = tick;
    r->tail++;
    return CVK_OK;
}

double cvk_device_spacing_s(const cvk_device *device)
{
    return device->rows != NULL
               ? (double)device->session.period_s * (double)device->rows->decimation
               : 0.0;
}

void cvk_device_end(cvk_device *device)
{
    cvk_session *s = &device->session;
    if (device->rows == NULL) {
        return;
    }
    s->calls.samples = NULL;
    if (cvk_session_stream(s, NULL, 0, 1) != CVK_OK) {
        /* it is gone: then there is no stream either */
    }
    free(device->rows);
    device->rows = NULL;
}
