/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak range: the torque-speed map of a motor card on a rig's power stage.
 */
#include "base/cli.h"

#include "corvak/core/units.h"

#include "corvak/core/parameters.h"
#include "corvak/files/card_yaml.h"
#include "corvak/host/torque_map.h"
#include "corvak/sim/sim.h"
#include "figures/gnuplot.h"

#include <math.h>

#define VERB "range"
#define NEAR 1.4 /* times the end of the map, to which the speed of a lifted bus is drawn */

typedef struct arguments {
    char *tune, *plot;
    char **parameters;
    double winding_degc;
    gboolean json;
} arguments;

static const char *depth_name(int depth)
{
    return cvk_parameter_named("modulation.depth")->names[depth];
}

/* ---- what is known --------------------------------------------------------------------------- */

/* NaN, with the message printed, when the card lacks it. */
static double needed(const cvk_card *card, cvk_card_key key)
{
    const cvk_card_entry *e = &card->entry[key];
    if (!e->known) {
        g_printerr("corvak range: the card lacks %s: %s\n", cvk_card_key_name(key),
                   e->missing[0] != '\0' ? e->missing : "it is not on it");
    }
    return e->known ? e->value : NAN;
}

/* The current that warms the winding to `degc` in the end; 0 when the rig does not say how it is
 * cooled. */
static double continuous_current(const cvk_rig_config *rig, double resistance_ohm, double degc)
{
    const cvk_rig_motor *m = &rig->motor;
    const double hot_ohm = resistance_ohm * (1.0 + m->copper_per_k * (degc - 25.0));
    const double rise_k = degc - m->ambient_degc;
    return m->winding_k_w > 0.0 && rise_k > 0.0 ? sqrt(rise_k / (m->winding_k_w * 1.5 * hot_ohm))
                                                : 0.0;
}

static gboolean describe(const arguments *a, const cvk_card *card, const cvk_rig_config *rig,
                         cvk_torque_motor *m)
{
    const cvk_card_entry *own = &card->entry[CVK_CARD_DEAD_TIME_VOLTAGE];
    const cvk_settings *tune = &rig->tune;
    const cvk_hardware hardware = cvk_sim_hardware(rig);
    const double limit_a = (double)tune->limit.current_a,
                 weakening_a = (double)tune->torque.weakening_current_a;
    *m = (cvk_torque_motor){.resistance_ohm = needed(card, CVK_CARD_RESISTANCE),
                            .inductance_d_h = needed(card, CVK_CARD_INDUCTANCE_D),
                            .inductance_q_h = needed(card, CVK_CARD_INDUCTANCE_Q),
                            .flux_linkage_wb = needed(card, CVK_CARD_FLUX_LINKAGE),
                            .pole_pairs = needed(card, CVK_CARD_POLE_PAIRS),
                            .bus_v = rig->supply.bus_v,
                            .most_duty = (double)cvk_hardware_most_duty(&hardware),
                            .inverter_v = own->known ? own->value : 0.0,
                            .current_a = limit_a,
                            .weakening_a = weakening_a > 0.0 ? weakening_a : limit_a,
                            .bus_most_v = (double)tune->protect.bus_max_v};
    m->continuous_a = continuous_current(rig, m->resistance_ohm, a->winding_degc);
    return isfinite(m->resistance_ohm + m->inductance_d_h + m->inductance_q_h + m->flux_linkage_wb +
                    m->pole_pairs);
}

/* ---- the answer ------------------------------------------------------------------------------ */

