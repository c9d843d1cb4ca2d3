/* SPDX-License-Identifier: Apache-2.0
 *
 * Several logs of one motor, or of two: the order does not matter, one bad log does not sink the
 * others, commanded and measured voltages go together, and contradictions leave entries open.
 */
#include "corvak/ident/estimate.h"
#include "damaged_sets.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <string.h>

static const cvk_estimate_options options = {-1.0, -1.0, 500.0, 0.0, 0, 2, NULL};
static cvk_estimate result, other;
static recording still, spin, coast, blower_still, blower_spin;

static void setup(void)
{
    cvk_rig_config wheel = studio_rig("wheel"), blower = studio_rig("blower");
    wheel.tune.program.hold_s = 0.2;
    blower.tune.program.hold_s = 0.05;
    record(&still, &wheel, "standstill", 11, false);
    record(&spin, &wheel, "spin", 11, true);
    record(&coast, &wheel, "coast", 11, true);
    record(&blower_still, &blower, "standstill", 11, false);
    record(&blower_spin, &blower, "spin", 11, true);
}

static void teardown(void)
{
    recording *all[] = {&still, &spin, &coast, &blower_still, &blower_spin};
    for (size_t n = 0; n < sizeof all / sizeof all[0]; n++) {
        recording_free(all[n]);
    }
}

static void assert_inside(cvk_card_key key, double truth)
{
    const cvk_card_entry *e = &result.card.entry[key];
    ck_assert_msg(e->known, "%s is missing: %s", cvk_card_key_name(key), e->missing);
    ck_assert_msg(truth >= e->low && truth <= e->high, "%s: %g is outside %g .. %g",
                  cvk_card_key_name(key), truth, e->low, e->high);
}

static void assert_open(cvk_card_key key, const char *words)
{
    const cvk_card_entry *e = &result.card.entry[key];
    ck_assert_msg(!e->known, "%s is %g", cvk_card_key_name(key), e->value);
    ck_assert_msg(strstr(e->missing, words) != NULL, "%s: %s", cvk_card_key_name(key), e->missing);
}

START_TEST(every_order_gives_the_same_card)
{
    static const int orders[6][3] = {{0, 1, 2}, {0, 2, 1}, {1, 0, 2},
                                     {1, 2, 0}, {2, 0, 1}, {2, 1, 0}};
    const cvk_log *named[] = {&still.log, &spin.log, &coast.log};
    for (int n = 0; n < 6; n++) {
        const cvk_log *logs[] = {named[orders[n][0]], named[orders[n][1]], named[orders[n][2]]};
        ck_assert_int_eq(cvk_estimate_logs(logs, 3, &options, n == 0 ? &result : &other), CVK_OK);
        /* NOLINTNEXTLINE(bugprone-suspicious-memory-comparison): alike to the letter */
        ck_assert(n == 0 || memcmp(&result.card, &other.card, sizeof result.card) == 0);
    }
    const cvk_rig_config wheel = studio_rig("wheel");
    assert_inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&wheel));
    assert_inside(CVK_CARD_FLUX_LINKAGE, wheel.motor.flux_linkage_wb);
    assert_open(CVK_CARD_WINDING_RESISTANCE, "--switch-resistance");
}
END_TEST

/* A log that cannot be used is named and left out; alone it is refused. */
START_TEST(one_bad_log_does_not_sink_the_others)
{
    cvk_log bad = spin.log;
    bad.name = "bad log";
    bad.column[CVK_COLUMN_IB] = bad.column[CVK_COLUMN_IC] = NULL;
    const cvk_log *logs[] = {&bad, &still.log, &coast.log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 3, &options, &result), CVK_OK);
    const cvk_rig_config wheel = studio_rig("wheel");
    assert_inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&wheel));
    assert_inside(CVK_CARD_FLUX_LINKAGE, wheel.motor.flux_linkage_wb);
    bool named = false;
    for (size_t n = 0; n < result.findings; n++) {
        named = named || (strcmp(result.finding[n].log, "bad log") == 0 &&
                          strstr(result.finding[n].text, "left out") != NULL);
        ck_assert_int_ne(result.finding[n].severity, CVK_ERROR);
    }
    ck_assert(named);
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_NOT_IN_LOG);
}
END_TEST

