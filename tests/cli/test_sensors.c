/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak wiring, calibrate and watch, as a user runs them.
 */
#include "command.h"
#include "suite.h"

#include <json-glib/json-glib.h>
#include <math.h>
#include <string.h>

#define MIXER CORVAK_DATA "/mixer.rig.yaml"
#define SWEEP CORVAK_DATA "/mixer-sweep.h5"
#define ALL "t,ia,ib,ic,duty_a,duty_b,duty_c,vdc,theta_m,enc,index,hall,sin,cos,tach"

static void prepare(void)
{
    make_folder();
    assert_status(run(CORVAK_COMMAND " record spin " MIXER " -c " ALL " -o spin.h5"), 0);
}

static JsonNode *parse_out(void)
{
    GError *error = NULL;
    JsonNode *root = json_from_string(out, &error);
    ck_assert_msg(root != NULL, "%s", error != NULL ? error->message : "nothing");
    return root;
}

static JsonObject *member(JsonNode *root, const char *path)
{
    JsonObject *at = json_node_get_object(root);
    char **names = g_strsplit(path, ".", -1);
    for (int n = 0; names[n] != NULL; n++) {
        ck_assert_msg(json_object_has_member(at, names[n]), "no %s in %s", names[n], path);
        at = json_object_get_object_member(at, names[n]);
    }
    g_strfreev(names);
    return at;
}

/* The keys that other programs rely on. */
START_TEST(wiring_answers_as_json)
{
    assert_status(run(CORVAK_COMMAND " wiring " SWEEP " --json"), 0);
    JsonNode *root = parse_out();
    JsonObject *w = member(root, "wiring");
    ck_assert_int_eq((int)strlen(json_object_get_string_member(w, "phases")), 3);
    ck_assert_int_eq((int)json_object_get_int_member(w, "sensor_direction"), -1);
    ck_assert_double_gt(json_object_get_double_member(w, "probability"), 0.99);
    ck_assert(json_object_get_null_member(w, "undecided"));
    json_node_unref(root);
    assert_status(run(CORVAK_COMMAND " wiring " SWEEP), 0);
    assert_says(out, "exchange two wires of that sensor");
    assert_says(out, "rotor.reversed: yes");
    assert_says(out, "The absolute sensor counts with it");
}
END_TEST

START_TEST(a_log_that_cannot_decide_is_status_one)
{
    assert_status(run(CORVAK_COMMAND " wiring " CORVAK_DATA "/wheel-standstill.csv --json"), 1);
    JsonNode *root = parse_out();
    JsonObject *w = member(root, "wiring");
    ck_assert(json_object_get_null_member(w, "phases"));
    ck_assert_ptr_nonnull(strstr(json_object_get_string_member(w, "undecided"), "no rotor sensor"));
    json_node_unref(root);
    assert_status(run(CORVAK_COMMAND " wiring " CORVAK_DATA "/wheel-standstill.csv"), 1);
    assert_says(out, "cannot decide from this log");
}
END_TEST

START_TEST(calibrate_answers_as_json)
{
    assert_status(run(CORVAK_COMMAND " calibrate spin.h5 --json"), 0);
    JsonNode *root = parse_out();
    static const char *const sensors[] = {"halls", "encoder", "sincos", "absolute"};
    for (int n = 0; n < 4; n++) {
        char *path = g_strconcat("calibration.", sensors[n], ".electrical_offset_rad", NULL);
        JsonObject *x = member(root, path);
        const double low = json_object_get_double_member(x, "low");
        const double value = json_object_get_double_member(x, "value");
        const double high = json_object_get_double_member(x, "high");
        ck_assert(low < value && value < high && high - low < 0.1);
        g_free(path);
    }
    ck_assert_int_eq((int)json_array_get_length(json_object_get_array_member(
                         member(root, "calibration.halls"), "edge_rad")),
                     6);
    json_node_unref(root);
}
END_TEST

/* Into a tune file, on top of one; and the motor runs by it. */
START_TEST(calibrate_writes_a_tune_file)
{
    assert_status(run(CORVAK_COMMAND " calibrate spin.h5 --sensor sincos --tune " CORVAK_DATA
                                     "/mixer.tune.yaml -o found.tune.yaml --plot found.svg"),
                  0);
    char *tune = read_file("found.tune.yaml");
    assert_says(tune, "kind: sincos");
    assert_says(tune, "gain_a_s: 0.05");
    assert_says(tune, "rotor.offset_rad: \"calibrate spin.h5");
    g_free(tune);
    char *figure = read_file("found.svg");
    assert_says(figure, "</svg>");
    g_free(figure);
    assert_status(run(CORVAK_COMMAND " calibrate spin.h5 -s encoder -o found.tune.yaml"), 0);
    tune = read_file("found.tune.yaml");
    assert_says(tune, "startup: index");
    assert_says(tune, "index_rad:");
    g_free(tune);
    assert_status(run(CORVAK_COMMAND " calibrate spin.h5 -s halls -o found.tune.yaml"), 0);
    tune = read_file("found.tune.yaml");
    assert_says(tune, "hall_edge_6_rad:");
    g_free(tune);
}
END_TEST

