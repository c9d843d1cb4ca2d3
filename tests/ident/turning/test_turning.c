/* SPDX-License-Identifier: Apache-2.0
 *
 * The driven, turning motor: an ordinary run gives R, L and flux linkage with intervals that hold,
 * inertia and friction; and the card made of it can be changed by hand.
 */
#include "corvak/ident/estimate.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

static cvk_estimate result;
static const cvk_estimate_options options = {-1.0, -1.0, 500.0, 0.0, 0, 1, NULL};

static void estimate(const cvk_log *log)
{
    ck_assert_int_eq(cvk_estimate_logs(&log, 1, &options, &result), CVK_OK);
}

static const cvk_card_entry *entry_of(cvk_card_key key)
{
    const cvk_card_entry *entry = &result.card.entry[key];
    ck_assert_msg(entry->known, "%s is missing: %s", cvk_card_key_name(key), entry->missing);
    return entry;
}

static void assert_near(cvk_card_key key, double truth, double per_cent)
{
    double off = 100.0 * (entry_of(key)->value / truth - 1.0);
    ck_assert_msg(fabs(off) <= per_cent, "%s is %.2f %% off", cvk_card_key_name(key), off);
}

static int inside(cvk_card_key key, double truth)
{
    return truth >= entry_of(key)->low && truth <= entry_of(key)->high;
}

/* Nothing injected, no rotor sensor: flux linkage sharply, R and L roughly and honestly. */
START_TEST(an_ordinary_run_shows_the_winding)
{
    static const struct {
        const char *motor;
        int fidelity;
    } runs[] = {{"wheel", CVK_FIDELITY_AVERAGED},
                {"blower", CVK_FIDELITY_AVERAGED},
                {"mixer", CVK_FIDELITY_AVERAGED},
                {"wheel", CVK_FIDELITY_SWITCHED},
                {"mixer", CVK_FIDELITY_SWITCHED}};
    cvk_rig_config rig = studio_rig(runs[_i].motor);
    rig.inverter.fidelity = runs[_i].fidelity;
    const double truths[] = {cvk_rig_visible_resistance(&rig), rig.motor.inductance_d_h,
                             rig.motor.inductance_q_h, rig.motor.flux_linkage_wb};
    recording r;
    record(&r, &rig, "duty", 31 + (unsigned)_i, false);
    estimate(&r.log);
    assert_near(CVK_CARD_RESISTANCE, truths[0], 8.0);
    assert_near(CVK_CARD_INDUCTANCE_D, truths[1], 10.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, truths[2], 6.0);
    assert_near(CVK_CARD_FLUX_LINKAGE, truths[3], 0.7);
    for (int key = 0; key <= CVK_CARD_FLUX_LINKAGE; key++) {
        ck_assert_int_eq(inside((cvk_card_key)key, truths[key]), 1);
    }
    ck_assert_ptr_nonnull(strstr(entry_of(CVK_CARD_RESISTANCE)->from, "turning fit"));
    /* without a rotor column nothing tells the pole pairs, and so nothing the inertia */
    ck_assert(!result.card.entry[CVK_CARD_POLE_PAIRS].known);
    ck_assert(!result.card.entry[CVK_CARD_INERTIA].known);
    recording_free(&r);
}
END_TEST

/* 24 rows a turn, 4 uH, a ripple far beyond the current, and a pure sine that drives no harmonics:
 * the current bows between its samples by more than the inverter's knee, and legs that moved late
 * decide what those after them lose. */
START_TEST(a_fast_small_motor_on_a_bridge_shows_its_winding)
{
    cvk_rig_config rig = studio_rig("blower");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    ck_assert(cvk_rig_switch(&rig, "harmonics", false));
    rig.motor.pole_pairs = 2;
    give_winding(&rig, (const double[]){5e-3, 4e-6, 4e-6, 0.4e-3},
                 (const float[]){6e-3F, 4e-6F, 4e-6F, 0.4e-3F});
    rig.motor.iron_loss_ohm = 8.0;
    rig.shaft.inertia_kg_m2 = 2e-6;
    rig.shaft.friction_coulomb_nm = 0.8e-3;
    rig.tune.program.speed_rad_s = 12000.0F;
    recording r;
    record(&r, &rig, "duty", 1000, true);
    estimate(&r.log);
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig), 4.0);
    assert_near(CVK_CARD_INDUCTANCE_D, rig.motor.inductance_d_h, 3.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h, 5.0);
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.5);
    recording_free(&r);
}
END_TEST

