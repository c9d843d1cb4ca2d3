/* SPDX-License-Identifier: Apache-2.0
 *
 * Full torque at standstill without a sensor, by injection: on the studio's salient motors and on
 * others, every imperfection on, what is known off by up to 10 %; and where it has to be refused.
 */
#include "sensorless.h"
#include "sensorless_case.h"
#include "recording.h"
#include "suite.h"

#include "corvak/host/gains.h"
#include "corvak/sim/sim.h"

#include <math.h>
#include <string.h>

#define DEGREES (180.0 / 3.14159265358979323846)

static const char *const motors[] = {"wheel", "mixer"};

static sensorless_outcome check(const cvk_rig_config *bench, sensorless_what what, unsigned k)
{
    const sensorless_outcome o = sensorless_case(bench, what, k);
    ck_assert_msg(o.good,
                  "%s, %s, case %u, fidelity %d: %s; %s; angle %.1f deg rms, peak %.1f, moved %.1f",
                  bench->name, sensorless_names[what], k, (int)bench->inverter.fidelity,
                  cvk_fault_text(o.fault), cvk_start_reason_text(o.reason),
                  DEGREES * o.angle_rms_rad, DEGREES * o.angle_peak_rad, DEGREES * o.backward_rad);
    return o;
}

/* From any position the axis and its north are found without the rotor moving much; then 90 % of
 * the torque is held, and 0.5 rpm against it. */
START_TEST(torque_is_held_at_standstill)
{
    cvk_rig_config bench = bench_with_injection(motors[_i], 2);
    for (unsigned k = 0; k < 8; k++) {
        bench.inverter.fidelity = k % 4 == 3 ? CVK_FIDELITY_SWITCHED : CVK_FIDELITY_AVERAGED;
        const sensorless_outcome o = check(&bench, CASE_STILL, 400u + k);
        ck_assert_double_lt(o.backward_rad, 10.0 / DEGREES);
        ck_assert_double_lt(o.angle_rms_rad, 2.4 / DEGREES);
    }
}
END_TEST

START_TEST(a_held_shaft_is_let_go)
{
    cvk_rig_config bench = bench_with_injection(motors[_i], 2);
    check(&bench, CASE_HELD, 500u);
    bench.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    check(&bench, CASE_HELD, 501u);
}
END_TEST

START_TEST(the_handover_is_not_felt)
{
    cvk_rig_config bench = bench_with_injection(motors[_i], 2);
    ck_assert_double_lt(check(&bench, CASE_BAND, 600u).bump, 0.03);
}
END_TEST

/* The ordinary cases go on as before: faster than the handover the observer runs the motor. */
START_TEST(a_motor_with_injection_runs_at_any_speed)
{
    const cvk_rig_config bench = bench_with_injection(motors[_i], 2);
    check(&bench, CASE_START, 700u);
    check(&bench, CASE_LOADED, 701u);
    check(&bench, CASE_CATCH, 702u);
    check(&bench, CASE_REVERSE, 703u);
    check(&bench, CASE_SLOW, 704u);
}
END_TEST

/* ---- the saliency as it is seen ----------------------------------------------------------------
 */

/* Slope of the flux map along an axis, at a q current. */
static double slope_at(const cvk_rig_config *rig, double q_a, bool along_q)
{
    const double step_a = 0.01 * (double)rig->tune.limit.current_a;
    double d[2], q[2];
    cvk_rig_flux_at(rig, along_q ? 0.0 : -step_a, along_q ? q_a - step_a : q_a, &d[0], &q[0]);
    cvk_rig_flux_at(rig, along_q ? 0.0 : step_a, along_q ? q_a + step_a : q_a, &d[1], &q[1]);
    return (along_q ? q[1] - q[0] : d[1] - d[0]) / (2.0 * step_a);
}

static void ask(cvk_sim *sim, cvk_mode mode, double q_a, double time_s)
{
    const cvk_request request = {.mode = mode, .current_a = {0.0f, (float)q_a}};
    const double until_s = cvk_rig_time_s(sim->rig) + time_s;
    ck_assert_int_eq(cvk_drive_request(&sim->drive, CVK_SIM_OWNER, &request, NULL), CVK_OK);
    while (cvk_rig_time_s(sim->rig) < until_s) {
        cvk_sim_step(sim);
    }
}

