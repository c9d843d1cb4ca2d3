/* SPDX-License-Identifier: Apache-2.0
 *
 * The wire within the process.
 */
#include "corvak/sim/wire.h"

#include <stdlib.h>
#include <threads.h>
#include <time.h>

#define STEP_S 0.5e-3

typedef struct inner {
    cvk_sim_controller *controller;
    int link;
    bool paced;
} inner;

static double now_s(void *context)
{
    return cvk_sim_controller_time_s(((inner *)context)->controller);
}

/* Half a millisecond of the rig; when paced, it takes as long. */
static void go_on(const inner *w)
{
    struct timespec before, after;
    const double until_s = cvk_sim_controller_time_s(w->controller) + STEP_S;
    if (!w->paced) {
        cvk_sim_controller_run(w->controller, until_s);
        return;
    }
    timespec_get(&before, TIME_UTC);
    cvk_sim_controller_run(w->controller, until_s);
    timespec_get(&after, TIME_UTC);
    const double took_s =
        (double)(after.tv_sec - before.tv_sec) + 1e-9 * (double)(after.tv_nsec - before.tv_nsec);
    if (took_s >= 0.0 && took_s < STEP_S) {
        thrd_sleep(&(struct timespec){.tv_nsec = (long)(1e9 * (STEP_S - took_s))}, NULL);
    }
}

static int read_bytes(void *context, uint8_t *bytes, size_t room, double timeout_s)
{
    inner *w = context;
    const double until_s = now_s(w) + timeout_s;
    size_t got = cvk_sim_controller_get(w->controller, w->link, bytes, room);
    while (got == 0 && now_s(w) < until_s && !cvk_sim_controller_has_rows(w->controller, w->link)) {
        go_on(w);
        got = cvk_sim_controller_get(w->controller, w->link, bytes, room);
    }
    return (int)got;
}

static bool write_bytes(void *context, const uint8_t *bytes, size_t count)
{
    inner *w = context;
    const double until_s = now_s(w) + 1.0;
    size_t sent = cvk_sim_controller_put(w->controller, w->link, bytes, count);
    while (sent < count && now_s(w) < until_s) {
        go_on(w);
        sent += cvk_sim_controller_put(w->controller, w->link, bytes + sent, count - sent);
    }
    return sent == count;
}

static bool rows(void *context, float *value, unsigned room, cvk_link_rows *out)
{
    const inner *w = context;
    return cvk_sim_controller_take_rows(w->controller, w->link, value, room, out);
}

static int descriptor(void *context)
{
    (void)context;
    return -1;
}

static void close_wire(void *context)
{
    inner *w = context;
    cvk_sim_controller_disconnect(w->controller, w->link);
    free(w);
}

cvk_status cvk_sim_wire_open(cvk_wire *wire, cvk_sim_controller *controller, bool paced)
{
    inner *w = calloc(1, sizeof *w);
    *wire = (cvk_wire){.context = NULL};
    if (w == NULL) {
        return CVK_NO_MEMORY;
    }
    *w = (inner){controller, cvk_sim_controller_connect(controller, true), paced};
    if (w->link < 0) {
        free(w);
        return CVK_BUSY;
    }
    *wire = (cvk_wire){.read = read_bytes,
                       .write = write_bytes,
                       .now_s = now_s,
                       .descriptor = descriptor,
                       .rows = rows,
                       .close = close_wire};
    wire->context = w;
    return CVK_OK;
}
