/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as a tune file: read or refused with a message; what is read starts a drive, which
 * keeps its duties in range.
 */
#include "corvak/core/drive.h"
#include "corvak/files/tune_yaml.h"

#include <stdint.h>
#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void gate_enable(void *context, bool enable)
{
    (void)context;
    (void)enable;
}

static void run_with(const cvk_settings *settings)
{
    static cvk_drive drive;
    static const cvk_port port = {.gate_enable = gate_enable};
    const cvk_hardware hardware = cvk_hardware_default();
    if (cvk_drive_init(&drive, &port, &hardware, settings, NULL) != CVK_OK ||
        cvk_drive_claim(&drive, 1, 10.0f) != CVK_OK) {
        return;
    }
    for (int mode = 0; mode < CVK_MODE_COUNT; mode++) {
        const cvk_request request = {.mode = mode,
                                     .voltage_v = {3.0f, 1.0f},
                                     .current_a = {1.0f, 2.0f},
                                     .speed_rad_s = 300.0f};
        if (cvk_drive_request(&drive, 1, &request, NULL) != CVK_OK) {
            continue;
        }
        for (int n = 0; n < 40; n++) {
            const float x = 0.3f * (float)(n % 7);
            const cvk_readings readings = {
                .current_a = {x, -x, 0.1f * x},
                .current_valid = n % 8,
                .bus_v = 24.0f,
                .rotor = {.absolute_mech_rad = 0.01f * (float)n, .hall = n % 8}};
            const cvk_abc duty = cvk_drive_control(&drive, &readings);
            if (!(duty.a >= 0.0f && duty.a <= 1.0f && duty.b >= 0.0f && duty.b <= 1.0f &&
                  duty.c >= 0.0f && duty.c <= 1.0f)) {
                abort();
            }
        }
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static cvk_tune tune;
    cvk_complaint complaint = {.text = ""};
    const cvk_status status =
        cvk_tune_file_parse(&tune, "fuzz.yaml", (const char *)data, size, &complaint);
    if (status == CVK_OK) {
        run_with(&tune.settings);
    } else if (complaint.text[0] == '\0' && status != CVK_NO_MEMORY) {
        abort();
    }
    return 0;
}
