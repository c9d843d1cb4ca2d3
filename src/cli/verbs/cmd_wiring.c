/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak wiring: which phase is at which leg, and which way the sensor counts.
 */
#include "base/calibration.h"

#define VERB "wiring"

/* 1 or -1; null when not decided. */
static void add_direction(JsonBuilder *b, const char *key, int direction)
{
    json_builder_set_member_name(b, key);
    if (direction != 0) {
        json_builder_add_int_value(b, direction);
    } else {
        json_builder_add_null_value(b);
    }
}

static void add_sensors(JsonBuilder *b, const cvk_calibration *c)
{
    json_builder_set_member_name(b, "sensors");
    json_builder_begin_object(b);
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        const cvk_sensor_calibration *s = &c->sensor[k];
        if (s->present) {
            json_builder_set_member_name(b, cvk_rotor_kind_name(k));
            json_builder_begin_object(b);
            add_direction(b, "direction", s->direction);
            add_json_number(b, "probability", s->direction_probability);
            add_json_number(b, "electrical_turns", s->turns);
            add_json_text(b, "undecided", s->direction == 0 ? s->why : NULL);
            json_builder_end_object(b);
        }
    }
    json_builder_end_object(b);
}

static void print_json(const cvk_calibration *c)
{
    const cvk_wiring_answer *w = &c->wiring;
    const gboolean decided = w->undecided[0] == '\0';
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "wiring");
    json_builder_begin_object(b);
    add_json_text(b, "phases", w->phases[0] != '\0' ? w->phases : NULL);
    add_json_text(b, "phases_open", w->phases_open[0] != '\0' ? w->phases_open : NULL);
    add_direction(b, "sensor_direction", w->sensor_direction);
    add_json_number(b, "probability", w->probability);
    add_json_text(b, "undecided", decided ? NULL : w->undecided);
    add_json_text(b, "sensor",
                  w->by != CVK_ROTOR_ANGLE_KINDS ? cvk_rotor_kind_name((int)w->by) : NULL);
    add_json_text(b, "cure", decided ? w->cure : NULL);
    add_sensors(b, c);
    json_builder_end_object(b);
    add_json_findings(b, &c->log);
    json_builder_end_object(b);
    print_json_document(b);
}

static void print_sensors(const cvk_calibration *c)
{
    g_print("\n%-10s %-10s %12s %16s\n", "sensor", "counts", "probability", "electrical turns");
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        const cvk_sensor_calibration *s = &c->sensor[k];
        if (!s->present) {
            continue;
        }
        g_print("%-10s %-10s %12.6f %16.2f\n", cvk_rotor_kind_name(k),
                s->direction > 0   ? "forward"
                : s->direction < 0 ? "backward"
                                   : "undecided",
                s->direction_probability, s->turns);
        if (s->direction == 0 && s->why[0] != '\0') {
            g_print("           %s\n", s->why);
        }
    }
}

static void print_answer(const cvk_calibration *c, const char *log)
{
    const cvk_wiring_answer *w = &c->wiring;
    g_print("wiring of %s\n\n", log);
    if (w->undecided[0] != '\0') {
        g_print("cannot decide from this log: %s\n", w->undecided);
    } else {
        g_print("sensor            %s\n", cvk_rotor_kind_name((int)w->by));
        g_print("sensor direction  %s\n", w->sensor_direction > 0 ? "1, with the phase order"
                                                                  : "-1, against the phase order");
        g_print("phases            %s%s\n", w->phases[0] != '\0' ? w->phases : "open: ",
                w->phases[0] != '\0' ? " at legs a, b, c" : w->phases_open);
        g_print("probability       %.6f\n\n%s\n", w->probability, w->cure);
    }
    print_sensors(c);
    for (size_t n = 0; n < c->log.findings; n++) {
        g_print("%s: %s: %s\n", severity_text(c->log.finding[n].severity), c->log.finding[n].log,
                c->log.finding[n].text);
    }
}

int cmd_wiring(int argc, char **argv)
{
    gboolean json = FALSE;
    sensor_options options = {.log = LOG_OPTIONS_DEFAULT};
    const GOptionEntry entries[] = {
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print one JSON document", NULL},
        SENSOR_OPTION_ENTRIES(options),
        LOG_OPTION_ENTRIES(options.log),
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "LOG",
                       "From one log of a spin, a sweep or a shaft turned by hand: which motor "
                       "phase is at which leg and\nwhich way the rotor sensor counts, what to "
                       "swap, or which parameter does instead.",
                       "corvak wiring data/mixer-sweep.h5", entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    cvk_calibration *c = g_new0(cvk_calibration, 1);
    log_set *set = g_new0(log_set, 1);
    int status = calibrate_one_log(VERB, &options, argv + 1, argc - 1, set, c);
    if (status != EXIT_BAD_USAGE) {
        status = c->wiring.undecided[0] == '\0' ? EXIT_DONE : EXIT_ANSWER_NO;
        if (json) {
            print_json(c);
        } else {
            print_answer(c, set->log[0]->name);
        }
    }
    free_log_set(set);
    free_log_options(&options.log);
    g_free(set);
    g_free(c);
    return status;
}
