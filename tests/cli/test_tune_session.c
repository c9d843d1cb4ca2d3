/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak serve and corvak tune as a user runs them: scripts, refusals, several hosts, one that
 * dies.
 */
#include "command.h"
#include "suite.h"

#include "corvak/core/parameters.h"
#include "corvak/files/log_file.h"

#include <gio/gio.h>
#include <json-glib/json-glib.h>
#include <math.h>
#include <string.h>

#define SIM "sim:" CORVAK_DATA "/wheel.rig.yaml"

static void script(const char *text)
{
    write_file("script", text, -1);
}

START_TEST(a_script_tunes_and_saves)
{
    script("# a comment\nstatus\nstart 150rpm\nset speed.gain_a_s 0.3\nshow speed.gain\napply for "
           "0.5\n"
           "keep\nset speed.gain_a_s 60\napply for 0.5 current 5\nchanges\nstep current 2\n"
           "step speed 20rpm\ndraw steps.png\nsave out.tune.yaml\ncompare out.tune.yaml\n"
           "speed 170rpm\nwatch speed_e mode for 0.3\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script --history history.jsonl"), 0);
    assert_says(out, "runs at 1");
    assert_says(out, "change 1 is kept");
    assert_says(out, "gone back by itself after");
    assert_says(out, "a phase current went beyond its guard");
    assert_says(out, "N m/rad");
    assert_says(out, "the device is as out.tune.yaml says");
    assert_says(out, "mode speed");
    assert_says(out, "stopped, the bridge is off");
    char *tune = read_file("out.tune.yaml");
    assert_says(tune, "gain_a_s: 0.3 ");
    assert_says(tune, "tune: was 0.2 A s; speed error");
    g_free(tune);
    char *history = read_file("history.jsonl");
    char **lines = g_strsplit(history, "\n", -1);
    ck_assert_uint_eq(g_strv_length(lines), 3); /* the last one is empty */
    JsonNode *second = json_from_string(lines[1], NULL);
    JsonObject *change = json_node_get_object(second);
    ck_assert_str_eq(json_object_get_string_member(change, "end"), "gone back");
    ck_assert_double_gt(json_object_get_double_member(
                            json_object_get_object_member(change, "running_since"), "peak_a"),
                        2.0);
    json_node_unref(second);
    g_strfreev(lines);
    g_free(history);
    char *png = read_file("steps.png");
    ck_assert_ptr_nonnull(png);
    g_free(png);
}
END_TEST

/* Whatever words come: a session ends with a sentence, never by a signal. */
START_TEST(any_script_ends_in_order)
{
    static const char *const words[] = {"status",
                                        "show",
                                        "set",
                                        "undo",
                                        "apply",
                                        "keep",
                                        "back",
                                        "good",
                                        "start",
                                        "speed",
                                        "stop",
                                        "current",
                                        "watch",
                                        "wait",
                                        "step",
                                        "draw",
                                        "compare",
                                        "load",
                                        "save",
                                        "help",
                                        "release",
                                        "hand",
                                        "clear",
                                        "changes",
                                        "for",
                                        "d",
                                        "q",
                                        "speed.gain_a_s",
                                        "speed_e",
                                        "-1",
                                        "0",
                                        "0.1",
                                        "1e30",
                                        "nan",
                                        "150rpm",
                                        "-inf",
                                        "\"",
                                        "#",
                                        "x.svg",
                                        "/dev/null",
                                        "motor.pole_pairs",
                                        "confirm"};
    GRand *draw = g_rand_new_with_seed(11);
    for (int n = 0; n < 25; n++) {
        GString *text = g_string_new(n % 2 == 0 ? "start 150rpm\n" : "");
        for (int line = 0; line < 6; line++) {
            const int length = g_rand_int_range(draw, 1, 5);
            for (int k = 0; k < length; k++) {
                const int most = k == 0 ? 24 : (int)G_N_ELEMENTS(words);
                g_string_append_printf(text, "%s ", words[g_rand_int_range(draw, 0, most)]);
            }
            g_string_append_c(text, '\n');
        }
        script(text->str);
        const int status = run(CORVAK_COMMAND " tune " SIM " -x script");
        ck_assert_msg(status >= 0 && status <= 2, "%d: %s", status, text->str);
        ck_assert_msg(status != 2 || strstr(err, "corvak tune: ") != NULL, "%s", text->str);
        g_string_free(text, TRUE);
    }
    g_rand_free(draw);
}
END_TEST

