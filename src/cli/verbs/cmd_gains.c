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
#include "figures/gnuplot.h"

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

static void print_motion(const char *name, const cvk_motion_prediction *m)
{
    g_print("%-14s bandwidth %s rad/s; phase margin %.0f deg; at worst over inertia, load and\n"
            "               observer %.0f deg; at the shaft: stiffness %s N m/rad, damping %s N m "
            "s/rad\n",
            name, digits(m->bandwidth_rad_s, 3), CVK_DEG_PER_RAD * m->margin_rad,
            CVK_DEG_PER_RAD * m->worst_margin_rad, digits(m->stiffness_nm_rad, 3),
            digits(m->damping_nms_rad, 3));
}

static void print_gains(const cvk_gains *g, const char *name)
{
    const cvk_loop_prediction *c = &g->current;
    const double pole_pairs = (double)g->settings.motor.pole_pairs;
    g_print("Gains: %s\n\n", name);
    for (unsigned n = 0; n < g->items; n++) {
        const cvk_parameter *row = g->item[n].parameter;
        char value[40], *key = g_strconcat(row->section, ".", row->name, NULL);
        const float number = cvk_parameter_get(&g->settings, row);
        if (row->kind == CVK_REAL) {
            g_snprintf(value, sizeof value, "%s", digits((double)number, 4));
        } else {
            cvk_parameter_text(row, number, value, sizeof value);
        }
        g_print("%-34s %-12s %-8s %s", key, value, row->unit, g->item[n].from);
        if (g_str_has_suffix(row->name, "speed_rad_s") && pole_pairs > 0.0) {
            g_print("; %s rpm", digits(CVK_RPM_PER_RAD_S * (double)number / pole_pairs, 3));
        }
        g_print("\n");
        g_free(key);
    }
    g_print("\ncurrent loop   bandwidth %s Hz; 63 %% of a step after %.0f periods, overshoot "
            "%.1f %%\n"
            "               phase margin %.0f deg; at worst over the card's intervals %.0f deg, "
            "overshoot %.1f %%\n",
            digits(c->bandwidth_hz, 4), c->rise_periods, 100.0 * c->overshoot,
            CVK_DEG_PER_RAD * c->margin_rad, CVK_DEG_PER_RAD * c->worst_margin_rad,
            100.0 * c->worst_overshoot);
    if (g->speed.bandwidth_rad_s > 0.0) {
        print_motion("speed loop", &g->speed);
        print_motion("position loop", &g->position);
    } else {
        g_print("speed loop     not predicted: the card has no inertia; record a spin and a "
                "coast-down (corvak plan)\n");
    }
    g_print("top speed      %.0f rpm, %s rad/s electrical, at the end of the linear range\n",
            CVK_RPM_PER_RAD_S * g->top_speed_rad_s / (pole_pairs > 0.0 ? pole_pairs : 1.0),
            digits(g->top_speed_rad_s, 4));
    if (g->hides_a > 0.0) {
        g_print(
            "start          %s A along the magnets would hide the angle of this salient motor "
            "(limit.current_a %s A):\n               it starts best by --injection; without, the "
            "first attempt takes only %s A\n",
            digits(g->hides_a, 3), digits((double)g->settings.limit.current_a, 3),
            digits(g->first_a, 3));
    }
}

/* ---- the PWM frequency ----------------------------------------------------------------------- */

