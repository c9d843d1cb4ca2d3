/* SPDX-License-Identifier: Apache-2.0
 *
 * Tune files: what is written is read again, and what is wrong is refused with its place.
 */
#include "corvak/files/tune_yaml.h"
#include "suite.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

static cvk_tune tune;
static cvk_complaint complaint;

static cvk_status parse(const char *text)
{
    return cvk_tune_file_parse(&tune, "my.tune.yaml", text, strlen(text), &complaint);
}

static void assert_refused(const char *text, const char *words)
{
    ck_assert_int_ne(parse(text), CVK_OK);
    ck_assert_msg(strstr(complaint.text, words) != NULL, "%s", complaint.text);
}

START_TEST(what_is_left_out_stands_at_its_preset)
{
    ck_assert_int_eq(parse("tune_version: 1\ncurrent:\n  bandwidth_hz: 700\n"), CVK_OK);
    const cvk_settings presets = cvk_settings_default();
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        const bool given =
            strcmp(row->name, "bandwidth_hz") == 0 && strcmp(row->section, "current") == 0;
        ck_assert(tune.given[n] == given);
        ck_assert(given ||
                  cvk_parameter_get(&tune.settings, row) == cvk_parameter_get(&presets, row));
    }
    ck_assert_float_eq(tune.settings.current.bandwidth_hz, 700.0f);
}
END_TEST

/* Every parameter, at a value of its own, with where it came from. */
START_TEST(what_is_written_is_read_again)
{
    const char *path = "round-trip.tune.yaml";
    static cvk_tune written;
    cvk_tune_start(&written);
    snprintf(written.name, sizeof written.name, "wheel \"two\"");
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        const float share = row->kind == CVK_REAL ? 0.3f : 1.0f; /* a little towards the top */
        const float top =
            row->high < 10.0f * row->preset + 1.0f ? row->high : 10.0f * row->preset + 1.0f;
        float value = row->preset + share * (top - row->preset);
        value = row->kind == CVK_REAL ? value : (float)(int)value;
        ck_assert_int_eq(cvk_parameter_set(&written.settings, row, value, NULL), CVK_OK);
        written.given[n] = true;
        snprintf(written.from[n], sizeof written.from[n], "by hand: \\ \"%u\" # no comment", n);
    }
    written.settings.limit.current_a = 10.0f; /* what contradicts */
    written.settings.start.current_a = written.settings.speed.current_a = 9.0f;
    written.settings.start.speed_rad_s = 900.0f;
    written.settings.observer.bandwidth_rad_s = 10.0f;
    written.settings.motor.inductance_q_h = 2.0f * written.settings.motor.inductance_d_h;
    written.settings.injection.leave_rad_s = 5000.0f;
    ck_assert_int_eq(cvk_tune_file_write(&written, path, &complaint), CVK_OK);
    ck_assert_msg(cvk_tune_file_read(&tune, path, &complaint) == CVK_OK, "%s", complaint.text);
    ck_assert_str_eq(tune.name, written.name);
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        ck_assert(tune.given[n]);
        ck_assert_str_eq(tune.from[n], written.from[n]);
        ck_assert_msg(fabsf(cvk_parameter_get(&tune.settings, row) -
                            cvk_parameter_get(&written.settings, row)) <=
                          1e-6f * fabsf(cvk_parameter_get(&written.settings, row)),
                      "%s.%s", row->section, row->name);
    }
    static char text[65536];
    FILE *stream = fopen(path, "rb");
    ck_assert_ptr_nonnull(stream);
    const size_t length = fread(text, 1, sizeof text, stream);
    fclose(stream);
    for (size_t cut = 1; cut <= 15; cut++) { /* wherever a copy was cut */
        ck_assert_int_eq(cvk_tune_file_parse(&tune, path, text, length * cut / 16, &complaint),
                         CVK_BAD_FORMAT);
    }
    remove(path);
    ck_assert_int_eq(cvk_tune_file_write(&written, "/dev/full", &complaint), CVK_FILE_ERROR);
    ck_assert_int_eq(cvk_tune_file_write(&written, "/no/such/place.yaml", &complaint),
                     CVK_FILE_ERROR);
}
END_TEST

START_TEST(what_is_wrong_is_refused_with_its_place)
{
    static const char start[] = "tune_version: 1\n";
    char text[400];
    assert_refused("current:\n  bandwidth_hz: 700\n", "lacks the line tune_version: 1");
    assert_refused("tune_version: 1,5\n", "a tune file of version 1,5");
    assert_refused("tune_version: 2\n", "my.tune.yaml:1: a tune file of version 2");
    snprintf(text, sizeof text, "%scurrent:\n  bandwith_hz: 700\n", start);
    assert_refused(text, "my.tune.yaml:3: unknown parameter current.bandwith_hz; the closest is "
                         "current.bandwidth_hz");
    snprintf(text, sizeof text, "%scurrent:\n  bandwidth_hz: 7e9\n", start);
    assert_refused(text, "my.tune.yaml:3: current.bandwidth_hz is \"7e9\"; allowed: 1 .. 12500 Hz");
    snprintf(text, sizeof text, "%smotor:\n  pole_pairs: 2.5\n", start);
    assert_refused(text, "motor.pole_pairs is \"2.5\"; allowed: 0 .. 100, a whole number");
    snprintf(text, sizeof text, "%sangle:\n  source: crystal\n", start);
    assert_refused(text, "allowed: rotor_sensor, observer");
    snprintf(text, sizeof text, "%srotor:\n  reversed: perhaps\n", start);
    assert_refused(text, "allowed: yes or no");
    snprintf(text, sizeof text, "%slimit:\n  current_a: nan\n", start);
    assert_refused(text, "limit.current_a is \"nan\"");
    snprintf(text, sizeof text, "%slimit:\n  current_a: 1\n  current_a: 2\n", start);
    assert_refused(text, "my.tune.yaml:4: limit.current_a is given twice (first in line 3)");
    snprintf(text, sizeof text, "%sprotect:\n  bus_min_v: 30\n  bus_max_v: 20\n", start);
    assert_refused(text, "protect.bus_max_v against protect.bus_min_v");
    snprintf(text, sizeof text, "%sfrom:\n  limit.curent_a: gains\n", start);
    assert_refused(text, "the closest is limit.current_a");
    ck_assert_int_eq(cvk_tune_file_read(&tune, "/no/such.yaml", &complaint), CVK_FILE_ERROR);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, what_is_left_out_stands_at_its_preset);
    tcase_add_test(tests, what_is_written_is_read_again);
    tcase_add_test(tests, what_is_wrong_is_refused_with_its_place);
}

int main(void)
{
    return run_suite("tune", add);
}
