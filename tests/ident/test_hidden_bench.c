/* SPDX-License-Identifier: Apache-2.0
 *
 * What a bench has that its log does not show: the resistances of the bus capacitor and of the
 * diodes, currents that are read late.
 */
#include "corvak/files/rig_yaml.h"
#include "corvak/ident/estimate.h"
#include "corvak/rig/rig.h"
#include "recording.h"
#include "suite.h"

static cvk_estimate result;

static void estimate(const cvk_log *const *logs, size_t count)
{
    const cvk_estimate_options options = cvk_estimate_options_default();
    ck_assert_int_eq(cvk_estimate_logs(logs, count, &options, &result), CVK_OK);
}

/* The statistical interval, which no gain error widens. */
static void assert_inside(cvk_card_key key, double truth)
{
    const cvk_card_entry *entry = &result.card.entry[key];
    ck_assert_msg(entry->known, "%s", entry->missing);
    ck_assert_msg(truth > entry->statistical_low && truth < entry->statistical_high,
                  "%s: %g .. %g, true %g", cvk_card_key_name(key), entry->statistical_low,
                  entry->statistical_high, truth);
}

/* A lift's motor, which takes a fifth of the bus at standstill; without gain errors. */
static cvk_rig_config lift(void)
{
    static const char *const different[] = {
        "motor.resistance_ohm=0.3",        "motor.inductance_d_h=1.2e-3",
        "motor.inductance_q_h=1.8e-3",     "motor.flux_linkage_wb=0.06",
        "drive.resistance_ohm=0.3",        "drive.inductance_d_h=1.2e-3",
        "drive.inductance_q_h=1.8e-3",     "drive.flux_linkage_wb=0.06",
        "drive.speed_rad_s=120",           "sensing.current_gain_tolerance=0",
        "sensing.voltage_gain_tolerance=0"};
    cvk_rig_config rig = studio_rig("wheel");
    cvk_complaint complaint;
    for (size_t n = 0; n < sizeof different / sizeof different[0]; n++) {
        ck_assert_int_eq(cvk_rig_set(&rig, different[n], &complaint), CVK_OK);
    }
    return rig;
}

START_TEST(standstill_leaves_room_for_a_bus_capacitor)
{
    static const double capacitor_ohm[] = {0.0, 0.003, 0.008};
    cvk_rig_config rig = lift();
    rig.supply.capacitor_resistance_ohm = capacitor_ohm[_i / 2];
    rig.inverter.fidelity = _i % 2 == 0 ? CVK_FIDELITY_AVERAGED : CVK_FIDELITY_SWITCHED;
    recording r;
    record(&r, &rig, "standstill", 31, false);
    const cvk_log *logs[] = {&r.log};
    estimate(logs, 1);
    assert_inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig));
    recording_free(&r);
}
END_TEST

/* All that bench_accuracy draws at its largest, on each bench of the studio. */
START_TEST(standstill_holds_on_a_poor_bench)
{
    static const char *const names[] = {"wheel", "blower", "mixer", "table"};
    cvk_rig_config rig = studio_rig(names[_i]);
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    rig.sensing.current_gain_tolerance = rig.sensing.voltage_gain_tolerance = 0.0;
    rig.supply.capacitor_resistance_ohm = 0.008;
    rig.inverter.diode_resistance_ohm = 4.0 * rig.inverter.switch_resistance_ohm;
    rig.sensing.amplifier_lag_s = 0.6e-6;
    recording r;
    record(&r, &rig, "standstill", 41, false);
    const cvk_log *logs[] = {&r.log};
    estimate(logs, 1);
    assert_inside(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig));
    assert_inside(CVK_CARD_INDUCTANCE_D, rig.motor.inductance_d_h);
    assert_inside(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h);
    recording_free(&r);
}
END_TEST

/* Curves of the inverter's voltage that fit a log about as well differ by 2 % of this resistance:
 * noise must not choose between them. */
START_TEST(the_same_bench_gives_the_same_resistance)
{
    double resistance_ohm[2];
    cvk_rig_config rig = studio_rig("blower");
    rig.sensing.current_gain_tolerance = rig.sensing.voltage_gain_tolerance = 0.0;
    rig.supply.capacitor_resistance_ohm = 0.006;
    rig.sensing.amplifier_lag_s = 0.31e-6;
    for (int n = 0; n < 2; n++) {
        recording r;
        record(&r, &rig, "standstill", 3000 + 1000 * (uint64_t)n, false);
        const cvk_log *logs[] = {&r.log};
        estimate(logs, 1);
        resistance_ohm[n] = result.card.entry[CVK_CARD_RESISTANCE].value;
        recording_free(&r);
    }
    ck_assert_double_eq_tol(resistance_ohm[1] / resistance_ohm[0], 1.0, 0.005);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, standstill_leaves_room_for_a_bus_capacitor, 0, 6);
    tcase_add_loop_test(tests, standstill_holds_on_a_poor_bench, 0, 4);
    tcase_add_test(tests, the_same_bench_gives_the_same_resistance);
}

int main(void)
{
    return run_suite("hidden bench", add, 120.0);
}
