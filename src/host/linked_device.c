/* SPDX-License-Identifier: Apache-2.0
 *
 * A controller behind a link as a cvk_device.
 */
#include "corvak/host/linked_device.h"

#include "corvak/core/signals.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define ROOM 8192u /* rows that wait to be taken */
#define PUMP_S 0.005
#define IDLE_MOST 600 /* looks at the line without a row */
#define SPACING_S 1e-3

static const char *const streamed[] = {"ia",    "ib",           "speed_e",   "speed_set",
                                       "id",    "iq",           "id_set",    "iq_set",
                                       "turns", "quality",      "position",  "start_phase",
                                       "fault", "angle_source", "bridge_on", "rest_done"};
enum { COLUMNS = sizeof streamed / sizeof streamed[0] };

typedef struct waiting {
    uint32_t tick;
    float value[COLUMNS];
} waiting;

typedef struct linked {
    cvk_session *session;
    cvk_session_calls before;
    const cvk_signal *signal[COLUMNS];
    waiting row[ROOM];
    size_t head, tail;
    uint32_t first_tick;
    bool begun;
    cvk_moment now;
    cvk_settings settings; /* in force when it was opened */
} linked;

static void take(void *context, const cvk_session_samples *s)
{
    linked *l = context;
    for (unsigned r = 0; s->columns == COLUMNS && r < s->rows && l->head - l->tail < ROOM; r++) {
        waiting *w = &l->row[l->head++ % ROOM];
        w->tick = s->tick + r * s->decimation;
        memcpy(w->value, s->value + (size_t)r * COLUMNS, sizeof w->value);
    }
}

static void put(cvk_moment *now, const cvk_signal *signal, float value)
{
    char *place = (char *)now + signal->offset;
    if (signal->whole) {
        const int32_t whole = (int32_t)value;
        memcpy(place, &whole, sizeof whole);
    } else {
        memcpy(place, &value, sizeof value);
    }
}

static cvk_status step(void *context, cvk_device_row *row)
{
    linked *l = context;
    for (int idle = 0; l->head == l->tail; idle++) {
        if (idle == IDLE_MOST || cvk_session_pump(l->session, PUMP_S) != CVK_OK) {
            return CVK_STOPPED;
        }
    }
    const waiting *w = &l->row[l->tail++ % ROOM];
    l->first_tick = l->begun ? l->first_tick : w->tick;
    l->begun = true;
    for (int n = 0; n < COLUMNS; n++) {
        put(&l->now, l->signal[n], w->value[n]);
    }
    l->now.phase_a.c = -l->now.phase_a.a - l->now.phase_a.b;
    l->now.angle.speed_rad_s = w->value[2];
    *row = (cvk_device_row){.time_s = (double)l->session->period_s * (w->tick - l->first_tick),
                            .now = &l->now};
    return CVK_OK;
}

static cvk_status request(void *context, const cvk_request *wanted, cvk_refusal *why)
{
    linked *l = context;
    const cvk_status status = cvk_session_request(l->session, wanted);
    l->now.request = *wanted;
    if (status != CVK_OK && why != NULL) {
        *why = (cvk_refusal){.field = l->session->text};
    }
    return status;
}

static const cvk_settings *settings(void *context)
{
    const linked *l = context;
    return &l->settings;
}

/* By their keys; what the controller does not have stays at its preset. */
static void take_settings(linked *l)
{
    l->settings = cvk_settings_default();
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        char key[80];
        snprintf(key, sizeof key, "%s.%s", row->section, row->name);
        const double value = cvk_session_value(l->session, key);
        if (isfinite(value) && cvk_parameter_set(&l->settings, row, (float)value, NULL) != CVK_OK) {
            continue; /* another range there: the preset stays */
        }
    }
}

static void close_linked(void *context)
{
    linked *l = context;
    l->session->calls = l->before;
    if (cvk_session_stream(l->session, NULL, 0, 1) != CVK_OK) {
        /* it is gone: then there is no stream either */
    }
    free(l);
}

cvk_status cvk_linked_device_open(cvk_device *device, cvk_session *session)
{
    linked *l = calloc(1, sizeof *l);
    unsigned place[COLUMNS];
    if (l == NULL) {
        return CVK_NO_MEMORY;
    }
    *l = (linked){.session = session, .before = session->calls};
    for (int n = 0; n < COLUMNS; n++) {
        const int row = cvk_session_signal_named(session, streamed[n]);
        l->signal[n] = cvk_signal_named(streamed[n]);
        if (row < 0 || l->signal[n] == NULL) {
            snprintf(session->text, sizeof session->text, "%s has no signal %s", session->name,
                     streamed[n]);
            free(l);
            return CVK_UNKNOWN_NAME;
        }
        place[n] = (unsigned)row;
    }
    const unsigned decimation = cvk_session_decimation(session, COLUMNS, SPACING_S);
    const cvk_status status = cvk_session_stream(session, place, COLUMNS, decimation);
    if (status != CVK_OK) {
        free(l);
        return status;
    }
    take_settings(l);
    session->calls.context = l;
    session->calls.samples = take;
    *device = (cvk_device){.context = l,
                           .hardware = {.period_s = session->period_s * (float)decimation},
                           .pole_pairs = cvk_session_value(session, "motor.pole_pairs"),
                           .step = step,
                           .request = request,
                           .settings = settings,
                           .close = close_linked};
    snprintf(device->name, sizeof device->name, "%s", session->name);
    return CVK_OK;
}