static void print_range(const arguments *a, const cvk_torque_motor *m, const cvk_torque_map *r,
                        const char *name)
{
    g_print("Range: %s at %s V and %s A\n\n", name, digits(m->bus_v, 4), digits(m->current_a, 4));
    g_print("torque at standstill  %s N m", digits(r->torque_nm, 4));
    if (r->current_d_a < 0.0) {
        g_print(", with %s A of d current the least current (torque.least_current)",
                digits(r->current_d_a, 3));
    }
    if (isfinite(r->continuous_nm)) {
        const char *how = r->continuous_nm < r->torque_nm ? "the winding comes to"
                                                          : "all of it, the winding stays below";
        g_print("\n           for long   %s N m: %s %.0f degC", digits(r->continuous_nm, 4), how,
                a->winding_degc);
    }
    g_print("\n\n  %-10s %10s %12s %14s %22s\n", "depth", "voltage", "all torque", "without load",
            "with field weakening");
    for (int d = 0; d < CVK_DEPTHS; d++) {
        const cvk_torque_depth *k = &r->depth[d];
        g_print("  %-10s %8.2f V %8.0f rpm %10.0f rpm ", depth_name(d), k->voltage_v,
                CVK_RPM_PER_RAD_S * k->base_mech_rad_s, CVK_RPM_PER_RAD_S * k->top_mech_rad_s);
        if (isfinite(k->weakened_mech_rad_s)) {
            g_print("%18.0f rpm\n", CVK_RPM_PER_RAD_S * k->weakened_mech_rad_s);
        } else {
            g_print("%22s\n", "no end by the voltage");
        }
    }
    g_print("\n(modulation.depth, torque.weakening; %s A of d current at most, "
            "torque.weakening_current_a)\n",
            digits(m->weakening_a, 3));
    g_print("faster than %.0f rpm a bridge that is switched off lifts the bus beyond %s V "
            "(protect.bus_max_v):\nthe back-EMF is larger there, and only the d current holds it "
            "down\n",
            CVK_RPM_PER_RAD_S * r->off_mech_rad_s, digits(m->bus_most_v, 4));
}

static void add_numbers(JsonBuilder *b, const char *key, const double *number)
{
    json_builder_set_member_name(b, key);
    json_builder_begin_array(b);
    for (int n = 0; n < CVK_TORQUE_MAP_POINTS; n++) {
        json_builder_add_double_value(b, number[n]);
    }
    json_builder_end_array(b);
}

static void print_json(const cvk_torque_map *r, const char *name)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_json_text(b, "name", name);
    add_json_number(b, "torque_nm", r->torque_nm);
    add_json_number(b, "continuous_torque_nm", r->continuous_nm);
    add_json_number(b, "least_current_d_a", r->current_d_a);
    add_json_number(b, "switch_off_mech_rad_s", r->off_mech_rad_s);
    add_numbers(b, "speed_mech_rad_s", r->speed_mech_rad_s);
    json_builder_set_member_name(b, "depths");
    json_builder_begin_object(b);
    for (int d = 0; d < CVK_DEPTHS; d++) {
        const cvk_torque_depth *k = &r->depth[d];
        json_builder_set_member_name(b, depth_name(d));
        json_builder_begin_object(b);
        add_json_number(b, "voltage_v", k->voltage_v);
        add_json_number(b, "base_mech_rad_s", k->base_mech_rad_s);
        add_json_number(b, "top_mech_rad_s", k->top_mech_rad_s);
        add_json_number(b, "weakened_mech_rad_s", k->weakened_mech_rad_s);
        add_numbers(b, "torque_nm", k->torque_nm);
        add_numbers(b, "weakened_torque_nm", k->weakened_nm);
        json_builder_end_object(b);
    }
    json_builder_end_object(b);
    json_builder_end_object(b);
    print_json_document(b);
}

