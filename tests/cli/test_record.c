/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak record and corvak rig, run as a user runs them.
 */
#include "command.h"
#include "suite.h"

#include <json-glib/json-glib.h>
#include <math.h>
#include <signal.h>
#include <string.h>

#define WHEEL " " CORVAK_DATA "/wheel.rig.yaml"
#define MIXER " " CORVAK_DATA "/mixer.rig.yaml"

/* Rows of a CSV log, comments and header not counted. */
static size_t rows_of(const char *name)
{
    char *text = read_file(name);
    char **lines = split_lines(text);
    size_t rows = 0;
    for (size_t n = 0; lines[n] != NULL; n++) {
        rows += lines[n][0] != '\0' && (g_ascii_isdigit(lines[n][0]) || lines[n][0] == '-');
    }
    g_strfreev(lines);
    g_free(text);
    return rows;
}

static void assert_file_says(const char *name, const char *words)
{
    char *text = read_file(name);
    assert_says(text, words);
    g_free(text);
}

static gboolean exists(const char *name)
{
    char *path = g_build_filename(dir, name, NULL);
    gboolean there = g_file_test(path, G_FILE_TEST_EXISTS);
    g_free(path);
    return there;
}

/* HDF5 as h5py sees it: the same columns as CSV, units and notes as attributes. */
START_TEST(hdf5_is_read_by_h5py)
{
    assert_status(run(CORVAK_COMMAND " record duty" WHEEL " --seed 3 -o duty.h5"), 0);
    assert_status(run(CORVAK_COMMAND " record duty" WHEEL " --seed 3 -o duty.csv"), 0);
    assert_status(run("/usr/bin/python3 " CORVAK_SOURCE "/tests/cli/read_hdf5.py duty.h5"), 0);
    assert_says(out, "# rig wheel\n");
    assert_says(out, "# current_gain_tolerance 0.006\n");
    static const char *const columns[] = {"t 's'",     "ia 'A'",  "ib 'A'",       "ic 'A'",
                                          "duty_a ''", "vdc 'V'", "theta_m 'rad'"};
    for (size_t n = 0; n < G_N_ELEMENTS(columns); n++) {
        char *line = g_strdup_printf("%s %zu float64", columns[n], rows_of("duty.csv"));
        assert_says(out, line);
        g_free(line);
    }
    double mean = g_ascii_strtod(strstr(out, "vdc 'V'") + strlen("vdc 'V' 80000 float64"), NULL);
    ck_assert_double_eq_tol(mean, 25.6, 0.2);
}
END_TEST

START_TEST(channels_and_decimation)
{
    assert_status(run(CORVAK_COMMAND " record sweep" MIXER
                                     " -c t,hall,true_theta_e --decimate 10 -o hall.csv"),
                  0);
    assert_file_says("hall.csv", "\nt [s],hall,true_theta_e [rad]\n");
    assert_status(run(CORVAK_COMMAND " record sweep" MIXER " -o all.csv"), 0);
    assert_file_says("all.csv", "theta_m [rad],enc,index,hall,sin [V],cos [V],tach [V]");
    assert_file_says("all.csv", "# encoder_counts: 16384");
    ck_assert_uint_eq(rows_of("hall.csv"), (rows_of("all.csv") + 9) / 10);
    assert_status(run(CORVAK_COMMAND " record spin --channels help"), 0);
    assert_says(out, "true_speed_m");
    assert_status(run(CORVAK_COMMAND " record spin" WHEEL " -c t,colour"), 2);
    assert_says(err, "no channel \"colour\"; there are: t pulse");
}
END_TEST

/* Two shunts measure two currents: the log has two. */
START_TEST(what_is_not_measured_is_not_logged)
{
    assert_status(run(CORVAK_COMMAND " record standstill" WHEEL
                                     " --set sensing.current_sensing=two_shunts -o two.csv"),
                  0);
    assert_file_says("two.csv", "\nt [s],ia [A],ib [A],duty_a");
    assert_status(run(CORVAK_COMMAND " estimate two.csv"), 0);
}
END_TEST