/* More values than one message carries; and what a file says at the beginning. */
START_TEST(a_whole_tune_file_is_applied)
{
    GString *text = g_string_new("tune_version: 1\nname: many\n");
    const char *section = "";
    unsigned given = 0;
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        const gboolean rotor = strcmp(row->section, "rotor") == 0;
        const float value = row->preset != 0.0f ? 1.03125f * row->preset : 0.0625f;
        if (row->kind != CVK_REAL || (row->preset == 0.0f && !rotor) || value > row->high ||
            strcmp(row->section, "protect") == 0) {
            continue;
        }
        if (strcmp(section, row->section) != 0) {
            g_string_append_printf(text, "%s:\n", section = row->section);
        }
        g_string_append_printf(text, "  %s: %.9g\n", row->name, (double)value);
        given++;
    }
    ck_assert_uint_gt(given, 32);
    g_string_append(text, "...\n");
    write_file("many.tune.yaml", text->str, -1);
    g_string_free(text, TRUE);
    script("compare many.tune.yaml\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " --tune many.tune.yaml -x script"), 0);
    assert_says(out, "the device is as many.tune.yaml says");
}
END_TEST

START_TEST(an_error_in_a_script_has_its_line)
{
    script("status\n\nset speed.gain_a_s soft\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 2);
    assert_says(err, "corvak tune: script:3: ");
}
END_TEST

/* A step is looked at, not left there. */
START_TEST(a_step_ends_where_it_began)
{
    script("start 150rpm\nstep speed 30rpm\nstatus\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 0);
    assert_says(out, "and back");
    assert_says(out, "set-point 150.0 rpm");
}
END_TEST

/* A change that nobody keeps goes back, and so does one at the end of a session. */
START_TEST(what_is_not_kept_goes_back)
{
    script("start 150rpm\nset speed.gain_a_s 0.3\napply for 0.3 confirm 0.5\nwait 1\nshow "
           "speed.gain_a_s\n"
           "undo\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"),
                  2); /* the undo: nothing is left to undo */
    assert_says(out, "change 1 has gone back: nobody kept it in time");
    assert_says(out, "          0.2            0");
    assert_says(err, "nothing to undo");
}
END_TEST

START_TEST(a_value_is_undone)
{
    script("set speed.gain_a_s 0.3\nset speed.gain_a_s 0.4\nundo\nundo\nset angle.source observer\n"
           "apply\nshow angle.source\nset speed.gain_a_s 0.3\napply\nundo\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 0);
    assert_says(out, "speed.gain_a_s: wanted 0.3 A s");
    assert_says(out, "speed.gain_a_s: 0.2 A s, as in the device");
    assert_says(out, "the bridge is off: in force at once");
    assert_says(out, "observer rotor_sensor"); /* in the device, preset */
    assert_says(out, "speed.gain_a_s: wanted 0.2 A s, in the device 0.3 A s");
}
END_TEST

START_TEST(a_session_as_one_document)
{
    script("start 150rpm\nset speed.gain_a_s 0.3\napply for 0.3\nkeep\nstep current 2\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script --json"), 0);
    JsonNode *node = json_from_string(out, NULL);
    ck_assert_ptr_nonnull(node);
    JsonObject *o = json_node_get_object(node);
    ck_assert_uint_eq(json_array_get_length(json_object_get_array_member(o, "changes")), 1);
    JsonObject *step =
        json_object_get_object_member(json_object_get_object_member(o, "steps"), "current");
    ck_assert_double_eq_tol(
        json_object_get_double_member(json_object_get_object_member(step, "measured"), "rise_s"),
        1e-3, 0.4e-3);
    ck_assert_double_eq_tol(
        json_object_get_double_member(json_object_get_object_member(o, "values"), "speed.gain_a_s"),
        0.3, 1e-6);
    assert_says(err, "change 1 is kept");
    json_node_unref(node);
}
END_TEST

START_TEST(a_full_disk_is_said)
{
    script("set speed.gain_a_s 0.3\napply\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script --history /dev/full"), 2);
    assert_says(err, "disk full");
    script("save x.tune.yaml\nsave /dev/full\n"); /* files are renamed to their place */
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 2);
    assert_says(err, "is there and not a file");
    assert_status(
        run("sh -c 'trap \"\" XFSZ; ulimit -f 0; " CORVAK_COMMAND " tune " SIM " -x script'"), 2);
    assert_says(err, "disk full");
}
END_TEST

