/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs in memory from the simulated rig.
 */
#include "recording.h"

#include "corvak/files/rig_yaml.h"
#include "corvak/files/tune_yaml.h"

#include <stdio.h>
#include <stdlib.h>

static void give_up(const char *what)
{
    fprintf(stderr, "recording failed: %s\n", what);
    abort();
}

cvk_rig_config studio_rig(const char *name)
{
    cvk_rig_config config;
    cvk_complaint complaint;
    char path[512];
    snprintf(path, sizeof path, "%s/%s.rig.yaml", CORVAK_DATA, name);
    if (cvk_rig_file_read(&config, path, &complaint) != CVK_OK) {
        give_up(complaint.text);
    }
    cvk_tune tune;
    snprintf(path, sizeof path, "%s/%s.tune.yaml", CORVAK_DATA, name);
    if (cvk_tune_file_read(&tune, path, &complaint) != CVK_OK) {
        give_up(complaint.text);
    }
    config.tune = tune.settings;
    return config;
}

void record_with(recording *out, const cvk_rig_config *config, const char *excitation,
                 uint64_t seed, bool rotor_sensor, bool free_shaft)
{
    const cvk_recorder_options options = {seed, rotor_sensor, free_shaft};
    cvk_refusal why = {0};
    if (cvk_record(out, config, excitation, &options, &why) != CVK_OK) {
        give_up(why.field != NULL ? why.field : excitation);
    }
}

void record(recording *out, const cvk_rig_config *config, const char *excitation, uint64_t seed,
            bool rotor_sensor)
{
    record_with(out, config, excitation, seed, rotor_sensor, false);
}

void recording_free(recording *r)
{
    cvk_recording_free(r);
}