START_TEST(a_controller_calibrates_by_itself)
{
    assert_status(run(CORVAK_COMMAND " calibrate sim:" MIXER " -o dev.tune.yaml"), 0);
    assert_says(err, "sweep down again");
    assert_says(out, "rotor.reversed: no");
    assert_says(out, "turned both ways, the right way");
    char *tune = read_file("dev.tune.yaml");
    assert_says(tune, "offset_rad: -2.1");
    g_free(tune);
    assert_status(run(CORVAK_COMMAND " calibrate sim:" MIXER " --json"), 0);
    JsonNode *root = parse_out();
    JsonObject *offset = member(root, "device.electrical_offset_rad");
    const double truth = -2.1336; /* of the bench */
    ck_assert_double_eq_tol(json_object_get_double_member(offset, "value"), truth, 0.03);
    ck_assert_double_lt(json_object_get_double_member(offset, "low"), truth);
    ck_assert_double_gt(json_object_get_double_member(offset, "high"), truth);
    json_node_unref(root);
}
END_TEST

START_TEST(watch_says_what_is_not_consistent)
{
    assert_status(run(CORVAK_COMMAND " watch sim:" CORVAK_DATA "/table.rig.yaml"), 0);
    assert_says(out, "consistent after 6.0 s");
    assert_says(out, "8192 counts from mark to mark");
    assert_status(run(CORVAK_COMMAND " watch sim:" MIXER " --json"), 1);
    JsonNode *root = parse_out();
    ck_assert(!json_object_get_boolean_member(json_node_get_object(root), "consistent"));
    json_node_unref(root);
    assert_says(out, "absolute and halls count in opposite directions");
    assert_status(run(CORVAK_COMMAND " watch " SWEEP), 0);
    write_file("pulled.scenario.yaml",
               "name: pulled\nhand:\n  what: driven\n  from_s: 0\n  speed_mech_rad_s: 4\n"
               "plug:\n  what: sensor_unplugged\n  from_s: 0\n",
               -1);
    assert_status(run(CORVAK_COMMAND " watch sim:" MIXER " -S pulled.scenario.yaml --for 2"), 1);
    assert_says(out, "no sensor moved");
}
END_TEST

START_TEST(wrong_usage_is_refused)
{
    static const char *const lines[] = {
        "wiring",
        "wiring " SWEEP " " SWEEP,
        "wiring nothere.csv",
        "wiring " SWEEP " --pole-pairs -3",
        "calibrate",
        "calibrate " SWEEP " --encoder-counts 2",
        "calibrate " SWEEP " --plot x.pdf",
        "calibrate " SWEEP " -o nothere/x.yaml",
        "calibrate " SWEEP " -o x.yaml --sensor resolver",
        "calibrate " SWEEP " -o x.yaml --tune nothere.yaml",
        "calibrate sim:nothere.rig.yaml",
        "calibrate tcp:127.0.0.1:1",
        "watch",
        "watch sim:nothere.rig.yaml",
        "watch nothere.csv",
        "watch sim:" MIXER " --for -1",
        "watch sim:" MIXER " --scenario nothere.yaml",
    };
    for (size_t n = 0; n < G_N_ELEMENTS(lines); n++) {
        assert_status(run(CORVAK_COMMAND " %s", lines[n]), 2);
        ck_assert_msg(g_str_has_prefix(err, "corvak "), "%s: %s", lines[n], err);
    }
}
END_TEST

static void add_tests(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, prepare, remove_folder);
    tcase_add_test(tests, wiring_answers_as_json);
    tcase_add_test(tests, a_log_that_cannot_decide_is_status_one);
    tcase_add_test(tests, calibrate_answers_as_json);
    tcase_add_test(tests, calibrate_writes_a_tune_file);
    tcase_add_test(tests, a_controller_calibrates_by_itself);
    tcase_add_test(tests, watch_says_what_is_not_consistent);
    tcase_add_test(tests, wrong_usage_is_refused);
}

int main(void)
{
    return run_suite("sensors", add_tests);
}
