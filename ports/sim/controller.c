/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated controller with its links: what a microcontroller's main loop and interrupt do.
 */
#include "corvak/sim/controller.h"

#include "corvak/link/controller.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

enum { STORE_WORDS = 16384, IN_BYTES = 4096, OUT_BYTES = 65536, POLLS_MOST = 64 };
#define POLL_S 0.25e-3
#define SUPERVISE_S 1e-3
#define CROWDED_S 3.0
#define CLEAR_SHARE 2 /* a queue is moved to its beginning when so much of it has been taken */

/* Bytes on their way: behind the end of what waits there is room for more. */
typedef struct queue {
    uint8_t *bytes;
    size_t size, from, to;
} queue;

typedef struct connection {
    cvk_sim_controller *controller;
    bool open;
    cvk_port port; /* with this connection as its one byte stream */
    cvk_link link;
    queue in, out;
    uint8_t in_bytes[IN_BYTES], out_bytes[OUT_BYTES];
    uint32_t store[STORE_WORDS];
    cvk_excitation excitation;
} connection;

struct cvk_sim_controller {
    cvk_sim sim;
    cvk_hardware hardware;
    char name[32];
    const cvk_link_lock *lock;
    double crowded_s; /* since then all links are taken, and nobody commands; NaN: not so */
    int last;         /* link that came last */
    double polled_s, supervised_s;
    connection connection[CVK_SIM_LINKS];
    cvk_bench_truth truth[CVK_SIM_REMEMBERED]; /* by tick */
    uint32_t tick;                             /* of the last */
};

/* ---- bytes ---------------------------------------------------------------------------------- */

static size_t put(queue *q, const uint8_t *bytes, size_t count)
{
    if (q->from > q->size / CLEAR_SHARE) {
        memmove(q->bytes, q->bytes + q->from, q->to - q->from);
        q->to -= q->from;
        q->from = 0;
    }
    const size_t room = q->size - q->to, taken = count < room ? count : room;
    memcpy(q->bytes + q->to, bytes, taken);
    q->to += taken;
    return taken;
}

static size_t take(queue *q, uint8_t *bytes, size_t room)
{
    const size_t waiting = q->to - q->from, taken = waiting < room ? waiting : room;
    memcpy(bytes, q->bytes + q->from, taken);
    q->from += taken;
    if (q->from == q->to) {
        q->from = q->to = 0;
    }
    return taken;
}

static uint32_t stream_read(void *context, uint8_t stream, uint8_t *bytes, uint32_t room)
{
    (void)stream;
    return (uint32_t)take(&((connection *)context)->in, bytes, room);
}

static uint32_t stream_write(void *context, uint8_t stream, const uint8_t *bytes, uint32_t count)
{
    (void)stream;
    return (uint32_t)put(&((connection *)context)->out, bytes, count);
}

static uint32_t clock_us(void *context)
{
    const double time_s = cvk_sim_controller_time_s(((connection *)context)->controller);
    return (uint32_t)fmod(time_s * 1e6, 4294967296.0);
}

/* ---- the controller ------------------------------------------------------------------------- */

cvk_status cvk_sim_controller_open(cvk_sim_controller **controller, const cvk_rig_config *config,
                                   uint64_t seed, cvk_refusal *why)
{
    cvk_sim_controller *c = calloc(1, sizeof *c);
    *controller = c;
    if (c == NULL) {
        return CVK_NO_MEMORY;
    }
    cvk_status status = cvk_sim_init(&c->sim, config, seed, why);
    if (status == CVK_OK) {
        c->hardware = cvk_sim_hardware(config);
        memcpy(c->name, config->name, sizeof c->name - 1);
        c->crowded_s = (double)NAN;
        status = cvk_drive_release(&c->sim.drive, CVK_SIM_OWNER);
    }
    return status;
}

void cvk_sim_controller_close(cvk_sim_controller *c)
{
    if (c != NULL) {
        cvk_sim_close(&c->sim);
        free(c);
    }
}

double cvk_sim_controller_time_s(const cvk_sim_controller *c)
{
    return cvk_rig_time_s(c->sim.rig);
}

const cvk_moment *cvk_sim_controller_now(const cvk_sim_controller *c)
{
    return cvk_drive_now(&c->sim.drive);
}

cvk_sim *cvk_sim_controller_inside(cvk_sim_controller *c)
{
    return &c->sim;
}

static void remember(cvk_sim_controller *c)
{
    c->tick = cvk_drive_now(&c->sim.drive)->tick;
    c->truth[c->tick % CVK_SIM_REMEMBERED] = c->sim.truth;
}

bool cvk_sim_controller_truth(const cvk_sim_controller *c, uint32_t tick, cvk_bench_truth *truth)
{
    *truth = c->truth[tick % CVK_SIM_REMEMBERED];
    return c->tick - tick < CVK_SIM_REMEMBERED;
}

bool cvk_sim_controller_has_rows(const cvk_sim_controller *c, int link)
{
    const cvk_link *l = &c->connection[link].link;
    return l->stream_on && l->rows_in != l->rows_out;
}

