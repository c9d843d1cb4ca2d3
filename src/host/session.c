/* SPDX-License-Identifier: Apache-2.0
 *
 * A session: questions and answers, the lease, and what comes unasked.
 */
#include "corvak/host/session.h"

#include "corvak/link/messages.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define ANSWER_S 0.5 /* a question is asked again after that time */
#define TRIES 6
#define SILENT_S 3.0
#define SIGN_OF_LIFE_S 5.0 /* from a host that only looks on: else it is taken for gone */
#define LOOK_MOST_S 0.1    /* longer between two looks at the wire: this host was held up itself */
#define REFRESHES 4.0      /* in one lease */
#define ESCAPED 1.03       /* bytes on the wire for one of a message, on average */
#define MESSAGE_BYTES 4.0  /* beside its values, for each row, when many go together */
#define STREAM_SHARE 0.7   /* of what the wire carries */
#define ROWS_ROOM 512u     /* values of rows that are taken at a time */

struct cvk_session_inside {
    cvk_wire wire;
    cvk_frame_reader reader;
    corvak_FromController answer;
    uint32_t next_id, wanted_id; /* wanted: 0 when nothing is waited for */
    bool answered;
    uint32_t refresh_id;
    double said_s;      /* when something was sent last */
    char farewell[192]; /* why the controller sent this host away */
    double lease_s, refreshed_s;
    double looked_s; /* when the wire was looked at last */
    double waited_s; /* time spent on looking: what this host slept through does not count */
    double heard_s;  /* as waited_s, when the last message came */
    uint32_t decimation;
    unsigned columns;
    uint32_t messages; /* that were read as such */
    bool state_came;
};

#if defined(__GNUC__)
__attribute__((format(printf, 3, 4)))
#endif
static cvk_status
complain(cvk_session *s, cvk_status status, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(s->text, sizeof s->text, format, arguments);
    va_end(arguments);
    return status;
}

/* Text from the other end, fit for a terminal: what is no printing ASCII character becomes a
 * question mark. Two bytes of UTF-8 may be a control character as well. */
static void copy_text(char *out, size_t size, const char *text)
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
        copy_text(in->farewell, sizeof in->farewell, m.what.refused.reason);
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
        return complain(s, CVK_NO_ANSWER, "%s sent this host away: %s", s->name,
                        s->inside->farewell);
    }
    return complain(s, CVK_NO_ANSWER, "%s does not answer any more", s->name);
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
    copy_text(field, sizeof field, r->field);
    copy_text(against, sizeof against, r->against);
    copy_text(reason, sizeof reason, r->reason);
    if (status == CVK_OUT_OF_RANGE) {
        return complain(s, status, "%s: %g%s%s is outside %g .. %g", field, (double)r->value, gap,
                        unit, (double)r->low, (double)r->high);
    }
    if (status == CVK_CONTRADICTION && r->high > 0.0f) {
        return complain(s, status, "%s: %g%s%s; %s allows %g: %s", field, (double)r->value, gap,
                        unit, against, (double)r->high, reason);
    }
    if (status == CVK_CONTRADICTION) {
        return complain(s, status, "%s contradicts %s: %s", field, against, reason);
    }
    if (status == CVK_BRIDGE_IS_ON) {
        return complain(s, status, "%s may change only while the bridge is off: stop first", field);
    }
    return complain(s, status, "%s%s%s", field, field[0] != '\0' ? ": " : "",
                    cvk_status_text(status));
}