/* Thirty kelvin between the logs: each has its own resistance, and the card that at standstill. */
START_TEST(a_winding_that_warmed_up_is_no_other_motor)
{
    cvk_rig_config rig = studio_rig("wheel");
    recording warm;
    rig.tune.program.hold_s = 0.2;
    rig.motor.ambient_degc += 30.0;
    record(&warm, &rig, "spin", 5, true);
    const cvk_log *logs[] = {&still.log, &warm.log};
    const double share = 1.0 - 30.0 * rig.motor.magnet_per_k;
    bool told = false;
    ck_assert_int_eq(cvk_estimate_logs(logs, 2, &options, &result), CVK_OK);
    for (int key = 0; key <= CVK_CARD_FLUX_LINKAGE; key++) {
        ck_assert_msg(result.card.entry[key].known, "%s", result.card.entry[key].missing);
    }
    ck_assert_double_eq_tol(
        result.card.entry[CVK_CARD_RESISTANCE].value / cvk_rig_visible_resistance(&rig), 1.0, 0.01);
    ck_assert_double_eq_tol(result.card.entry[CVK_CARD_FLUX_LINKAGE].value /
                                (share * rig.motor.flux_linkage_wb),
                            1.0, 0.005);
    for (size_t n = 0; n < result.findings; n++) {
        told = told || strstr(result.finding[n].text, "warmer") != NULL;
    }
    ck_assert(told);
    recording_free(&warm);
}
END_TEST

/* Twenty pole pairs: a winding of its own for the spin is fitted badly, and so is no evidence. */
START_TEST(a_bad_fit_of_its_own_makes_no_other_motor)
{
    cvk_rig_config rig = studio_rig("mixer");
    recording held, driven;
    rig.motor.pole_pairs = 20;
    rig.motor.resistance_ohm = 0.06;
    rig.motor.inductance_d_h = 40e-6;
    rig.motor.flux_linkage_wb = 0.004;
    rig.tune.motor.resistance_ohm = 0.07F;
    rig.tune.motor.inductance_d_h = 45e-6F;
    rig.tune.motor.inductance_q_h = 90e-6F;
    rig.tune.motor.flux_linkage_wb = 0.004F;
    rig.sensing.current_gain_tolerance = rig.sensing.voltage_gain_tolerance = 0.0;
    record(&held, &rig, "standstill", 4000, true);
    record(&driven, &rig, "spin", 4000, true);
    const cvk_log *logs[] = {&held.log, &driven.log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 2, &options, &result), CVK_OK);
    assert_inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig));
    assert_inside(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb);
    recording_free(&held);
    recording_free(&driven);
}
END_TEST

START_TEST(two_motors_leave_the_entries_open)
{
    const cvk_log *stills[] = {&still.log, &blower_still.log};
    ck_assert_int_eq(cvk_estimate_logs(stills, 2, &options, &result), CVK_NOT_IN_LOG);
    assert_open(CVK_CARD_RESISTANCE, "contradict each other");
    assert_open(CVK_CARD_INDUCTANCE_Q, "standstill");
    const cvk_log *mixed[] = {&still.log, &blower_spin.log};
    ck_assert_int_eq(cvk_estimate_logs(mixed, 2, &options, &result), CVK_NOT_IN_LOG);
    assert_open(CVK_CARD_RESISTANCE, "does not fit the winding");
    assert_open(CVK_CARD_FLUX_LINKAGE, "does not fit the winding");
    assert_open(CVK_CARD_POLE_PAIRS, "contradict each other");
}
END_TEST

/* A spin says more than a coast-down of the same set does: what a warmer magnet explains is
 * spanned, what it does not stays open; either way the sharper coast-down holds (shares of the
 * magnet). */
START_TEST(a_spin_that_a_coast_down_contradicts_is_seen)
{
    static const double shares[] = {1.03, 1.08};
    const double truth = studio_rig("wheel").motor.flux_linkage_wb;
    cvk_rig_config rig = studio_rig("wheel");
    recording strong;
    rig.tune.program.hold_s = 0.2;
    rig.motor.flux_linkage_wb *= shares[_i];
    record(&strong, &rig, "spin", 11, true);
    const cvk_log *logs[] = {&still.log, &strong.log, &coast.log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 3, &options, &result), CVK_OK);
    if (_i == 1) {
        assert_open(CVK_CARD_FLUX_LINKAGE, "contradict each other");
    } else {
        assert_inside(CVK_CARD_FLUX_LINKAGE, truth);
        assert_inside(CVK_CARD_FLUX_LINKAGE, shares[_i] * truth);
        ck_assert_double_lt(result.card.entry[CVK_CARD_FLUX_LINKAGE].value, 1.01 * truth);
    }
    recording_free(&strong);
}
END_TEST

