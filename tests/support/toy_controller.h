/* SPDX-License-Identifier: Apache-2.0
 *
 * A drive without a motor, and its link over two byte queues: for tests of what is said, not of
 * what turns. Its control calls come every millisecond, so that an hour takes a second.
 */
#ifndef CORVAK_TESTS_TOY_CONTROLLER_H
#define CORVAK_TESTS_TOY_CONTROLLER_H

#include "corvak/link/controller.h"
#include "corvak/link/messages.h"

#include <string.h>

enum { TOY_QUEUE = 8192 };

typedef struct toy_queue {
    uint8_t bytes[TOY_QUEUE];
    uint32_t count;
    bool blocked; /* nobody takes anything out */
} toy_queue;

typedef struct toy_controller {
    cvk_drive drive;
    cvk_link link;
    cvk_port port;
    toy_queue in, out;
    uint32_t store[1024];
    bool gates_on;
    cvk_readings readings;
} toy_controller;

static inline void toy_gate(void *context, bool enable)
{
    ((toy_controller *)context)->gates_on = enable;
}

static inline uint32_t toy_read(void *context, uint8_t stream, uint8_t *bytes, uint32_t room)
{
    toy_queue *q = &((toy_controller *)context)->in;
    const uint32_t taken = q->count < room ? q->count : room;
    (void)stream;
    memcpy(bytes, q->bytes, taken);
    memmove(q->bytes, q->bytes + taken, q->count - taken);
    q->count -= taken;
    return taken;
}

static inline uint32_t toy_write(void *context, uint8_t stream, const uint8_t *bytes,
                                 uint32_t count)
{
    toy_queue *q = &((toy_controller *)context)->out;
    const uint32_t room = q->blocked ? 0u : (uint32_t)TOY_QUEUE - q->count;
    const uint32_t taken = count < room ? count : room;
    (void)stream;
    memcpy(q->bytes + q->count, bytes, taken);
    q->count += taken;
    return taken;
}

static inline cvk_settings toy_settings(void)
{
    cvk_settings s = cvk_settings_default();
    s.motor = (cvk_motor_settings){4, 0.1f, 1e-4f, 1.5e-4f, 0.01f};
    s.rotor.kind = CVK_ROTOR_ABSOLUTE;
    s.current.bandwidth_hz = 50.0f;
    return s;
}

static inline cvk_status toy_open(toy_controller *t)
{
    cvk_hardware hardware = cvk_hardware_default();
    const cvk_settings settings = toy_settings();
    hardware.period_s = 1e-3f;
    memset(t, 0, sizeof *t);
    t->readings = (cvk_readings){.current_valid = CVK_ALL_CURRENTS_VALID, .bus_v = 24.0f};
    t->port = (cvk_port){
        .context = t, .gate_enable = toy_gate, .stream_read = toy_read, .stream_write = toy_write};
    const cvk_link_config config = {.owner = 7,
                                    .name = "toy",
                                    .version = "1",
                                    .store = t->store,
                                    .store_words = sizeof t->store / sizeof t->store[0]};
    const cvk_status status = cvk_drive_init(&t->drive, &t->port, &hardware, &settings, NULL);
    return status == CVK_OK ? cvk_link_init(&t->link, &t->drive, &t->port, &hardware, &config, NULL)
                            : status;
}

/* One control call, and the link's part after it. */
static inline void toy_step(toy_controller *t)
{
    cvk_drive_control(&t->drive, &t->readings);
    cvk_link_sample(&t->link);
    for (int n = 0; n < 32 && cvk_link_poll(&t->link); n++) {
    }
}

/* Bytes towards the controller; what finds no room is lost, as on a line. */
static inline void toy_put(toy_controller *t, const uint8_t *bytes, size_t count)
{
    const size_t room = TOY_QUEUE - t->in.count, taken = count < room ? count : room;
    memcpy(t->in.bytes + t->in.count, bytes, taken);
    t->in.count += (uint32_t)taken;
}

#endif