static void refused(const char *line, const char *words)
{
    script(line);
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 2);
    assert_says(err, words);
}

START_TEST(bad_lines_end_a_script_with_a_sentence)
{
    refused("set current.bandwidth_hz 1e9\n", "allowed: 1 .. 12500 Hz");
    refused("set current.bandwidth_hz nan\n", "cannot be nan");
    refused("set current.bandwith_hz 500\n", "the closest is current.bandwidth_hz");
    refused("set angle.source moon\n", "allowed: rotor_sensor, observer");
    refused("set motor.pole_pairs 2.5\n", "whole numbers");
    refused("strat 100rpm\n", "did you mean \"start\"");
    refused("start fast\n", "such as 150rpm");
    refused("step current 2\n", "start it first");
    refused("keep\n", "belongs to somebody else, or to nobody");
    refused("apply\n", "nothing is wanted");
    refused("watch nothing\n", "no signal \"nothing\"");
    refused("draw x.png\n", "no step was measured");
    refused("load nowhere.yaml\n", "nowhere.yaml");
    refused("save /nowhere/x.yaml\n", "cannot be written");
    refused("set limit.current_a 30\napply\n", "contradicts");
    refused("start 150rpm\nset motor.resistance_ohm 20\napply\n", "half to twice");
    refused("start 150rpm\nset rotor.counts 77\napply\n", "only while the bridge is off");
    refused("show nonsense\n", "no parameter has");
}
END_TEST

START_TEST(devices_that_are_none)
{
    GError *error = NULL;
    GSocketListener *listener = g_socket_listener_new();
    const guint16 port = g_socket_listener_add_any_inet_port(listener, NULL, &error);
    ck_assert_uint_ne(port, 0);
    script("status\n");
    assert_status(run(CORVAK_COMMAND " tune tcp:127.0.0.1:%u -x script", port),
                  2); /* takes all, says nothing */
    assert_says(err, "does not answer as a Corvak controller");
    g_object_unref(listener);
    assert_status(run(CORVAK_COMMAND " tune tcp:127.0.0.1:%u -x script", port), 2);
    assert_says(err, "nobody is there");
    assert_status(run(CORVAK_COMMAND " tune tcp:127.0.0.1 -x script"), 2);
    assert_says(err, "host and port");
    assert_status(run(CORVAK_COMMAND " tune tcp:127.0.0.1:99999 -x script"), 2);
    assert_status(run(CORVAK_COMMAND " tune serial:/dev/nothing -x script"), 2);
    assert_says(err, "cannot be opened");
    assert_status(run(CORVAK_COMMAND " tune serial:/dev/nothing?parity=odd -x script"), 2);
    assert_status(run(CORVAK_COMMAND " tune sim:nothing.yaml -x script"), 2);
    assert_status(run(CORVAK_COMMAND " tune wheel -x script"), 2);
    assert_says(err, "a device is");
    assert_status(run(CORVAK_COMMAND " tune -x script"), 2);
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x nothing"), 2);
    assert_status(run(CORVAK_COMMAND " serve"), 2);
    assert_status(
        run(CORVAK_COMMAND " serve " CORVAK_DATA "/wheel.rig.yaml --listen tcp:somewhere:1"), 2);
    assert_says(err, "--listen");
    assert_status(run(CORVAK_COMMAND " serve " CORVAK_DATA
                                     "/wheel.rig.yaml --open --listen tcp:192.0.2.1:4242"),
                  2);
    assert_says(err, "cannot listen");
}
END_TEST

/* ---- other modes ----------------------------------------------------------------------------- */