bool cvk_sim_controller_take_rows(cvk_sim_controller *c, int link, float *value, unsigned room,
                                  cvk_link_rows *rows)
{
    return cvk_link_take_rows(&c->connection[link].link, value, room, rows);
}

static void serve(connection *link)
{
    for (int n = 0; n < POLLS_MOST && cvk_link_poll(&link->link); n++) {
    }
}

/* One place is kept for an owner: when all are taken and nobody commands, who came last goes. */
static void keep_a_place(cvk_sim_controller *c, double time_s)
{
    int open = 0;
    for (int n = 0; n < CVK_SIM_LINKS; n++) {
        open += c->connection[n].open ? 1 : 0;
    }
    if (open < CVK_SIM_LINKS || cvk_drive_owner(&c->sim.drive) != CVK_NOBODY) {
        c->crowded_s = (double)NAN;
    } else if (isnan(c->crowded_s)) {
        c->crowded_s = time_s;
    } else if (time_s - c->crowded_s > CROWDED_S) {
        cvk_link_dismiss(&c->connection[c->last].link,
                         "the last place is for who commands: claim within 3 s");
        serve(&c->connection[c->last]); /* told before it is dropped */
    }
}

static void sample_and_serve(cvk_sim_controller *c, bool poll)
{
    for (int n = 0; n < CVK_SIM_LINKS; n++) {
        connection *link = &c->connection[n];
        if (link->open) {
            cvk_link_sample(&link->link);
        }
        if (link->open && poll) {
            serve(link);
        }
    }
}

void cvk_sim_controller_run(cvk_sim_controller *c, double until_s)
{
    double time_s = cvk_sim_controller_time_s(c);
    while (time_s < until_s) {
        cvk_sim_step(&c->sim);
        remember(c);
        time_s = cvk_sim_controller_time_s(c);
        const bool poll = time_s - c->polled_s >= POLL_S;
        c->polled_s = poll ? time_s : c->polled_s;
        sample_and_serve(c, poll);
        if (time_s - c->supervised_s >= SUPERVISE_S) {
            cvk_drive_supervise(&c->sim.drive);
            keep_a_place(c, time_s);
            c->supervised_s = time_s;
        }
    }
}

/* ---- links ---------------------------------------------------------------------------------- */

int cvk_sim_controller_connect(cvk_sim_controller *c, bool rows_apart)
{
    int n = 0;
    while (n < CVK_SIM_LINKS && c->connection[n].open) {
        n++;
    }
    if (n == CVK_SIM_LINKS) {
        return -1;
    }
    connection *link = &c->connection[n];
    const cvk_link_config config = {.owner = (cvk_owner)(1 + n),
                                    .name = c->name,
                                    .version = "simulated",
                                    .lock = c->lock,
                                    .store = link->store,
                                    .store_words = STORE_WORDS,
                                    .excitation = &link->excitation,
                                    .rows_apart = rows_apart};
    link->controller = c;
    link->in = (queue){link->in_bytes, sizeof link->in_bytes, 0, 0};
    link->out = (queue){link->out_bytes, sizeof link->out_bytes, 0, 0};
    link->port = (cvk_port){.context = link,
                            .stream_read = stream_read,
                            .stream_write = stream_write,
                            .clock_us = clock_us};
    link->open = cvk_link_init(&link->link, &c->sim.drive, &link->port, &c->hardware, &config,
                               NULL) == CVK_OK;
    c->last = link->open ? n : c->last;
    return link->open ? n : -1;
}

void cvk_sim_controller_lock(cvk_sim_controller *c, const cvk_link_lock *lock)
{
    c->lock = lock;
}

bool cvk_sim_controller_is_there(const cvk_sim_controller *c, int link)
{
    return cvk_drive_is_there(&c->sim.drive, c->connection[link].link.config.owner);
}

void cvk_sim_controller_dismiss(cvk_sim_controller *c, int link, const char *reason)
{
    cvk_link_dismiss(&c->connection[link].link, reason);
}

bool cvk_sim_controller_has_ended(const cvk_sim_controller *c, int link)
{
    return cvk_link_has_ended(&c->connection[link].link);
}

void cvk_sim_controller_stop(cvk_sim_controller *c, bool at_once)
{
    cvk_drive_stop(&c->sim.drive, at_once);
}

void cvk_sim_controller_disconnect(cvk_sim_controller *c, int link)
{
    if (c->connection[link].open) {
        cvk_link_close(&c->connection[link].link);
        c->connection[link].open = false;
    }
}

size_t cvk_sim_controller_put(cvk_sim_controller *c, int link, const uint8_t *bytes, size_t count)
{
    connection *to = &c->connection[link];
    size_t taken = 0;
    for (size_t now = 1; now > 0 && taken < count && to->open;) {
        now = put(&to->in, bytes + taken, count - taken);
        taken += now;
        serve(to);
    }
    return taken;
}

size_t cvk_sim_controller_get(cvk_sim_controller *c, int link, uint8_t *bytes, size_t room)
{
    return c->connection[link].open ? take(&c->connection[link].out, bytes, room) : 0;
}
