/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak gains: from a motor card and a rig to a tune file.
 */
#include "base/cli.h"

#include "corvak/core/units.h"

#include "corvak/files/card_yaml.h"
#include "corvak/files/tune_yaml.h"
#include "corvak/host/pwm_advice.h"
#include "corvak/sim/sim.h"

#include <math.h>
#include <string.h>

#define VERB "gains"

typedef struct arguments {
    char *output, *tune, *plot;
    char **parameters;
    gboolean json, sensor, injection, pwm;
    double edge_s, margin_deg;
    cvk_gains_wish wish;
} arguments;

/* The sensor of which the gains make use: what it is stands in the rig file, where its zero is only
 * where somebody has stated it. */
static void give_sensor(cvk_tune *tune, const cvk_rig_config *rig)
{
    static const char *const kinds[] = {"rotor.kind", "rotor.counts", "rotor.periods_per_turn"};
    for (size_t n = 0; n < G_N_ELEMENTS(kinds); n++) {
        cvk_tune_give(tune, cvk_parameter_named(kinds[n]), "rig file: rotor_sensor");
    }
    if (rig->stated.reversed) {
        cvk_tune_give(tune, cvk_parameter_named("rotor.reversed"), "as it was");
    }
    if (rig->stated.offset) {
        cvk_tune_give(tune, cvk_parameter_named("rotor.offset_rad"), "as it was");
    }
    if (!rig->stated.reversed || !rig->stated.offset) {
        g_printerr(
            "corvak gains: note: the sensor's direction and offset are not known here: corvak "
            "calibrate finds them\n");
    }
}

/* What was computed, and the limits that it was computed with. */
static void fill_tune(cvk_tune *tune, const cvk_gains *gains, const cvk_rig_config *rig,
                      bool sensor, const char *card, const char *name)
{
    static const char *const limits[] = {"limit.current_a",    "protect.trip_current_a",
                                         "protect.bus_min_v",  "protect.bus_max_v",
                                         "rotor.bandwidth_hz", "program.hold_s"};
    char *origin = g_path_get_basename(card);
    g_snprintf(tune->name, sizeof tune->name, "%s", name);
    tune->settings = gains->settings;
    for (size_t n = 0; n < G_N_ELEMENTS(limits); n++) {
        cvk_tune_give(tune, cvk_parameter_named(limits[n]), "as it was");
    }
    cvk_tune_give(tune, cvk_parameter_named("angle.source"),
                  sensor ? "gains: --rotor-sensor" : "gains: without --rotor-sensor");
    if (sensor) {
        give_sensor(tune, rig);
    }
    for (unsigned n = 0; n < gains->items; n++) {
        char *from = g_strdup_printf("%s (%s)", gains->item[n].from, origin);
        cvk_tune_give(tune, gains->item[n].parameter, from);
        g_free(from);
    }
    g_free(origin);
}

static cvk_pwm_advice advice_of(const cvk_gains *gains, const cvk_rig_config *rig, double edge_s)
{
    cvk_pwm_advice pwm;
    const cvk_pwm_stage power = {.pwm_hz = rig->inverter.pwm_hz,
                                 .updates_per_period = rig->inverter.updates_per_period,
                                 .bus_v = rig->supply.bus_v,
                                 .dead_time_s = rig->inverter.dead_time_s,
                                 .capacitor_f = rig->supply.capacitor_f,
                                 .switch_resistance_ohm = rig->inverter.switch_resistance_ohm,
                                 .edge_s = edge_s};
    cvk_advise_pwm(gains, &power, &pwm);
    return pwm;
}

