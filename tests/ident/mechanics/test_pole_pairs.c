/* SPDX-License-Identifier: Apache-2.0
 *
 * Pole pairs from the evidence that a bench without a rotor sensor has: a mark on the shaft, halls,
 * an electrical angle, turns counted by hand, a disc of known inertia, unequal magnets on a scope.
 */
#include "corvak/ident/estimate.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define TWO_PI 6.283185307179586

static cvk_estimate result;
static const cvk_estimate_options options = {-1.0, -1.0, 500.0, 0.0, 0, 1, NULL};

static void assert_pole_pairs(int truth, const char *from)
{
    const cvk_card_entry *entry = &result.card.entry[CVK_CARD_POLE_PAIRS];
    ck_assert_msg(entry->known, "missing: %s", entry->missing);
    ck_assert_double_eq(entry->value, truth);
    ck_assert_double_gt(entry->probability, 0.99);
    ck_assert_msg(strstr(entry->from, from) != NULL, "%s", entry->from);
}

static void estimate_one(const cvk_log *log)
{
    const cvk_log *logs[] = {log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
}

/* A motor whose magnets are all alike, so that no pattern helps; its angle, unwrapped, is taken out
 * of the log. */
static double *record_without_sensor(recording *r, const char *name, const char *excitation,
                                     int *pole_pairs)
{
    cvk_rig_config rig = studio_rig(name);
    ck_assert(cvk_rig_switch(&rig, "unequal_magnets", false));
    record(r, &rig, excitation, 4, true);
    double *angle = malloc(r->log.rows * sizeof *angle), turns = 0.0;
    ck_assert_ptr_nonnull(angle);
    for (size_t k = 0; k < r->log.rows; k++) {
        double now = r->log.column[CVK_COLUMN_THETA_M][k];
        turns -= k > 0 ? round((now - r->log.column[CVK_COLUMN_THETA_M][k - 1]) / TWO_PI) : 0.0;
        angle[k] = now + TWO_PI * turns;
    }
    r->log.column[CVK_COLUMN_THETA_M] = NULL;
    *pole_pairs = rig.motor.pole_pairs;
    return angle;
}

START_TEST(a_mark_on_the_shaft_tells)
{
    recording r;
    int pole_pairs;
    double *column = record_without_sensor(&r, "mixer", "spin", &pole_pairs), before = column[0];
    for (size_t k = 0; k < r.log.rows; k++) {
        double now = column[k];
        column[k] = floor(now / TWO_PI) != floor(before / TWO_PI) ? 1.0 : 0.0;
        before = now;
    }
    r.log.column[CVK_COLUMN_INDEX] = column;
    estimate_one(&r.log);
    assert_pole_pairs(pole_pairs, "rotor column");
    free(column);
    recording_free(&r);
}
END_TEST

/* Halls in an odd order that bounce, and somebody who has counted the turns. */
START_TEST(halls_and_counted_turns_tell)
{
    static const int codes[] = {5, 4, 6, 2, 3, 1};
    recording r;
    int pole_pairs;
    double *column = record_without_sensor(&r, "mixer", "coast", &pole_pairs);
    r.log.shaft_turns = fabs(column[r.log.rows - 1] - column[0]) / TWO_PI;
    for (size_t k = 0; k < r.log.rows; k++) {
        double sextant = 6.0 * pole_pairs * column[k] / TWO_PI;
        double bounce = k % 7 == 0 ? 0.1 : 0.0;
        column[k] = codes[(int)(floor(sextant + bounce) - 6.0 * floor((sextant + bounce) / 6.0))];
    }
    r.log.column[CVK_COLUMN_HALL] = column;
    estimate_one(&r.log);
    assert_pole_pairs(pole_pairs, "electrical column against the shaft's");
    free(column);
    recording_free(&r);
}
END_TEST

START_TEST(an_electrical_angle_and_a_speed_tell)
{
    recording r;
    int pole_pairs;
    double *column = record_without_sensor(&r, "table", "spin", &pole_pairs);
    double *speed = calloc(r.log.rows, sizeof *speed);
    for (size_t k = r.log.rows; k-- > 0;) {
        speed[k] = k > 0 ? (column[k] - column[k - 1]) / r.log.column[CVK_COLUMN_T][1] : 0.0;
        column[k] = fmod(pole_pairs * column[k], TWO_PI);
    }
    /* nothing but these: the voltages stand still */
    r.log.column[CVK_COLUMN_THETA_E] = column;
    r.log.column[CVK_COLUMN_SPEED_M] = speed;
    estimate_one(&r.log);
    assert_pole_pairs(pole_pairs, "electrical column against the shaft's");
    free(column);
    free(speed);
    recording_free(&r);
}
END_TEST

/* An encoder whose counts per turn nobody has written down: where the column wraps, it tells. */
START_TEST(an_encoder_that_wraps_tells)
{
    enum { COUNTS = 4096 };
    recording r;
    int pole_pairs;
    double *column = record_without_sensor(&r, "mixer", "spin", &pole_pairs);
    for (size_t k = 0; k < r.log.rows; k++) {
        const double turns = column[k] / TWO_PI;
        column[k] = floor(COUNTS * (_i == 0 ? turns - floor(turns) : turns));
    }
    r.log.column[CVK_COLUMN_ENC] = column;
    estimate_one(&r.log);
    if (_i == 0) {
        assert_pole_pairs(pole_pairs, "rotor column");
    } else { /* it counts on and on: what is missing is said */
        const cvk_card_entry *entry = &result.card.entry[CVK_CARD_POLE_PAIRS];
        ck_assert(!entry->known);
        ck_assert_msg(strstr(entry->missing, "# encoder_counts:") != NULL, "%s", entry->missing);
    }
    free(column);
    recording_free(&r);
}
END_TEST

/* Only the voltages, and the turns counted while it ran down. */
START_TEST(counted_turns_tell)
{
    recording r;
    int pole_pairs;
    double *angle = record_without_sensor(&r, "wheel", "coast", &pole_pairs);
    estimate_one(&r.log);
    ck_assert(!result.card.entry[CVK_CARD_POLE_PAIRS].known);
    ck_assert_ptr_nonnull(strstr(result.card.entry[CVK_CARD_POLE_PAIRS].missing, "by hand"));
    r.log.shaft_turns = round(fabs(angle[r.log.rows - 1] - angle[0]) / TWO_PI);
    estimate_one(&r.log);
    assert_pole_pairs(pole_pairs, "counted by hand");
    free(angle);
    recording_free(&r);
}
END_TEST

START_TEST(a_known_disc_tells)
{
    const double disc_kg_m2 = 3e-4;
    cvk_rig_config rig = studio_rig("mixer");
    ck_assert(cvk_rig_switch(&rig, "unequal_magnets", false));
    recording r[3];
    record(&r[0], &rig, "standstill", 1, false);
    record(&r[1], &rig, "duty", 2, false);
    rig.shaft.inertia_kg_m2 += disc_kg_m2;
    record(&r[2], &rig, "duty", 3, false);
    r[2].log.added_inertia_kg_m2 = disc_kg_m2;
    const cvk_log *logs[] = {&r[0].log, &r[1].log, &r[2].log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 3, &options, &result), CVK_OK);
    assert_pole_pairs(rig.motor.pole_pairs, "known disc");
    /* the card's inertia is that without the disc */
    const double truth = rig.shaft.inertia_kg_m2 + rig.shaft.load_inertia_kg_m2 - disc_kg_m2;
    const cvk_card_entry *inertia = &result.card.entry[CVK_CARD_INERTIA];
    ck_assert(inertia->known);
    ck_assert_double_eq_tol(inertia->value, truth, 0.03 * truth);
    for (int n = 0; n < 3; n++) {
        recording_free(&r[n]);
    }
}
END_TEST

