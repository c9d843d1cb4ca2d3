/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as a scenario file: read or refused with a message; what is read can be run.
 */
#include "corvak/files/scenario_yaml.h"
#include "corvak/rig/rig.h"

#include <stdint.h>
#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    cvk_rig *rig = NULL;
    const double duty[3] = {0.6, 0.45, 0.45};
    cvk_complaint complaint = {.text = ""};
    cvk_rig_scenario scenario;
    cvk_status status =
        cvk_scenario_file_parse(&scenario, "fuzz.yaml", (const char *)data, size, &complaint);
    if (status != CVK_OK) {
        if (complaint.text[0] == '\0' && status != CVK_NO_MEMORY) {
            abort();
        }
        return 0;
    }
    cvk_rig_config config = cvk_rig_config_default();
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    for (unsigned n = 0; n < count; n++) { /* what is needed: somewhere low in its range */
        if (fields[n].preset != fields[n].preset) {
            cvk_rig_field_set(&config, &fields[n],
                              fields[n].low + 1e-3 * (fields[n].high - fields[n].low));
        }
    }
    config.motor.pole_pairs = 3;
    config.inverter.pwm_hz = 20000;
    if (cvk_rig_open(&rig, &config, 1) == CVK_OK) {
        cvk_rig_set_scenario(rig, &scenario);
        cvk_rig_enable_bridge(rig, true);
        for (int k = 0; k < 20; k++) {
            cvk_rig_sample sample = cvk_rig_read(rig);
            (void)sample;
            cvk_rig_advance(rig, duty);
        }
    }
    cvk_rig_close(rig);
    return 0;
}