/* Terminal voltages of the spin, as exact means over a period: no switch, no dead time, no delay.
 */
START_TEST(commanded_and_measured_voltages_go_together)
{
    cvk_rig_config rig = studio_rig("wheel");
    rig.tune.program.hold_s = 0.2;
    rig.imperfections.dead_time = 0; /* the spin's own inverter; the standstill log has one */
    rig.inverter.switch_resistance_ohm = 0.0;
    recording measured;
    record(&measured, &rig, "spin", 12, false);
    cvk_log log = measured.log;
    static double v[3][200000];
    ck_assert_uint_lt(log.rows, 200000u);
    for (int n = 0; n < 3; n++) {
        for (size_t k = 0; k < log.rows; k++) { /* acts one period after its row */
            const size_t row = k > 0 ? k - 1 : 0;
            v[n][k] = log.column[CVK_COLUMN_DUTY_A + n][row] * log.column[CVK_COLUMN_VDC][row];
        }
        log.column[CVK_COLUMN_DUTY_A + n] = NULL;
        log.column[CVK_COLUMN_VA + n] = v[n];
    }
    const cvk_log *logs[] = {&still.log, &log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 2, &options, &result), CVK_OK);
    const cvk_rig_config wheel = studio_rig("wheel");
    assert_inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&wheel));
    assert_inside(CVK_CARD_FLUX_LINKAGE, wheel.motor.flux_linkage_wb);
    ck_assert_double_eq_tol(result.card.entry[CVK_CARD_FLUX_LINKAGE].value,
                            wheel.motor.flux_linkage_wb, 0.01 * wheel.motor.flux_linkage_wb);
    recording_free(&measured);
}
END_TEST

START_TEST(a_switch_larger_than_the_resistance_is_a_contradiction)
{
    cvk_estimate_options wrong = options;
    wrong.switch_resistance_ohm = 0.5;
    const cvk_log *logs[] = {&still.log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &wrong, &result), CVK_OK);
    assert_open(CVK_CARD_WINDING_RESISTANCE, "--switch-resistance");
    assert_open(CVK_CARD_WINDING_RESISTANCE, "leaves nothing");
}
END_TEST

START_TEST(duties_in_percent_are_refused_with_the_cure)
{
    static double duty[3][200000];
    cvk_log log = still.log;
    for (int n = 0; n < 3; n++) {
        for (size_t k = 0; k < log.rows; k++) {
            duty[n][k] = 100.0 * log.column[CVK_COLUMN_DUTY_A + n][k];
        }
        log.column[CVK_COLUMN_DUTY_A + n] = duty[n];
    }
    const cvk_log *logs[] = {&log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_NOT_IN_LOG);
    assert_open(CVK_CARD_RESISTANCE, "`duty_a [%]`");
}
END_TEST

/* One set of each kind of damage; bench_contradictions draws many. */
START_TEST(a_damaged_set_gets_no_confident_wrong_answer)
{
    const damaged_result r =
        estimate_damaged_set(500u * (unsigned)damage_kinds() + (unsigned)_i, 2);
    ck_assert_msg(r.far_outside == 0, "%s, %s: %s", r.motor, r.damage, r.worst);
    free_damaged_sets();
    if (strcmp(r.damage, "shuffled only") == 0) { /* and a good set is not left open */
        ck_assert_int_ge(r.known, 3);
    }
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, setup, teardown);
    tcase_add_test(tests, every_order_gives_the_same_card);
    tcase_add_test(tests, one_bad_log_does_not_sink_the_others);
    tcase_add_test(tests, a_winding_that_warmed_up_is_no_other_motor);
    tcase_add_test(tests, a_bad_fit_of_its_own_makes_no_other_motor);
    tcase_add_test(tests, two_motors_leave_the_entries_open);
    tcase_add_loop_test(tests, a_spin_that_a_coast_down_contradicts_is_seen, 0, 2);
    tcase_add_test(tests, commanded_and_measured_voltages_go_together);
    tcase_add_test(tests, a_switch_larger_than_the_resistance_is_a_contradiction);
    tcase_add_test(tests, duties_in_percent_are_refused_with_the_cure);
    tcase_add_loop_test(tests, a_damaged_set_gets_no_confident_wrong_answer, 0, damage_kinds());
}

int main(void)
{
    return run_suite("agreement", add);
}
