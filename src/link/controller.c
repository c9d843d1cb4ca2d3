/* SPDX-License-Identifier: Apache-2.0
 *
 * The controller's end: bytes in, bytes out, and whose turn it is to be sent.
 */
#include "parts.h"

#include <stdatomic.h>
#include <string.h>

#define WRONG_PROOFS 3u
#define STATE_EVERY_US 100000u

enum { STATE_PARTS = sizeof((cvk_link *)0)->state_sent / sizeof(uint32_t) };

cvk_status cvk_link_init(cvk_link *link, cvk_drive *drive, const cvk_port *port,
                         const cvk_hardware *hardware, const cvk_link_config *config,
                         cvk_refusal *why)
{
    if (link == NULL || drive == NULL || port == NULL || hardware == NULL || config == NULL ||
        config->name == NULL || config->version == NULL || config->store == NULL ||
        port->stream_read == NULL || port->stream_write == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_status status = cvk_check_range("owner", (float)config->owner, 1.0f, 255.0f, why);
    if (status == CVK_OK) {
        status = cvk_check_range("store_words", (float)config->store_words, 64.0f, 1e9f, why);
    }
    if (status == CVK_OK) {
        *link = (cvk_link){
            .drive = drive, .port = port, .hardware = *hardware, .config = *config, .rows = 1};
        link->draft = *cvk_drive_settings(drive);
    }
    return status;
}

/* Nobody is there: the drive is not kept, nor handed over to here. */
static void leave(cvk_link *link)
{
    if (cvk_drive_release(link->drive, link->config.owner) != CVK_OK) {
        /* it was not ours */
    }
    cvk_drive_leave(link->drive, link->config.owner);
    link->there = link->challenged = link->unlocked = false;
    link->wrong_proofs = 0;
    link->stream_on = link->look_wanted = false;
    link->look_id = 0;
}

void cvk_link_close(cvk_link *link)
{
    leave(link);
    link->ended = false;
    link->reader = (cvk_frame_reader){.state = 0};
    link->read_count = link->read_taken = link->wire_count = link->wire_sent = 0;
    link->draft = *cvk_drive_settings(link->drive);
    link->draft_check = 0;
    memset(link->state_sent, 0, sizeof link->state_sent);
}

/* Sends what waits. False while some of it does: then nothing else is taken up, so a host that does
 * not read is not served, and loses its lease. */
static bool flush(cvk_link *link)
{
    if (link->wire_sent < link->wire_count) {
        link->wire_sent += link->port->stream_write(link->port->context, link->config.stream,
                                                    &link->wire[link->wire_sent],
                                                    link->wire_count - link->wire_sent);
    }
    return link->wire_sent >= link->wire_count;
}

static void send(cvk_link *link, const corvak_FromController *message)
{
    link->wire_count = (uint32_t)cvk_write_from_controller(message, link->wire, sizeof link->wire);
    link->wire_sent = 0;
}

void cvk_link_dismiss(cvk_link *link, const char *reason)
{
    leave(link);
    link->wire_count = (uint32_t)cvk_link_write_dismissal(reason, link->wire, sizeof link->wire);
    link->wire_sent = 0;
    link->ended = true;
}

bool cvk_link_has_ended(const cvk_link *link)
{
    return link->ended;
}

size_t cvk_link_write_dismissal(const char *reason, uint8_t *wire, size_t room)
{
    const cvk_refusal why = {.field = "link", .reason = reason};
    corvak_FromController message = corvak_FromController_init_zero;
    cvk_link_refuse(&message, CVK_BUSY, &why);
    return cvk_write_from_controller(&message, wire, room);
}

/* Up to the end of one message. */
static bool receive(cvk_link *link)
{
    if (link->read_taken == link->read_count) {
        link->read_taken = 0;
        link->read_count = link->port->stream_read(link->port->context, link->config.stream,
                                                   link->read, sizeof link->read);
    }
    while (link->read_taken < link->read_count) {
        if (cvk_frame_read(&link->reader, link->read[link->read_taken++])) {
            return true;
        }
    }
    return false;
}

static uint32_t time_us(const cvk_link *link)
{
    return link->port->clock_us != NULL ? link->port->clock_us(link->port->context)
                                        : (uint32_t)((float)cvk_drive_now(link->drive)->tick *
                                                     link->hardware.period_s * 1e6f);
}

/* Whoever says something is there; after an end only who begins anew. */
static void hear(cvk_link *link, const corvak_ToController *message, bool readable)
{
    link->heard_us = time_us(link);
    link->ended =
        link->ended && !(readable && message->which_what == corvak_ToController_identify_tag);
    link->there = (link->there || readable) && !link->ended;
    if (link->there) {
        cvk_drive_arrive(link->drive, link->config.owner);
    }
}

static bool send_answer(cvk_link *link)
{
    corvak_ToController message = corvak_ToController_init_zero;
    corvak_FromController answer = corvak_FromController_init_zero;
    if (!receive(link)) {
        return false;
    }
    const bool readable = cvk_read_to_controller(link->reader.bytes, link->reader.length, &message);
    answer.id = message.id;
    hear(link, &message, readable);
    if (link->ended) {
        return false;
    }
    if (!readable) {
        const cvk_refusal why = {.field = "message"};
        cvk_link_refuse(&answer, CVK_BAD_FORMAT, &why);
    } else if (!cvk_link_answer(link, &message, &answer)) {
        return false;
    }
    if (link->wrong_proofs >= WRONG_PROOFS) { /* in place of the answer */
        cvk_link_dismiss(link, "wrong secret");
        return true;
    }
    if (link->config.lock != NULL && !link->unlocked) { /* not to be handed over to either */
        cvk_drive_leave(link->drive, link->config.owner);
    }
    send(link, &answer);
    return true;
}

/* Of one control call: again when the interrupt came in between. Returns its tick. */
static uint32_t copy_state(const cvk_link *link, uint32_t *state)
{
    const cvk_moment *now = cvk_drive_now(link->drive);
    const volatile uint32_t *tick = &now->tick;
    uint32_t before;
    do {
        before = *tick;
        atomic_signal_fence(memory_order_seq_cst);
        state[0] = (uint32_t)now->request.mode;
        state[1] = (uint32_t)now->start_phase;
        state[2] = (uint32_t)now->fault;
        state[3] = now->bridge_on != 0 ? 1u : 0u;
        state[4] = cvk_drive_owner(link->drive);
        state[5] = (uint32_t)now->angle_source;
        state[6] = (uint32_t)now->trial;
        state[7] = (uint32_t)now->trial_reason;
        state[8] = (uint32_t)now->settings_number;
        state[9] = 1u; /* never all alike with the zeros of the beginning */
        atomic_signal_fence(memory_order_seq_cst);
    } while (before != *tick);
    return before;
}

static bool send_state(cvk_link *link)
{
    if (link->ended || (link->config.lock != NULL && !link->unlocked)) {
        return false;
    }
    uint32_t state[STATE_PARTS];
    const uint32_t tick = copy_state(link, state);
    const uint32_t at_us = time_us(link);
    if (memcmp(state, link->state_sent, sizeof state) == 0 &&
        at_us - link->state_us < STATE_EVERY_US) {
        return false;
    }
    memcpy(link->state_sent, state, sizeof state);
    link->state_us = at_us;
    corvak_FromController message = corvak_FromController_init_zero;
    message.which_what = corvak_FromController_state_tag;
    message.what.state =
        (corvak_State){.tick = tick,
                       .mode = (corvak_Request_Mode)state[0],
                       .start_phase = state[1],
                       .fault = state[2],
                       .bridge_on = state[3] != 0u,
                       .owner = state[4],
                       .angle_source = state[5],
                       .trial = state[6],
                       .trial_reason = state[7],
                       .settings_number = state[8],
                       .damaged = link->reader.counts.damaged + link->reader.counts.broken};
    send(link, &message);
    return true;
}

static bool send_look(cvk_link *link)
{
    corvak_FromController message = corvak_FromController_init_zero;
    const bool there = cvk_link_take_look(link, &message);
    if (there) {
        send(link, &message);
    }
    return there;
}

static bool send_samples(cvk_link *link)
{
    corvak_FromController message = corvak_FromController_init_zero;
    const bool there = cvk_link_take_samples(link, &message);
    if (there) {
        send(link, &message);
    }
    return there;
}

bool cvk_link_poll(cvk_link *link)
{
    static bool (*const kinds[])(cvk_link *) = {send_answer, send_state, send_look, send_samples};
    enum { KINDS = sizeof kinds / sizeof kinds[0] };
    if (link->there && time_us(link) - link->heard_us > (uint32_t)(1e6f * CVK_LINK_IDLE_S)) {
        cvk_link_dismiss(link, "nothing was heard of you for 30 s");
    }
    if (!flush(link)) {
        return false;
    }
    for (unsigned n = 0; n < KINDS; n++) { /* in turn, so that none keeps the others waiting */
        const unsigned kind = (link->turn + n) % KINDS;
        if (kinds[kind](link)) {
            link->turn = (uint8_t)((kind + 1u) % KINDS);
            flush(link);
            return true;
        }
    }
    return link->read_count == sizeof link->read;
}
