/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak gains and corvak run, as a user runs them.
 */
#include "command.h"
#include "suite.h"

#include <json-glib/json-glib.h>
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define WHEEL CORVAK_DATA "/wheel.rig.yaml"

static const char card[] = "name: wheel\n"
                           "motor:\n"
                           "  resistance_ohm: {value: 0.169, low: 0.167, high: 0.171}\n"
                           "  inductance_d_h: {value: 320e-6, low: 317e-6, high: 323e-6}\n"
                           "  inductance_q_h: {value: 470e-6, low: 466e-6, high: 474e-6}\n"
                           "  flux_linkage_wb: {value: 0.0215, low: 0.0214, high: 0.0216}\n"
                           "  pole_pairs: {value: 12}\n"
                           "  inertia_kg_m2: {value: 0.085, low: 0.083, high: 0.087}\n"
                           "inverter:\n"
                           "  dead_time_voltage_v: {value: 0.272, low: 0.271, high: 0.273}\n";

static const char table_card[] = "name: table\n"
                                 "motor:\n"
                                 "  resistance_ohm: {value: 8.02, low: 7.96, high: 8.09}\n"
                                 "  inductance_d_h: {value: 5.02e-3, low: 4.98e-3, high: 5.06e-3}\n"
                                 "  inductance_q_h: {value: 5.22e-3, low: 5.18e-3, high: 5.26e-3}\n"
                                 "  flux_linkage_wb: {value: 0.0501, low: 0.0499, high: 0.0504}\n"
                                 "  pole_pairs: {value: 4}\n"
                                 "  inertia_kg_m2: {value: 7.9e-4, low: 7.7e-4, high: 8.1e-4}\n";

static const char up_and_stop[] = "name: short\n"
                                  "up:\n"
                                  "  what: speed\n"
                                  "  from_s: 0.3\n"
                                  "  speed_mech_rad_s: 9\n"
                                  "stop:\n"
                                  "  what: stop\n"
                                  "  from_s: 5\n";

static void prepare(void)
{
    make_folder();
    write_file("wheel.card.yaml", card, -1);
    write_file("table.card.yaml", table_card, -1);
    write_file("short.scenario.yaml", up_and_stop, -1);
}

/* A bench is as ignorant of its sensor as a real one, until it is calibrated. */
START_TEST(a_sensor_is_calibrated_first)
{
    gchar *rig = NULL;
    ck_assert(g_file_get_contents(CORVAK_DATA "/mixer.rig.yaml", &rig, NULL, NULL));
    gchar **halves = g_strsplit(rig, "calibrated: yes", 2);
    gchar *fresh = g_strconcat(halves[0], "calibrated: no", halves[1], NULL);
    write_file("fresh.rig.yaml", fresh, -1);
    const char *by_sensor = CORVAK_COMMAND " run fresh.rig.yaml short.scenario.yaml "
                                           "-P angle.source=rotor_sensor --tune %s";
    assert_status(run(by_sensor, CORVAK_DATA "/mixer.tune.yaml"), 2);
    assert_says(err, "run one (corvak calibrate)");
    assert_status(run(CORVAK_COMMAND
                      " calibrate sim:fresh.rig.yaml -o found.tune.yaml --tune " CORVAK_DATA
                      "/mixer.tune.yaml"),
                  0);
    assert_status(run(by_sensor, "found.tune.yaml"), 0);
    g_free(fresh);
    g_strfreev(halves);
    g_free(rig);
}
END_TEST

/* From a card to a motor that turns, and everything that is written on the way. */
START_TEST(gains_make_the_wheel_turn)
{
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.tune.yaml"), 0);
    assert_says(out, "current.bandwidth_hz");
    assert_says(out, "phase margin 61°");
    char *tune = read_file("wheel.tune.yaml");
    assert_says(tune, "tune_version: 1");
    assert_says(tune, "current.bandwidth_hz: \"gains: a radian of the loop");
    g_free(tune);
    assert_status(run(CORVAK_COMMAND " run " WHEEL " short.scenario.yaml --tune wheel.tune.yaml "
                                     "--plot run.svg -o run.csv -d 100 --seed 2"),
                  0);
    assert_says(out, "every set-point was reached");
    assert_says(out, "angle error");
    char *log = read_file("run.csv"), *page = read_file("run.svg");
    assert_says(log, "true_theta_e [rad]");
    assert_says(page, "angle error / deg");
    g_free(log);
    g_free(page);
    assert_status(run(CORVAK_COMMAND " run " WHEEL " short.scenario.yaml --tune wheel.tune.yaml "
                                     "--json"),
                  0);
    assert_says(out, "\"good\" : true");
}
END_TEST