START_TEST(keys_can_be_set_and_imperfections_switched)
{
    assert_status(run(CORVAK_COMMAND " record steps" WHEEL " --ideal -c t,ia,ib,ic -o i.csv"), 0);
    assert_status(run(CORVAK_COMMAND " record steps" WHEEL
                                     " --without current_noise --without quantisation -o n.csv"),
                  0);
    assert_status(run(CORVAK_COMMAND " record steps" WHEEL " --without colour"), 2);
    assert_says(err, "--without colour: no such imperfection");
    assert_status(run(CORVAK_COMMAND " record steps" WHEEL " --set motor.resistance_ohm=-1"), 2);
    assert_says(err, "motor.resistance_ohm is -1; allowed: 0.0001 .. 100");
    assert_status(run(CORVAK_COMMAND " record steps" WHEEL " --set nonsense"), 2);
    assert_says(err, "write SECTION.KEY=VALUE");
}
END_TEST

/* A scope's log: a bridge leg's voltage is near one of the rails, all of the time but at edges. */
START_TEST(a_scope_log_shows_the_switching)
{
    assert_status(run(CORVAK_COMMAND " record spin" WHEEL
                                     " --scope va,ia --from 0.2 --length 0.001 "
                                     "--rate 2e6 -o scope.csv --plot scope.png"),
                  0);
    assert_file_says("scope.csv", "\nt [s],va [V],ia [A]\n");
    ck_assert_uint_eq(rows_of("scope.csv"), 2000);
    char *text = read_file("scope.csv"), *line = strstr(text, "ia [A]\n") + 7;
    int low = 0, high = 0;
    for (int n = 0; n < 2000; n++, line = strchr(line, '\n') + 1) {
        double va = g_ascii_strtod(strchr(line, ',') + 1, NULL);
        low += fabs(va) < 2.0;
        high += fabs(va - 25.6) < 2.0;
    }
    g_free(text);
    ck_assert_int_gt(low, 600);
    ck_assert_int_gt(high, 600);
    ck_assert_int_gt(low + high, 1920);
    char *page = read_file("scope.png");
    ck_assert_int_eq(memcmp(page, "\x89PNG", 4), 0);
    g_free(page);
    assert_status(run(CORVAK_COMMAND " record spin" WHEEL " --scope colour"), 2);
    assert_says(err, "the probes are va vb vc ia ib ic vdc");
}
END_TEST

/* The hands on the clay are seen as torque-making current. */
START_TEST(a_scenario_acts_and_a_fault_ends_the_log)
{
    assert_status(run(CORVAK_COMMAND " record duty" WHEEL " --scenario " CORVAK_DATA
                                     "/centring.scenario.yaml -o clay.csv --plot clay.svg"),
                  0);
    assert_file_says("clay.svg", "<svg");
    write_file("short.scenario.yaml",
               "name: accident\nwires:\n  what: phase_short\n  from_s: 0.5\n  phase: a\n"
               "  to_phase: b\n",
               -1);
    assert_status(
        run(CORVAK_COMMAND " record duty" WHEEL " --scenario short.scenario.yaml -o short.csv"), 1);
    assert_says(err, "the drive stopped after 0.5");
    ck_assert_uint_lt(rows_of("short.csv"), 10100);
    ck_assert_uint_gt(rows_of("short.csv"), 9990);
    write_file("bad.scenario.yaml", "x:\n  what: fan\n  torque_nm: 1\n", -1);
    assert_status(run(CORVAK_COMMAND " record duty" WHEEL " --scenario bad.scenario.yaml"), 2);
    assert_says(err, "bad.scenario.yaml:2: x: a fan needs at_speed_mech_rad_s");
}
END_TEST

