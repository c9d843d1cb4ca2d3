/* SPDX-License-Identifier: Apache-2.0
 *
 * A session talks: questions and answers, the lease, and what comes unasked.
 */
#include "session_parts.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define SILENT_S 3.0
#define SIGN_OF_LIFE_S 5.0 /* from a host that only looks on: else it is taken for gone */
#define LOOK_MOST_S 0.1    /* longer between two looks at the wire: this host was held up itself */
#define REFRESHES 4.0      /* in one lease */
#define ESCAPED 1.03       /* bytes on the wire for one of a message, on average */
#define MESSAGE_BYTES 4.0  /* beside its values, for each row, when many go together */
#define STREAM_SHARE 0.7   /* of what the wire carries */
#define ROWS_ROOM 512u     /* values of rows that are taken at a time */

cvk_status cvk_session_complain(cvk_session *s, cvk_status status, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(s->text, sizeof s->text, format, arguments);
    va_end(arguments);
    return status;
}

void cvk_copy_text(char *out, size_t size, const char *text)
{
    size_t n = 0;
    for (; text[n] != '\0' && n + 1 < size; n++) {
        const unsigned char byte = (unsigned char)text[n];
        out[n] = byte < 0x20 || byte >= 0x7F ? '?' : text[n];
    }
    out[n] = '\0';
}

/* ---- what comes ----------------------------------------------------------------------------- */

/* But for what counts on. */
static bool alike(const cvk_session_state *a, const cvk_session_state *b)
{
    return a->mode == b->mode && a->start_phase == b->start_phase && a->fault == b->fault &&
           a->angle_source == b->angle_source && a->trial == b->trial &&
           a->trial_reason == b->trial_reason && a->bridge_on == b->bridge_on &&
           a->owner == b->owner && a->settings_number == b->settings_number;
}

static void take_state(cvk_session *s, const corvak_State *m)
{
    const cvk_session_state before = s->state;
    s->inside->state_came = true;
    s->state = (cvk_session_state){.tick = m->tick,
                                   .mode = (int32_t)m->mode,
                                   .start_phase = (int32_t)m->start_phase,
                                   .fault = (int32_t)m->fault,
                                   .angle_source = (int32_t)m->angle_source,
                                   .trial = (int32_t)m->trial,
                                   .trial_reason = (int32_t)m->trial_reason,
                                   .bridge_on = m->bridge_on,
                                   .owner = (cvk_owner)m->owner,
                                   .settings_number = m->settings_number,
                                   .damaged = m->damaged};
    if (!alike(&before, &s->state) && s->calls.state != NULL) {
        s->calls.state(s->calls.context, &before, &s->state);
    }
    s->owner = s->owner && s->state.owner == s->number;
}

static void take_samples(cvk_session *s, const corvak_Samples *m)
{
    struct cvk_session_inside *in = s->inside;
    if (s->calls.samples == NULL || in->columns == 0 || m->value_count % in->columns != 0) {
        return;
    }
    const cvk_session_samples samples = {m->tick,     in->decimation,
                                         m->lost,     (unsigned)(m->value_count / in->columns),
                                         in->columns, m->value};
    s->calls.samples(s->calls.context, &samples);
}

/* The same from a controller in this process. */
static void take_rows(cvk_session *s)
{
    const cvk_wire *wire = &s->inside->wire;
    float value[ROWS_ROOM];
    cvk_link_rows r;
    while (wire->rows != NULL && wire->rows(wire->context, value, ROWS_ROOM, &r)) {
        const cvk_session_samples samples = {r.tick,  r.decimation, r.lost,
                                             r.count, r.columns,    value};
        if (s->calls.samples != NULL) {
            s->calls.samples(s->calls.context, &samples);
        }
    }
}

static void take_message(cvk_session *s)
{
    struct cvk_session_inside *in = s->inside;
    corvak_FromController m = corvak_FromController_init_zero;
    if (!cvk_read_from_controller(in->reader.bytes, in->reader.length, &m)) {
        return;
    }
    in->messages++;
    in->heard_s = in->waited_s;
    if (m.id != 0 && m.id == in->wanted_id) {
        in->answer = m;
        in->answered = true;
    } else if (m.id != 0 && m.id == in->refresh_id) {
        s->owner = s->owner && m.which_what != corvak_FromController_refused_tag;
    } else if (m.id == 0 && m.which_what == corvak_FromController_refused_tag) {
        cvk_copy_text(in->farewell, sizeof in->farewell, m.what.refused.reason);
    } else if (m.which_what == corvak_FromController_state_tag) {
        take_state(s, &m.what.state);
    } else if (m.which_what == corvak_FromController_samples_tag) {
        take_samples(s, &m.what.samples);
    }
}