/* 20 pole pairs: within a period current and inverter's voltage make each other, and what that
 * leaves unsolved looked like a twentieth of the inductance. */
START_TEST(many_pole_pairs_on_a_bridge_show_their_inductances)
{
    cvk_rig_config rig = studio_rig("mixer");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    rig.motor.pole_pairs = 20;
    give_winding(&rig, (const double[]){0.06, 40e-6, 100e-6, 4e-3},
                 (const float[]){0.07F, 45e-6F, 90e-6F, 4e-3F});
    recording r;
    record(&r, &rig, "spin", 1001, true);
    estimate(&r.log);
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig), 1.5);
    assert_near(CVK_CARD_INDUCTANCE_D, rig.motor.inductance_d_h, 2.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h, 1.5);
    recording_free(&r);
}
END_TEST

/* A bus that is lower while its capacitor gives current than when it is read: with a winding of 9
 * milliohm most of that looks like resistance, and some like flux linkage. */
START_TEST(the_bus_capacitor_does_not_look_like_the_winding)
{
    cvk_rig_config rig = studio_rig("blower");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    rig.supply.capacitor_resistance_ohm = 0.01;
    recording r;
    record(&r, &rig, "spin", 1002, true);
    estimate(&r.log);
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig), 2.0);
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.2);
    recording_free(&r);
}
END_TEST

/* At the valley the current falls by the back-EMF over the inductance: 0.9 A in half a microsecond,
 * as much as the load takes. */
START_TEST(late_readings_do_not_bend_the_inductances)
{
    cvk_rig_config rig = studio_rig("blower");
    rig.inverter.fidelity = _i % 2 == 0 ? CVK_FIDELITY_AVERAGED : CVK_FIDELITY_SWITCHED;
    rig.sensing.amplifier_lag_s = 0.5e-6;
    recording r;
    record(&r, &rig, "duty", 1000 + (unsigned)_i, true);
    r.log.current_delay_s = _i < 2 ? -1.0 : 0.5e-6;
    estimate(&r.log);
    assert_near(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h, 2.5);
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.4);
    recording_free(&r);
}
END_TEST

/* As a controller logs that has no time for more. */
static void keep_every(recording *r, size_t nth, const cvk_rig_config *rig)
{
    r->log.rows /= nth;
    r->log.pwm_hz = rig->inverter.pwm_hz;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        double *column = (double *)r->log.column[c];
        for (size_t n = 0; column != NULL && n < r->log.rows; n++) {
            column[n] = column[nth * n];
        }
    }
}

/* A row for every second period only: duties act a part of a row late, and those of the others can
 * only be guessed, which the intervals say. */
START_TEST(rows_of_every_second_period_are_doubted)
{
    cvk_rig_config rig = studio_rig("wheel");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    recording r;
    record(&r, &rig, "spin", 1000, true);
    keep_every(&r, 2, &rig);
    estimate(&r.log);
    assert_near(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h, 3.0);
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.7);
    const cvk_card_entry *flux = entry_of(CVK_CARD_FLUX_LINKAGE);
    ck_assert_double_gt(flux->statistical_high - flux->statistical_low, 0.02 * flux->value);
    recording_free(&r);
}
END_TEST

/* A row for every fourth: what the inverter takes between is guessed, and looks like half as much
 * resistance again. */
START_TEST(resistance_is_doubted_where_periods_are_missing)
{
    cvk_rig_config rig = studio_rig("mixer");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    recording r;
    record(&r, &rig, "duty", 11, true);
    keep_every(&r, 4, &rig);
    estimate(&r.log);
    ck_assert(!result.card.entry[CVK_CARD_RESISTANCE].known ||
              inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig)));
    ck_assert(inside(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb));
    recording_free(&r);
}
END_TEST

/* A dead time that takes a fortieth of the period from 4 uH: the model misses by twice the noise,
 * and its Lq by half. */
