/* SPDX-License-Identifier: Apache-2.0
 *
 * A controller that keeps to the protocol and lies in all that it says: rows of any kind, without
 * choices or with wild names, values that are no numbers, ranges upside down. Whatever a host makes
 * of its tables must not crash, and no byte of it may move a terminal's cursor.
 */
#include "corvak/files/tune_yaml.h"
#include "corvak/host/change.h"
#include "fuzzed_session.h"

#include <stdlib.h>
#include <string.h>

static uint8_t waiting[4096];
static size_t waits;

static uint8_t next(void)
{
    left -= left > 0 ? 1 : 0;
    return left > 0 ? *rest++ : 0;
}

static float number(void)
{
    uint8_t bytes[4] = {next(), next(), next(), next()};
    float x;
    memcpy(&x, bytes, sizeof x);
    return x;
}

static void text(char *out, size_t size)
{
    const size_t length = next() % size;
    for (size_t n = 0; n < length; n++) {
        out[n] = (char)next();
    }
    out[length] = '\0';
}

static void lie_about_parameter(corvak_Parameter *p)
{
    p->kind = (corvak_Parameter_Kind)(next() % 6);
    p->low = number();
    p->high = number();
    p->preset = number();
    p->choice_count = next() % 9;
    text(p->key, sizeof p->key);
    text(p->unit, sizeof p->unit);
    text(p->help, sizeof p->help);
    for (pb_size_t n = 0; n < p->choice_count; n++) {
        text(p->choice[n], sizeof p->choice[n]);
    }
}

static void lie_about_signal(corvak_Signal *s)
{
    s->whole = next() % 2;
    s->state_count = next() % 17;
    text(s->name, sizeof s->name);
    text(s->unit, sizeof s->unit);
    for (pb_size_t n = 0; n < s->state_count; n++) {
        text(s->state[n], sizeof s->state[n]);
    }
}

static void answer(const corvak_ToController *asked)
{
    corvak_FromController m = corvak_FromController_init_zero;
    m.id = asked->id;
    m.which_what = corvak_FromController_done_tag;
    if (asked->which_what == corvak_ToController_identify_tag) {
        m.which_what = corvak_FromController_identity_tag;
        m.what.identity = (corvak_Identity){.protocol = 1,
                                            .owner = 1u + next(),
                                            .parameters = 1u + next() % 6u,
                                            .signals = 1u + next() % 6u,
                                            .period_s = 1e-4f};
        text(m.what.identity.name, sizeof m.what.identity.name);
    } else if (asked->which_what == corvak_ToController_parameters_tag) {
        m.which_what = corvak_FromController_parameters_tag;
        m.what.parameters.first = asked->what.parameters.first;
        m.what.parameters.row_count = 1;
        lie_about_parameter(&m.what.parameters.row[0]);
    } else if (asked->which_what == corvak_ToController_signals_tag) {
        m.which_what = corvak_FromController_signals_tag;
        m.what.signals.first = asked->what.signals.first;
        m.what.signals.row_count = 1;
        lie_about_signal(&m.what.signals.row[0]);
    } else if (asked->which_what == corvak_ToController_values_tag) {
        m.which_what = corvak_FromController_values_tag;
        m.what.values.first = asked->what.values.first;
        m.what.values.value_count = 1;
        m.what.values.value[0] = number();
    } else if (asked->which_what == corvak_ToController_look_tag) {
        m.which_what = corvak_FromController_seen_tag;
        m.what.seen.value_count = next() % 17;
        for (pb_size_t n = 0; n < m.what.seen.value_count; n++) {
            m.what.seen.value[n] = number();
        }
    } else if (next() % 4 == 0) {
        m.which_what = corvak_FromController_refused_tag;
        m.what.refused.why = (corvak_Why)(next() % 20);
        text(m.what.refused.field, sizeof m.what.refused.field);
        text(m.what.refused.reason, sizeof m.what.refused.reason);
    }
    waits += cvk_write_from_controller(&m, waiting + waits, sizeof waiting - waits);
    corvak_FromController state = corvak_FromController_init_zero;
    state.which_what = corvak_FromController_state_tag;
    state.what.state = (corvak_State){.mode = (corvak_Request_Mode)next(),
                                      .fault = next(),
                                      .trial = next(),
                                      .owner = next(),
                                      .start_phase = next()};
    waits += cvk_write_from_controller(&state, waiting + waits, sizeof waiting - waits);
}

static int hear(void *context, uint8_t *bytes, size_t room, double timeout_s)
{
    (void)context;
    clock_s += timeout_s > 1e-3 ? timeout_s : 1e-3;
    const size_t count = waits < room ? waits : room;
    memcpy(bytes, waiting, count);
    memmove(waiting, waiting + count, waits - count);
    waits -= count;
    return count > 0 || left > 0 ? (int)count : -1;
}

static bool take(void *context, const uint8_t *bytes, size_t count)
{
    corvak_ToController m = corvak_ToController_init_zero;
    (void)context;
    for (size_t n = 0; n < count; n++) {
        if (cvk_frame_read(&reader, bytes[n]) &&
            cvk_read_to_controller(reader.bytes, reader.length, &m) && waits < sizeof waiting / 2) {
            answer(&m);
        }
    }
    return true;
}

/* Nothing but printing ASCII. */
static void assert_plain(const char *said)
{
    for (; *said != '\0'; said++) {
        if ((unsigned char)*said < 0x20 || (unsigned char)*said >= 0x7F) {
            abort();
        }
    }
}

static void use(cvk_session *s)
{
    char out[64];
    assert_plain(s->name);
    for (unsigned n = 0; n < s->parameters; n++) {
        const cvk_session_parameter *p = &s->parameter[n];
        cvk_parameter_text(&p->row, s->value[n], out, sizeof out);
        assert_plain(out);
        cvk_parameter_text(&p->row, p->row.preset, out, sizeof out);
        assert_plain(p->key);
        assert_plain(p->unit);
        assert_plain(p->help);
        for (int k = 0; p->row.kind == CVK_CHOICE && p->row.names[k] != NULL; k++) {
            assert_plain(p->row.names[k]);
        }
    }
    for (unsigned n = 0; n < s->signals; n++) {
        assert_plain(s->signal[n].name);
        const char *state = cvk_session_state_text(s, s->signal[n].name, (int)next() - 3);
        assert_plain(state != NULL ? state : "");
    }
    cvk_change change = {
        .count = 1, .item = {{0, number()}}, .terms = {.watch_s = 0.01f, .confirm_s = 0.01f}};
    if (cvk_session_claim(s, 1.0) != CVK_NO_ANSWER && cvk_change_guarded(s, &change) != CVK_OK) {
        assert_plain(s->text);
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    waits = 0;
    fuzz_session(data, size, (cvk_wire){.read = hear, .write = take}, use);
    return 0;
}