static uint32_t new_id(struct cvk_session_inside *in)
{
    in->next_id += in->next_id == UINT32_MAX ? 2u : 1u;
    return in->next_id;
}

static bool send(cvk_session *s, const corvak_ToController *m)
{
    uint8_t wire[CVK_FRAME_BYTES_MAX];
    const size_t count = cvk_write_to_controller(m, wire, sizeof wire);
    s->inside->said_s = cvk_session_now_s(s);
    return count > 0 && s->inside->wire.write(s->inside->wire.context, wire, count);
}

static void refresh(cvk_session *s)
{
    struct cvk_session_inside *in = s->inside;
    const double now_s = cvk_session_now_s(s);
    if (s->owner && now_s - in->refreshed_s > in->lease_s / REFRESHES) {
        corvak_ToController m = corvak_ToController_init_zero;
        m.id = in->refresh_id = new_id(in);
        m.which_what = corvak_ToController_word_tag;
        m.what.word.kind = corvak_Word_Kind_REFRESH;
        in->refreshed_s = now_s;
        if (!send(s, &m)) {
            in->heard_s = -INFINITY;
        }
    }
}

/* Asks for nothing: a page behind the last signal. */
static void give_sign_of_life(cvk_session *s)
{
    if (s->signals > 0 && cvk_session_now_s(s) - s->inside->said_s > SIGN_OF_LIFE_S) {
        corvak_ToController m = corvak_ToController_init_zero;
        m.id = new_id(s->inside);
        m.which_what = corvak_ToController_signals_tag;
        m.what.signals.first = s->signals;
        if (!send(s, &m)) {
            s->inside->heard_s = -INFINITY;
        }
    }
}

static cvk_status gone(cvk_session *s)
{
    s->owner = false;
    if (s->inside->farewell[0] != '\0') {
        return cvk_session_complain(s, CVK_NO_ANSWER, "%s sent this host away: %s", s->name,
                                    s->inside->farewell);
    }
    return cvk_session_complain(s, CVK_NO_ANSWER, "%s does not answer any more", s->name);
}

cvk_status cvk_session_pump(cvk_session *s, double wait_s)
{
    struct cvk_session_inside *in = s->inside;
    uint8_t bytes[8192];
    refresh(s);
    give_sign_of_life(s);
    const double longest_s = s->owner ? fmin(wait_s, in->lease_s / REFRESHES) : wait_s;
    const int got =
        in->wire.read(in->wire.context, bytes, sizeof bytes, fmin(longest_s, LOOK_MOST_S));
    const double now_s = cvk_session_now_s(s);
    in->waited_s += fmin(now_s - in->looked_s, LOOK_MOST_S);
    in->looked_s = now_s;
    for (int n = 0; n < got; n++) {
        if (cvk_frame_read(&in->reader, bytes[n])) {
            take_message(s);
        }
    }
    take_rows(s);
    if (got < 0 || in->farewell[0] != '\0') {
        return gone(s);
    }
    refresh(s);
    return in->waited_s - in->heard_s > SILENT_S ? gone(s) : CVK_OK;
}

cvk_status cvk_session_wait(cvk_session *s, double length_s)
{
    const double until_s = cvk_session_now_s(s) + length_s;
    cvk_status status = CVK_OK;
    for (double left_s = length_s; status == CVK_OK && left_s > 0.0;
         left_s = until_s - cvk_session_now_s(s)) {
        status = cvk_session_pump(s, left_s);
    }
    return status;
}

int cvk_session_descriptor(const cvk_session *s)
{
    return s->inside->wire.descriptor(s->inside->wire.context);
}

double cvk_session_now_s(const cvk_session *s)
{
    return s->inside->wire.now_s(s->inside->wire.context);
}

unsigned cvk_session_decimation(const cvk_session *s, unsigned signals, double spacing_s)
{
    const double bytes_per_s = s->inside->wire.bytes_per_s, T = (double)s->period_s;
    const double row_bytes = 4.0 * signals * ESCAPED + MESSAGE_BYTES;
    const double least_s = bytes_per_s > 0.0 ? row_bytes / (STREAM_SHARE * bytes_per_s) : 0.0;
    return (unsigned)fmax(1.0, ceil(fmax(spacing_s, least_s) / T - 1e-6));
}

/* ---- questions ------------------------------------------------------------------------------ */