/* With a blocked shaft, at no, half and nearly full current. */
START_TEST(the_saliency_is_seen_at_every_load)
{
    static cvk_sim sim;
    for (int n = 0; n < 4; n++) {
        cvk_rig_config bench = bench_with_injection(motors[n % 2], 2);
        bench.inverter.fidelity = n < 2 ? CVK_FIDELITY_AVERAGED : CVK_FIDELITY_SWITCHED;
        ck_assert_int_eq(cvk_sim_init(&sim, &bench, 3u + (unsigned)n, NULL), CVK_OK);
        cvk_rig_hold_shaft(sim.rig, true);
        ask(&sim, CVK_MODE_REST, 0.0, 0.3);
        for (int load = 0; load < 3; load++) {
            const double q_a = 0.45 * load * (double)bench.tune.limit.current_a;
            ask(&sim, CVK_MODE_CURRENT, q_a, load == 0 ? 3.0 : 1.0);
            const double seen = (double)cvk_drive_now(&sim.drive)->saliency;
            const double is = slope_at(&bench, q_a, true) / slope_at(&bench, q_a, false);
            ck_assert_msg(fabs(seen / is - 1.0) < 0.04, "%s at %.1f A: %.3f, is %.3f", bench.name,
                          q_a, seen, is);
        }
        cvk_sim_close(&sim);
    }
}
END_TEST

/* Blocked at full current, cold and hot: the winding's warmth is seen. The switches' resistance, a
 * part of what is seen, does not warm with it. */
START_TEST(a_blocked_winding_shows_its_warmth)
{
    static cvk_sim sim;
    for (int n = 0; n < 4; n++) {
        cvk_rig_config bench = bench_with_injection(motors[n % 2], 2);
        bench.inverter.fidelity = n < 2 ? CVK_FIDELITY_AVERAGED : CVK_FIDELITY_SWITCHED;
        bench.motor.ambient_degc = n % 2 == n / 2 ? 25.0 : 85.0;
        ck_assert_int_eq(cvk_sim_init(&sim, &bench, 3u + (unsigned)n, NULL), CVK_OK);
        cvk_rig_hold_shaft(sim.rig, true);
        ask(&sim, CVK_MODE_REST, 0.0, 0.3);
        ask(&sim, CVK_MODE_CURRENT, 0.9 * (double)bench.tune.limit.current_a, 3.0);
        const double seen_k = (double)cvk_drive_now(&sim.drive)->winding_warmer_k;
        const double is_k = cvk_rig_state_of(sim.rig)->winding_degc - 25.0;
        ck_assert_msg(fabs(seen_k - is_k) < 3.0 + 0.08 * is_k, "%s: seen %.1f K, is %.1f K",
                      bench.name, seen_k, is_k);
        cvk_sim_close(&sim);
    }
}
END_TEST

/* ---- other motors -----------------------------------------------------------------------------
 */

/* The wheel with another saliency, and a card that says so within `share`. */
static cvk_rig_config motor_of(double saliency)
{
    cvk_rig_config rig = studio_rig("wheel");
    rig.motor.inductance_q_h = saliency * rig.motor.inductance_d_h;
    rig.tune.angle.source = CVK_BY_OBSERVER;
    return rig;
}

static void know(cvk_card *card, cvk_card_key key, double value, double share)
{
    card->entry[key] = (cvk_card_entry){
        .known = true, .value = value, .low = value * (1.0 - share), .high = value * (1.0 + share)};
}

static cvk_status gains_of(const cvk_rig_config *rig, cvk_gains *gains)
{
    static cvk_card card;
    const cvk_gains_wish wish = {.injection = true};
    const cvk_gains_stage stage = {.hardware = cvk_sim_hardware(rig),
                                   .bus_v = rig->supply.bus_v,
                                   .current_noise_a = rig->sensing.current_noise_a,
                                   .knee_a = cvk_rig_crossover_current(rig)};
    memset(&card, 0, sizeof card);
    know(&card, CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(rig), 0.01);
    know(&card, CVK_CARD_INDUCTANCE_D, rig->motor.inductance_d_h, 0.015);
    know(&card, CVK_CARD_INDUCTANCE_Q, rig->motor.inductance_q_h, 0.015);
    know(&card, CVK_CARD_FLUX_LINKAGE, rig->motor.flux_linkage_wb, 0.005);
    know(&card, CVK_CARD_POLE_PAIRS, rig->motor.pole_pairs, 0.0);
    know(&card, CVK_CARD_INERTIA, rig->shaft.inertia_kg_m2, 0.03);
    know(&card, CVK_CARD_DEAD_TIME_VOLTAGE, cvk_rig_dead_time_voltage(rig), 0.03);
    return cvk_compute_gains(&card, &stage, &rig->tune, &wish, gains);
}