/* A value that a person has set by hand on the card gives other gains. */
START_TEST(a_hand_set_value_gives_new_gains)
{
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " --json"), 0);
    char *before = g_strdup(out);
    assert_status(run(CORVAK_COMMAND " card wheel.card.yaml --set resistance_ohm=0.4 --reason "
                                     "hot -o hot.card.yaml"),
                  0);
    assert_status(run(CORVAK_COMMAND " gains hot.card.yaml " WHEEL " --json"), 0);
    ck_assert_str_ne(before, out);
    assert_says(out, "0.4");
    g_free(before);
}
END_TEST

/* The clay that comes to the wheel later is no part of how soon the speed was there. */
START_TEST(arrival_is_apart_from_later_loads)
{
    double after_s = NAN;
    assert_status(run(CORVAK_COMMAND " run " WHEEL " " CORVAK_DATA "/throwing.scenario.yaml"), 0);
    const char *first = strstr(out, "speed ");
    ck_assert_ptr_nonnull(first);
    ck_assert_int_eq(sscanf(first, "speed %*f rpm after %lf", &after_s), 1);
    ck_assert_double_lt(after_s, 1.0);
}
END_TEST

/* A motor that has never turned: its standstill log and a guess of its magnets make it turn, and
 * that log tells better. */
START_TEST(a_new_motor_comes_out_of_its_standstill)
{
    static const char *const motors[] = {"wheel", "table"};
    for (size_t n = 0; n < G_N_ELEMENTS(motors); n++) {
        char *rig = g_strdup_printf(CORVAK_DATA "/%s.rig.yaml", motors[n]);
        assert_status(run(CORVAK_COMMAND " record standstill %s -o new.csv", rig), 0);
        assert_status(run(CORVAK_COMMAND " estimate new.csv -o new.card.yaml"), 0);
        assert_status(run(CORVAK_COMMAND " gains new.card.yaml %s -P motor.flux_linkage_wb=0", rig),
                      1);
        assert_says(err, "flux_linkage_wb: guess it in the tune file");
        assert_status(run(CORVAK_COMMAND " gains new.card.yaml %s -o new.tune.yaml", rig), 0);
        assert_says(out, "the tune file's guess");
        assert_says(out, "as in the tune file: the card has no inertia");
        assert_status(run(CORVAK_COMMAND " record spin %s -t new.tune.yaml -o turns.csv", rig), 0);
        assert_status(run(CORVAK_COMMAND " estimate new.csv turns.csv --compare %s", rig), 0);
        const char *flux = strstr(out, "flux linkage");
        ck_assert_msg(flux != NULL && strstr(flux, "inside") < strchr(flux, '\n'), "%s", out);
        g_free(rig);
    }
}
END_TEST

/* What cannot be done ends with the right status, and says why. */
START_TEST(what_cannot_be_done_is_said)
{
    write_file("poor.card.yaml", "name: poor\nmotor:\n  resistance_ohm: {value: 0.2}\n", -1);
    assert_status(run(CORVAK_COMMAND " gains poor.card.yaml " WHEEL), 1);
    assert_says(err, "the card lacks inductance_d_h");
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml"), 2);
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.card.yaml"), 2);
    assert_status(run(CORVAK_COMMAND " run " WHEEL " " CORVAK_DATA "/centring.scenario.yaml"), 2);
    assert_says(err, "asks the controller for nothing");
    /* no sensor, and nothing known of the motor */
    assert_status(run(CORVAK_COMMAND " run " WHEEL " short.scenario.yaml -P angle.source=observer "
                                     "-P motor.flux_linkage_wb=0"),
                  2);
    assert_says(err, "motor.flux_linkage_wb contradicts speed");
    /* somebody holds the wheel */
    write_file("held.scenario.yaml",
               "name: held\nhand:\n  what: blocked_rotor\nup:\n  what: speed\n  from_s: 0.3\n"
               "  speed_mech_rad_s: 9\n",
               -1);
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.tune.yaml"), 0);
    assert_status(
        run(CORVAK_COMMAND " run " WHEEL " held.scenario.yaml --tune wheel.tune.yaml --length 8"),
        1);
    assert_says(out, "the rotor did not follow the start");
    assert_says(out, "rotor stood still");
    assert_says(out, "NOT good");
}
END_TEST