/* What a refusal means here; a reason that this host does not know is no reason to go on. */
static cvk_status status_of(corvak_Why why)
{
    switch (why) {
    case corvak_Why_OUT_OF_RANGE:
    case corvak_Why_UNREADABLE:
    case corvak_Why_CONTRADICTION:
    case corvak_Why_BRIDGE_IS_ON:
    case corvak_Why_BUSY:
    case corvak_Why_UNKNOWN_NAME:
    case corvak_Why_NOT_OWNER:
    case corvak_Why_NO_TRIAL:
    case corvak_Why_LOCKED:
        return (cvk_status)why;
    case corvak_Why_NONE:
    default:
        return CVK_BAD_FORMAT;
    }
}

static cvk_status refusal_of(cvk_session *s, const corvak_Refused *r)
{
    const cvk_status status = status_of(r->why);
    const int row = cvk_session_parameter_named(s, r->field);
    const char *unit = row >= 0 ? s->parameter[row].unit : "";
    const char *gap = unit[0] != '\0' ? " " : "";
    char field[sizeof r->field], against[sizeof r->against], reason[sizeof r->reason];
    cvk_copy_text(field, sizeof field, r->field);
    cvk_copy_text(against, sizeof against, r->against);
    cvk_copy_text(reason, sizeof reason, r->reason);
    if (status == CVK_OUT_OF_RANGE) {
        return cvk_session_complain(s, status, "%s: %g%s%s is outside %g .. %g", field,
                                    (double)r->value, gap, unit, (double)r->low, (double)r->high);
    }
    if (status == CVK_CONTRADICTION && r->high > 0.0f) {
        return cvk_session_complain(s, status, "%s: %g%s%s; %s allows %g: %s", field,
                                    (double)r->value, gap, unit, against, (double)r->high, reason);
    }
    if (status == CVK_CONTRADICTION) {
        return cvk_session_complain(s, status, "%s contradicts %s: %s", field, against, reason);
    }
    if (status == CVK_BRIDGE_IS_ON) {
        return cvk_session_complain(
            s, status, "%s may change only while the bridge is off: stop first", field);
    }
    return cvk_session_complain(s, status, "%s%s%s", field, field[0] != '\0' ? ": " : "",
                                cvk_status_text(status));
}

cvk_status cvk_session_ask(cvk_session *s, corvak_ToController *m, pb_size_t expected)
{
    struct cvk_session_inside *in = s->inside;
    cvk_status status = CVK_OK;
    m->id = in->wanted_id = new_id(in);
    in->answered = false;
    for (int n = 0; n < CVK_TRIES && status == CVK_OK && !in->answered; n++) {
        status = send(s, m) ? CVK_OK : gone(s);
        const double until_s = in->waited_s + CVK_ANSWER_S;
        for (double left_s = CVK_ANSWER_S; status == CVK_OK && !in->answered && left_s > 0.0;
             left_s = until_s - in->waited_s) {
            status = cvk_session_pump(s, left_s);
        }
    }
    in->wanted_id = 0;
    if (status == CVK_OK && !in->answered) {
        status = gone(s);
    }
    if (status != CVK_OK) {
        return status;
    }
    if (in->answer.which_what == corvak_FromController_refused_tag) {
        return refusal_of(s, &in->answer.what.refused);
    }
    return in->answer.which_what == expected
               ? CVK_OK
               : cvk_session_complain(s, CVK_BAD_FORMAT, "%s gives an answer to another question",
                                      s->name);
}

cvk_status cvk_session_ask_done(cvk_session *s, corvak_ToController *m)
{
    return cvk_session_ask(s, m, corvak_FromController_done_tag);
}

corvak_ToController cvk_message_of(pb_size_t which)
{
    corvak_ToController m = corvak_ToController_init_zero;
    m.which_what = which;
    return m;
}

/* ---- names ---------------------------------------------------------------------------------- */

int cvk_session_parameter_named(const cvk_session *s, const char *key)
{
    for (unsigned n = 0; n < s->parameters; n++) {
        if (strcmp(s->parameter[n].key, key) == 0) {
            return (int)n;
        }
    }
    return -1;
}

double cvk_session_value(const cvk_session *s, const char *key)
{
    const int n = cvk_session_parameter_named(s, key);
    return n >= 0 ? (double)s->value[n] : (double)NAN;
}

int cvk_session_signal_named(const cvk_session *s, const char *name)
{
    for (unsigned n = 0; n < s->signals; n++) {
        if (strcmp(s->signal[n].name, name) == 0) {
            return (int)n;
        }
    }
    return -1;
}

const char *cvk_session_state_text(const cvk_session *s, const char *signal, int value)
{
    const int n = cvk_session_signal_named(s, signal);
    return n >= 0 && value >= 0 && (unsigned)value < s->signal[n].states ? s->signal[n].state[value]
                                                                         : NULL;
}