/* Twenty saliencies from 1.0 to 2.5: refused with the number where it does not show, else the motor
 * holds its torque. */
START_TEST(saliency_decides)
{
    static cvk_gains gains;
    unsigned refused = 0, held = 0;
    for (unsigned n = 0; n < 20; n++) {
        const double saliency = 1.0 + 0.0789 * n;
        cvk_rig_config rig = motor_of(saliency);
        const cvk_status status = gains_of(&rig, &gains);
        if (saliency < 1.15) {
            ck_assert_int_eq(status, CVK_CONTRADICTION);
            ck_assert_msg(strstr(gains.missing, "injection: inductance q is") != NULL, "%s",
                          gains.missing);
            refused++;
        } else if (saliency > 1.15 * 1.031) {
            ck_assert_msg(status == CVK_OK, "%g: %s", saliency, gains.missing);
            if (n % 4 == 0) {
                rig.tune = gains.settings;
                rig.tune.speed.current_a = rig.tune.limit.current_a;
                check(&rig, CASE_STILL, 800u + n);
                held++;
            }
        }
    }
    ck_assert_uint_ge(refused, 2);
    ck_assert_uint_ge(held, 3);
}
END_TEST

/* The core refuses settings that cannot work, whoever made them. */
/* The card says so, but the motor is another: the angle is never trusted. */
START_TEST(a_motor_that_is_not_salient_is_refused)
{
    static cvk_sim sim;
    static cvk_gains gains;
    cvk_rig_config rig = motor_of(1.4);
    ck_assert_int_eq(gains_of(&rig, &gains), CVK_OK);
    rig = motor_of(1.0);
    rig.tune = gains.settings;
    ck_assert_int_eq(cvk_sim_init(&sim, &rig, 3, NULL), CVK_OK);
    cvk_rig_hold_shaft(sim.rig, true);
    ask(&sim, CVK_MODE_REST, 0.0, 0.3);
    ask(&sim, CVK_MODE_CURRENT, 1.0, 3.0);
    const cvk_moment *now = cvk_drive_now(&sim.drive);
    ck_assert_int_eq(now->fault, CVK_FAULT_START);
    ck_assert_int_eq(now->start_reason, CVK_START_NO_POLARITY);
    cvk_sim_close(&sim);
}
END_TEST

START_TEST(settings_that_cannot_work_are_refused)
{
    cvk_rig_config rig = motor_of(1.1);
    cvk_settings s = rig.tune;
    cvk_refusal why = {0};
    s.motor.inductance_d_h = 300e-6f;
    s.motor.inductance_q_h = 330e-6f;
    s.injection.voltage_v = 3.0f;
    ck_assert_int_eq(cvk_settings_check(&s, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "injection.voltage_v");
    s.motor.inductance_q_h = 450e-6f;
    ck_assert_int_eq(cvk_settings_check(&s, &why), CVK_OK);
    s.injection.leave_rad_s = 0.5f * s.observer.least_speed_rad_s;
    ck_assert_int_eq(cvk_settings_check(&s, &why), CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "injection.leave_rad_s");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, torque_is_held_at_standstill, 0, 2);
    tcase_add_loop_test(tests, a_held_shaft_is_let_go, 0, 2);
    tcase_add_loop_test(tests, the_handover_is_not_felt, 0, 2);
    tcase_add_loop_test(tests, a_motor_with_injection_runs_at_any_speed, 0, 2);
    tcase_add_test(tests, the_saliency_is_seen_at_every_load);
    tcase_add_test(tests, a_motor_that_is_not_salient_is_refused);
    tcase_add_test(tests, a_blocked_winding_shows_its_warmth);
    tcase_add_test(tests, saliency_decides);
    tcase_add_test(tests, settings_that_cannot_work_are_refused);
}

int main(void)
{
    return run_suite("injection", add);
}