static int work(const arguments *a, const char *card_path, const char *rig_path)
{
    cvk_complaint complaint;
    cvk_card card;
    cvk_rig_config rig;
    cvk_tune tune;
    cvk_gains gains;
    if (cvk_card_file_read(&card, card_path, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    if (read_bench_data(VERB, rig_path, a->tune, a->parameters, &rig) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    const cvk_gains_stage stage = {.hardware = cvk_sim_hardware(&rig),
                                   .bus_v = rig.supply.bus_v,
                                   .current_noise_a = rig.sensing.current_noise_a,
                                   .current_delay_s = rig.sensing.amplifier_lag_s,
                                   .knee_a = cvk_rig_crossover_current(&rig)};
    cvk_settings base = rig.tune;
    base.angle.source = a->sensor ? CVK_BY_ROTOR_SENSOR : CVK_BY_OBSERVER;
    base.rotor = cvk_sim_rotor(&rig);
    const cvk_status computed = cvk_compute_gains(&card, &stage, &base, &a->wish, &gains);
    if (computed != CVK_OK) {
        g_printerr("corvak gains: %s%s\n", computed == CVK_NOT_IN_LOG ? "the card lacks " : "",
                   gains.missing);
        return EXIT_ANSWER_NO;
    }
    cvk_refusal why = {0};
    const cvk_status status = cvk_settings_check(&gains.settings, &why);
    if (status != CVK_OK) {
        char text[300];
        cvk_refusal_text(status, &why, text, sizeof text);
        g_printerr("corvak gains: the gains contradict the limits: %s\n", text);
        return EXIT_ANSWER_NO;
    }
    const cvk_pwm_advice pwm = advice_of(&gains, &rig, a->edge_s);
    show_document(cvk_gains_document(&gains, &pwm, a->pwm, rig.name), a->json);
    if (a->plot != NULL && !cvk_draw_pwm(&pwm, rig.name, a->plot, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    if (a->output != NULL) {
        cvk_tune_start(&tune);
        fill_tune(&tune, &gains, &rig, a->sensor, card_path, rig.name);
        if (cvk_tune_file_write(&tune, a->output, &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
    }
    return EXIT_DONE;
}

static int check_numbers(arguments *a)
{
    const struct {
        const char *option;
        double value, most;
        const char *range;
    } numbers[] = {
        {"--bandwidth", a->wish.current_bandwidth_hz, 1e5, "above 0, to 1e5 Hz"},
        {"--observer-bandwidth", a->wish.observer_bandwidth_hz, 1e5, "above 0, to 1e5 Hz"},
        {"--speed-bandwidth", a->wish.speed_bandwidth_hz, 1e5, "above 0, to 1e5 Hz"},
        {"--position-bandwidth", a->wish.position_bandwidth_hz, 1e5, "above 0, to 1e5 Hz"},
        {"--load", a->wish.load_inertia_kg_m2, 1e3, "above 0, to 1000 kg m2"},
        {"--edge", a->edge_s, 1e-5, "0 to 1e-5 s"}};
    for (size_t n = 0; n < G_N_ELEMENTS(numbers); n++) {
        if (!(numbers[n].value >= 0.0 && numbers[n].value <= numbers[n].most)) {
            return complain_usage(VERB, "%s: %g; it may be %s", numbers[n].option, numbers[n].value,
                                  numbers[n].range);
        }
    }
    if (!(a->margin_deg >= 20.0 && a->margin_deg <= 75.0)) {
        return complain_usage(VERB, "--margin: %g; it may be 20 to 75 degrees", a->margin_deg);
    }
    if (a->injection && a->sensor) {
        return complain_usage(VERB, "--injection finds the angle without a sensor: leave out "
                                    "--rotor-sensor");
    }
    a->wish.margin_rad = a->margin_deg / CVK_DEG_PER_RAD;
    a->wish.injection = a->injection;
    return EXIT_DONE;
}

static gboolean parse(arguments *a, int *argc, char ***argv)
{
    const GOptionEntry entries[] = {
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &a->output, "write the tune file", "FILE"},
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &a->tune,
         "limits and all that gains do not set (else X.tune.yaml beside X.rig.yaml)", "FILE"},
        {"parameter", 'P', 0, G_OPTION_ARG_STRING_ARRAY, &a->parameters,
         "change one of those, such as limit.current_a=10", "KEY=VALUE"},
        {"rotor-sensor", 0, 0, G_OPTION_ARG_NONE, &a->sensor,
         "the angle comes from the rotor sensor, not from an observer", NULL},
        {"bandwidth", 0, 0, G_OPTION_ARG_DOUBLE, &a->wish.current_bandwidth_hz,
         "of the current loop; this and the next three in place of the rules", "HZ"},
        {"observer-bandwidth", 0, 0, G_OPTION_ARG_DOUBLE, &a->wish.observer_bandwidth_hz,
         "of the observer's tracking filter", "HZ"},
        {"speed-bandwidth", 0, 0, G_OPTION_ARG_DOUBLE, &a->wish.speed_bandwidth_hz,
         "of the speed loop", "HZ"},
        {"position-bandwidth", 0, 0, G_OPTION_ARG_DOUBLE, &a->wish.position_bandwidth_hz,
         "of the position loop", "HZ"},
        {"margin", 0, 0, G_OPTION_ARG_DOUBLE, &a->margin_deg,
         "phase margin of every loop at its worst corner (45)", "DEG"},
        {"load", 0, 0, G_OPTION_ARG_DOUBLE, &a->wish.load_inertia_kg_m2,
         "inertia of the heaviest load that may come to the shaft", "KG_M2"},
        {"injection", 0, 0, G_OPTION_ARG_NONE, &a->injection,
         "full torque at standstill without a sensor, by injection, when the motor is salient",
         NULL},
        {"edge", 0, 0, G_OPTION_ARG_DOUBLE, &a->edge_s,
         "time that a leg's node takes to go across, for switching losses (3e-8)", "S"},
        {"pwm", 0, 0, G_OPTION_ARG_NONE, &a->pwm, "tell what each PWM frequency costs", NULL},
        PLOT_OPTION(&a->plot, "draw what each PWM frequency costs"),
        JSON_OPTION(&a->json),
        G_OPTION_ENTRY_NULL};
    return parse_options(
        VERB, "CARD RIG",
        "Computes a controller's gains from a motor card and the power stage of a "
        "rig: current loop,\nobserver, start, speed and position, each with a sentence "
        "on where it comes from.",
        "corvak gains wheel.card.yaml data/wheel.rig.yaml -o wheel.tune.yaml", entries, argc, argv);
}

int cmd_gains(int argc, char **argv)
{
    arguments a = {.edge_s = 30e-9, .margin_deg = 45.0};
    if (!parse(&a, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = EXIT_BAD_USAGE;
    if (argc != 3) {
        complain_usage(VERB, "name a motor card and a rig file");
    } else {
        char *const inputs[] = {argv[1], argv[2]};
        status = check_output(VERB, a.output, FALSE, inputs, G_N_ELEMENTS(inputs));
        status = status == EXIT_DONE
                     ? check_output(VERB, a.plot, TRUE, inputs, G_N_ELEMENTS(inputs))
                     : status;
        status = status == EXIT_DONE ? check_numbers(&a) : status;
        if (status == EXIT_DONE) {
            status = work(&a, argv[1], argv[2]);
        }
    }
    g_free(a.output);
    g_free(a.tune);
    g_free(a.plot);
    g_strfreev(a.parameters);
    return status;
}