/* Killed in the middle: what is there does not look like a log. Ended by Ctrl-C: nothing is there.
 */
START_TEST(a_cut_run_leaves_no_log)
{
    static const char *const names[] = {"cut.csv", "cut.h5", "stopped.csv", "stopped.h5"};
    for (int n = 0; n < 4; n++) {
        const gboolean stopped = n >= 2;
        char *argv[] = {(char *)CORVAK_COMMAND,
                        (char *)"record",
                        (char *)"duty",

                        (char *)CORVAK_DATA "/wheel.rig.yaml",
                        (char *)"--parameter",
                        (char *)"program.hold_s=20",
                        (char *)"-o",
                        (char *)names[n],
                        NULL};
        GPid child;
        ck_assert(
            g_spawn_async(dir, argv, NULL, G_SPAWN_DO_NOT_REAP_CHILD, NULL, NULL, &child, NULL));
        char *part = g_strconcat(names[n], ".part", NULL);
        for (int waited = 0; waited < 1000 && !exists(part); waited++) {
            g_usleep(2000);
        }
        ck_assert(exists(part));
        kill(child, stopped ? SIGINT : SIGKILL);
        for (int waited = 0; waited < 1000 && stopped && exists(part); waited++) {
            g_usleep(2000);
        }
        g_spawn_close_pid(child);
        g_usleep(20000);
        ck_assert(!exists(names[n]) && exists(part) != stopped);
        g_free(part);
    }
    assert_status(run("sh -c '" CORVAK_COMMAND " record steps" WHEEL " > /dev/full'"), 2);
    assert_says(err, "is the disk full?");
    assert_status(run(CORVAK_COMMAND " record steps" WHEEL " -o /dev/null"), 2);
    assert_says(err, "/dev/null: is there and not a file");
}
END_TEST

/* The same seed, the same bytes; in both fidelities and both formats. */
START_TEST(the_same_seed_gives_the_same_bytes)
{
    static const char *const fidelities[] = {"averaged", "switched"};
    static const char *const formats[] = {"csv", "h5"};
    for (int n = 0; n < 4; n++) {
        gsize length[2];
        char *bytes[2];
        for (int k = 0; k < 2; k++) {
            char *name = g_strdup_printf("same-%d.%s", k, formats[n / 2]);
            assert_status(run(CORVAK_COMMAND " record steps" WHEEL
                                             " --seed 9 --set inverter.fidelity=%s -o %s",
                              fidelities[n % 2], name),
                          0);
            char *path = g_build_filename(dir, name, NULL);
            ck_assert(g_file_get_contents(path, &bytes[k], &length[k], NULL));
            g_free(path);
            g_free(name);
        }
        ck_assert_uint_eq(length[0], length[1]);
        ck_assert_int_eq(memcmp(bytes[0], bytes[1], length[0]), 0);
        g_free(bytes[0]);
        g_free(bytes[1]);
    }
}
END_TEST

START_TEST(the_keys_of_a_rig_file_are_printed)
{
    assert_status(run(CORVAK_COMMAND " list keys"), 0);
    assert_says(out, "\nmotor:\n  pole_pairs: NEEDED");
    assert_says(out, "0.0001 .. 100");
    assert_says(out, "star | delta");
    assert_says(out, "\nimperfections:\n  saturation: on");
    assert_status(run(CORVAK_COMMAND " list keys --json"), 0);
    JsonNode *node = json_from_string(out, NULL);
    JsonArray *keys = json_object_get_array_member(json_node_get_object(node), "keys");
    JsonObject *first = json_array_get_object_element(keys, 0);
    ck_assert_uint_gt(json_array_get_length(keys), 100);
    ck_assert_str_eq(json_object_get_string_member(first, "key"), "pole_pairs");
    ck_assert(json_object_get_boolean_member(first, "needed"));
    json_node_unref(node);
    assert_status(run(CORVAK_COMMAND " list keys cogging"), 0);
    assert_says(out, "cogging_nm");
    ck_assert_ptr_null(strstr(out, "pole_pairs"));
}
END_TEST

