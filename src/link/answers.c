/* SPDX-License-Identifier: Apache-2.0
 *
 * What a host asks, one function for each message. Whatever is refused is refused by the core; here
 * it is only put into words for the wire.
 */
#include "parts.h"

#include "corvak/core/parameters.h"
#include "corvak/core/programs.h"
#include "corvak/core/signals.h"

#include <string.h>

#define UNREADABLE CVK_BAD_FORMAT

_Static_assert((int)CVK_OUT_OF_RANGE == (int)corvak_Why_OUT_OF_RANGE &&
                   (int)CVK_BAD_FORMAT == (int)corvak_Why_UNREADABLE &&
                   (int)CVK_CONTRADICTION == (int)corvak_Why_CONTRADICTION &&
                   (int)CVK_BRIDGE_IS_ON == (int)corvak_Why_BRIDGE_IS_ON &&
                   (int)CVK_BUSY == (int)corvak_Why_BUSY &&
                   (int)CVK_UNKNOWN_NAME == (int)corvak_Why_UNKNOWN_NAME &&
                   (int)CVK_NOT_OWNER == (int)corvak_Why_NOT_OWNER &&
                   (int)CVK_NO_TRIAL == (int)corvak_Why_NO_TRIAL &&
                   (int)CVK_LOCKED == (int)corvak_Why_LOCKED,
               "A status has another number on the wire: Why in corvak.proto and cvk_status must "
               "be alike.");
_Static_assert((int)CVK_MODE_BRAKE == (int)corvak_Request_Mode_BRAKE &&
                   (int)CVK_MODE_COUNT == (int)_corvak_Request_Mode_ARRAYSIZE,
               "A mode has another number on the wire: Request.Mode in corvak.proto and cvk_mode "
               "must be alike.");
_Static_assert((int)CVK_YES_NO == (int)corvak_Parameter_Kind_YES_NO,
               "Parameter.Kind in corvak.proto and cvk_parameter_kind must be alike.");

/* ---- texts ---------------------------------------------------------------------------------- */

static size_t append(char *out, size_t size, size_t at, const char *text)
{
    while (text != NULL && *text != '\0' && at + 1u < size) {
        out[at++] = *text++;
    }
    out[at] = '\0';
    return at;
}

static void copy(char *out, size_t size, const char *text)
{
    append(out, size, 0, text);
}

static void copy_key(char *out, size_t size, const cvk_parameter *row)
{
    size_t at = append(out, size, 0, row->section);
    at = append(out, size, at, ".");
    append(out, size, at, row->name);
}

void cvk_link_refuse(corvak_FromController *answer, cvk_status status, const cvk_refusal *why)
{
    answer->which_what = corvak_FromController_refused_tag;
    corvak_Refused *refused = &answer->what.refused;
    *refused = (corvak_Refused){
        .why = (corvak_Why)status, .value = why->value, .low = why->low, .high = why->high};
    if (why->parameter != NULL) {
        copy_key(refused->field, sizeof refused->field, why->parameter);
    } else {
        copy(refused->field, sizeof refused->field, why->field);
    }
    copy(refused->against, sizeof refused->against, why->against);
    copy(refused->reason, sizeof refused->reason, why->reason);
}

/* ---- the tables ----------------------------------------------------------------------------- */

static void put_parameter(corvak_Parameter *out, const cvk_parameter *row)
{
    *out = (corvak_Parameter){.kind = (corvak_Parameter_Kind)row->kind,
                              .low = row->low,
                              .high = row->high,
                              .preset = row->preset,
                              .while_on = row->while_on,
                              .factor = row->factor};
    copy_key(out->key, sizeof out->key, row);
    copy(out->unit, sizeof out->unit, row->unit);
    copy(out->help, sizeof out->help, row->help);
    const unsigned most = sizeof out->choice / sizeof out->choice[0];
    for (unsigned n = 0; row->names != NULL && row->names[n] != NULL && n < most; n++) {
        copy(out->choice[n], sizeof out->choice[n], row->names[n]);
        out->choice_count = (pb_size_t)(n + 1u);
    }
}

static void put_signal(corvak_Signal *out, const cvk_signal *row)
{
    *out = (corvak_Signal){.whole = row->whole};
    copy(out->name, sizeof out->name, row->name);
    copy(out->unit, sizeof out->unit, row->unit);
    copy(out->help, sizeof out->help, row->help);
    const int most = (int)(sizeof out->state / sizeof out->state[0]);
    for (int n = 0; row->text != NULL && n < row->states && n < most; n++) {
        copy(out->state[n], sizeof out->state[n], row->text(n));
        out->state_count = (pb_size_t)(n + 1);
    }
}

