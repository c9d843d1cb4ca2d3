/* SPDX-License-Identifier: Apache-2.0
 *
 * What a session asks a controller for: commands, changes, looks and streams.
 */
#include "session_parts.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

cvk_status cvk_session_claim(cvk_session *s, double lease_s)
{
    corvak_ToController m = cvk_message_of(corvak_ToController_claim_tag);
    m.what.claim.lease_s = (float)lease_s;
    const cvk_status status = cvk_session_ask_done(s, &m);
    if (status == CVK_OK) {
        s->owner = true;
        s->state.owner = s->number;
        s->inside->lease_s = lease_s;
        s->inside->refreshed_s = cvk_session_now_s(s);
    }
    return status == CVK_BUSY
               ? cvk_session_complain(s, status,
                                      "somebody else is the owner (link %d): it must release or "
                                      "hand over the drive first; you may watch",
                                      s->state.owner)
               : status;
}

static cvk_status say(cvk_session *s, corvak_Word_Kind kind)
{
    corvak_ToController m = cvk_message_of(corvak_ToController_word_tag);
    m.what.word.kind = kind;
    return cvk_session_ask_done(s, &m);
}

cvk_status cvk_session_release(cvk_session *s)
{
    const cvk_status status = say(s, corvak_Word_Kind_RELEASE);
    s->owner = s->owner && status != CVK_OK;
    return status;
}

cvk_status cvk_session_hand_over(cvk_session *s, cvk_owner to)
{
    corvak_ToController m = cvk_message_of(corvak_ToController_hand_over_tag);
    m.what.hand_over.to = to;
    const cvk_status status = cvk_session_ask_done(s, &m);
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
    corvak_ToController m = cvk_message_of(corvak_ToController_request_tag);
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
    return cvk_session_ask_done(s, &m);
}

cvk_status cvk_session_excite(cvk_session *s, const char *name)
{
    corvak_ToController m = cvk_message_of(corvak_ToController_excite_tag);
    snprintf(m.what.excite.name, sizeof m.what.excite.name, "%s", name);
    s->inside->refreshed_s = cvk_session_now_s(s);
    return cvk_session_ask_done(s, &m);
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
        corvak_ToController m = cvk_message_of(corvak_ToController_stage_tag);
        m.what.stage.fresh = done == 0;
        while (done < count && m.what.stage.setting_count < CVK_LINK_SETTINGS_MOST) {
            m.what.stage.setting[m.what.stage.setting_count++] =
                (corvak_Setting){changes[done].parameter, changes[done].value};
            if (draft != NULL && changes[done].parameter < s->parameters) {
                draft[changes[done].parameter] = changes[done].value;
            }
            done++;
        }
        status =
            status == CVK_OK ? cvk_session_ask(s, &m, corvak_FromController_staged_tag) : status;
    } while (status == CVK_OK && done < count);
    if (status == CVK_OK) {
        *check = s->inside->answer.what.staged.check;
        status = *check == cvk_check_of_values(0, draft, s->parameters)
                     ? CVK_OK
                     : cvk_session_complain(
                           s, CVK_BUSY,
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
    corvak_ToController m = cvk_message_of(corvak_ToController_adopt_tag);
    m.what.adopt.check = check;
    m.what.adopt.has_terms = terms != NULL;
    if (terms != NULL) {
        m.what.adopt.terms = (corvak_Terms){terms->watch_s, terms->confirm_s, terms->current_a,
                                            terms->speed_error_rad_s, terms->least_quality};
    }
    status = cvk_session_ask_done(s, &m);
    if (status == CVK_BUSY) {
        return cvk_session_complain(s, status,
                                    "another change is on trial: keep it or take it back first");
    }
    return status;
}

cvk_status cvk_session_look(cvk_session *s, const unsigned *signal, unsigned count, float *values)
{
    corvak_ToController m = cvk_message_of(corvak_ToController_look_tag);
    m.what.look.signal_count =
        (pb_size_t)(count < CVK_LINK_SIGNALS_MOST ? count : CVK_LINK_SIGNALS_MOST);
    for (pb_size_t n = 0; n < m.what.look.signal_count; n++) {
        m.what.look.signal[n] = signal[n];
    }
    const cvk_status status = cvk_session_ask(s, &m, corvak_FromController_seen_tag);
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
    corvak_ToController m = cvk_message_of(corvak_ToController_stream_tag);
    if (count > CVK_LINK_SIGNALS_MOST) {
        return cvk_session_complain(s, CVK_OUT_OF_RANGE, "a stream has at most %d signals, not %u",
                                    CVK_LINK_SIGNALS_MOST, count);
    }
    m.what.stream.signal_count = (pb_size_t)count;
    m.what.stream.decimation = decimation;
    for (unsigned n = 0; n < count; n++) {
        m.what.stream.signal[n] = signal[n];
        s->inside->column[n] = signal[n];
    }
    s->inside->columns = 0; /* what comes of a stream before is not of this one */
    const cvk_status status = cvk_session_ask_done(s, &m);
    if (status == CVK_OK) {
        s->inside->columns = count;
        s->inside->decimation = decimation;
    }
    return status;
}