static void print_pwm(const cvk_pwm_advice *a)
{
    const cvk_pwm_row *poorest = &a->row[a->poorest], *best = &a->row[a->best],
                      *now = &a->row[a->present];
    g_print(
        "\nPWM frequency      ripple   bus      angle per  dead    switching/  blocked    fastest\n"
        "                   p-p      ripple   period     time    conduction  rotor      loop\n");
    for (size_t n = 0; n < a->count; n++) {
        const cvk_pwm_row *r = &a->row[n];
        g_print(
            "  %8.1f kHz  %7.1f %%  %6.2f %%  %6.3f rad  %5.2f %%  %9.2f  %7.0f %%  %7.0f Hz%s\n",
            1e-3 * r->pwm_hz, 100.0 * r->cost[CVK_PWM_RIPPLE], 100.0 * r->cost[CVK_PWM_CAPACITOR],
            r->cost[CVK_PWM_ANGLE], 100.0 * r->cost[CVK_PWM_DEAD_TIME], r->cost[CVK_PWM_SWITCHING],
            100.0 * r->cost[CVK_PWM_BLOCKED], r->bandwidth_hz,
            n == a->present   ? "  as it is"
            : n == a->best    ? "  best"
            : n == a->poorest ? "  poorest"
                              : "");
    }
    g_print("  usual limit   %7.1f %%  %6.2f %%  %6.3f rad  %5.2f %%  %9.2f  %7.0f %%  at most\n",
            100.0 * cvk_pwm_limit(CVK_PWM_RIPPLE), 100.0 * cvk_pwm_limit(CVK_PWM_CAPACITOR),
            cvk_pwm_limit(CVK_PWM_ANGLE), 100.0 * cvk_pwm_limit(CVK_PWM_DEAD_TIME),
            cvk_pwm_limit(CVK_PWM_SWITCHING), 100.0 * cvk_pwm_limit(CVK_PWM_BLOCKED));
    g_print("At %s kHz the %s comes nearest to its usual limit: %.0f %% of it. Poorest here is %s "
            "kHz\n(%s at %.0f %%), best %s kHz (%s at %.0f %%). The bus capacitor carries %s A "
            "rms\nat any of them.\n",
            digits(1e-3 * now->pwm_hz, 4), cvk_pwm_cost_text(now->worst), 100.0 * now->worst_ratio,
            digits(1e-3 * poorest->pwm_hz, 4), cvk_pwm_cost_text(poorest->worst),
            100.0 * poorest->worst_ratio, digits(1e-3 * best->pwm_hz, 4),
            cvk_pwm_cost_text(best->worst), 100.0 * best->worst_ratio, digits(now->capacitor_a, 3));
}