/* Criteria are part of the verdict: met, missed, and one that nothing was measured for. */
START_TEST(criteria_decide_the_verdict)
{
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.tune.yaml"), 0);
    write_file("strict.scenario.yaml",
               "name: strict\nup:\n  what: speed\n  from_s: 0.3\n  speed_mech_rad_s: 9\n"
               "steady:\n  what: expect_speed\n  from_s: 4\n  for_s: 1\n  speed_mech_rad_s: 9\n"
               "  within: 0.05\nhardly:\n  what: expect_current\n  highest_a: 0.5\n"
               "late:\n  what: expect_ripple\n  from_s: 50\n  for_s: 1\n  rms_mech_rad_s: 1\n",
               -1);
    assert_status(run(CORVAK_COMMAND " run " WHEEL " strict.scenario.yaml --tune wheel.tune.yaml "
                                     "--length 5.3"),
                  1);
    assert_says(out, "steady 4 s to 5 s met: speed off by");
    assert_says(out, "MISSED: current");
    assert_says(out, "MISSED: nothing was measured then");
    assert_says(out, "NOT good");
    write_file("bad.scenario.yaml", "name: bad\nx:\n  what: expect_speed\n  from_s: 1\n", -1);
    assert_status(run(CORVAK_COMMAND " run " WHEEL " bad.scenario.yaml --tune wheel.tune.yaml"), 2);
    assert_says(err, "a expect_speed needs speed_mech_rad_s");
}
END_TEST

/* The same scenario on a controller behind a link: with its own settings, without the bench's
 * hands, and with a log of what comes over the link. */
START_TEST(a_device_is_judged_too)
{
    write_file(
        "linked.scenario.yaml",
        "name: linked\nhand:\n  what: hand_brake\n  torque_nm: 1\nup:\n  what: speed\n"
        "  from_s: 0.4\n  speed_mech_rad_s: 9\nsteady:\n  what: expect_speed\n  from_s: 1.5\n"
        "  for_s: 0.5\n  speed_mech_rad_s: 9\n  within: 0.05\nknown:\n  what: expect_angle\n"
        "  from_s: 1.5\n  rms_deg: 5\n",
        -1);
    start_server("tcp:127.0.0.1:0");
    assert_status(run(CORVAK_COMMAND " run %s linked.scenario.yaml --length 2.5 -d 10 -o x.csv "
                                     "--plot run.svg",
                      address),
                  1);
    assert_says(out, "(over the link)");
    assert_says(out, "steady 1.5 s to 2 s met");
    assert_says(out, "known 1.5 s to the end MISSED: nothing was measured then");
    assert_says(err, "hand: hand_brake is for a simulated bench");
    assert_status(
        run(CORVAK_COMMAND " run %s linked.scenario.yaml -o x.csv -c t,true_theta_e", address), 2);
    assert_says(err, "only a simulated bench knows it");
    assert_status(run(CORVAK_COMMAND " run %s linked.scenario.yaml --tune x.yaml", address), 2);
    stop_server();
    char *log = read_file("x.csv");
    assert_says(log, "0.000500");
    ck_assert_ptr_null(strstr(log, "true_"));
    g_free(log);
    assert_status(run(CORVAK_COMMAND " run tcp:127.0.0.1:1 linked.scenario.yaml"), 2);
}
END_TEST

/* The turntable's moves by its encoder, as the demo shows them. */
START_TEST(the_table_moves_to_exact_angles)
{
    assert_status(run(CORVAK_COMMAND " gains table.card.yaml " CORVAK_DATA
                                     "/table.rig.yaml --rotor-sensor -o table.tune.yaml"),
                  0);
    assert_says(out, "position.gain_per_s");
    assert_status(run(CORVAK_COMMAND " run " CORVAK_DATA "/table.rig.yaml " CORVAK_DATA
                                     "/decorating.scenario.yaml --tune table.tune.yaml --json"),
                  0);
    assert_says(out, "\"quantity\" : \"position_mech_rad\"");
    assert_says(out, "\"good\" : true");
}
END_TEST

/* The lowest and the highest speed, with what holds the rotor. */
START_TEST(a_ladder_finds_both_ends)
{
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.tune.yaml"), 0);
    assert_status(
        run(CORVAK_COMMAND " measure ladder " WHEEL " --tune wheel.tune.yaml --plot ladder.svg"),
        0);
    assert_says(out, "vector usable");
    assert_says(out, "angle NOT usable");
    assert_says(out, "without load: lowest usable speed");
    assert_says(out, "the flux linkage of 21.5 mWb is too small for the observer");
    assert_status(run(CORVAK_COMMAND " measure ladder " WHEEL " --tune wheel.tune.yaml --within 0"),
                  2);
    assert_status(run(CORVAK_COMMAND " measure ladder"), 2);
}
END_TEST