/* Fifteen pole pairs within four turns of a coast-down, read with the few steps of a scope: the
 * currents are a step or two of the converter, the last turn is slow. */
START_TEST(unequal_magnets_tell_on_a_coarse_scope)
{
    static const int bits[] = {8, 12};
    cvk_rig_config rig = studio_rig("mixer");
    recording r;
    rig.motor.pole_pairs = 15;
    rig.motor.magnet_spread = 0.03;
    rig.sensing.adc_bits = bits[_i];
    rig.sensing.voltage_gain_tolerance = 0.0;
    record(&r, &rig, "coast", 3, false);
    estimate_one(&r.log);
    assert_pole_pairs(15, "pattern");
    /* the mean of a pattern of 3 % over four turns, of which the last is not whole */
    ck_assert_double_eq_tol(
        result.card.entry[CVK_CARD_FLUX_LINKAGE].value / rig.motor.flux_linkage_wb, 1.0, 0.0015);
    recording_free(&r);
}
END_TEST

/* Nothing shows them, but somebody knows them: the inertia follows. */
START_TEST(stated_pole_pairs_give_the_inertia)
{
    cvk_rig_config rig = studio_rig("mixer");
    recording r;
    record(&r, &rig, "spin", 3, false);
    estimate_one(&r.log);
    ck_assert(!result.card.entry[CVK_CARD_POLE_PAIRS].known);
    ck_assert(!result.card.entry[CVK_CARD_INERTIA].known);

    r.log.pole_pairs = rig.motor.pole_pairs;
    estimate_one(&r.log);
    const cvk_card_entry *inertia = &result.card.entry[CVK_CARD_INERTIA];
    assert_pole_pairs(rig.motor.pole_pairs, "in # pole_pairs of");
    ck_assert(result.card.entry[CVK_CARD_POLE_PAIRS].by_hand);
    ck_assert(inertia->known);
    ck_assert_double_eq_tol(inertia->value, rig.shaft.inertia_kg_m2 + rig.shaft.load_inertia_kg_m2,
                            inertia->high - inertia->value);

    /* who asks has the last word, and what is no number of pole pairs says nothing */
    const cvk_log *logs[] = {&r.log};
    cvk_estimate_options asked = options;
    asked.pole_pairs = 3;
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &asked, &result), CVK_OK);
    assert_pole_pairs(3, "by the user");
    r.log.pole_pairs = 3.5;
    estimate_one(&r.log);
    ck_assert(!result.card.entry[CVK_CARD_POLE_PAIRS].known);
    ck_assert_str_eq(result.finding[result.findings - 1].text,
                     "# pole_pairs: 3.5 is not used: a whole number from 1 to 50 is wanted");
    asked.pole_pairs = CVK_MOST_POLE_PAIRS + 1;
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &asked, &result), CVK_OUT_OF_RANGE);
    recording_free(&r);
}
END_TEST

