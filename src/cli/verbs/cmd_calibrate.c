/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak calibrate: rotor sensors and channels from a log; into the tune file.
 */
#include "base/calibration.h"
#include "base/open_device.h"

#include "corvak/files/tune_yaml.h"
#include "corvak/host/calibrated.h"

#include <string.h>

#define VERB "calibrate"

typedef struct arguments {
    sensor_options sensors;
    char *sensor, *tune, *output, *plot;
    gboolean json;
} arguments;

int calibrate_one_log(const char *verb, const sensor_options *options, char **paths, int count,
                      log_set *set, cvk_calibration *out)
{
    if (count != 1) {
        return complain_usage(verb, "name one log");
    }
    if (!(options->pole_pairs >= 0.0 && options->pole_pairs <= 100.0) ||
        !(options->periods_per_turn >= 0.0 && options->periods_per_turn <= 200.0) ||
        !(options->encoder_counts == 0.0 ||
          (options->encoder_counts >= 4.0 && options->encoder_counts <= 1e7))) {
        return complain_usage(verb, "--pole-pairs: 1 .. 100; --periods-per-turn: 1 .. 200; "
                                    "--encoder-counts: 4 .. 1e7");
    }
    int status = read_log_set(set, verb, &options->log, paths, count);
    if (status != EXIT_DONE) {
        return status;
    }
    cvk_calibrate_options how = cvk_calibrate_options_default();
    how.log = estimate_options_of(&options->log);
    how.pole_pairs = options->pole_pairs;
    how.periods_per_turn = options->periods_per_turn;
    how.encoder_counts = options->encoder_counts;
    const cvk_status found = cvk_calibrate_log(set->log[0], &how, out);
    if (found != CVK_OK && found != CVK_NOT_IN_LOG) {
        return complain_usage(verb, "%s", cvk_status_text(found));
    }
    add_reader_findings(&out->log, set);
    return found == CVK_OK ? EXIT_DONE : EXIT_ANSWER_NO;
}

/* The sensor whose parameters are written: the one named, or the best. */
static int chosen_sensor(const arguments *a, const cvk_calibration *c, cvk_rotor_kind *kind)
{
    *kind = c->best;
    for (int k = 0; a->sensor != NULL && k <= CVK_ROTOR_ANGLE_KINDS; k++) {
        if (k == CVK_ROTOR_ANGLE_KINDS) {
            return complain_usage(VERB, "--sensor %s: there are absolute, encoder, sincos, halls",
                                  a->sensor);
        }
        if (strcmp(a->sensor, cvk_rotor_kind_name(k)) == 0) {
            *kind = (cvk_rotor_kind)k;
            break;
        }
    }
    if (*kind == CVK_ROTOR_ANGLE_KINDS ||
        !cvk_measured_known(&c->sensor[*kind].electrical_offset_rad)) {
        g_printerr("corvak calibrate: nothing to write: %s\n",
                   *kind != CVK_ROTOR_ANGLE_KINDS && c->sensor[*kind].why[0] != '\0'
                       ? c->sensor[*kind].why
                       : "no sensor could be calibrated");
        return EXIT_ANSWER_NO;
    }
    return EXIT_DONE;
}

/* On top of what the tune file holds already. */
static int write_tune(const arguments *a, const cvk_calibration *c, const char *log)
{
    cvk_complaint complaint;
    cvk_calibrated found;
    cvk_rotor_kind kind;
    cvk_tune tune;
    int status = chosen_sensor(a, c, &kind);
    if (status != EXIT_DONE) {
        return status;
    }
    cvk_tune_start(&tune);
    if (a->tune != NULL && cvk_tune_file_read(&tune, a->tune, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    cvk_calibrated_parameters(c, kind, log, &found);
    for (unsigned n = 0; n < found.items; n++) {
        cvk_refusal why = {0};
        const cvk_calibrated_item *item = &found.item[n];
        const cvk_status set =
            cvk_parameter_set(&tune.settings, item->parameter, item->value, &why);
        if (set != CVK_OK) {
            return complain_refusal(VERB, set, &why);
        }
        cvk_tune_give(&tune, item->parameter, item->from);
    }
    if (cvk_tune_file_write(&tune, a->output, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    return EXIT_DONE;
}

static int work(const arguments *a, char **paths, int count, log_set *set, cvk_calibration *c)
{
    cvk_complaint complaint;
    if (check_output(VERB, a->plot, TRUE, paths, count) != EXIT_DONE ||
        check_output(VERB, a->output, FALSE, paths, count) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    int status = calibrate_one_log(VERB, &a->sensors, paths, count, set, c);
    if (status == EXIT_BAD_USAGE || set->log[0] == NULL) {
        return EXIT_BAD_USAGE;
    }
    const char *log = set->log[0]->name;
    show_document(cvk_calibration_document(c, log), a->json);
    if (a->plot != NULL && !cvk_draw_calibration(c, log, a->plot, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    if (a->output != NULL) {
        const int written = write_tune(a, c, log);
        status = written != EXIT_DONE ? written : status;
    }
    return status;
}

int cmd_calibrate(int argc, char **argv)
{
    arguments a = {.sensors = {.log = LOG_OPTIONS_DEFAULT}};
    const GOptionEntry entries[] = {
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &a.output,
         "write the parameters into this tune file", "FILE"},
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &a.tune,
         "tune file whose other parameters are kept", "FILE"},
        {"sensor", 's', 0, G_OPTION_ARG_STRING, &a.sensor,
         "whose parameters to write: absolute, encoder, sincos, halls (else the best)", "KIND"},
        PLOT_OPTION(&a.plot, "draw it"),
        JSON_OPTION(&a.json),
        SENSOR_OPTION_ENTRIES(a.sensors),
        LOG_OPTION_ENTRIES(a.sensors.log),
        G_OPTION_ENTRY_NULL};
    if (!parse_options(
            VERB, "LOG|DEVICE",
            "Calibrates every rotor sensor that a log shows, and the current channels: electrical "
            "offset,\ndirection, latency, errors over a turn, hall edges, sin/cos ellipse, index "
            "mark; says which sensor\nto use, and writes its parameters into a tune file. On a "
            "DEVICE (tcp:, serial:, sim:RIG) the\ncontroller does it by itself: the rotor is taken "
            "round, then torque and speed are tried.",
            "corvak calibrate data/mixer-sweep.h5 --plot sensors.png\n"
            "  corvak calibrate sim:data/mixer.rig.yaml\n"
            "  corvak calibrate spin.h5 --tune data/mixer.tune.yaml -o mixer.tune.yaml",
            entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    cvk_calibration *c = g_new0(cvk_calibration, 1);
    log_set *set = g_new0(log_set, 1);
    const device_calibration on_device = {a.output, a.tune, a.json};
    const int status = argc == 2 && names_device(argv[1]) ? calibrate_device(argv[1], &on_device)
                                                          : work(&a, argv + 1, argc - 1, set, c);
    free_log_set(set);
    free_log_options(&a.sensors.log);
    g_free(set);
    g_free(c);
    g_free(a.sensor);
    g_free(a.tune);
    g_free(a.output);
    g_free(a.plot);
    return status;
}
