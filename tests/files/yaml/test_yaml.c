/* SPDX-License-Identifier: Apache-2.0
 *
 * Rig files and motor cards.
 */
#include "corvak/files/card_yaml.h"
#include "corvak/files/rig_yaml.h"
#include "corvak/ident/log.h"
#include "ideal_rig.h"
#include "suite.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

static cvk_rig_config config;
static cvk_complaint complaint;

/* A complete rig file, as the ideal rig. */
static void write_rig(char *text, size_t size, const char *replace, const char *with)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    const cvk_rig_config ideal = ideal_rig();
    const char *section = "";
    int used = snprintf(text, size, "name: test rig\n");
    for (unsigned n = 0; n < count; n++) {
        if (strcmp(section, fields[n].section) != 0) {
            section = fields[n].section;
            used += snprintf(text + used, size - (size_t)used, "%s:\n", section);
        }
        char value[40];
        double number = cvk_rig_field_value(&ideal, &fields[n]);
        if (fields[n].names != NULL) {
            snprintf(value, sizeof value, "%s", fields[n].names[(int)number]);
        } else {
            snprintf(value, sizeof value, "%.9g", number);
        }
        used += snprintf(text + used, size - (size_t)used, "  %s: %s\n", fields[n].name,
                         replace != NULL && strcmp(replace, fields[n].name) == 0 ? with : value);
    }
}

static cvk_status parse(const char *text)
{
    return cvk_rig_file_parse(&config, "bench.yaml", text, strlen(text), &complaint);
}

static void assert_refused(const char *replace, const char *with, const char *words)
{
    char text[16384];
    write_rig(text, sizeof text, replace, with);
    ck_assert_int_ne(parse(text), CVK_OK);
    ck_assert_msg(strstr(complaint.text, words) != NULL, "\"%s\" lacks \"%s\"", complaint.text,
                  words);
    ck_assert_msg(strncmp(complaint.text, "bench.yaml:", 11) == 0, "%s", complaint.text);
}

START_TEST(complete_rig_is_read)
{
    char text[16384];
    write_rig(text, sizeof text, "resistance_ohm", "0.25");
    ck_assert_msg(parse(text) == CVK_OK, "%s", complaint.text);
    ck_assert_str_eq(config.name, "test rig");
    ck_assert_double_eq(config.motor.pole_pairs, 4.0);
    ck_assert_double_eq(config.motor.resistance_ohm, 0.25);
}
END_TEST

START_TEST(bad_rig_values_name_line_key_and_range)
{
    assert_refused("pole_pairs", "2.5", "bench.yaml:3: motor.pole_pairs is 2.5; allowed: 1 .. 50");
    assert_refused("dead_time_s", "1", "inverter.dead_time_s is 1; allowed: 0 .. 5e-06");
    assert_refused("bus_v", "24V", "\"24V\" is not a number");
    assert_refused("adc_bits", "[12]", "lists and aliases are not allowed");
    assert_refused("flux_linkage_wb", "nan", "not a number");
    assert_refused("cogging_nm", "", "not a number");
    assert_refused("phases", "abd", "\"abd\" is none of: abc bca cab acb bac cba");
    assert_refused("dead_time", "maybe", "imperfections.dead_time: \"maybe\" is none of: off on");
    assert_refused("winding_j_k", "0", "motor.winding_j_k is 0; allowed: 0.01 .. 1e+06");
    assert_refused("index", "0.5", "rotor_sensor.index is 0.5; allowed: 0 .. 1");
}
END_TEST

START_TEST(unknown_missing_and_double_keys_are_refused)
{
    char text[16384];
    write_rig(text, sizeof text, NULL, NULL);
    char *bus = strstr(text, "bus_v");
    memcpy(bus, "buz_v", 5);
    ck_assert_int_eq(parse(text), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(
        strstr(complaint.text, "unknown key supply.buz_v; the closest is supply.bus_v"));

    /* a key with another unit is answered with the right one */
    write_rig(text, sizeof text, NULL, NULL);
    char *key = strstr(text, "inductance_d_h");
    memcpy(key, "inductance_d_u", 14);
    ck_assert_int_eq(parse(text), CVK_BAD_FORMAT);
    ck_assert_msg(strstr(complaint.text, "the closest is motor.inductance_d_h") != NULL, "%s",
                  complaint.text);

    write_rig(text, sizeof text, NULL, NULL);
    strcat(text, "motor:\n  pole_pairs: 3\n");
    ck_assert_int_eq(parse(text), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "given twice (first in line 3)"));

    ck_assert_int_eq(parse("name: only\n"), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "missing: motor.pole_pairs"));
    ck_assert_int_eq(parse("speling:\n  x: 1\n"), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "motor shaft inverter"));
}
END_TEST

/* What is in range field by field may still be impossible together. */
START_TEST(contradictions_are_refused_with_the_cure)
{
    assert_refused("cross_saturation", "0.1", "needs saturation_d_a and saturation_q_a");
    assert_refused("load_inertia_kg_m2", "1e-9", "rings or settles within a PWM period");
    assert_refused("inductance_d_h", "5e-7", "settles in far less than a PWM period");
    assert_refused("inertia_kg_m2", "1e-9", "the shaft swings or settles within a PWM period");
    assert_refused("capacitor_f", "1e-6", "takes half the bus within a PWM period");
    cvk_rig_config slow = ideal_rig();
    ck_assert_ptr_null(cvk_rig_contradiction(&slow));
    slow.inverter.updates_per_period = 2;
    slow.sensing.current_sensing = CVK_SENSING_THREE_SHUNTS;
    ck_assert_ptr_nonnull(strstr(cvk_rig_contradiction(&slow), "current_sensing inline"));
    slow = ideal_rig();
    slow.inverter.pwm_hz = 40000;
    slow.inverter.dead_time_s = 5e-6;
    ck_assert_ptr_nonnull(strstr(cvk_rig_contradiction(&slow), "a tenth of the PWM period"));
}
END_TEST

