/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak rig: checks a rig file and explains what the rig can be expected to do.
 */
#include "base/cli.h"

#include "corvak/core/units.h"

#include "corvak/files/rig_yaml.h"
#include "corvak/rig/outlook.h"

#include <json-glib/json-glib.h>
#include <math.h>
#include <string.h>

#define VERB "rig"

/* Imperfections that this rig file has switched off. */
static void print_switched_off(const cvk_rig_config *config)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    GString *names = g_string_new(NULL);
    for (unsigned n = 0; n < count; n++) {
        if (strcmp(fields[n].section, "imperfections") == 0 &&
            cvk_rig_field_value(config, &fields[n]) == 0.0) {
            g_string_append_printf(names, " %s", fields[n].name);
        }
    }
    if (names->len > 0) {
        g_print("\nSwitched off:%s\n", names->str);
    }
    g_string_free(names, TRUE);
}

static void print_outlook(const cvk_rig_config *config, const cvk_rig_outlook *o)
{
    g_print("Rig: %s\n\n", config->name);
    g_print("time constants          electrical %s ms (d), %s ms (q); mechanical %s ms\n",
            digits(1e3 * o->time_constant_d_s, 3), digits(1e3 * o->time_constant_q_s, 3),
            digits(1e3 * o->mechanical_time_constant_s, 3));
    g_print("torque                  %s N m at the allowed %s A\n", digits(o->torque_limit_nm, 3),
            digits(config->tune.limit.current_a, 3));
    g_print("inductance loaded       %s µH (d), %s µH (q) at the allowed current\n",
            digits(1e6 * o->loaded_inductance_d_h, 3), digits(1e6 * o->loaded_inductance_q_h, 3));
    g_print("\nspeed                     phase voltage      no load   at the allowed current\n");
    for (int n = 0; n < CVK_OUTLOOK_DEPTHS; n++) {
        g_print("  %-25s %8.2f V  %8.0f rpm  %8.0f rpm\n", o->depth[n].name,
                o->depth[n].phase_voltage_v, CVK_RPM_PER_RAD_S * o->depth[n].no_load_mech_rad_s,
                CVK_RPM_PER_RAD_S * o->depth[n].loaded_mech_rad_s);
    }
    g_print("  faster than %.0f rpm a bridge that is switched off lifts the bus beyond %s V\n",
            CVK_RPM_PER_RAD_S * o->off_mech_rad_s,
            digits((double)config->tune.protect.bus_max_v, 4));
    g_print("\nat %s kHz PWM\n", digits(1e-3 * config->inverter.pwm_hz, 3));
    g_print("  current ripple        %s A peak to peak at most (at %.0f %% of the linear range)\n",
            digits(o->ripple_a, 3), 100.0 * o->ripple_depth);
    g_print("  capacitor ripple      %s A rms at most, at the allowed current\n",
            digits(o->capacitor_ripple_a, 3));
    g_print("  angle per sample      %s rad at the highest speed of a spin\n",
            digits(o->radians_per_sample, 3));
    g_print("  dead time takes       %s V of each phase\n", digits(o->dead_time_v, 3));
    g_print("  one converter count   %s mA\n", digits(1e3 * o->current_step_a, 3));
    if (o->lag_error_a > 0.0) {
        g_print("  late readings cost    %s A of q current at the highest speed of a spin, unless "
                "sensing.delay_s corrects them\n",
                digits(o->lag_error_a, 3));
    }
    if (o->shunt_duty_limit < 1.0) {
        g_print("  shunts see currents   up to a duty of %.3f\n", o->shunt_duty_limit);
    }
    print_switched_off(config);
    g_print("\n%s\n", o->doubts == 0 ? "Nothing implausible." : "Implausible:");
    for (size_t n = 0; n < o->doubts; n++) {
        g_print("  %s\n", o->doubt[n]);
    }
}

static void print_json(const cvk_rig_config *config, const cvk_rig_outlook *o)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "name");
    json_builder_add_string_value(b, config->name);
    add_json_number(b, "time_constant_d_s", o->time_constant_d_s);
    add_json_number(b, "time_constant_q_s", o->time_constant_q_s);
    add_json_number(b, "mechanical_time_constant_s", o->mechanical_time_constant_s);
    add_json_number(b, "torque_limit_nm", o->torque_limit_nm);
    add_json_number(b, "loaded_inductance_d_h", o->loaded_inductance_d_h);
    add_json_number(b, "loaded_inductance_q_h", o->loaded_inductance_q_h);
    add_json_number(b, "thermal_time_constant_s", o->thermal_time_constant_s);
    add_json_number(b, "shunt_duty_limit", o->shunt_duty_limit);
    json_builder_set_member_name(b, "speed");
    json_builder_begin_array(b);
    for (int n = 0; n < CVK_OUTLOOK_DEPTHS; n++) {
        json_builder_begin_object(b);
        json_builder_set_member_name(b, "depth");
        json_builder_add_string_value(b, o->depth[n].name);
        add_json_number(b, "phase_voltage_v", o->depth[n].phase_voltage_v);
        add_json_number(b, "no_load_mech_rad_s", o->depth[n].no_load_mech_rad_s);
        add_json_number(b, "loaded_mech_rad_s", o->depth[n].loaded_mech_rad_s);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    add_json_number(b, "switch_off_mech_rad_s", o->off_mech_rad_s);
    add_json_number(b, "ripple_a", o->ripple_a);
    add_json_number(b, "capacitor_ripple_a", o->capacitor_ripple_a);
    add_json_number(b, "radians_per_sample", o->radians_per_sample);
    add_json_number(b, "dead_time_v", o->dead_time_v);
    add_json_number(b, "current_step_a", o->current_step_a);
    add_json_number(b, "lag_error_a", o->lag_error_a);
    json_builder_set_member_name(b, "implausible");
    json_builder_begin_array(b);
    for (size_t n = 0; n < o->doubts; n++) {
        json_builder_add_string_value(b, o->doubt[n]);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    print_json_document(b);
}

int cmd_rig(int argc, char **argv)
{
    gboolean json = FALSE;
    char *plot = NULL, *tune = NULL;
    const GOptionEntry entries[] = {
        {"plot", 'p', 0, G_OPTION_ARG_FILENAME, &plot,
         "run both inverters and draw how they compare", "FILE.png|.svg"},
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &tune,
         "the controller's tune file (else X.tune.yaml beside X.rig.yaml)", "FILE"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print one JSON document", NULL},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "FILE",
                       "Checks a rig file and explains it: time constants, speed range, ripple "
                       "currents, and what\nis implausible. Exit status 1 when something is.",
                       "corvak rig data/wheel.rig.yaml", entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    cvk_rig_config config;
    cvk_complaint complaint;
    if (argc != 2) {
        return complain_usage(VERB, "name one rig file, such as data/wheel.rig.yaml");
    }
    if (read_bench(VERB, argv[1], tune, NULL, &config) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    cvk_rig_outlook outlook;
    cvk_rig_look_ahead(&config, &outlook);
    if (json) {
        print_json(&config, &outlook);
    } else {
        print_outlook(&config, &outlook);
    }
    int status = outlook.doubts == 0 ? EXIT_DONE : EXIT_ANSWER_NO;
    if (plot != NULL) {
        cvk_rig_comparison comparison;
        if (cvk_rig_compare_inverters(&config, &comparison) != CVK_OK ||
            !cvk_draw_inverters(&config, &comparison, plot, &complaint)) {
            status = complain_file(VERB, &complaint);
        }
    }
    g_free(plot);
    g_free(tune);
    return status;
}
