/* SPDX-License-Identifier: Apache-2.0
 *
 * The smallest program that runs the whole hot path on a Cortex-M4F. scripts/check-core.sh looks
 * at what it was linked with: no heap, no stdio, no double arithmetic.
 */
#include "corvak/core/drive.h"
#include "corvak/core/programs.h"
#include "corvak/link/controller.h"

int main(void);

static cvk_drive drive;
static cvk_excitation excitation;
static volatile bool gates_on;
static volatile float adc[5];
static volatile float duty[3];
static cvk_link end;
static uint32_t store[64];
static volatile uint8_t serial_line; /* stands for its data register */

static void gate_enable(void *context, bool enable)
{
    (void)context;
    gates_on = enable;
}

static uint32_t stream_read(void *context, uint8_t stream, uint8_t *bytes, uint32_t room)
{
    (void)context;
    (void)stream;
    (void)room;
    bytes[0] = serial_line;
    return 1;
}

static uint32_t stream_write(void *context, uint8_t stream, const uint8_t *bytes, uint32_t count)
{
    (void)context;
    (void)stream;
    (void)count;
    serial_line = bytes[0];
    return 1;
}

static const cvk_port port = {
    .gate_enable = gate_enable, .stream_read = stream_read, .stream_write = stream_write};

int main(void)
{
    const cvk_hardware hardware = cvk_hardware_default();
    const cvk_settings settings = cvk_settings_default();
    const cvk_link_config link_config = {
        .owner = 2, .name = "least", .version = "0", .store = store, .store_words = 64};
    const cvk_excitation_config config = cvk_excitation_config_default(50e-6f, 14.0f, 24.0f);
    if (cvk_drive_init(&drive, &port, &hardware, &settings, 0) != CVK_OK ||
        cvk_program_write(cvk_program_named("standstill"), &excitation, &config, 0) != CVK_OK ||
        cvk_link_init(&end, &drive, &port, &hardware, &link_config, 0) != CVK_OK ||
        cvk_drive_claim(&drive, 1, 60.0f) != CVK_OK ||
        cvk_drive_run(&drive, 1, &excitation, 0) != CVK_OK) {
        return 1;
    }
    for (;;) { /* stands for the current-sample interrupt */
        const cvk_readings readings = {.current_a = {adc[0], adc[1], adc[2]},
                                       .current_valid = CVK_ALL_CURRENTS_VALID,
                                       .bus_v = adc[3],
                                       .rotor = {.absolute_mech_rad = adc[4]}};
        const cvk_abc next = cvk_drive_control(&drive, &readings);
        duty[0] = next.a;
        duty[1] = next.b;
        duty[2] = next.c;
        cvk_link_sample(&end);
        cvk_link_poll(&end); /* stands for the main loop, as does this: */
        cvk_drive_supervise(&drive);
    }
}
