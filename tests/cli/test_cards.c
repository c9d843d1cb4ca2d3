/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak examine, card and plan, as a user runs them.
 */
#include "command.h"
#include "suite.h"

#include <json-glib/json-glib.h>
#include <math.h>
#include <string.h>

#define LOG CORVAK_DATA "/wheel-standstill.csv"
#define RIG CORVAK_DATA "/wheel.rig.yaml"

START_TEST(examine_reports_the_health_of_a_log)
{
    assert_status(run(CORVAK_COMMAND " examine " LOG " --plot health.png"), 0);
    assert_says(out, "37065 rows");
    assert_says(out, "the names fit");
    assert_says(out, "flux linkage nothing: the motor does not turn");
    char *page = read_file("health.png");
    ck_assert_int_eq(memcmp(page, "\x89PNG", 4), 0);
    g_free(page);
    assert_status(run(CORVAK_COMMAND " examine " LOG " --json"), 0);
    JsonParser *parser = json_parser_new();
    ck_assert(json_parser_load_from_data(parser, out, -1, NULL));
    JsonObject *root = json_node_get_object(json_parser_get_root(parser));
    ck_assert_double_eq_tol(json_object_get_double_member(root, "period_s"), 50e-6, 1e-9);
    JsonObject *hope = json_object_get_object_member(root, "hope");
    ck_assert_double_lt(json_object_get_double_member(hope, "resistance_ohm"), 0.013);
    ck_assert(json_object_get_null_member(hope, "flux_linkage_wb"));
    g_object_unref(parser);
}
END_TEST

/* Columns under wrong names: the answer is no, with the right names. */
START_TEST(examine_says_which_columns_are_exchanged)
{
    assert_status(run(CORVAK_COMMAND " examine " LOG " --map ia=ib --map ib=ia"), 1);
    assert_says(out, "THE NAMES ARE WRONG");
    assert_says(out, "phases bac");
}
END_TEST

/* Not known names, mapped by a file. */
START_TEST(a_mapping_file_names_the_columns)
{
    write_file("map.yaml", "ia: ia\nib: ib\nic: '?'\n", -1);
    assert_status(run(CORVAK_COMMAND " estimate " LOG " --mapping map.yaml --json"), 0);
    write_file("map.yaml", "current: ia\n", -1);
    assert_status(run(CORVAK_COMMAND " estimate " LOG " --mapping map.yaml"), 2);
    assert_says(err, "map.yaml:1:");
}
END_TEST

START_TEST(a_card_is_shown_compared_and_changed)
{
    assert_status(run(CORVAK_COMMAND " estimate " LOG " -o a.yaml --switch-resistance 0.004"), 0);
    assert_status(run(CORVAK_COMMAND " card a.yaml"), 0);
    assert_says(out, "resistance, winding alone");
    assert_status(run(CORVAK_COMMAND " card a.yaml --meter-resistance 0.332 --meter-inductance "
                                     "780e-6"),
                  0);
    assert_says(out, "agree");
    assert_status(run(CORVAK_COMMAND " card a.yaml --meter-inductance 640e-6 --rotor-deg 90"), 1);
    assert_says(out, "DISAGREE");
    assert_status(run(CORVAK_COMMAND " card a.yaml --set pole_pairs=12 --reason counted -o b.yaml"),
                  0);
    assert_says(out, "pole pairs: counted");
    assert_status(run(CORVAK_COMMAND " card a.yaml b.yaml --json"), 0);
    assert_says(out, "\"agree\" : true");
    assert_status(run(CORVAK_COMMAND " card a.yaml --set pole_pairs=12"), 2);
    assert_says(err, "--reason");
    assert_status(run(CORVAK_COMMAND " card a.yaml --set poles=12 --reason x"), 2);
    assert_says(err, "KEY=VALUE");
    assert_status(run(CORVAK_COMMAND " card nowhere.yaml"), 2);
    assert_says(err, "nowhere.yaml");
}
END_TEST

/* The proposal runs as it stands, and brings about what was promised. */
START_TEST(a_plan_can_be_run)
{
    assert_status(run(CORVAK_COMMAND " plan " RIG " " LOG " --time 4 --json"), 0);
    JsonParser *parser = json_parser_new();
    ck_assert(json_parser_load_from_data(parser, out, -1, NULL));
    JsonObject *root = json_node_get_object(json_parser_get_root(parser));
    JsonObject *next = json_object_get_object_member(root, "next");
    ck_assert_str_eq(json_object_get_string_member(next, "excitation"), "coast");
    const char *command = json_object_get_string_member(next, "command");
    ck_assert(g_str_has_prefix(command, "corvak record coast"));
    assert_status(run(CORVAK_COMMAND "%s", command + strlen("corvak")), 0);
    g_object_unref(parser);
    assert_status(run(CORVAK_COMMAND " estimate " LOG " next-coast.h5 --json"), 0);
    assert_says(out, "\"pole_pairs\" : {");
    assert_status(run(CORVAK_COMMAND " plan " RIG " --time -1"), 2);
    assert_says(err, "limits are positive");
    assert_status(run(CORVAK_COMMAND " plan"), 2);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, make_folder, remove_folder);
    tcase_add_test(tests, examine_reports_the_health_of_a_log);
    tcase_add_test(tests, examine_says_which_columns_are_exchanged);
    tcase_add_test(tests, a_mapping_file_names_the_columns);
    tcase_add_test(tests, a_card_is_shown_compared_and_changed);
    tcase_add_test(tests, a_plan_can_be_run);
}

int main(void)
{
    return run_suite("cards", add);
}