/* As many rows as there are and fit. */
static void answer_parameters(const corvak_Page *page, corvak_FromController *answer)
{
    answer->which_what = corvak_FromController_parameters_tag;
    corvak_Parameters *p = &answer->what.parameters;
    const pb_size_t most = sizeof p->row / sizeof p->row[0];
    p->first = page->first;
    while (p->row_count < most && cvk_parameter_at(page->first + p->row_count) != NULL) {
        put_parameter(&p->row[p->row_count], cvk_parameter_at(page->first + p->row_count));
        p->row_count++;
    }
    while (p->row_count > 1 && cvk_length_from_controller(answer) > CVK_MESSAGE_BYTES_MAX) {
        p->row_count--;
    }
}

static void answer_signals(const corvak_Page *page, corvak_FromController *answer)
{
    answer->which_what = corvak_FromController_signals_tag;
    corvak_Signals *s = &answer->what.signals;
    const pb_size_t most = sizeof s->row / sizeof s->row[0];
    s->first = page->first;
    while (s->row_count < most && cvk_signal_at(page->first + s->row_count) != NULL) {
        put_signal(&s->row[s->row_count], cvk_signal_at(page->first + s->row_count));
        s->row_count++;
    }
    while (s->row_count > 1 && cvk_length_from_controller(answer) > CVK_MESSAGE_BYTES_MAX) {
        s->row_count--;
    }
}

static void answer_values(const cvk_link *link, const corvak_Page *page,
                          corvak_FromController *answer)
{
    const cvk_settings *settings = cvk_drive_settings(link->drive);
    answer->which_what = corvak_FromController_values_tag;
    corvak_Values *v = &answer->what.values;
    const pb_size_t most = sizeof v->value / sizeof v->value[0];
    v->first = page->first;
    for (const cvk_parameter *row;
         v->value_count < most && (row = cvk_parameter_at(page->first + v->value_count)) != NULL;
         v->value_count++) {
        v->value[v->value_count] = cvk_parameter_get(settings, row);
    }
}

/* A host that begins: what one before it asked for is over, also on a line that two share. */
static void answer_identify(cvk_link *link, corvak_FromController *answer)
{
    if (cvk_drive_release(link->drive, link->config.owner) != CVK_OK) {
        /* it was not ours */
    }
    link->stream_on = link->look_wanted = false;
    link->look_id = link->last_id = 0;
    answer->which_what = corvak_FromController_identity_tag;
    corvak_Identity *identity = &answer->what.identity;
    identity->protocol = CVK_LINK_PROTOCOL;
    identity->owner = link->config.owner;
    identity->parameters = cvk_parameter_count();
    identity->signals = cvk_signal_count();
    identity->period_s = link->hardware.period_s;
    identity->updates_per_period = (uint32_t)link->hardware.updates_per_period;
    copy(identity->name, sizeof identity->name, link->config.name);
    copy(identity->version, sizeof identity->version, link->config.version);
    if (link->config.lock != NULL && !link->unlocked) {
        link->config.lock->challenge(link->config.lock->context, link->challenge);
        identity->challenge.size = CVK_LINK_CHALLENGE_BYTES;
        memcpy(identity->challenge.bytes, link->challenge, CVK_LINK_CHALLENGE_BYTES);
        link->challenged = true;
    }
}

/* ---- settings ------------------------------------------------------------------------------- */

static uint32_t check_of(const cvk_settings *settings)
{
    uint32_t check = 0;
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const float value = cvk_parameter_get(settings, cvk_parameter_at(n));
        check = cvk_check_of_values(check, &value, 1);
    }
    return check;
}

static uint32_t differing(const cvk_settings *a, const cvk_settings *b)
{
    uint32_t count = 0;
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        count += cvk_parameter_get(a, row) != cvk_parameter_get(b, row) ? 1u : 0u;
    }
    return count;
}

static void put_staged(const cvk_link *link, corvak_FromController *answer)
{
    answer->which_what = corvak_FromController_staged_tag;
    answer->what.staged.check = link->draft_check;
    answer->what.staged.differing = differing(&link->draft, cvk_drive_settings(link->drive));
}

static cvk_status stage(cvk_link *link, const corvak_Stage *wanted, corvak_FromController *answer,
                        cvk_refusal *why)
{
    if (cvk_drive_owner(link->drive) != link->config.owner) {
        return CVK_NOT_OWNER;
    }
    const cvk_settings *in_force = cvk_drive_settings(link->drive);
    cvk_settings draft = wanted->fresh ? *in_force : link->draft;
    for (pb_size_t n = 0; n < wanted->setting_count; n++) {
        const cvk_parameter *row = cvk_parameter_at(wanted->setting[n].parameter);
        const cvk_status status =
            row != NULL ? cvk_parameter_set(&draft, row, wanted->setting[n].value, why)
                        : CVK_UNKNOWN_NAME;
        if (status != CVK_OK) {
            return status;
        }
    }
    link->draft = draft;
    link->draft_check = check_of(&draft);
    put_staged(link, answer);
    return CVK_OK;
}

