/* SPDX-License-Identifier: Apache-2.0
 *
 * Scenario files: what is read, what is refused and how.
 */
#include "corvak/files/scenario_yaml.h"
#include "suite.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

static cvk_rig_scenario scenario;
static cvk_complaint complaint;

static cvk_status parse(const char *text)
{
    complaint.text[0] = '\0';
    return cvk_scenario_file_parse(&scenario, "day.yaml", text, strlen(text), &complaint);
}

START_TEST(happenings_are_read_in_order)
{
    ck_assert_msg(parse("name: a day\nwind:\n  what: fan\n  torque_nm: 0.2\n"
                        "  at_speed_mech_rad_s: 100\nplug:\n  what: open_phase\n  phase: c\n"
                        "  above_speed_mech_rad_s: 30\n  from_s: 0.1\n  for_s: 2\n") == CVK_OK,
                  "%s", complaint.text);
    ck_assert_str_eq(scenario.name, "a day");
    ck_assert_uint_eq(scenario.count, 2);
    ck_assert_int_eq(scenario.item[0].what, CVK_LOAD_FAN);
    ck_assert_double_eq(scenario.item[0].value[1], 100.0);
    ck_assert(isinf(scenario.item[0].for_s));
    ck_assert_str_eq(scenario.item[1].name, "plug");
    ck_assert_double_eq(scenario.item[1].value[0], 2.0);
    ck_assert_double_eq(scenario.item[1].above_speed_mech_rad_s, 30.0);
    ck_assert_double_eq(scenario.item[1].for_s, 2.0);
}
END_TEST

/* Each kind can be written down with its own keys, and lacks any of them audibly. */
START_TEST(every_kind_is_read)
{
    for (int n = 0; n < CVK_WHAT_COUNT; n++) {
        const cvk_rig_event_help *kind = cvk_rig_event_describe((cvk_rig_event_kind)n);
        char text[256];
        int used = snprintf(text, sizeof text, "x:\n  what: %s\n", kind->name);
        for (int k = 0; k < CVK_SCENARIO_VALUES && kind->key[k].name != NULL; k++) {
            ck_assert_int_ne(parse(text), CVK_OK);
            ck_assert_ptr_nonnull(strstr(complaint.text, kind->key[k].name));
            bool phase = strstr(kind->key[k].name, "phase") != NULL;
            used += snprintf(text + used, sizeof text - (size_t)used, "  %s: %s\n",
                             kind->key[k].name, phase ? (k == 0 ? "a" : "b") : "1");
        }
        ck_assert_msg(parse(text) == CVK_OK, "%s: %s", kind->name, complaint.text);
    }
}
END_TEST

START_TEST(mistakes_are_refused_with_line_and_cure)
{
    static const struct {
        const char *text, *words;
    } cases[] = {
        {"x:\n  what: dance\n", "day.yaml:2: what: dance is none of: constant_torque fan"},
        {"x:\n  torque_nm: 1\n", "day.yaml:2: x: the first key of an event is `what`"},
        {"x:\n  what: fan\n  colour: 1\n",
         "day.yaml:3: unknown key colour of fan; allowed: from_s"},
        {"x:\n  what: hand_brake\n  torque_nm: lots\n", "a number 0 .. 1000"},
        {"x:\n  what: hand_brake\n  torque_nm: -1\n", "day.yaml:3: torque_nm is -1"},
        {"x:\n  what: open_phase\n  phase: d\n", "phase is d; allowed: a b c"},
        {"x:\n  what: open_phase\n  phase: bus\n", "allowed: a b c"},
        {"x:\n  what: phase_short\n  phase: a\n  to_phase: a\n", "must be two different ones"},
        {"x:\n  what: fan\n  from_s: -1\n", "from_s is -1; allowed: a number 0 .. 1e+06"},
        {"colour: red\n", "unknown key colour"},
        {"name: nothing\n", "nothing happens"},
        {"", "nothing happens"},
    };
    for (size_t n = 0; n < sizeof cases / sizeof cases[0]; n++) {
        ck_assert_int_ne(parse(cases[n].text), CVK_OK);
        ck_assert_msg(strstr(complaint.text, cases[n].words) != NULL, "\"%s\" lacks \"%s\"",
                      complaint.text, cases[n].words);
    }
    char many[4096] = "";
    for (int n = 0; n <= CVK_SCENARIO_MOST; n++) {
        size_t used = strlen(many);
        snprintf(many + used, sizeof many - used, "x%d:\n  what: blocked_rotor\n", n);
    }
    ck_assert_int_ne(parse(many), CVK_OK);
    ck_assert_ptr_nonnull(strstr(complaint.text, "more than 64 events"));
}
END_TEST

START_TEST(the_scenarios_of_the_studio_are_read)
{
    static const char *const names[] = {"centring", "burner", "mishaps"};
    for (size_t n = 0; n < sizeof names / sizeof names[0]; n++) {
        char path[512];
        snprintf(path, sizeof path, "%s/data/%s.scenario.yaml", CORVAK_SOURCE, names[n]);
        ck_assert_msg(cvk_scenario_file_read(&scenario, path, &complaint) == CVK_OK, "%s",
                      complaint.text);
    }
    ck_assert_int_eq(cvk_scenario_file_read(&scenario, "/no/such.yaml", &complaint),
                     CVK_FILE_ERROR);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, happenings_are_read_in_order);
    tcase_add_test(tests, every_kind_is_read);
    tcase_add_test(tests, mistakes_are_refused_with_line_and_cure);
    tcase_add_test(tests, the_scenarios_of_the_studio_are_read);
}

int main(void)
{
    return run_suite("scenario", add);
}