START_TEST(a_fit_that_misses_shows_no_winding)
{
    cvk_rig_config rig = studio_rig("blower");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    rig.inverter.dead_time_s = 583e-9;
    rig.motor.resistance_ohm = 0.0234;
    rig.motor.inductance_d_h = 3.86e-6;
    rig.motor.inductance_q_h = 8.0e-6;
    rig.motor.flux_linkage_wb = 1.368e-3;
    recording r;
    record(&r, &rig, "duty", 137, true);
    estimate(&r.log);
    const cvk_card_entry *q = &result.card.entry[CVK_CARD_INDUCTANCE_Q];
    ck_assert_msg(!q->known || inside(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h),
                  "Lq %.3g .. %.3g H", q->low, q->high);
    ck_assert(inside(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb));
    recording_free(&r);
}
END_TEST

/* The drive measures its currents wrong and so lets a direct one flow, a tenth of the peak, which
 * the log's mean does not show. */
START_TEST(a_direct_current_does_not_hide_the_motor)
{
    cvk_rig_config rig = studio_rig("table");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    recording r;
    record(&r, &rig, "duty", 4000, true);
    estimate(&r.log);
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig), 3.0);
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.7);
    recording_free(&r);
}
END_TEST

/* A light load: the harmonics' currents are larger than the motor's, and its magnets differ by one
 * per cent within a turn, which the rotor column lets the fit tell from the inductances. */
START_TEST(a_rotor_column_shows_unequal_magnets)
{
    cvk_rig_config rig = studio_rig("table");
    rig.sensing.current_gain_tolerance = rig.sensing.voltage_gain_tolerance = 0.0;
    rig.inverter.fidelity = _i % 2 == 0 ? CVK_FIDELITY_AVERAGED : CVK_FIDELITY_SWITCHED;
    recording r;
    record(&r, &rig, "duty", 2 + (unsigned)_i, true);
    estimate(&r.log);
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.4);
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig), 5.0);
    ck_assert(inside(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb));
    ck_assert(inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig)));
    recording_free(&r);
}
END_TEST

/* A sensor that is stuck shows no turn of the shaft: then the run is as one without its column. */
START_TEST(a_stuck_rotor_column_does_no_harm)
{
    const cvk_rig_config rig = studio_rig("wheel");
    recording r;
    record(&r, &rig, "duty", 9, true);
    double *stuck = calloc(r.log.rows, sizeof *stuck);
    ck_assert_ptr_nonnull(stuck);
    cvk_log log = r.log;
    log.column[CVK_COLUMN_THETA_M] = stuck;
    estimate(&log);
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.7);
    ck_assert(inside(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb));
    ck_assert(inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig)));
    free(stuck);
    recording_free(&r);
}
END_TEST

START_TEST(speed_changes_show_the_inertia)
{
    static const char *const names[] = {"wheel", "blower", "mixer"};
    cvk_rig_config rig = studio_rig(names[_i]);
    recording r;
    record(&r, &rig, "duty", 7, true);
    estimate(&r.log);
    ck_assert_double_eq(entry_of(CVK_CARD_POLE_PAIRS)->value, rig.motor.pole_pairs);
    const double truth = rig.shaft.inertia_kg_m2 + rig.shaft.load_inertia_kg_m2;
    assert_near(CVK_CARD_INERTIA, truth, 1.5);
    ck_assert(inside(CVK_CARD_INERTIA, truth));
    recording_free(&r);
}
END_TEST

/* Many poles at a high electrical speed: currents at the harmonics brake as much as the friction.
 * They are in the inertia of an ordinary run and in none of its friction. */
START_TEST(harmonics_do_not_look_like_inertia_or_friction)
{
    cvk_rig_config rig = studio_rig("mixer");
    rig.motor.pole_pairs = 20;
    rig.motor.resistance_ohm = 0.06;
    rig.motor.inductance_d_h = 40e-6;
    rig.motor.inductance_q_h = 100e-6;
    rig.motor.flux_linkage_wb = rig.tune.motor.flux_linkage_wb = 0.004;
    recording r;
    record(&r, &rig, "duty", 5, true);
    estimate(&r.log);
    const double truth = rig.shaft.inertia_kg_m2 + rig.shaft.load_inertia_kg_m2;
    assert_near(CVK_CARD_INERTIA, truth, 1.5);
    assert_near(CVK_CARD_FRICTION_COULOMB, rig.shaft.friction_coulomb_nm, 5.0);
    recording_free(&r);
}
END_TEST