/* What may be left out is at its preset; the printed keys are those of the table. */
START_TEST(optional_keys_have_presets)
{
    cvk_rig_config preset = cvk_rig_config_default();
    ck_assert_double_eq(preset.supply.capacitor_f, 1e-3);
    ck_assert_int_eq(preset.imperfections.dead_time, 1);
    ck_assert(preset.motor.resistance_ohm != preset.motor.resistance_ohm); /* needed: no preset */
    ck_assert(cvk_rig_switch(&preset, "all", false));
    ck_assert_int_eq(preset.imperfections.cogging, 0);
    ck_assert(!cvk_rig_switch(&preset, "colour", false));
}
END_TEST

START_TEST(broken_yaml_is_refused_with_its_line)
{
    static const char *const broken[] = {
        "motor: {", "- a\n- b\n", "just text", "a: b: c\n", "motor:\n  x:\n    y:\n      z: 1\n",
        "\t: 1\n",  "a: *b\n",    ""};
    for (size_t n = 0; n < sizeof broken / sizeof broken[0]; n++) {
        ck_assert_msg(parse(broken[n]) != CVK_OK, "accepted %s", broken[n]);
        ck_assert_msg(strncmp(complaint.text, "bench.yaml:", 11) == 0, "%s", complaint.text);
    }
    ck_assert_int_eq(cvk_rig_file_read(&config, "/no/such.yaml", &complaint), CVK_FILE_ERROR);
    ck_assert_int_ne(cvk_rig_file_read(&config, "/", &complaint), CVK_OK);
}
END_TEST

START_TEST(card_is_written_whole)
{
    cvk_card card = {.name = "wheel"};
    card.entry[CVK_CARD_RESISTANCE] = (cvk_card_entry){
        .known = true, .value = 0.169, .low = 0.168, .high = 0.17, .from = "a.csv: standstill fit"};
    strcpy(card.entry[CVK_CARD_INERTIA].missing, "reason: it is \"quoted\"");
    char path[] = "/tmp/corvak-card-XXXXXX", text[16384];
    int descriptor = mkstemp(path);
    ck_assert_int_ge(descriptor, 0);
    close(descriptor);
    ck_assert_int_eq(cvk_card_file_write(&card, path, &complaint), CVK_OK);
    FILE *in = fopen(path, "r");
    size_t length = fread(text, 1, sizeof text - 1, in);
    fclose(in);
    remove(path);
    text[length] = '\0';
    ck_assert_ptr_nonnull(strstr(text, "name: wheel\n"));
    ck_assert_ptr_nonnull(strstr(text, "  resistance_ohm:\n    value: 0.169\n    low: 0.168\n"));
    ck_assert_ptr_nonnull(strstr(text, "from: 'a.csv: standstill fit'"));
    ck_assert_ptr_nonnull(strstr(text, "missing: 'reason: it is \"quoted\"'"));
    ck_assert_int_eq(cvk_card_file_write(&card, "/no/such/dir/card.yaml", &complaint),
                     CVK_FILE_ERROR);
    ck_assert_ptr_nonnull(strstr(complaint.text, "/no/such/dir/card.yaml"));
}
END_TEST

/* ---- documents and data keep up with the code ---------------------------------------------------
 */

static char *slurp(const char *path)
{
    static char text[65536];
    FILE *in = fopen(path, "r");
    ck_assert_msg(in != NULL, "cannot open %s", path);
    text[fread(text, 1, sizeof text - 1, in)] = '\0';
    fclose(in);
    return text;
}

START_TEST(every_column_and_card_key_is_documented)
{
    const char *text = slurp(CORVAK_SOURCE "/docs/file-formats.md");
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        const char *name = cvk_column_name((cvk_column)c);
        ck_assert_msg(strstr(text, name) != NULL, "docs/file-formats.md lacks column %s", name);
    }
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        const char *name = cvk_card_key_name((cvk_card_key)key);
        ck_assert_msg(strstr(text, name) != NULL, "docs/file-formats.md lacks key %s", name);
    }
}
END_TEST

START_TEST(the_rigs_of_the_studio_are_complete)
{
    static const char *const names[] = {"wheel", "blower", "mixer", "table"};
    for (int n = 0; n < 4; n++) {
        char path[512];
        snprintf(path, sizeof path, "%s/data/%s.rig.yaml", CORVAK_SOURCE, names[n]);
        ck_assert_msg(cvk_rig_file_read(&config, path, &complaint) == CVK_OK, "%s", complaint.text);
        ck_assert_str_eq(config.name, names[n]);
    }
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, complete_rig_is_read);
    tcase_add_test(tests, bad_rig_values_name_line_key_and_range);
    tcase_add_test(tests, unknown_missing_and_double_keys_are_refused);
    tcase_add_test(tests, contradictions_are_refused_with_the_cure);
    tcase_add_test(tests, optional_keys_have_presets);
    tcase_add_test(tests, broken_yaml_is_refused_with_its_line);
    tcase_add_test(tests, card_is_written_whole);
    tcase_add_test(tests, every_column_and_card_key_is_documented);
    tcase_add_test(tests, the_rigs_of_the_studio_are_complete);
}

int main(void)
{
    return run_suite("yaml", add);
}