static cvk_status adopt(cvk_link *link, const corvak_Adopt *wanted, cvk_refusal *why)
{
    if (cvk_drive_owner(link->drive) != link->config.owner) {
        return CVK_NOT_OWNER;
    }
    if (wanted->check != link->draft_check) {
        *why = (cvk_refusal){.field = "check",
                             .against = "the draft",
                             .reason = "the draft is not what was staged last: stage it anew"};
        return CVK_CONTRADICTION;
    }
    if (wanted->has_terms) {
        const cvk_trial_terms terms = {wanted->terms.watch_s, wanted->terms.confirm_s,
                                       wanted->terms.current_a, wanted->terms.speed_error_rad_s,
                                       wanted->terms.least_quality};
        return cvk_drive_try(link->drive, link->config.owner, &link->draft, &terms, why);
    }
    return cvk_drive_stage(link->drive, &link->draft, why);
}

/* ---- commands ------------------------------------------------------------------------------- */

static cvk_status say(cvk_link *link, corvak_Word_Kind word)
{
    cvk_drive *drive = link->drive;
    const cvk_owner me = link->config.owner;
    switch (word) {
    case corvak_Word_Kind_REFRESH:
        return cvk_drive_refresh(drive, me);
    case corvak_Word_Kind_RELEASE:
        return cvk_drive_release(drive, me);
    case corvak_Word_Kind_KEEP:
        return cvk_drive_keep(drive, me);
    case corvak_Word_Kind_TAKE_BACK:
        return cvk_drive_take_back(drive, me);
    case corvak_Word_Kind_CALL_GOOD:
        return cvk_drive_call_good(drive, me);
    case corvak_Word_Kind_CLEAR_FAULT:
        return cvk_drive_clear_fault(drive, me);
    default:
        return UNREADABLE;
    }
}

static cvk_status hand_over(cvk_link *link, uint32_t to, cvk_refusal *why)
{
    const cvk_status status = cvk_check_range("to", (float)to, 1.0f, 255.0f, why);
    if (status != CVK_OK) {
        return status;
    }
    if (!cvk_drive_is_there(link->drive, (cvk_owner)to)) {
        *why = (cvk_refusal){.field = "to",
                             .value = (float)to,
                             .against = "the links that are there",
                             .reason = "nobody is on that link, so nobody could stop the motor"};
        return CVK_CONTRADICTION;
    }
    return cvk_drive_hand_over(link->drive, link->config.owner, (cvk_owner)to);
}

/* What anybody may ask for, at any time. */
static bool is_a_stop(const corvak_ToController *m)
{
    return m->which_what == corvak_ToController_request_tag &&
           (m->what.request.mode == corvak_Request_Mode_OFF ||
            m->what.request.mode == corvak_Request_Mode_STOP);
}

static cvk_status request(cvk_link *link, const corvak_Request *wanted, cvk_refusal *why)
{
    const bool off = wanted->mode == corvak_Request_Mode_OFF;
    if ((off || wanted->mode == corvak_Request_Mode_STOP) &&
        cvk_drive_owner(link->drive) != link->config.owner) {
        cvk_drive_stop(link->drive, off);
        return CVK_OK;
    }
    const cvk_request r = {.mode = (int32_t)wanted->mode,
                           .voltage_v = {wanted->voltage_alpha_v, wanted->voltage_beta_v},
                           .current_a = {wanted->current_d_a, wanted->current_q_a},
                           .speed_rad_s = wanted->speed_rad_s,
                           .torque_nm = wanted->torque_nm,
                           .position_turns = wanted->position_turns,
                           .position_mech_rad = wanted->position_mech_rad};
    const cvk_status status = cvk_drive_run(link->drive, link->config.owner, NULL, why);
    return status == CVK_OK ? cvk_drive_request(link->drive, link->config.owner, &r, why) : status;
}

/* One that runs is ended before its memory is written anew. */
static cvk_status excite(cvk_link *link, const char *name, cvk_refusal *why)
{
    const cvk_program *program = cvk_program_named(name);
    cvk_excitation *memory = link->config.excitation;
    cvk_status status = cvk_drive_run(link->drive, link->config.owner, NULL, why);
    if (status != CVK_OK || name[0] == '\0') {
        return status;
    }
    if (program == NULL || memory == NULL) {
        *why = (cvk_refusal){.field = memory == NULL ? "excitation" : "name"};
        return CVK_UNKNOWN_NAME;
    }
    status = cvk_program_prepare(program, memory, cvk_drive_settings(link->drive), &link->hardware,
                                 cvk_drive_now(link->drive)->bus_v, why);
    return status == CVK_OK ? cvk_drive_run(link->drive, link->config.owner, memory, why) : status;
}