/* Several threads share the work, not the result. */
START_TEST(threads_do_not_change_the_result)
{
    cvk_rig_config rig = studio_rig("blower");
    recording still, duty;
    record(&still, &rig, "standstill", 11, true);
    record(&duty, &rig, "duty", 11, true);
    const cvk_log *logs[] = {&duty.log, &still.log};
    cvk_estimate_options shared = options;
    for (size_t count = 1; count <= 2; count++) {
        shared.threads = 1;
        ck_assert_int_eq(cvk_estimate_logs(logs, count, &shared, &result), CVK_OK);
        const cvk_card alone = result.card;
        shared.threads = 5;
        ck_assert_int_eq(cvk_estimate_logs(logs, count, &shared, &result), CVK_OK);
        for (int key = 0; key < CVK_CARD_COUNT; key++) {
            const cvk_card_entry *a = &alone.entry[key], *b = &result.card.entry[key];
            ck_assert_int_eq(a->known, b->known);
            ck_assert(!a->known || (a->value == b->value && a->low == b->low));
        }
    }
    recording_free(&still);
    recording_free(&duty);
}
END_TEST

/* A coast-down alone has no torque: the inertia is not made up. */
START_TEST(a_coast_down_alone_shows_no_inertia)
{
    cvk_rig_config rig = studio_rig("wheel");
    recording r;
    record(&r, &rig, "coast", 7, false);
    estimate(&r.log);
    ck_assert(!result.card.entry[CVK_CARD_INERTIA].known);
    ck_assert_ptr_nonnull(strstr(result.card.entry[CVK_CARD_INERTIA].missing, "ratio"));
    recording_free(&r);
}
END_TEST

/* The temperature column carries the resistance to 25 degC, the switch is taken off. */
START_TEST(resistance_is_referred_to_25_degc)
{
    enum { MOST = 60000 };
    static double temperature[MOST];
    cvk_rig_config rig = studio_rig("mixer");
    rig.motor.ambient_degc = 25.0;
    recording r;
    record(&r, &rig, "standstill", 3, false);
    ck_assert_uint_lt(r.log.rows, MOST);
    for (size_t k = 0; k < r.log.rows; k++) {
        temperature[k] = 65.0;
    }
    r.log.column[CVK_COLUMN_TEMP] = temperature;
    const cvk_log *logs[] = {&r.log};
    cvk_estimate_options with_switch = options;
    with_switch.switch_resistance_ohm = rig.inverter.switch_resistance_ohm;
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &with_switch, &result), CVK_OK);
    const double r65 = entry_of(CVK_CARD_RESISTANCE)->value;
    ck_assert_double_eq_tol(entry_of(CVK_CARD_RESISTANCE_25)->value, r65 / (1.0 + 0.00385 * 40.0),
                            1e-4 * r65);
    ck_assert_double_eq_tol(entry_of(CVK_CARD_WINDING_RESISTANCE)->value,
                            r65 - rig.inverter.switch_resistance_ohm, 1e-9);
    recording_free(&r);
}
END_TEST

/* ---- the card ------------------------------------------------------------------------------- */

static cvk_card_entry known(double value, double half)
{
    return (cvk_card_entry){.known = true,
                            .value = value,
                            .low = value - half,
                            .high = value + half,
                            .statistical_low = value - half,
                            .statistical_high = value + half};
}

static cvk_card some_card(void)
{
    cvk_card card = {.name = "some"};
    card.entry[CVK_CARD_RESISTANCE] = known(0.2, 0.01);
    card.entry[CVK_CARD_INDUCTANCE_D] = known(1e-3, 1e-5);
    card.entry[CVK_CARD_INDUCTANCE_Q] = known(2e-3, 1e-5);
    card.entry[CVK_CARD_FLUX_LINKAGE] = known(0.02, 1e-4);
    card.entry[CVK_CARD_POLE_PAIRS] = known(7, 0);
    card.entry[CVK_CARD_INERTIA] = known(1e-3, 1e-5);
    card.entry[CVK_CARD_FRICTION_COULOMB] = known(0.01, 1e-4);
    return card;
}

/* J w/p = 1.5 p flux i t: with other pole pairs the inertia goes with their square, the Coulomb
 * torque with their number. What a person has set stays. */