/* A short session: started, stepped, stopped. */
START_TEST(steps_are_measured)
{
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.tune.yaml"), 0);
    assert_status(run("cp " WHEEL " ."), 0);
    assert_status(run(CORVAK_COMMAND " measure steps wheel.rig.yaml --tune wheel.tune.yaml "
                                     "--speed 60 --current 1 --plot steps.svg"),
                  0);
    assert_says(out, "rpm, and back");
    assert_says(out, "d current from");
    assert_says(out, "stopped, the bridge is off");
    char *figure = read_file("steps.svg");
    assert_says(figure, "<svg");
    g_free(figure);
    assert_status(run(CORVAK_COMMAND " measure steps sim:wheel.rig.yaml --speed 60 --json"), 0);
    JsonNode *root = json_from_string(out, NULL);
    JsonObject *steps = json_object_get_object_member(json_node_get_object(root), "steps");
    ck_assert(json_object_has_member(steps, "speed"));
    ck_assert(!json_object_has_member(steps, "current"));
    json_node_unref(root);
    assert_status(run(CORVAK_COMMAND " measure steps wheel.rig.yaml"), 2);
    assert_says(err, "--speed RPM is needed");
    assert_status(run(CORVAK_COMMAND " measure step wheel.rig.yaml"), 2);
    assert_says(err, "did you mean \"steps\"?");
}
END_TEST

/* What the saliency allows, at standstill; and what torque there is at which speed. */
START_TEST(the_ends_of_the_range)
{
    assert_status(
        run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " --injection -o creeping.tune.yaml"),
        0);
    assert_says(out, "injection.voltage_v");
    assert_status(run(CORVAK_COMMAND " run " WHEEL " " CORVAK_DATA
                                     "/creeping.scenario.yaml --tune creeping.tune.yaml"),
                  0);
    assert_says(out, "sees_it 1 s to 7 s met");
    /* which end is north is found after the angle: by then the turns are not counted yet */
    write_file("turns.scenario.yaml",
               "name: turns\nup:\n  what: speed\n  from_s: 0.3\n  speed_mech_rad_s: 8\n"
               "back:\n  what: position\n  from_s: 3\n  position_mech_rad: 6\n"
               "end:\n  what: stop\n  from_s: 9\n",
               -1);
    assert_status(
        run(CORVAK_COMMAND " run " WHEEL " turns.scenario.yaml --tune creeping.tune.yaml"), 0);
    assert_status(run(CORVAK_COMMAND " range wheel.card.yaml " WHEEL " --plot range.svg"), 0);
    assert_says(out, "six_step");
    assert_says(out, "lifts the bus beyond 38.4 V");
    assert_status(run(CORVAK_COMMAND " range wheel.card.yaml " WHEEL " --json"), 0);
    assert_says(out, "\"continuous_torque_nm\"");
    assert_status(run(CORVAK_COMMAND " range wheel.card.yaml " WHEEL " --winding 0"), 2);
    assert_status(run(CORVAK_COMMAND " range wheel.card.yaml " WHEEL " --winding 20"), 2);
    assert_says(err, "not above the rig's ambient_degc of 25");
    assert_status(run(CORVAK_COMMAND " range wheel.card.yaml"), 2);
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " --bandwidth 5000"), 1);
    assert_says(err, "at most");
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " --margin 5"), 2);
}
END_TEST

/* The true angle is that of the row's sample: a period later would be 2 degrees here. */
START_TEST(a_fast_motor_is_replayed_without_a_shift)
{
    write_file("fast.scenario.yaml",
               "name: fast\nup:\n  what: speed\n  from_s: 0.3\n  speed_mech_rad_s: 1500\n", -1);
    assert_status(run(CORVAK_COMMAND " run " CORVAK_DATA
                                     "/blower.rig.yaml fast.scenario.yaml -l 1.5 "
                                     "-o fast.h5 -c t,ia,ib,ic,duty_a,duty_b,duty_c,vdc,"
                                     "true_theta_e"),
                  0);
    assert_status(run(CORVAK_COMMAND
                      " replay fast.h5 --map theta_e=true_theta_e --json --tune " CORVAK_DATA
                      "/blower.tune.yaml"),
                  0);
    const char *mean = strstr(out, "\"error_mean_rad\" : ");
    ck_assert_ptr_nonnull(mean);
    ck_assert_double_lt(fabs(strtod(mean + 19, NULL)), 0.0175);
}
END_TEST

