/* SPDX-License-Identifier: Apache-2.0
 *
 * The controller's end of a link: answers a host over one byte stream of the port. No heap; each
 * call is bounded: cvk_link_poll() reads at most 64 bytes, answers at most one message and sends at
 * most one frame. Several links may serve one drive; one of them at most is its owner.
 *
 * In the current-sample interrupt, right after cvk_drive_control(): cvk_link_sample() for each
 * link. In a task, as often as there is time, and at about 1 kHz at least: cvk_link_poll().
 */
#ifndef CORVAK_LINK_CONTROLLER_H
#define CORVAK_LINK_CONTROLLER_H

#include "corvak/core/drive.h"
#include "corvak/core/signals.h"
#include "corvak/link/framing.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_LINK_STREAM_SIGNALS 48u
#define CVK_LINK_MOST_LEASE_S 10.0f
#define CVK_LINK_IDLE_S 30.0f
#define CVK_LINK_CHALLENGE_BYTES 16u
#define CVK_LINK_PROOF_BYTES 32u
#define CVK_LINK_READ_BYTES 64u

/* Who may in: whoever proves a shared secret, by HMAC-SHA-256 of a challenge (hmac.h, or a
 * library's own). */
typedef struct cvk_link_lock {
    void *context;
    /* Bytes that nobody can foretell. */
    void (*challenge)(void *context, uint8_t bytes[CVK_LINK_CHALLENGE_BYTES]);
    bool (*opens)(void *context, const uint8_t challenge[CVK_LINK_CHALLENGE_BYTES],
                  const uint8_t proof[CVK_LINK_PROOF_BYTES]);
} cvk_link_lock;

typedef struct cvk_link_config {
    uint8_t stream;      /* which of the port's byte streams */
    cvk_owner owner;     /* as whom this link commands: not CVK_NOBODY, another for each link */
    const char *name;    /* of the controller: at most 31 characters */
    const char *version; /* of its program: at most 15 */
    const cvk_link_lock *lock; /* null: whoever has the line may in */
    float most_lease_s;        /* longest lease that may be claimed; 0: CVK_LINK_MOST_LEASE_S */
    /* Rows of a stream wait here for their turn: words of the caller's, at least 64. A row takes
     * one more than it has signals. */
    uint32_t *store;
    uint32_t store_words;
    cvk_excitation *excitation; /* memory for one that a host runs; null: none can be run */
    bool rows_apart; /* the host is in this process, and takes rows by cvk_link_take_rows() */
} cvk_link_config;

/* Rows of a stream, one after the other: `count` of them, the first at `tick`, each further one
 * `decimation` control calls later; `columns` values in each. */
typedef struct cvk_link_rows {
    uint32_t tick, decimation, lost; /* rows since the stream began that found no room */
    unsigned count, columns;
} cvk_link_rows;

/* What a host has asked to see. Its halves are written by the task and the interrupt: see link.c */
typedef struct cvk_link_sampler {
    uint8_t count; /* signals; 0: nothing */
    const cvk_signal *signal[CVK_LINK_STREAM_SIGNALS];
} cvk_link_sampler;

/* One link. The caller owns it; all of it is private. */
typedef struct cvk_link {
    cvk_drive *drive;
    const cvk_port *port;
    cvk_hardware hardware;
    cvk_link_config config;
    /* coming */
    cvk_frame_reader reader;
    uint8_t read[CVK_LINK_READ_BYTES];
    uint32_t read_count, read_taken;
    /* going */
    uint8_t wire[CVK_FRAME_BYTES_MAX];
    uint32_t wire_count, wire_sent;
    uint8_t turn; /* of what may be sent next */
    /* the draft of settings */
    cvk_settings draft;
    uint32_t draft_check;
    /* the last command, in case that it comes again */
    uint32_t last_id, last_check;
    cvk_status last_status;
    cvk_refusal last_why;
    /* last state that was sent */
    uint32_t state_sent[10];
    uint32_t state_us;
    /* whether a host is there, and may in */
    bool there, challenged, unlocked, ended;
    uint8_t wrong_proofs;
    uint8_t challenge[CVK_LINK_CHALLENGE_BYTES];
    uint32_t heard_us;
    /* stream and look: `stream_on` and `look_wanted` hand them to the interrupt */
    cvk_link_sampler stream, look;
    volatile bool stream_on, look_wanted;
    uint32_t look_id;
    uint32_t look_tick;
    float look_value[CVK_LINK_STREAM_SIGNALS];
    uint32_t decimation, until_row;
    uint32_t rows;                       /* that the store holds at most */
    volatile uint32_t rows_in, rows_out; /* since the stream began; wrap around */
    volatile uint32_t lost;
} cvk_link;

/* Before the interrupt is enabled, or before cvk_link_sample() is first called for it. `drive`,
 * `port`, names and store must outlive their use. CVK_NULL_ARGUMENT, also for a port without byte
 * streams; CVK_OUT_OF_RANGE for nobody as the owner or a store that is too small. */
cvk_status cvk_link_init(cvk_link *link, cvk_drive *drive, const cvk_port *port,
                         const cvk_hardware *hardware, const cvk_link_config *config,
                         cvk_refusal *why) CVK_MUST_CHECK;

/* Keeps the moment's signals that the host asked for. Interrupt. */
void cvk_link_sample(cvk_link *link);

/* True while there is more to do at once. A host of which nothing is heard for CVK_LINK_IDLE_S is
 * gone: cvk_link_dismiss(). Task. */
bool cvk_link_poll(cvk_link *link);

/* With `rows_apart`: the next rows, as many as `room` values hold and none was lost between. False
 * when none wait. The interrupt fills, whoever calls this empties. */
bool cvk_link_take_rows(cvk_link *link, float *value, unsigned room, cvk_link_rows *rows);

/* Tells the host why it has to go, and lets the drive go. What carries the bytes may be closed once
 * they are sent (cvk_link_has_ended()); on a line that stays, the next host identifies itself
 * anew. Task. */
void cvk_link_dismiss(cvk_link *link, const char *reason);
bool cvk_link_has_ended(const cvk_link *link);

/* The same for a host that finds no link free: a frame to be sent to it. Returns its length. */
size_t cvk_link_write_dismissal(const char *reason, uint8_t *wire, size_t room);

/* The other end is known to be gone: the drive is released, when this link owns it, and the link
 * begins anew. Task. */
void cvk_link_close(cvk_link *link);

#ifdef __cplusplus
}
#endif
#endif