START_TEST(a_rotor_runs_free_is_caught_and_braked)
{
    script("set angle.source observer\nset start.current_a 8\nset observer.bandwidth_rad_s 5.3\n"
           "apply\nstart 150rpm\ncoast\nwatch bridge_on for 0\nstart 150rpm\ntorque 0.3\n"
           "watch mode for 0\nbrake\nwait 1\nwatch quality bridge_on for 0\nstop\nbrake\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 2);
    assert_says(out, "runs free: `start` catches it");
    assert_says(out, "bridge_on 0");
    const char *second = strstr(strstr(out, "bridge_on 0"), "runs at ");
    ck_assert_ptr_nonnull(second);
    const double after_s = g_ascii_strtod(strstr(second, "after ") + strlen("after "), NULL);
    ck_assert_double_lt(after_s, 0.4); /* from rest it takes longer */
    assert_says(out, "mode torque");
    assert_says(out, "braked in 0.");
    const char *row = strstr(strstr(out, "braked"), "\n  quality ");
    ck_assert_ptr_nonnull(row);
    const double quality = g_ascii_strtod(row + strlen("\n  quality "), NULL);
    ck_assert_double_lt(quality, 0.1); /* nothing shows a rotor at rest: no word of before stays */
    assert_says(err, "the bridge is off: nothing to brake with");
}
END_TEST

START_TEST(a_shaft_goes_where_it_is_told)
{
    script("set position.gain_per_s 4\nset position.speed_rad_s 60\n"
           "set speed.acceleration_rad_s2 300\napply\nposition 0.5\nposition -1.25\n"
           "watch turns position for 0\nposition 2e6\n");
    assert_status(run(CORVAK_COMMAND " tune sim:" CORVAK_DATA "/table.rig.yaml -x script"), 2);
    assert_says(out, "holds 0.");
    assert_says(out, "turns -2 position 4.");
    assert_says(err, "-1e6 .. 1e6");
    refused("position 1\n", "position.gain_per_s contradicts position");
    refused("torque much\n", "torque NM");
}
END_TEST

/* ---- logs ------------------------------------------------------------------------------------ */

typedef struct log_times {
    size_t rows;
    double from_s, to_s, longest_s; /* between two rows */
} log_times;

static log_times times_of(const char *path)
{
    cvk_log_file file;
    cvk_complaint complaint;
    char *full = g_build_filename(dir, path, NULL);
    ck_assert_int_eq(cvk_log_file_read(&file, full, NULL, 0, &complaint), CVK_OK);
    const double *t = file.log.column[CVK_COLUMN_T];
    log_times times = {.rows = file.log.rows, .from_s = t[0], .to_s = t[file.log.rows - 1]};
    for (size_t k = 1; k < file.log.rows; k++) {
        times.longest_s = fmax(times.longest_s, t[k] - t[k - 1]);
    }
    cvk_log_file_free(&file);
    g_free(full);
    return times;
}

/* A change, steps and a stop lie in one log without a hole, and it is good for an estimate. */
START_TEST(a_log_goes_on_beneath_all_else)
{
    script("log all.csv\nstart 150rpm\nset speed.gain_a_s 0.3\napply for 0.3\nkeep\n"
           "step current 1 d\nstep speed 20rpm\nstop\nlog end\nlog again.h5 ia,ib,mode\n"
           "wait 0.1\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 0);
    assert_says(out, "all.csv: a row every 0.05 ms");
    assert_says(out, "mean of 16 steps");
    ck_assert_ptr_null(strstr(out, "missing"));
    const log_times all = times_of("all.csv");
    ck_assert_double_eq_tol(all.longest_s, 5e-5, 1e-6);
    ck_assert_double_gt(all.to_s, 3.0);
    assert_status(run(CORVAK_COMMAND " estimate all.csv --json"), 0);
    JsonNode *card = json_from_string(out, NULL);
    JsonObject *motor = json_object_get_object_member(json_node_get_object(card), "motor");
    JsonObject *r = json_object_get_object_member(motor, "resistance_ohm");
    ck_assert_double_eq_tol(json_object_get_double_member(r, "value"), 0.17, 0.01);
    json_node_unref(card);
}
END_TEST

/* A step wants other signals than the log has: it pauses, and says what is missing. */
START_TEST(a_log_pauses_for_a_step_of_other_signals)
{
    script("log few.csv t,ia\nstart 150rpm\nstep current 1 d\nwait 0.2\nlog end\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 0);
    assert_says(out, "more are missing: gaps");
    const log_times few = times_of("few.csv");
    ck_assert_double_gt(few.longest_s, 0.02);
    ck_assert_double_lt((double)few.rows * 5e-5, few.to_s - 0.02);
}
END_TEST

START_TEST(bad_logs_are_refused)
{
    refused("log\n", "begins a log");
    refused("log end\n", "no log runs");
    refused("log a.csv\nlog b.csv\n", "a.csv is being written");
    refused("log a.csv t,true_theta_e\n", "only a simulated bench knows it");
    refused("log a.csv t\n", "a signal beside the time");
    refused("log a.csv moon\n", "no channel \"moon\"");
    refused("log nowhere/a.csv\n", "no folder nowhere");
}
END_TEST

/* ---- serve ----------------------------------------------------------------------------------- */

static GSubprocess *tune_in_background(const char *script_text)
{
    char *path = g_build_filename(dir, "background", NULL);
    ck_assert(g_file_set_contents(path, script_text, -1, NULL));
    GSubprocess *host = g_subprocess_new(G_SUBPROCESS_FLAGS_STDOUT_SILENCE, NULL, CORVAK_COMMAND,
                                         "tune", address, "-x", path, NULL);
    ck_assert_ptr_nonnull(host);
    g_free(path);
    return host;
}

/* Ctrl-C, and until it has ended. */
static void interrupt(GSubprocess *host)
{
    g_subprocess_send_signal(host, SIGINT);
    g_subprocess_wait(host, NULL, NULL);
    g_object_unref(host);
}

/* What the server has told; waits until these words are in it. */
static void server_tells(const char *words)
{
    gboolean told = FALSE;
    for (int n = 0; n < 400 && !told; n++) {
        char *text = read_file("server");
        told = text != NULL && strstr(text, words) != NULL;
        g_free(text);
        g_usleep(25000);
    }
    ck_assert_msg(told, "the server never told: %s", words);
}

START_TEST(one_commands_the_other_watches)
{
    start_server("tcp:127.0.0.1:0");
    GSubprocess *owner = tune_in_background("start 100rpm\nwait 60\n");
    server_tells("link 1 commands");
    script("status\nwatch mode speed_e for 0.3\nstart 50rpm\n");
    assert_status(run(CORVAK_COMMAND " tune %s -x script", address), 2);
    assert_says(out, "another link");
    assert_says(err, "somebody else is the owner");
    g_subprocess_send_signal(owner, SIGINT); /* Ctrl-C: a controlled stop, then the end */
    g_subprocess_wait(owner, NULL, NULL);
    ck_assert_int_eq(g_subprocess_get_exit_status(owner), 1);
    server_tells("link 1 left");
    char *told = read_file("server");
    ck_assert_ptr_null(strstr(told, "controlled stop")); /* it had stopped before it left */
    g_free(told);
    g_object_unref(owner);
    stop_server();
}
END_TEST

START_TEST(a_killed_host_stops_the_motor)
{
    start_server("tcp:127.0.0.1:0");
    GSubprocess *host = tune_in_background("start 100rpm\nwait 60\n");
    server_tells("link 1 commands");
    g_usleep(800000);
    g_subprocess_force_exit(host);
    server_tells("nobody commands: controlled stop");
    script("wait 1\nstatus\nstart 60rpm\n"); /* and connecting again goes on */
    assert_status(run(CORVAK_COMMAND " tune %s -x script", address), 0);
    assert_says(out, "no fault");
    assert_says(out, "runs at ");
    g_object_unref(host);
    stop_server();
}
END_TEST

START_TEST(a_server_that_ends_is_noticed)
{
    start_server("tcp:127.0.0.1:0");
    char *path = g_build_filename(dir, "cut.csv", NULL);
    char *text = g_strdup_printf("log %s\nstart 100rpm\nwait 60\n", path);
    GSubprocess *host = tune_in_background(text);
    server_tells("link 1 commands");
    g_usleep(500000);
    stop_server();
    g_subprocess_wait(host, NULL, NULL);
    ck_assert_int_eq(g_subprocess_get_exit_status(host), 2);
    ck_assert_uint_gt(times_of("cut.csv").rows, 5000); /* what came is kept */
    g_free(text);
    g_free(path);
    g_object_unref(host);
}
END_TEST

START_TEST(a_pseudo_terminal_serves_one_after_the_other)
{
    start_server("pty");
    ck_assert(g_str_has_prefix(address, "serial:/dev/pts/"));
    script("start 80rpm\nstep current 1\n");
    assert_status(run(CORVAK_COMMAND " tune %s -x script", address), 0);
    script("status\nstart 60rpm\n");
    assert_status(run(CORVAK_COMMAND " tune %s?baud=460800 -x script", address), 0);
    assert_says(out, "runs at");
    stop_server();
}
END_TEST

/* ---- the door -------------------------------------------------------------------------------- */

START_TEST(beyond_this_machine_nobody_gets_in_without_a_word)
{
    const char *serve =
        CORVAK_COMMAND " serve " CORVAK_DATA "/wheel.rig.yaml --listen tcp:0.0.0.0:0";
    assert_status(run("%s", serve), 2);
    assert_says(err, "--secret");
    write_file("short", "abc\n", -1);
    assert_status(run("%s --secret short", serve), 2);
    assert_says(err, "8 .. 256 bytes");
    assert_status(run("%s --secret nowhere", serve), 2);
    assert_says(err, "cannot be read");
    assert_status(run("timeout --preserve-status -s INT 1 %s --open", serve), 0);
    assert_says(err, "warning: whoever reaches");
}
END_TEST

START_TEST(who_knows_the_secret_gets_in)
{
    write_file("key", "the potter's secret\n", -1);
    write_file("other", "somebody else's secret\n", -1);
    start_server_with("tcp:127.0.0.1:0", "--secret", "key");
    script("status\n");
    assert_status(run(CORVAK_COMMAND " tune %s -x script", address), 2);
    assert_says(err, "?secret=FILE");
    assert_status(run(CORVAK_COMMAND " tune %s?secret=other -x script", address), 2);
    assert_says(err, "another secret");
    assert_status(run(CORVAK_COMMAND " tune %s?secret=key -x script", address), 0);
    assert_says(out, "commands   nobody");
    stop_server();
}
END_TEST

/* Eight places: seven watch, the eighth has to command, and a ninth is told why it may not. */
START_TEST(a_place_is_kept_for_who_commands)
{
    GSubprocess *watchers[7];
    start_server("tcp:127.0.0.1:0");
    for (int n = 0; n < 7; n++) {
        watchers[n] = tune_in_background("wait 100\n");
    }
    server_tells("link 7 connected");
    script("wait 5\n");
    assert_status(run(CORVAK_COMMAND " tune %s -x script", address), 2);
    assert_says(err, "the last place is for who commands");
    GSubprocess *owner = tune_in_background("start 60rpm\nwait 100\n");
    server_tells("link 8 commands");
    assert_status(run(CORVAK_COMMAND " tune %s -x script", address), 2);
    assert_says(err, "all 8 places are taken");
    for (int n = 0; n < 7; n++) {
        interrupt(watchers[n]);
    }
    interrupt(owner);
    stop_server();
}
END_TEST

START_TEST(who_only_watches_may_stop_the_motor_and_a_server_stops_it_before_it_ends)
{
    start_server("tcp:127.0.0.1:0");
    GSubprocess *owner = tune_in_background("start 100rpm\nwait 60\n");
    server_tells("link 1 commands");
    g_usleep(1500000);
    script("stop\nstatus\n");
    assert_status(run(CORVAK_COMMAND " tune %s -x script", address), 0);
    assert_says(out, "stopped, the bridge is off");
    assert_says(out, "commands   nobody");
    interrupt(owner);
    owner = tune_in_background("start 100rpm\nwait 60\n");
    server_tells("link 1 left");
    g_usleep(2000000);
    end_server(SIGTERM);
    server_tells("the motor is off");
    g_subprocess_wait(owner, NULL, NULL);
    g_object_unref(owner);
}
END_TEST

START_TEST(two_hosts_do_not_share_a_line)
{
    start_server("pty");
    GSubprocess *host = tune_in_background("start 60rpm\nwait 60\n");
    server_tells("link 1 commands");
    script("status\n");
    assert_status(run(CORVAK_COMMAND " tune %s -x script", address), 2);
    assert_says(err, "another host has this line");
    interrupt(host);
    stop_server();
}
END_TEST

/* ---- scripts --------------------------------------------------------------------------------- */

START_TEST(scripts_of_any_shape)
{
    GString *text = g_string_new("# ");
    for (int n = 0; n < 400; n++) {
        g_string_append(text, "a long comment that goes on; ");
    }
    g_string_append(text, "strat 100rpm\nstatus"); /* of the comment; and no end of line */
    script(text->str);
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 0);
    assert_says(out, "bridge off");
    g_string_free(text, TRUE);
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x ."), 2);
    assert_says(err, "is a directory");
    script("speed 0\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script --lease 3600"), 2);
    assert_says(err, "0.1 .. 10 s");
    start_server("tcp:127.0.0.1:0"); /* a pipe that pauses keeps its lease */
    assert_status(run("sh -c '(echo start 60rpm; sleep 3; echo status) | " CORVAK_COMMAND
                      " tune %s'",
                      address),
                  0);
    assert_says(out, "commands   this session");
    stop_server();
}
END_TEST

START_TEST(current_from_off_finds_the_offsets_first)
{
    script("current 0 1\nwait 0.5\nstop\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 0);
    assert_says(out, "finding the offsets");
}
END_TEST

/* What a file does not say stays; where a value comes from is kept. */
START_TEST(a_tune_that_is_loaded_says_only_what_it_says)
{
    write_file("part.tune.yaml",
               "tune_version: 1\nname: wheel\nspeed:\n  gain_a_s: 0.31\n"
               "from:\n  speed.gain_a_s: 'by ear, with clay'\n",
               -1);
    script("load part.tune.yaml\nshow rotor.kind\napply\nsave whole.tune.yaml\n");
    assert_status(run(CORVAK_COMMAND " tune " SIM " -x script"), 0);
    ck_assert_ptr_null(strstr(out, "rotor.kind: wanted"));
    char *text = read_file("whole.tune.yaml");
    assert_says(text, "by ear, with clay");
    ck_assert_ptr_null(strstr(text, "kind: none"));
    g_free(text);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, make_folder, remove_folder);
    tcase_add_test(tests, a_script_tunes_and_saves);
    tcase_add_test(tests, any_script_ends_in_order);
    tcase_add_test(tests, a_whole_tune_file_is_applied);
    tcase_add_test(tests, an_error_in_a_script_has_its_line);
    tcase_add_test(tests, a_step_ends_where_it_began);
    tcase_add_test(tests, what_is_not_kept_goes_back);
    tcase_add_test(tests, a_value_is_undone);
    tcase_add_test(tests, a_session_as_one_document);
    tcase_add_test(tests, a_full_disk_is_said);
    tcase_add_test(tests, bad_lines_end_a_script_with_a_sentence);
    tcase_add_test(tests, devices_that_are_none);
    tcase_add_test(tests, a_rotor_runs_free_is_caught_and_braked);
    tcase_add_test(tests, a_shaft_goes_where_it_is_told);
    tcase_add_test(tests, a_log_goes_on_beneath_all_else);
    tcase_add_test(tests, a_log_pauses_for_a_step_of_other_signals);
    tcase_add_test(tests, bad_logs_are_refused);
    tcase_add_test(tests, one_commands_the_other_watches);
    tcase_add_test(tests, a_killed_host_stops_the_motor);
    tcase_add_test(tests, a_server_that_ends_is_noticed);
    tcase_add_test(tests, a_pseudo_terminal_serves_one_after_the_other);
    tcase_add_test(tests, beyond_this_machine_nobody_gets_in_without_a_word);
    tcase_add_test(tests, who_knows_the_secret_gets_in);
    tcase_add_test(tests, a_place_is_kept_for_who_commands);
    tcase_add_test(tests, who_only_watches_may_stop_the_motor_and_a_server_stops_it_before_it_ends);
    tcase_add_test(tests, two_hosts_do_not_share_a_line);
    tcase_add_test(tests, scripts_of_any_shape);
    tcase_add_test(tests, current_from_off_finds_the_offsets_first);
    tcase_add_test(tests, a_tune_that_is_loaded_says_only_what_it_says);
}

int main(void)
{
    return run_suite("tune", add);
}