START_TEST(the_two_inverters_are_drawn)
{
    assert_status(run(CORVAK_COMMAND " rig " CORVAK_DATA "/wheel.rig.yaml --plot inverters.svg"),
                  0);
    assert_file_says("inverters.svg", "switched");
    assert_status(run(CORVAK_COMMAND " rig " CORVAK_DATA "/wheel.rig.yaml --plot inverters.gif"),
                  2);
    assert_says(err, "name the figure FILE.png or FILE.svg");
}
END_TEST

/* What the HDF5 library holds is not given back then, which the sanitizers would call a leak. */
#ifdef __SANITIZE_ADDRESS__
enum { FORMATS = 1 };
#else
enum { FORMATS = 2 };
#endif

/* A sentence and status 2 however much of it fits, and nothing is left. */
START_TEST(a_full_disk_is_said)
{
    static const char *const names[] = {"full.csv", "full.h5"};
    for (int kilobytes = 0; kilobytes < 2000; kilobytes = 30 * kilobytes + 50) {
        assert_status(run("sh -c 'trap \"\" XFSZ; ulimit -f %d; " CORVAK_COMMAND
                          " record spin " CORVAK_DATA "/wheel.rig.yaml -o %s'",
                          2 * kilobytes, names[_i]),
                      2);
        assert_says(err, "disk full");
        ck_assert(!g_file_test(names[_i], G_FILE_TEST_EXISTS));
    }
}
END_TEST

/* The controller runs the excitation by itself; its log tells what the rig's tells. */
START_TEST(a_controller_records_too)
{
    write_file("vice.scenario.yaml", "name: vice\nheld:\n  what: blocked_rotor\n", -1);
    start_server_with("tcp:127.0.0.1:0", "--scenario", "vice.scenario.yaml");
    assert_status(run(CORVAK_COMMAND " record standstill %s -o far.h5", address), 0);
    assert_says(err, "standstill of wheel: 1.8");
    assert_says(err, "largest current 12.");
    assert_status(run(CORVAK_COMMAND " record standstill %s -o x.csv -c t,true_theta_e", address),
                  2);
    assert_says(err, "only a simulated bench knows it");
    assert_status(run(CORVAK_COMMAND " record standstill %s -o x.csv --ideal", address), 2);
    stop_server();
    assert_status(run(CORVAK_COMMAND " record standstill" WHEEL " -o near.h5"), 0);
    assert_status(run(CORVAK_COMMAND " estimate far.h5 -o far.card.yaml"), 0);
    assert_status(run(CORVAK_COMMAND " estimate near.h5 -o near.card.yaml"), 0);
    assert_status(run(CORVAK_COMMAND " card near.card.yaml far.card.yaml"), 0);
    assert_says(out, "resistance, phase");
    assert_says(out, "inductance q");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, a_full_disk_is_said, 0, FORMATS);
    tcase_add_unchecked_fixture(tests, make_folder, remove_folder);
    tcase_add_test(tests, hdf5_is_read_by_h5py);
    tcase_add_test(tests, channels_and_decimation);
    tcase_add_test(tests, what_is_not_measured_is_not_logged);
    tcase_add_test(tests, keys_can_be_set_and_imperfections_switched);
    tcase_add_test(tests, a_scope_log_shows_the_switching);
    tcase_add_test(tests, a_scenario_acts_and_a_fault_ends_the_log);
    tcase_add_test(tests, a_cut_run_leaves_no_log);
    tcase_add_test(tests, a_controller_records_too);
    tcase_add_test(tests, the_same_seed_gives_the_same_bytes);
    tcase_add_test(tests, the_keys_of_a_rig_file_are_printed);
    tcase_add_test(tests, the_two_inverters_are_drawn);
}

int main(void)
{
    return run_suite("record", add);
}