/* Whoever counts poles for pole pairs is told by the rotor column, and by two heads. */
START_TEST(stated_pole_pairs_that_are_contradicted_are_open)
{
    cvk_rig_config rig = studio_rig("mixer");
    const cvk_card_entry *entry = &result.card.entry[CVK_CARD_POLE_PAIRS];
    recording r[2];
    record(&r[0], &rig, "spin", 3, true);
    record(&r[1], &rig, "standstill", 4, false);
    r[0].log.pole_pairs = 2 * rig.motor.pole_pairs;
    estimate_one(&r[0].log);
    ck_assert(!entry->known);
    ck_assert_msg(strstr(entry->missing, "the logs show 7 (rotor column); pole pairs are half the "
                                         "poles") != NULL,
                  "%s", entry->missing);
    ck_assert(!result.card.entry[CVK_CARD_INERTIA].known);

    r[0].log.pole_pairs = rig.motor.pole_pairs;
    estimate_one(&r[0].log);
    assert_pole_pairs(rig.motor.pole_pairs, "rotor column");
    ck_assert(!entry->by_hand);

    r[1].log.pole_pairs = rig.motor.pole_pairs + 1;
    const cvk_log *logs[] = {&r[0].log, &r[1].log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 2, &options, &result), CVK_OK);
    ck_assert_str_eq(entry->missing, "the logs' heads state different numbers (# pole_pairs)");
    recording_free(&r[0]);
    recording_free(&r[1]);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, stated_pole_pairs_give_the_inertia);
    tcase_add_test(tests, stated_pole_pairs_that_are_contradicted_are_open);
    tcase_add_loop_test(tests, unequal_magnets_tell_on_a_coarse_scope, 0, 2);
    tcase_add_test(tests, a_mark_on_the_shaft_tells);
    tcase_add_test(tests, halls_and_counted_turns_tell);
    tcase_add_test(tests, an_electrical_angle_and_a_speed_tell);
    tcase_add_loop_test(tests, an_encoder_that_wraps_tells, 0, 2);
    tcase_add_test(tests, counted_turns_tell);
    tcase_add_test(tests, a_known_disc_tells);
}

int main(void)
{
    return run_suite("pole pairs", add);
}
