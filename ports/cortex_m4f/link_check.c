/* SPDX-License-Identifier: Apache-2.0
 *
 * The smallest program that runs the whole hot path on a Cortex-M4F. scripts/check-core.sh looks
 * at what it was linked with: no heap, no stdio, no double arithmetic.
 */
#include "corvak/core/drive.h"

int main(void);

static cvk_drive drive;
static cvk_excitation excitation;
static volatile bool gates_on;
static volatile float adc[5];
static volatile float duty[3];

static void gate_enable(void *context, bool enable)
{
    (void)context;
    gates_on = enable;
}

static const cvk_port port = {.gate_enable = gate_enable};

static const cvk_drive_config config = {
    .current = {50e-6f, 500.0f, 0.2f, 300e-6f, 400e-6f, 0.02f},
    .sensor = {50e-6f, 12.0f, 1.0f, 0.0f, 100.0f},
    .trip_current_a = 25.0f,
    .bus_min_v = 15.0f,
    .bus_max_v = 32.0f,
    .speed_gain_a_s = 0.2f,
    .speed_integral_gain_a = 0.4f,
    .speed_limit_a = 10.0f,
};

int main(void)
{
    const cvk_excitation_config standstill = cvk_excitation_config_default(50e-6f, 14.0f, 24.0f);
    if (cvk_drive_init(&drive, &port, &config, 0) != CVK_OK ||
        cvk_excitation_standstill(&excitation, &standstill, 0) != CVK_OK) {
        return 1;
    }
    cvk_drive_run(&drive, &excitation);
    for (;;) { /* stands for the current-sample interrupt */
        const cvk_drive_sample sample = {{adc[0], adc[1], adc[2]}, adc[3], adc[4]};
        const cvk_abc next = cvk_drive_control(&drive, &sample);
        duty[0] = next.a;
        duty[1] = next.b;
        duty[2] = next.c;
    }
}