/* The answer comes to `inside->answer`; it is of the kind `expected`, or refused. */
static cvk_status ask(cvk_session *s, corvak_ToController *m, pb_size_t expected)
{
    struct cvk_session_inside *in = s->inside;
    cvk_status status = CVK_OK;
    m->id = in->wanted_id = new_id(in);
    in->answered = false;
    for (int n = 0; n < TRIES && status == CVK_OK && !in->answered; n++) {
        status = send(s, m) ? CVK_OK : gone(s);
        const double until_s = in->waited_s + ANSWER_S;
        for (double left_s = ANSWER_S; status == CVK_OK && !in->answered && left_s > 0.0;
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
               : complain(s, CVK_BAD_FORMAT, "%s gives an answer to another question", s->name);
}

static cvk_status ask_done(cvk_session *s, corvak_ToController *m)
{
    return ask(s, m, corvak_FromController_done_tag);
}

static corvak_ToController message_of(pb_size_t which)
{
    corvak_ToController m = corvak_ToController_init_zero;
    m.which_what = which;
    return m;
}

/* ---- the tables ----------------------------------------------------------------------------- */

static void put_parameter(cvk_session_parameter *p, const corvak_Parameter *m)
{
    /* a choice without choices is a number; so is what this host does not know */
    const bool known = m->kind == corvak_Parameter_Kind_REAL ||
                       m->kind == corvak_Parameter_Kind_YES_NO ||
                       (m->kind == corvak_Parameter_Kind_CHOICE && m->choice_count > 0);
    *p = (cvk_session_parameter){.row = {.kind = known ? (uint8_t)m->kind : (uint8_t)CVK_WHOLE,
                                         .low = m->low,
                                         .high = m->high,
                                         .preset = m->preset,
                                         .while_on = m->while_on,
                                         .factor = m->factor}};
    copy_text(p->key, sizeof p->key, m->key);
    copy_text(p->section, sizeof p->section, m->key);
    copy_text(p->unit, sizeof p->unit, m->unit);
    const cvk_parameter *own = cvk_parameter_named(m->key);
    copy_text(p->help, sizeof p->help, m->help[0] == '\0' && own != NULL ? own->help : m->help);
    char *dot = strchr(p->section, '.');
    p->row.name = dot != NULL ? dot + 1 : "";
    if (dot != NULL) {
        *dot = '\0';
    }
    for (pb_size_t n = 0; n < m->choice_count; n++) {
        copy_text(p->choice[n], sizeof p->choice[n], m->choice[n]);
        p->names[n] = p->choice[n];
    }
    p->row.section = p->section;
    p->row.unit = p->unit;
    p->row.help = p->help;
    p->row.names = m->choice_count > 0 ? p->names : NULL;
}

static void put_signal(cvk_session_signal *out, const corvak_Signal *m)
{
    *out = (cvk_session_signal){.whole = m->whole, .states = m->state_count};
    copy_text(out->name, sizeof out->name, m->name);
    copy_text(out->unit, sizeof out->unit, m->unit);
    const cvk_signal *own = cvk_signal_named(m->name);
    copy_text(out->help, sizeof out->help, m->help[0] == '\0' && own != NULL ? own->help : m->help);
    for (pb_size_t n = 0; n < m->state_count; n++) {
        copy_text(out->state[n], sizeof out->state[n], m->state[n]);
    }
}

static cvk_status broken_table(cvk_session *s)
{
    return complain(s, CVK_BAD_FORMAT, "%s describes its tables wrongly", s->name);
}

static cvk_status read_parameters(cvk_session *s)
{
    for (unsigned n = 0; n < s->parameters;) {
        corvak_ToController m = message_of(corvak_ToController_parameters_tag);
        m.what.parameters.first = n;
        const cvk_status status = ask(s, &m, corvak_FromController_parameters_tag);
        const corvak_Parameters *page = &s->inside->answer.what.parameters;
        if (status != CVK_OK) {
            return status;
        }
        if (page->first != n || page->row_count == 0 || n + page->row_count > s->parameters) {
            return broken_table(s);
        }
        for (pb_size_t k = 0; k < page->row_count; k++) {
            put_parameter(&s->parameter[n++], &page->row[k]);
        }
    }
    return CVK_OK;
}

static cvk_status read_signals(cvk_session *s)
{
    for (unsigned n = 0; n < s->signals;) {
        corvak_ToController m = message_of(corvak_ToController_signals_tag);
        m.what.signals.first = n;
        const cvk_status status = ask(s, &m, corvak_FromController_signals_tag);
        const corvak_Signals *page = &s->inside->answer.what.signals;
        if (status != CVK_OK) {
            return status;
        }
        if (page->first != n || page->row_count == 0 || n + page->row_count > s->signals) {
            return broken_table(s);
        }
        for (pb_size_t k = 0; k < page->row_count; k++) {
            put_signal(&s->signal[n++], &page->row[k]);
        }
    }
    return CVK_OK;
}

cvk_status cvk_session_read_values(cvk_session *s)
{
    for (unsigned n = 0; n < s->parameters;) {
        corvak_ToController m = message_of(corvak_ToController_values_tag);
        m.what.values.first = n;
        const cvk_status status = ask(s, &m, corvak_FromController_values_tag);
        const corvak_Values *page = &s->inside->answer.what.values;
        if (status != CVK_OK) {
            return status;
        }
        if (page->first != n || page->value_count == 0 || n + page->value_count > s->parameters) {
            return broken_table(s);
        }
        memcpy(&s->value[n], page->value, page->value_count * sizeof page->value[0]);
        n += page->value_count;
    }
    return CVK_OK;
}

/* Whoever is let in by a secret proves that it is known here. */
static cvk_status unlock(cvk_session *s, const uint8_t challenge[16])
{
    const cvk_wire *wire = &s->inside->wire;
    corvak_ToController m = message_of(corvak_ToController_unlock_tag);
    if (wire->secret_bytes == 0) {
        return complain(s, CVK_LOCKED,
                        "it lets in only who knows its secret: give it behind the address, such as "
                        "tcp:HOST:PORT?secret=FILE");
    }
    m.what.unlock.proof.size = sizeof m.what.unlock.proof.bytes;
    cvk_prove_secret(wire->secret, wire->secret_bytes, challenge, m.what.unlock.proof.bytes);
    const cvk_status status = ask_done(s, &m);
    return status == CVK_LOCKED ? complain(s, status, "it has another secret than this one")
                                : status;
}

static cvk_status identify(cvk_session *s)
{
    corvak_ToController m = message_of(corvak_ToController_identify_tag);
    m.what.identify.protocol = CVK_LINK_PROTOCOL;
    const cvk_status status = ask(s, &m, corvak_FromController_identity_tag);
    if (status != CVK_OK) {
        return status == CVK_NO_ANSWER && s->inside->messages == 0
                   ? complain(s, CVK_BAD_FORMAT,
                              "it is there, but does not answer as a Corvak controller does: is "
                              "it another program, or another baud rate?")
                   : status;
    }
    const corvak_Identity *identity = &s->inside->answer.what.identity;
    if (identity->protocol != CVK_LINK_PROTOCOL) {
        return complain(s, CVK_BAD_FORMAT,
                        "it speaks protocol %u, and this corvak speaks %d: update the older one",
                        identity->protocol, CVK_LINK_PROTOCOL);
    }
    if (identity->parameters == 0 || identity->parameters > 1000 || identity->signals == 0 ||
        identity->signals > 1000 || !(identity->period_s > 0.0f) || identity->owner < 1 ||
        identity->owner > 255) {
        return broken_table(s);
    }
    copy_text(s->name, sizeof s->name, identity->name);
    copy_text(s->version, sizeof s->version, identity->version);
    s->number = (cvk_owner)identity->owner;
    s->period_s = identity->period_s;
    s->parameters = identity->parameters;
    s->signals = identity->signals;
    s->parameter = calloc(s->parameters, sizeof *s->parameter);
    s->signal = calloc(s->signals, sizeof *s->signal);
    s->value = calloc(s->parameters, sizeof *s->value);
    if (s->parameter == NULL || s->signal == NULL || s->value == NULL) {
        return CVK_NO_MEMORY;
    }
    uint8_t challenge[sizeof identity->challenge.bytes];
    memcpy(challenge, identity->challenge.bytes, sizeof challenge);
    return identity->challenge.size > 0 ? unlock(s, challenge) : CVK_OK;
}

cvk_status cvk_session_open(cvk_session *s, const cvk_wire *wire)
{
    *s = (cvk_session){.inside = calloc(1, sizeof *s->inside)};
    if (s->inside == NULL) {
        return CVK_NO_MEMORY;
    }
    snprintf(s->name, sizeof s->name, "the device");
    s->inside->wire = *wire;
    s->inside->looked_s = cvk_session_now_s(s);
    s->inside->heard_s = ANSWER_S * TRIES; /* time for a first answer */
    cvk_status status = identify(s);
    if (status == CVK_OK) {
        status = read_parameters(s);
    }
    if (status == CVK_OK) {
        status = read_signals(s);
    }
    for (int n = 0; n < 50 && status == CVK_OK && !s->inside->state_came; n++) {
        status = cvk_session_pump(s, 0.02);
    }
    return status == CVK_OK ? cvk_session_read_values(s) : status;
}

void cvk_session_close(cvk_session *s)
{
    if (s->inside != NULL) {
        if (s->owner && cvk_session_release(s) != CVK_OK) {
            /* then its lease ends it */
        }
        cvk_wire_close(&s->inside->wire);
    }
    free(s->inside);
    free(s->parameter);
    free(s->signal);
    free(s->value);
    *s = (cvk_session){.inside = NULL};
}

/* ---- commands ------------------------------------------------------------------------------- */

cvk_status cvk_session_claim(cvk_session *s, double lease_s)
{
    corvak_ToController m = message_of(corvak_ToController_claim_tag);
    m.what.claim.lease_s = (float)lease_s;
    const cvk_status status = ask_done(s, &m);
    if (status == CVK_OK) {
        s->owner = true;
        s->state.owner = s->number;
        s->inside->lease_s = lease_s;
        s->inside->refreshed_s = cvk_session_now_s(s);
    }
    return status == CVK_BUSY ? complain(s, status,
                                         "somebody else is the owner (link %d): it must release or "
                                         "hand over the drive first; you may watch",
                                         s->state.owner)
                              : status;
}

static cvk_status say(cvk_session *s, corvak_Word_Kind kind)
{
    corvak_ToController m = message_of(corvak_ToController_word_tag);
    m.what.word.kind = kind;
    return ask_done(s, &m);
}

cvk_status cvk_session_release(cvk_session *s)
{
    const cvk_status status = say(s, corvak_Word_Kind_RELEASE);
    s->owner = s->owner && status != CVK_OK;
    return status;
}

cvk_status cvk_session_hand_over(cvk_session *s, cvk_owner to)
{
    corvak_ToController m = message_of(corvak_ToController_hand_over_tag);
    m.what.hand_over.to = to;
    const cvk_status status = ask_done(s, &m);
    s->owner = s->owner && status != CVK_OK;
    return status;
}

cvk_status cvk_session_clear_fault(cvk_session *s)
{
    return say(s, corvak_Word_Kind_CLEAR_FAULT);
}

cvk_status cvk_session_keep(cvk_session *s)
{
    return say(s, corvak_Word_Kind_KEEP);
}

cvk_status cvk_session_call_good(cvk_session *s)
{
    return say(s, corvak_Word_Kind_CALL_GOOD);
}

cvk_status cvk_session_take_back(cvk_session *s)
{
    return say(s, corvak_Word_Kind_TAKE_BACK);
}

cvk_status cvk_session_request(cvk_session *s, const cvk_request *request)
{
    corvak_ToController m = message_of(corvak_ToController_request_tag);
    m.what.request = (corvak_Request){.mode = (corvak_Request_Mode)request->mode,
                                      .voltage_alpha_v = request->voltage_v.alpha,
                                      .voltage_beta_v = request->voltage_v.beta,
                                      .current_d_a = request->current_a.d,
                                      .current_q_a = request->current_a.q,
                                      .speed_rad_s = request->speed_rad_s,
                                      .torque_nm = request->torque_nm,
                                      .position_turns = request->position_turns,
                                      .position_mech_rad = request->position_mech_rad};
    s->inside->refreshed_s = cvk_session_now_s(s);
    return ask_done(s, &m);
}

/* The draft on the controller: the values in force as this session knows them, and the changes. Its
 * check says whether both ends mean the same. */
static cvk_status stage(cvk_session *s, const cvk_session_change *changes, unsigned count,
                        uint32_t *check)
{
    float *draft = malloc(s->parameters * sizeof *draft);
    cvk_status status = draft != NULL ? CVK_OK : CVK_NO_MEMORY;
    unsigned done = 0;
    for (unsigned n = 0; n < s->parameters && draft != NULL; n++) {
        draft[n] = s->value[n];
    }
    do {
        corvak_ToController m = message_of(corvak_ToController_stage_tag);
        m.what.stage.fresh = done == 0;
        while (done < count && m.what.stage.setting_count < CVK_LINK_SETTINGS_MOST) {
            m.what.stage.setting[m.what.stage.setting_count++] =
                (corvak_Setting){changes[done].parameter, changes[done].value};
            if (draft != NULL && changes[done].parameter < s->parameters) {
                draft[changes[done].parameter] = changes[done].value;
            }
            done++;
        }
        status = status == CVK_OK ? ask(s, &m, corvak_FromController_staged_tag) : status;
    } while (status == CVK_OK && done < count);
    if (status == CVK_OK) {
        *check = s->inside->answer.what.staged.check;
        status = *check == cvk_check_of_values(0, draft, s->parameters)
                     ? CVK_OK
                     : complain(s, CVK_BUSY,
                                "the settings in the controller are not those that were read from "
                                "it: somebody else has changed them");
    }
    free(draft);
    return status;
}

cvk_status cvk_session_adopt(cvk_session *s, const cvk_session_change *changes, unsigned count,
                             const cvk_trial_terms *terms)
{
    uint32_t check = 0;
    cvk_status status = stage(s, changes, count, &check);
    if (status != CVK_OK) {
        return status;
    }
    corvak_ToController m = message_of(corvak_ToController_adopt_tag);
    m.what.adopt.check = check;
    m.what.adopt.has_terms = terms != NULL;
    if (terms != NULL) {
        m.what.adopt.terms = (corvak_Terms){terms->watch_s, terms->confirm_s, terms->current_a,
                                            terms->speed_error_rad_s, terms->least_quality};
    }
    status = ask_done(s, &m);
    if (status == CVK_BUSY) {
        return complain(s, status, "another change is on trial: keep it or take it back first");
    }
    return status;
}

cvk_status cvk_session_look(cvk_session *s, const unsigned *signal, unsigned count, float *values)
{
    corvak_ToController m = message_of(corvak_ToController_look_tag);
    m.what.look.signal_count =
        (pb_size_t)(count < CVK_LINK_SIGNALS_MOST ? count : CVK_LINK_SIGNALS_MOST);
    for (pb_size_t n = 0; n < m.what.look.signal_count; n++) {
        m.what.look.signal[n] = signal[n];
    }
    const cvk_status status = ask(s, &m, corvak_FromController_seen_tag);
    for (unsigned n = 0; n < count && status == CVK_OK; n++) {
        const corvak_Values *seen = &s->inside->answer.what.seen;
        values[n] = n < seen->value_count ? seen->value[n] : NAN;
    }
    return status;
}

double cvk_session_signal_now(cvk_session *s, const char *name)
{
    const int place = cvk_session_signal_named(s, name);
    const unsigned signal = (unsigned)place;
    float value = NAN;
    return place >= 0 && cvk_session_look(s, &signal, 1, &value) == CVK_OK ? (double)value
                                                                           : (double)NAN;
}

cvk_status cvk_session_stream(cvk_session *s, const unsigned *signal, unsigned count,
                              unsigned decimation)
{
    corvak_ToController m = message_of(corvak_ToController_stream_tag);
    if (count > CVK_LINK_SIGNALS_MOST) {
        return complain(s, CVK_OUT_OF_RANGE, "a stream has at most %d signals, not %u",
                        CVK_LINK_SIGNALS_MOST, count);
    }
    m.what.stream.signal_count = (pb_size_t)count;
    m.what.stream.decimation = decimation;
    for (unsigned n = 0; n < count; n++) {
        m.what.stream.signal[n] = signal[n];
    }
    s->inside->columns = 0; /* what comes of a stream before is not of this one */
    const cvk_status status = ask_done(s, &m);
    if (status == CVK_OK) {
        s->inside->columns = count;
        s->inside->decimation = decimation;
    }
    return status;
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
