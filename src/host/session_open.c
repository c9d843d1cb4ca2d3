/* SPDX-License-Identifier: Apache-2.0
 *
 * A session begins and ends: who is there, its two tables, its values.
 */
#include "session_parts.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

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
    cvk_copy_text(p->key, sizeof p->key, m->key);
    cvk_copy_text(p->section, sizeof p->section, m->key);
    cvk_copy_text(p->unit, sizeof p->unit, m->unit);
    const cvk_parameter *own = cvk_parameter_named(m->key);
    cvk_copy_text(p->help, sizeof p->help, m->help[0] == '\0' && own != NULL ? own->help : m->help);
    char *dot = strchr(p->section, '.');
    p->row.name = dot != NULL ? dot + 1 : "";
    if (dot != NULL) {
        *dot = '\0';
    }
    for (pb_size_t n = 0; n < m->choice_count; n++) {
        cvk_copy_text(p->choice[n], sizeof p->choice[n], m->choice[n]);
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
    cvk_copy_text(out->name, sizeof out->name, m->name);
    cvk_copy_text(out->unit, sizeof out->unit, m->unit);
    const cvk_signal *own = cvk_signal_named(m->name);
    cvk_copy_text(out->help, sizeof out->help,
                  m->help[0] == '\0' && own != NULL ? own->help : m->help);
    for (pb_size_t n = 0; n < m->state_count; n++) {
        cvk_copy_text(out->state[n], sizeof out->state[n], m->state[n]);
    }
}

static cvk_status broken_table(cvk_session *s)
{
    return cvk_session_complain(s, CVK_BAD_FORMAT, "%s describes its tables wrongly", s->name);
}

static cvk_status read_parameters(cvk_session *s)
{
    for (unsigned n = 0; n < s->parameters;) {
        corvak_ToController m = cvk_message_of(corvak_ToController_parameters_tag);
        m.what.parameters.first = n;
        const cvk_status status = cvk_session_ask(s, &m, corvak_FromController_parameters_tag);
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
        corvak_ToController m = cvk_message_of(corvak_ToController_signals_tag);
        m.what.signals.first = n;
        const cvk_status status = cvk_session_ask(s, &m, corvak_FromController_signals_tag);
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
        corvak_ToController m = cvk_message_of(corvak_ToController_values_tag);
        m.what.values.first = n;
        const cvk_status status = cvk_session_ask(s, &m, corvak_FromController_values_tag);
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
    corvak_ToController m = cvk_message_of(corvak_ToController_unlock_tag);
    if (wire->secret_bytes == 0) {
        return cvk_session_complain(
            s, CVK_LOCKED,
            "it lets in only who knows its secret: give it behind the address, such as "
            "tcp:HOST:PORT?secret=FILE");
    }
    m.what.unlock.proof.size = sizeof m.what.unlock.proof.bytes;
    cvk_prove_secret(wire->secret, wire->secret_bytes, challenge, m.what.unlock.proof.bytes);
    const cvk_status status = cvk_session_ask_done(s, &m);
    return status == CVK_LOCKED
               ? cvk_session_complain(s, status, "it has another secret than this one")
               : status;
}

static cvk_status identify(cvk_session *s)
{
    corvak_ToController m = cvk_message_of(corvak_ToController_identify_tag);
    m.what.identify.protocol = CVK_LINK_PROTOCOL;
    const cvk_status status = cvk_session_ask(s, &m, corvak_FromController_identity_tag);
    if (status != CVK_OK) {
        return status == CVK_NO_ANSWER && s->inside->messages == 0
                   ? cvk_session_complain(
                         s, CVK_BAD_FORMAT,
                         "it is there, but does not answer as a Corvak controller does: is "
                         "it another program, or another baud rate?")
                   : status;
    }
    const corvak_Identity *identity = &s->inside->answer.what.identity;
    if (identity->protocol != CVK_LINK_PROTOCOL) {
        return cvk_session_complain(
            s, CVK_BAD_FORMAT,
            "it speaks protocol %u, and this corvak speaks %d: update the older one",
            identity->protocol, CVK_LINK_PROTOCOL);
    }
    if (identity->parameters == 0 || identity->parameters > 1000 || identity->signals == 0 ||
        identity->signals > 1000 || !(identity->period_s > 0.0f) || identity->owner < 1 ||
        identity->owner > 255) {
        return broken_table(s);
    }
    cvk_copy_text(s->name, sizeof s->name, identity->name);
    cvk_copy_text(s->version, sizeof s->version, identity->version);
    s->number = (cvk_owner)identity->owner;
    s->period_s = identity->period_s;
    s->updates_per_period = identity->updates_per_period == 2 ? 2 : 1;
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
    s->inside->heard_s = CVK_ANSWER_S * CVK_TRIES; /* time for a first answer */
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
