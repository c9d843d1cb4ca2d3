/* SPDX-License-Identifier: Apache-2.0
 *
 * A bench from its files: the rig, and the tune of the controller on it.
 */
#include "cli.h"

#include "corvak/files/rig_yaml.h"
#include "corvak/files/tune_yaml.h"

#include <string.h>

/* X.tune.yaml beside X.rig.yaml; null when there is none. Free it. */
static char *tune_beside(const char *rig_path)
{
    static const char ending[] = ".rig.yaml";
    if (!g_str_has_suffix(rig_path, ending)) {
        return NULL;
    }
    char *stem = g_strndup(rig_path, strlen(rig_path) - strlen(ending));
    char *path = g_strconcat(stem, ".tune.yaml", NULL);
    g_free(stem);
    if (g_file_test(path, G_FILE_TEST_EXISTS)) {
        return path;
    }
    g_free(path);
    return NULL;
}

/* What the tune gives replaces what the rig's old section says. */
static void put_over(cvk_settings *settings, const cvk_tune *tune)
{
    for (unsigned n = 0; n < cvk_parameter_count() && n < CVK_TUNE_MOST; n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        if (tune->given[n] &&
            cvk_parameter_set(settings, row, cvk_parameter_get(&tune->settings, row), NULL) !=
                CVK_OK) {
            continue; /* it has been checked */
        }
    }
}

static int check_whole(const char *verb, const cvk_settings *settings)
{
    cvk_refusal why = {0};
    const cvk_status status = cvk_settings_check(settings, &why);
    return status == CVK_OK ? EXIT_DONE : complain_refusal(verb, status, &why);
}

static bool is_given(const cvk_tune *tune, const char *key)
{
    for (unsigned n = 0; n < cvk_parameter_count() && n < CVK_TUNE_MOST; n++) {
        if (cvk_parameter_at(n) == cvk_parameter_named(key)) {
            return tune->given[n];
        }
    }
    return false;
}

/* What a person states counts, also in a simulation. */
static void note_what_is_stated(cvk_rig_config *config, const cvk_tune *tune)
{
    config->stated.kind = is_given(tune, "rotor.kind");
    config->stated.counts = is_given(tune, "rotor.counts");
    config->stated.periods = is_given(tune, "rotor.periods_per_turn");
    config->stated.reversed = is_given(tune, "rotor.reversed");
    config->stated.offset = is_given(tune, "rotor.offset_rad");
    config->stated.pole_pairs = is_given(tune, "motor.pole_pairs");
    config->stated.trip = is_given(tune, "protect.trip_current_a");
    config->stated.bus_max = is_given(tune, "protect.bus_max_v");
}

static int read_any_bench(const char *verb, const char *rig_path, const char *tune_path,
                          char *const *parameters, bool data_only, cvk_rig_config *config)
{
    cvk_complaint complaint;
    cvk_tune tune;
    const cvk_status read = data_only ? cvk_rig_file_read_data(config, rig_path, &complaint)
                                      : cvk_rig_file_read(config, rig_path, &complaint);
    if (read != CVK_OK) {
        return complain_file(verb, &complaint);
    }
    char *path = tune_path != NULL ? g_strdup(tune_path) : tune_beside(rig_path);
    if (complaint.text[0] != '\0' && path == NULL) {
        g_printerr("corvak %s: note: %s\n", verb, complaint.text);
    }
    cvk_tune_start(&tune);
    cvk_status status = path != NULL ? cvk_tune_file_read(&tune, path, &complaint) : CVK_OK;
    g_free(path);
    if (status != CVK_OK) {
        return complain_file(verb, &complaint);
    }
    if (tune.name[0] != '\0' && strcmp(tune.name, config->name) != 0) {
        g_printerr("corvak %s: note: the tune is that of \"%s\", the rig is \"%s\"\n", verb,
                   tune.name, config->name);
    }
    put_over(&config->tune, &tune);
    tune.settings = config->tune;
    for (int n = 0; parameters != NULL && parameters[n] != NULL; n++) {
        if (cvk_tune_set(&tune, parameters[n], "command line", &complaint) != CVK_OK) {
            return complain_file(verb, &complaint);
        }
    }
    config->tune = tune.settings;
    note_what_is_stated(config, &tune);
    return check_whole(verb, &config->tune);
}

int read_bench(const char *verb, const char *rig_path, const char *tune_path,
               char *const *parameters, cvk_rig_config *config)
{
    return read_any_bench(verb, rig_path, tune_path, parameters, false, config);
}

int read_bench_data(const char *verb, const char *rig_path, const char *tune_path,
                    char *const *parameters, cvk_rig_config *config)
{
    return read_any_bench(verb, rig_path, tune_path, parameters, true, config);
}

int set_rig_keys(const char *verb, char *const *set, cvk_rig_config *config)
{
    cvk_complaint complaint;
    for (int n = 0; set != NULL && set[n] != NULL; n++) {
        if (cvk_rig_set(config, set[n], &complaint) != CVK_OK) {
            return complain_file(verb, &complaint);
        }
    }
    return EXIT_DONE;
}