static void add_pwm(JsonBuilder *b, const cvk_pwm_advice *a)
{
    static const char *const keys[CVK_PWM_COSTS] = {[CVK_PWM_RIPPLE] = "ripple_share",
                                                    [CVK_PWM_CAPACITOR] = "bus_ripple_share",
                                                    [CVK_PWM_ANGLE] = "angle_per_period_rad",
                                                    [CVK_PWM_DEAD_TIME] = "dead_time_share",
                                                    [CVK_PWM_SWITCHING] = "switching_to_conduction",
                                                    [CVK_PWM_BLOCKED] = "blocked_rotor_share"};
    json_builder_begin_object(b);
    add_json_number(b, "best_hz", a->row[a->best].pwm_hz);
    add_json_number(b, "poorest_hz", a->row[a->poorest].pwm_hz);
    add_json_text(b, "why", cvk_pwm_cost_text(a->row[a->poorest].worst));
    add_json_number(b, "capacitor_rms_a", a->row[0].capacitor_a);
    json_builder_set_member_name(b, "frequencies");
    json_builder_begin_array(b);
    for (size_t n = 0; n < a->count; n++) {
        json_builder_begin_object(b);
        add_json_number(b, "pwm_hz", a->row[n].pwm_hz);
        for (int c = 0; c < CVK_PWM_COSTS; c++) {
            add_json_number(b, keys[c], a->row[n].cost[c]);
        }
        add_json_number(b, "current_bandwidth_hz", a->row[n].bandwidth_hz);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
}

/* Each cost over the frequency, as a share of its usual limit; the present one marked. */
static gboolean draw(const cvk_pwm_advice *a, const char *name, const char *path,
                     cvk_complaint *complaint)
{
    static const char *const colours[CVK_PWM_COSTS] = {BLUE,      ORANGE,    GREEN,
                                                       "#cc79a7", "#e69f00", "#56b4e9"};
    char *title = g_strdup_printf("%s: what a PWM frequency costs", name);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    fprintf(g, "$pwm << EOD\n");
    for (size_t n = 0; n < a->count; n++) {
        fprintf(g, "%g", 1e-3 * a->row[n].pwm_hz);
        for (int c = 0; c < CVK_PWM_COSTS; c++) {
            fprintf(g, " %g", fmax(a->row[n].cost[c] / cvk_pwm_limit((cvk_pwm_cost)c), 1e-3));
        }
        fprintf(g, "\n");
    }
    fprintf(
        g,
        "EOD\nset lmargin at screen 0.08\nset rmargin at screen 0.73\nset bmargin at screen 0.09\n"
        "set tmargin at screen 0.92\nset logscale xy\nset key outside right center\n"
        "set xlabel 'PWM frequency / kHz'\nset ylabel 'share of the usual limit'\n"
        "set yrange [0.01:*]\nset xrange [%g:%g]\nset arrow 1 from %g, graph 0 to %g, graph 1 "
        "nohead dt 2 lc rgb "
        "'" GREY "'\nplot 1 with lines lw 2 lc rgb '" GREY "' title 'usual limit'",
        1e-3 * a->row[0].pwm_hz, 1e-3 * a->row[a->count - 1].pwm_hz,
        1e-3 * a->row[a->present].pwm_hz, 1e-3 * a->row[a->present].pwm_hz);
    for (int c = 0; c < CVK_PWM_COSTS; c++) {
        fprintf(g, ", $pwm using 1:%d with linespoints lw 1.5 pt 7 ps 0.6 lc rgb '%s' title '%s'",
                2 + c, colours[c], cvk_pwm_cost_text((cvk_pwm_cost)c));
    }
    fprintf(g, ", NaN with lines dt 2 lc rgb '" GREY "' title 'as it is'\n");
    return close_figure(g, path, complaint);
}

/* null where the card has no inertia. */
static void add_motion(JsonBuilder *b, const char *key, const cvk_motion_prediction *m)
{
    json_builder_set_member_name(b, key);
    if (!(m->bandwidth_rad_s > 0.0)) {
        json_builder_add_null_value(b);
        return;
    }
    json_builder_begin_object(b);
    add_json_number(b, "bandwidth_rad_s", m->bandwidth_rad_s);
    add_json_number(b, "margin_rad", m->margin_rad);
    add_json_number(b, "worst_margin_rad", m->worst_margin_rad);
    add_json_number(b, "stiffness_nm_rad", m->stiffness_nm_rad);
    add_json_number(b, "damping_nms_rad", m->damping_nms_rad);
    json_builder_end_object(b);
}

static void print_json(const cvk_gains *g, const cvk_pwm_advice *pwm, const char *name)
{
    const cvk_loop_prediction *c = &g->current;
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_json_text(b, "name", name);
    json_builder_set_member_name(b, "parameters");
    json_builder_begin_object(b);
    for (unsigned n = 0; n < g->items; n++) {
        const cvk_parameter *row = g->item[n].parameter;
        char *key = g_strconcat(row->section, ".", row->name, NULL);
        json_builder_set_member_name(b, key);
        json_builder_begin_object(b);
        add_json_number(b, "value", (double)cvk_parameter_get(&g->settings, row));
        add_json_text(b, "from", g->item[n].from);
        json_builder_end_object(b);
        g_free(key);
    }
    json_builder_end_object(b);
    json_builder_set_member_name(b, "current_loop");
    json_builder_begin_object(b);
    add_json_number(b, "bandwidth_hz", c->bandwidth_hz);
    add_json_number(b, "rise_periods", c->rise_periods);
    add_json_number(b, "overshoot", c->overshoot);
    add_json_number(b, "margin_rad", c->margin_rad);
    add_json_number(b, "worst_margin_rad", c->worst_margin_rad);
    add_json_number(b, "worst_overshoot", c->worst_overshoot);
    json_builder_end_object(b);
    add_motion(b, "speed_loop", &g->speed);
    add_motion(b, "position_loop", &g->position);
    add_json_number(b, "top_speed_rad_s", g->top_speed_rad_s);
    json_builder_set_member_name(b, "pwm");
    add_pwm(b, pwm);
    json_builder_end_object(b);
    print_json_document(b);
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
    cvk_pwm_advice pwm;
    const cvk_pwm_stage power = {.pwm_hz = rig.inverter.pwm_hz,
                                 .updates_per_period = rig.inverter.updates_per_period,
                                 .bus_v = rig.supply.bus_v,
                                 .dead_time_s = rig.inverter.dead_time_s,
                                 .capacitor_f = rig.supply.capacitor_f,
                                 .switch_resistance_ohm = rig.inverter.switch_resistance_ohm,
                                 .edge_s = a->edge_s};
    cvk_advise_pwm(&gains, &power, &pwm);
    if (a->json) {
        print_json(&gains, &pwm, rig.name);
    } else {
        print_gains(&gains, rig.name);
        if (a->pwm) {
            print_pwm(&pwm);
        }
    }
    if (a->plot != NULL && !draw(&pwm, rig.name, a->plot, &complaint)) {
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

int cmd_gains(int argc, char **argv)
{
    arguments a = {.edge_s = 30e-9, .margin_deg = 45.0};
    const GOptionEntry entries[] = {
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &a.output, "write the tune file", "FILE"},
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &a.tune,
         "limits and all that gains do not set (else X.tune.yaml beside X.rig.yaml)", "FILE"},
        {"parameter", 'P', 0, G_OPTION_ARG_STRING_ARRAY, &a.parameters,
         "change one of those, such as limit.current_a=10", "KEY=VALUE"},
        {"rotor-sensor", 0, 0, G_OPTION_ARG_NONE, &a.sensor,
         "the angle comes from the rotor sensor, not from an observer", NULL},
        {"bandwidth", 0, 0, G_OPTION_ARG_DOUBLE, &a.wish.current_bandwidth_hz,
         "of the current loop; this and the next three in place of the rules", "HZ"},
        {"observer-bandwidth", 0, 0, G_OPTION_ARG_DOUBLE, &a.wish.observer_bandwidth_hz,
         "of the observer's tracking filter", "HZ"},
        {"speed-bandwidth", 0, 0, G_OPTION_ARG_DOUBLE, &a.wish.speed_bandwidth_hz,
         "of the speed loop", "HZ"},
        {"position-bandwidth", 0, 0, G_OPTION_ARG_DOUBLE, &a.wish.position_bandwidth_hz,
         "of the position loop", "HZ"},
        {"margin", 0, 0, G_OPTION_ARG_DOUBLE, &a.margin_deg,
         "phase margin of every loop at its worst corner (45)", "DEG"},
        {"load", 0, 0, G_OPTION_ARG_DOUBLE, &a.wish.load_inertia_kg_m2,
         "inertia of the heaviest load that may come to the shaft", "KG_M2"},
        {"injection", 0, 0, G_OPTION_ARG_NONE, &a.injection,
         "full torque at standstill without a sensor, by injection, when the motor is salient",
         NULL},
        {"edge", 0, 0, G_OPTION_ARG_DOUBLE, &a.edge_s,
         "time that a leg's node takes to go across, for switching losses (3e-8)", "S"},
        {"pwm", 0, 0, G_OPTION_ARG_NONE, &a.pwm, "tell what each PWM frequency costs", NULL},
        {"plot", 'p', 0, G_OPTION_ARG_FILENAME, &a.plot, "draw what each PWM frequency costs",
         "FILE.png|.svg"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &a.json, "print one JSON document", NULL},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(
            VERB, "CARD RIG",
            "Computes a controller's gains from a motor card and the power stage of a "
            "rig: current loop,\nobserver, start, speed and position, each with a sentence "
            "on where it comes from.",
            "corvak gains wheel.card.yaml data/wheel.rig.yaml -o wheel.tune.yaml", entries, &argc,
            &argv)) {
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