/* A run's log goes through the observers; with its true angle, and a search. */
START_TEST(a_log_is_replayed)
{
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.tune.yaml"), 0);
    assert_status(run(CORVAK_COMMAND " run " WHEEL " short.scenario.yaml --tune wheel.tune.yaml "
                                     "-o log.h5 -c t,ia,ib,ic,duty_a,duty_b,duty_c,vdc,"
                                     "true_theta_e"),
                  0);
    assert_status(run(CORVAK_COMMAND " replay log.h5 --map theta_e=true_theta_e --tune "
                                     "wheel.tune.yaml --plot replay.svg"),
                  0);
    assert_says(out, "reference: the log's electrical angle");
    assert_says(out, "kalman");
    char *page = read_file("replay.svg");
    assert_says(page, "angle error / deg");
    g_free(page);
    assert_status(run(CORVAK_COMMAND " replay log.h5 --card wheel.card.yaml --json"), 0);
    assert_says(out, "\"reference\" : \"consensus\"");
    assert_status(run(CORVAK_COMMAND " replay log.h5 --map theta_e=true_theta_e --tune "
                                     "wheel.tune.yaml -P observer.tracking_bandwidth_rad_s=30 "
                                     "--search --observer kalman -o found.tune.yaml"),
                  0);
    assert_says(out, "Search: kalman");
    char *tune = read_file("found.tune.yaml");
    assert_says(tune, "kind: kalman");
    g_free(tune);
    assert_status(run(CORVAK_COMMAND " replay log.h5 --tune wheel.tune.yaml --search"), 1);
    assert_says(err, "needs the rotor's angle");
    assert_status(run(CORVAK_COMMAND " replay log.h5 --tune wheel.tune.yaml --observer none"), 2);
    assert_status(run(CORVAK_COMMAND " replay log.h5 -o x.tune.yaml"), 2);
    assert_status(run(CORVAK_COMMAND " replay"), 2);
}
END_TEST

/* The bench's own direction is the other one: what is stated counts, and the run is none. */
START_TEST(a_stated_sensor_counts_in_a_simulation)
{
    write_file("short.scenario.yaml", up_and_stop, -1);
    assert_status(run(CORVAK_COMMAND " run " WHEEL " short.scenario.yaml -P rotor.reversed=yes"),
                  1);
    assert_status(run(CORVAK_COMMAND " run " WHEEL " short.scenario.yaml -P rotor.kind=none"), 2);
    assert_says(err, "rotor.kind");
}
END_TEST

START_TEST(gains_by_sensor_name_the_sensor)
{
    assert_status(
        run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " --rotor-sensor -o sensor.tune.yaml"),
        0);
    assert_says(err, "corvak calibrate");
    char *text = read_file("sensor.tune.yaml");
    assert_says(text, "kind: absolute");
    assert_says(text, "gains: --rotor-sensor");
    ck_assert_ptr_null(strstr(text, "kind: none"));
    g_free(text);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, prepare, remove_folder);
    tcase_add_test(tests, a_stated_sensor_counts_in_a_simulation);
    tcase_add_test(tests, gains_by_sensor_name_the_sensor);
    tcase_add_test(tests, a_sensor_is_calibrated_first);
    tcase_add_test(tests, gains_make_the_wheel_turn);
    tcase_add_test(tests, a_hand_set_value_gives_new_gains);
    tcase_add_test(tests, arrival_is_apart_from_later_loads);
    tcase_add_test(tests, a_new_motor_comes_out_of_its_standstill);
    tcase_add_test(tests, what_cannot_be_done_is_said);
    tcase_add_test(tests, criteria_decide_the_verdict);
    tcase_add_test(tests, a_device_is_judged_too);
    tcase_add_test(tests, the_table_moves_to_exact_angles);
    tcase_add_test(tests, a_ladder_finds_both_ends);
    tcase_add_test(tests, steps_are_measured);
    tcase_add_test(tests, the_ends_of_the_range);
    tcase_add_test(tests, a_fast_motor_is_replayed_without_a_shift);
    tcase_add_test(tests, a_log_is_replayed);
}

int main(void)
{
    return run_suite("run command", add);
}
