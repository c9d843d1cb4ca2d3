/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak gains and corvak run, as a user runs them.
 */
#include "command.h"
#include "suite.h"

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
    write_file("short.scenario.yaml", up_and_stop, -1);
}

/* From a card to a motor that turns, and everything that is written on the way. */
START_TEST(gains_make_the_wheel_turn)
{
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.tune.yaml"), 0);
    assert_says(out, "current.bandwidth_hz");
    assert_says(out, "phase margin 61 deg");
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
    assert_says(err, "motor.flux_linkage_wb against speed");
    /* somebody holds the wheel */
    write_file("held.scenario.yaml",
               "name: held\nhand:\n  what: blocked_rotor\nup:\n  what: speed\n  from_s: 0.3\n"
               "  speed_mech_rad_s: 9\n",
               -1);
    assert_status(run(CORVAK_COMMAND " gains wheel.card.yaml " WHEEL " -o wheel.tune.yaml"), 0);
    assert_status(
        run(CORVAK_COMMAND " run " WHEEL " held.scenario.yaml --tune wheel.tune.yaml --length 8"),
        1);
    assert_says(out, "FAULT: the rotor did not follow the start");
    assert_says(out, "rotor stood still");
    assert_says(out, "NOT good");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, prepare, remove_folder);
    tcase_add_test(tests, gains_make_the_wheel_turn);
    tcase_add_test(tests, a_hand_set_value_gives_new_gains);
    tcase_add_test(tests, what_cannot_be_done_is_said);
}

int main(void)
{
    return run_suite("run command", add, 120.0);
}