static gboolean draw(const cvk_torque_map *r, const char *name, const char *path,
                     cvk_complaint *complaint)
{
    static const char *const colours[CVK_DEPTHS] = {GREY, GREEN, BLUE, ORANGE};
    static const char *const titles[CVK_DEPTHS] = {"sine", "linear", "hexagon", "six steps"};
    char *title = g_strdup_printf("%s: torque over speed", name);
    FILE *g = open_figure(path, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    const double last_rpm = CVK_RPM_PER_RAD_S * r->speed_mech_rad_s[CVK_TORQUE_MAP_POINTS - 1],
                 off_rpm = CVK_RPM_PER_RAD_S * r->off_mech_rad_s;
    const double end_rpm = off_rpm < NEAR * last_rpm ? fmax(last_rpm, 1.05 * off_rpm) : last_rpm;
    fprintf(g, "$map << EOD\n");
    for (int n = 0; n < CVK_TORQUE_MAP_POINTS; n++) {
        fprintf(g, "%g", CVK_RPM_PER_RAD_S * r->speed_mech_rad_s[n]);
        for (int d = 0; d < CVK_DEPTHS; d++) {
            fprintf(g, " %g %g", r->depth[d].torque_nm[n], r->depth[d].weakened_nm[n]);
        }
        fprintf(g, "\n");
    }
    fprintf(g,
            "EOD\nset lmargin at screen 0.08\nset rmargin at screen 0.76\nset bmargin at screen "
            "0.09\nset tmargin at screen 0.92\nset key outside right center\nset xlabel 'speed / "
            "rpm'\nset ylabel 'torque / N m'\nset yrange [0:*]\nset xrange [0:%g]\n",
            end_rpm);
    if (off_rpm < end_rpm) {
        fprintf(
            g, "set arrow 1 from %g, graph 0 to %g, graph 1 nohead dt 3 lw 1.5 lc rgb '" GREY "'\n",
            off_rpm, off_rpm);
    }
    fprintf(g, "plot ");
    for (int d = 0; d < CVK_DEPTHS; d++) {
        fprintf(g, "$map using 1:%d with lines lw 2 lc rgb '%s' title '%s', ", 2 + 2 * d,
                colours[d], titles[d]);
    }
    for (int d = 0; d < CVK_DEPTHS; d++) {
        fprintf(g, "$map using 1:%d with lines lw 1.5 dt 2 lc rgb '%s' %s, ", 3 + 2 * d, colours[d],
                d == CVK_DEPTHS - 1 ? "title 'the same, weakened'" : "notitle");
    }
    if (isfinite(r->continuous_nm)) {
        fprintf(g, "%g with lines lw 1.5 dt 4 lc rgb 'black' title 'for long', ", r->continuous_nm);
    }
    fprintf(g, "NaN with lines dt 3 lw 1.5 lc rgb '" GREY "' %s\n",
            off_rpm < end_rpm ? "title 'bus lifted when off'" : "notitle");
    return close_figure(g, path, complaint);
}

/* ---- the command ----------------------------------------------------------------------------- */

static int work(const arguments *a, const char *card_path, const char *rig_path)
{
    cvk_complaint complaint;
    cvk_card card;
    cvk_rig_config rig;
    cvk_torque_motor motor;
    cvk_torque_map range;
    if (cvk_card_file_read(&card, card_path, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    if (read_bench(VERB, rig_path, a->tune, a->parameters, &rig) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    if (!(a->winding_degc > rig.motor.ambient_degc)) {
        return complain_usage(VERB, "--winding: %g degC is not above the rig's ambient_degc of %g",
                              a->winding_degc, rig.motor.ambient_degc);
    }
    if (!describe(a, &card, &rig, &motor)) {
        return EXIT_ANSWER_NO;
    }
    cvk_torque_map_compute(&motor, &range);
    if (a->json) {
        print_json(&range, rig.name);
    } else {
        print_range(a, &motor, &range, rig.name);
    }
    return a->plot == NULL || draw(&range, rig.name, a->plot, &complaint)
               ? EXIT_DONE
               : complain_file(VERB, &complaint);
}

int cmd_range(int argc, char **argv)
{
    arguments a = {.winding_degc = 110.0};
    const GOptionEntry entries[] = {
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &a.tune,
         "limits (else X.tune.yaml beside X.rig.yaml)", "FILE"},
        {"parameter", 'P', 0, G_OPTION_ARG_STRING_ARRAY, &a.parameters,
         "change one of those, such as torque.weakening_current_a=5", "KEY=VALUE"},
        {"winding", 0, 0, G_OPTION_ARG_DOUBLE, &a.winding_degc,
         "temperature that the winding bears for long (110)", "DEGC"},
        {"plot", 'p', 0, G_OPTION_ARG_FILENAME, &a.plot, "draw torque over speed", "FILE.png|.svg"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &a.json, "print one JSON document", NULL},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "CARD RIG",
                       "Tells what torque a motor has at which speed: by current, by voltage at "
                       "each depth of modulation,\nwith field weakening, and for long.",
                       "corvak range wheel.card.yaml data/wheel.rig.yaml --plot range.png", entries,
                       &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = EXIT_BAD_USAGE;
    if (argc != 3) {
        complain_usage(VERB, "name a motor card and a rig file");
    } else if (!(a.winding_degc > 0.0 && a.winding_degc <= 250.0)) {
        complain_usage(VERB, "--winding: %g; it may be above 0, to 250 degC", a.winding_degc);
    } else {
        char *const inputs[] = {argv[1], argv[2], a.tune};
        status = check_output(VERB, a.plot, TRUE, inputs, G_N_ELEMENTS(inputs));
        status = status == EXIT_DONE ? work(&a, argv[1], argv[2]) : status;
    }
    g_free(a.tune);
    g_free(a.plot);
    g_strfreev(a.parameters);
    return status;
}