START_TEST(what_depends_on_a_value_is_recomputed)
{
    cvk_card card = some_card();
    ck_assert_int_eq(cvk_card_set(&card, CVK_CARD_FRICTION_COULOMB, 0.5, 0.4, 0.6, "scale"),
                     CVK_OK);
    ck_assert_int_eq(cvk_card_set(&card, CVK_CARD_POLE_PAIRS, 14, 14, 14, "counted"), CVK_OK);
    ck_assert_double_eq_tol(card.entry[CVK_CARD_INERTIA].value, 4e-3, 1e-12);
    ck_assert_double_eq(card.entry[CVK_CARD_FRICTION_COULOMB].value, 0.5);
    ck_assert(card.entry[CVK_CARD_POLE_PAIRS].by_hand);
    ck_assert_str_eq(card.entry[CVK_CARD_POLE_PAIRS].from, "counted");
    ck_assert_ptr_nonnull(strstr(card.entry[CVK_CARD_INERTIA].from, "pole_pairs"));
    ck_assert_int_eq(cvk_card_set(&card, CVK_CARD_POLE_PAIRS, 7.5, 7.5, 7.5, "?"),
                     CVK_OUT_OF_RANGE);
    ck_assert_int_eq(cvk_card_set(&card, CVK_CARD_RESISTANCE, 0.2, 0.3, 0.4, "?"),
                     CVK_OUT_OF_RANGE);
    ck_assert_int_eq(cvk_card_set(&card, CVK_CARD_RESISTANCE, NAN, NAN, NAN, "?"),
                     CVK_OUT_OF_RANGE);
}
END_TEST

START_TEST(a_meter_reads_line_to_line)
{
    const cvk_card card = some_card();
    cvk_card_entry reading;
    double ratio;
    ck_assert(cvk_card_meter_resistance(&card, &reading));
    ck_assert_double_eq_tol(reading.value, 0.4, 1e-12);
    ck_assert(cvk_card_meter_inductance(&card, 0.0, &reading));
    ck_assert_double_eq_tol(reading.value, 2e-3, 1e-12);
    ck_assert(cvk_card_meter_inductance(&card, 1.5707963267948966, &reading));
    ck_assert_double_eq_tol(reading.value, 4e-3, 1e-12);
    ck_assert(cvk_card_meter_inductance(&card, NAN, &reading));
    ck_assert_double_eq_tol(reading.low, 2.0 * 0.99e-3, 1e-12);
    ck_assert_double_eq_tol(reading.high, 2.0 * 2.01e-3, 1e-12);
    const cvk_card_entry a = known(1.0, 0.3), b = known(1.4, 0.3), c = known(1.5, 0.3);
    ck_assert(cvk_card_agree(&a, &b, &ratio));
    ck_assert_double_eq_tol(ratio, 0.4 / hypot(0.3, 0.3), 1e-12);
    ck_assert(!cvk_card_agree(&a, &c, &ratio));
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, an_ordinary_run_shows_the_winding, 0, 5);
    tcase_add_test(tests, a_fast_small_motor_on_a_bridge_shows_its_winding);
    tcase_add_test(tests, a_direct_current_does_not_hide_the_motor);
    tcase_add_test(tests, many_pole_pairs_on_a_bridge_show_their_inductances);
    tcase_add_test(tests, the_bus_capacitor_does_not_look_like_the_winding);
    tcase_add_loop_test(tests, late_readings_do_not_bend_the_inductances, 0, 4);
    tcase_add_test(tests, a_fit_that_misses_shows_no_winding);
    tcase_add_test(tests, rows_of_every_second_period_are_doubted);
    tcase_add_test(tests, resistance_is_doubted_where_periods_are_missing);
    tcase_add_loop_test(tests, a_rotor_column_shows_unequal_magnets, 0, 4);
    tcase_add_test(tests, a_stuck_rotor_column_does_no_harm);
    tcase_add_loop_test(tests, speed_changes_show_the_inertia, 0, 3);
    tcase_add_test(tests, harmonics_do_not_look_like_inertia_or_friction);
    tcase_add_test(tests, threads_do_not_change_the_result);
    tcase_add_test(tests, a_coast_down_alone_shows_no_inertia);
    tcase_add_test(tests, resistance_is_referred_to_25_degc);
    tcase_add_test(tests, what_depends_on_a_value_is_recomputed);
    tcase_add_test(tests, a_meter_reads_line_to_line);
}

int main(void)
{
    return run_suite("turning", add);
}