static cvk_status claim(cvk_link *link, float lease_s, cvk_refusal *why)
{
    const float most_s = link->config.most_lease_s;
    const cvk_status status = cvk_check_range("lease_s", lease_s, 0.01f,
                                              most_s > 0.0f ? most_s : CVK_LINK_MOST_LEASE_S, why);
    return status == CVK_OK ? cvk_drive_claim(link->drive, link->config.owner, lease_s) : status;
}

static cvk_status unlock(cvk_link *link, const corvak_Unlock *said)
{
    const cvk_link_lock *lock = link->config.lock;
    const bool fits =
        lock == NULL || (link->challenged && said->proof.size == CVK_LINK_PROOF_BYTES &&
                         lock->opens(lock->context, link->challenge, said->proof.bytes));
    link->challenged = false; /* one try for each */
    link->unlocked = link->unlocked || fits;
    link->wrong_proofs = (uint8_t)(link->wrong_proofs + (fits ? 0u : 1u));
    return link->unlocked ? CVK_OK : CVK_LOCKED;
}

static cvk_status command(cvk_link *link, const corvak_ToController *m,
                          corvak_FromController *answer, cvk_refusal *why)
{
    switch (m->which_what) {
    case corvak_ToController_unlock_tag:
        return unlock(link, &m->what.unlock);
    case corvak_ToController_stage_tag:
        return stage(link, &m->what.stage, answer, why);
    case corvak_ToController_adopt_tag:
        return adopt(link, &m->what.adopt, why);
    case corvak_ToController_word_tag:
        return say(link, m->what.word.kind);
    case corvak_ToController_claim_tag:
        return claim(link, m->what.claim.lease_s, why);
    case corvak_ToController_hand_over_tag:
        return hand_over(link, m->what.hand_over.to, why);
    case corvak_ToController_request_tag:
        return request(link, &m->what.request, why);
    case corvak_ToController_excite_tag:
        return excite(link, m->what.excite.name, why);
    case corvak_ToController_stream_tag:
        return cvk_link_begin_stream(link, &m->what.stream, why);
    case corvak_ToController_look_tag:
        return cvk_link_begin_look(link, m->id, &m->what.look, why);
    default:
        return UNREADABLE;
    }
}

/* May be done twice; and a lease is refreshed between a command and its repetition. A stop is never
 * taken for a repetition. */
static bool harmless(const corvak_ToController *m)
{
    return m->which_what == corvak_ToController_look_tag || is_a_stop(m) ||
           (m->which_what == corvak_ToController_word_tag &&
            m->what.word.kind == corvak_Word_Kind_REFRESH);
}

/* A command that comes again, because its answer was lost, is answered again and done once. */
static cvk_status command_once(cvk_link *link, const corvak_ToController *m,
                               corvak_FromController *answer, cvk_refusal *why)
{
    if (harmless(m)) {
        return command(link, m, answer, why);
    }
    const uint32_t check = cvk_check_of_bytes(link->reader.bytes, link->reader.length);
    if (m->id == 0u || m->id != link->last_id || check != link->last_check) {
        link->last_status = command(link, m, answer, why);
        link->last_why = *why;
        link->last_id = m->id;
        link->last_check = check;
    } else if (m->which_what == corvak_ToController_stage_tag && link->last_status == CVK_OK) {
        put_staged(link, answer);
    }
    *why = link->last_why;
    return link->last_status;
}

bool cvk_link_answer(cvk_link *link, const corvak_ToController *m, corvak_FromController *answer)
{
    cvk_refusal why = {0};
    const bool may = link->config.lock == NULL || link->unlocked ||
                     m->which_what == corvak_ToController_identify_tag ||
                     m->which_what == corvak_ToController_unlock_tag;
    cvk_status status = CVK_OK;
    answer->which_what = corvak_FromController_done_tag;
    if (!may) {
        cvk_link_refuse(answer, CVK_LOCKED, &why);
        return true;
    }
    switch (m->which_what) {
    case corvak_ToController_identify_tag:
        answer_identify(link, answer);
        break;
    case corvak_ToController_parameters_tag:
        answer_parameters(&m->what.parameters, answer);
        break;
    case corvak_ToController_signals_tag:
        answer_signals(&m->what.signals, answer);
        break;
    case corvak_ToController_values_tag:
        answer_values(link, &m->what.values, answer);
        break;
    default:
        status = command_once(link, m, answer, &why);
    }
    if (status != CVK_OK) {
        cvk_link_refuse(answer, status, &why);
    }
    return status != CVK_OK || m->which_what != corvak_ToController_look_tag;
}
