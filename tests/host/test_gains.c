/* SPDX-License-Identifier: Apache-2.0
 *
 * Gains against what they promise: margins and steps of the loop, and the loop on a real bridge,
 * switched, with every imperfection on and late current readings.
 */
#include "corvak/host/loop_margin.h"
#include "corvak/host/pwm_advice.h"
#include "corvak/core/svm.h"
#include "corvak/sim/sim.h"
#include "ideal_rig.h"
#include "recording.h"
#include "sensorless.h"
#include "suite.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define PI 3.14159265358979323846

static cvk_gains gains;

static void know(cvk_card *card, cvk_card_key key, double value, double share)
{
    card->entry[key] = (cvk_card_entry){
        .known = true, .value = value, .low = value * (1.0 - share), .high = value * (1.0 + share)};
}

/* A card that says the truth, give or take `share`. */
static cvk_card card_of(const cvk_rig_config *rig, double share)
{
    static cvk_card card;
    memset(&card, 0, sizeof card);
    know(&card, CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(rig), share);
    know(&card, CVK_CARD_INDUCTANCE_D, rig->motor.inductance_d_h, share);
    know(&card, CVK_CARD_INDUCTANCE_Q, rig->motor.inductance_q_h, share);
    know(&card, CVK_CARD_FLUX_LINKAGE, rig->motor.flux_linkage_wb, share);
    know(&card, CVK_CARD_POLE_PAIRS, rig->motor.pole_pairs, 0.0);
    know(&card, CVK_CARD_INERTIA, rig->shaft.inertia_kg_m2 + rig->shaft.load_inertia_kg_m2, share);
    know(&card, CVK_CARD_DEAD_TIME_VOLTAGE, cvk_rig_dead_time_voltage(rig), share);
    return card;
}

static cvk_gains_stage stage_of(const cvk_rig_config *rig)
{
    return (cvk_gains_stage){.hardware = cvk_sim_hardware(rig),
                             .bus_v = rig->supply.bus_v,
                             .current_noise_a = rig->sensing.current_noise_a,
                             .current_delay_s = rig->sensing.amplifier_lag_s,
                             .knee_a = cvk_rig_crossover_current(rig)};
}

static void compute(const cvk_rig_config *rig, double share)
{
    const cvk_card card = card_of(rig, share);
    const cvk_gains_stage stage = stage_of(rig);
    ck_assert_int_eq(cvk_compute_gains(&card, &stage, &rig->tune, NULL, &gains), CVK_OK);
}

/* Gains that are computed contradict nothing, and what is less known is controlled more slowly. */
START_TEST(gains_are_consistent_and_careful)
{
    static const char *const motors[] = {"wheel", "mixer", "blower", "table"};
    const cvk_rig_config rig = studio_rig(motors[_i]);
    cvk_refusal why = {0};
    compute(&rig, 0.01);
    ck_assert_msg(cvk_settings_check(&gains.settings, &why) == CVK_OK, "%s", why.field);
    ck_assert_double_ge(gains.current.worst_margin_rad, 0.78);
    ck_assert_double_le(gains.current.worst_margin_rad, gains.current.margin_rad + 1e-12);
    const double sharp = (double)gains.settings.current.bandwidth_hz;
    const double takeover = (double)gains.settings.start.speed_rad_s;
    compute(&rig, 0.6);
    ck_assert_double_lt((double)gains.settings.current.bandwidth_hz, sharp);
    ck_assert_double_ge((double)gains.settings.start.speed_rad_s, takeover); /* at most 40 % */
    ck_assert_double_ge(gains.current.worst_margin_rad, 0.78);
}
END_TEST

START_TEST(what_the_card_lacks_is_named)
{
    const cvk_rig_config rig = studio_rig("wheel");
    const cvk_gains_stage stage = stage_of(&rig);
    cvk_card card = card_of(&rig, 0.01);
    card.entry[CVK_CARD_INERTIA] = (cvk_card_entry){.known = false};
    ck_assert_int_eq(cvk_compute_gains(&card, &stage, &rig.tune, NULL, &gains), CVK_OK);
    ck_assert_float_eq(gains.settings.speed.gain_a_s, rig.tune.speed.gain_a_s);
    ck_assert_double_eq(gains.speed.bandwidth_rad_s, 0.0);
    card.entry[CVK_CARD_INDUCTANCE_Q] =
        (cvk_card_entry){.known = false, .missing = "record a standstill run"};
    ck_assert_int_eq(cvk_compute_gains(&card, &stage, &rig.tune, NULL, &gains), CVK_NOT_IN_LOG);
    ck_assert_str_eq(gains.missing, "inductance_q_h: record a standstill run");
}
END_TEST

/* The analysis against the loop itself, run on a winding whose inductance is off. */
START_TEST(the_margin_is_where_the_loop_becomes_unstable)
{
    double margin, overshoot, before = 10.0;
    for (int n = 0; n <= 30; n++) { /* from as modelled to a third of it */
        const double ratio = 1.0 - n * 0.022;
        cvk_current_loop_analysis(900.0, 50e-6, ratio, &margin, &overshoot);
        ck_assert_double_lt(margin, before);
        before = margin;
    }
    cvk_current_loop_analysis(900.0, 50e-6, 0.25, &margin, &overshoot);
    ck_assert_double_gt(overshoot, 0.5); /* 17 degrees of margin: it rings */
    cvk_current_loop_analysis(900.0, 50e-6, 1.0, &margin, &overshoot);
    ck_assert_double_lt(overshoot, 0.01);
}
END_TEST

/* ---- speed and position ---------------------------------------------------------------------- */

/* The loops' own equations, in time: how much larger the speed's swing is at the end than halfway,
 * after a push. Position rules when its gain is above 0. */
static double growth(const cvk_motion_loop *l)
{
    enum { CALLS = 60000 };
    const double T = l->period_s, a = 1.0 - exp(-2.0 * PI * l->current_bandwidth_hz * T);
    const double r = exp(-l->tracking_rad_s * T), g = 1.0 - r * r, h = (1.0 - r) * (1.0 - r) / T;
    double speed = 1.0, angle = 0.0, seen = 0.0, seen_speed = 0.0, integral = 0.0;
    double current = 0.0, acting = 0.0, halfway = 0.0, end = 0.0;
    for (int n = 0; n < CALLS; n++) {
        const double off = angle - seen - T * seen_speed;
        seen += T * seen_speed + g * off;
        seen_speed += h * off;
        const double error = -l->gain_per_s * seen - seen_speed;
        const double wanted = l->gain_a_s * error + integral;
        integral += T * l->integral_gain_a * error;
        const double before = current, speed_before = speed;
        current += acting;
        acting = a * (wanted - current); /* the current that the voltage after this one makes */
        speed += 0.5 * T * l->reach * (before + current);
        angle += 0.5 * T * (speed_before + speed);
        double *most = n < CALLS / 2       ? (n > CALLS / 4 ? &halfway : NULL)
                       : n > 3 * CALLS / 4 ? &end
                                           : NULL;
        if (most != NULL) {
            *most = fmax(*most, fabs(speed));
        }
        if (fabs(speed) > 1e30) {
            return INFINITY;
        }
    }
    return end / halfway;
}

/* Gains times `factor`, on a shaft of the same reach. */
static cvk_motion_loop harder(bool position, double tracking_rad_s, double factor)
{
    const double bandwidth = 0.1 * factor * tracking_rad_s, reach = 500.0;
    return (cvk_motion_loop){.period_s = 100e-6,
                             .current_bandwidth_hz = 600.0,
                             .tracking_rad_s = tracking_rad_s,
                             .reach = reach,
                             .gain_a_s = bandwidth / reach,
                             .integral_gain_a = 0.25 * bandwidth * bandwidth / reach,
                             .gain_per_s = position ? 0.5 * bandwidth : 0.0};
}

/* The gain at which the margin is gone is the one from which the loop no longer comes to rest. */
START_TEST(without_margin_a_loop_does_not_come_to_rest)
{
    static const double tracking_rad_s[] = {150.0, 3000.0};
    const bool position = _i % 2 != 0;
    double low = 1.0, high = 100.0;
    while (high > 1.001 * low) {
        const double middle = sqrt(low * high);
        const cvk_motion_loop l = harder(position, tracking_rad_s[_i / 2], middle);
        const bool has = cvk_speed_loop_margin(&l).margin_rad > 0.0 &&
                         (!position || cvk_position_loop_margin(&l).margin_rad > 0.0);
        *(has ? &low : &high) = middle;
    }
    ck_assert_double_gt(low, 1.5);
    const cvk_motion_loop under = harder(position, tracking_rad_s[_i / 2], 0.98 * low),
                          over = harder(position, tracking_rad_s[_i / 2], 1.02 * low);
    ck_assert_double_lt(growth(&under), 1.0);
    ck_assert_double_gt(growth(&over), 1.0);
}
END_TEST

static cvk_status compute_wish(const char *motor, const cvk_gains_wish *wish)
{
    cvk_rig_config rig = studio_rig(motor);
    rig.tune.angle.source = CVK_BY_OBSERVER;
    const cvk_card card = card_of(&rig, 0.03);
    const cvk_gains_stage stage = stage_of(&rig);
    return cvk_compute_gains(&card, &stage, &rig.tune, wish, &gains);
}

/* A heavy load may come: the margin holds with it and without, and profiles are what it can
 * follow. */
START_TEST(gains_hold_for_every_load)
{
    static const char *const motors[] = {"wheel", "mixer", "blower", "table"};
    const cvk_rig_config rig = studio_rig(motors[_i]);
    const double inertia = rig.shaft.inertia_kg_m2 + rig.shaft.load_inertia_kg_m2;
    ck_assert_int_eq(compute_wish(motors[_i], NULL), CVK_OK);
    const cvk_settings alone = gains.settings;
    ck_assert_double_ge(gains.speed.worst_margin_rad, 0.78);
    const cvk_gains_wish wish = {.load_inertia_kg_m2 = 6.0 * inertia};
    ck_assert_int_eq(compute_wish(motors[_i], &wish), CVK_OK);
    const cvk_settings *s = &gains.settings;
    ck_assert_float_lt(s->speed.acceleration_rad_s2, 0.2f * alone.speed.acceleration_rad_s2);
    ck_assert_float_lt(s->start.acceleration_rad_s2, 1.01f * alone.start.acceleration_rad_s2);
    for (int n = 0; n <= 6; n++) { /* the loads, looked at one by one */
        const double torque = 1.5 * pow(rig.motor.pole_pairs, 2.0) * rig.motor.flux_linkage_wb;
        const cvk_motion_loop l = {.period_s = (double)stage_of(&rig).hardware.period_s,
                                   .current_bandwidth_hz = (double)s->current.bandwidth_hz,
                                   .tracking_rad_s = (double)s->observer.tracking_bandwidth_rad_s,
                                   .reach = torque / (inertia * (1.0 + n)),
                                   .gain_a_s = (double)s->speed.gain_a_s,
                                   .integral_gain_a = (double)s->speed.integral_gain_a,
                                   .gain_per_s = (double)s->position.gain_per_s};
        ck_assert_double_ge(cvk_position_loop_margin(&l).margin_rad, 0.78);
    }
}
END_TEST

/* What is asked for is given, or refused with what can be had, which is then given. */
START_TEST(wishes_are_kept_or_refused)
{
    cvk_gains_wish wish = {
        .speed_bandwidth_hz = 1.0, .current_bandwidth_hz = 300.0, .margin_rad = 1.0};
    ck_assert_int_eq(compute_wish("wheel", &wish), CVK_OK);
    ck_assert_double_eq_tol(gains.speed.bandwidth_rad_s, 6.283, 0.01);
    ck_assert_double_eq_tol(gains.current.bandwidth_hz, 300.0, 0.01);
    ck_assert_double_ge(gains.speed.worst_margin_rad, 1.0);
    ck_assert_double_ge(gains.position.worst_margin_rad, 1.0);
    const double kt = 1.5 * 12.0 * (double)gains.settings.motor.flux_linkage_wb;
    ck_assert_double_eq_tol(gains.speed.stiffness_nm_rad,
                            12.0 * kt * (double)gains.settings.speed.integral_gain_a, 1e-6);
    ck_assert_double_eq_tol(gains.speed.damping_nms_rad,
                            12.0 * kt * (double)gains.settings.speed.gain_a_s, 1e-6);
    double *const asked[] = {&wish.speed_bandwidth_hz, &wish.current_bandwidth_hz,
                             &wish.position_bandwidth_hz, &wish.observer_bandwidth_hz};
    for (int n = 0; n < 4; n++) {
        wish = (cvk_gains_wish){0};
        *asked[n] = 5000.0;
        ck_assert_int_eq(compute_wish("wheel", &wish), CVK_CONTRADICTION);
        const char *most = strstr(gains.missing, "at most ");
        ck_assert_msg(most != NULL, "%s", gains.missing);
        *asked[n] = 0.999 * strtod(most + 8, NULL);
        ck_assert_msg(compute_wish("wheel", &wish) == CVK_OK, "%s", gains.missing);
    }
}
END_TEST

/* ---- on a switched bridge, everything on, readings 1 us late -------------------------------- */

static cvk_sim sim;

typedef struct loop_case {
    const char *motor;
    double inductance_h; /* 0: the motor's own */
    double speed_share;  /* of the speed without load */
} loop_case;

static const loop_case cases[] = {
    {"wheel", 0.0, 0.0},    {"wheel", 0.0, 0.6},  {"mixer", 0.0, 0.0},   {"mixer", 0.0, 0.6},
    {"blower", 0.0, 0.0},   {"blower", 0.0, 0.6}, {"blower", 8e-6, 0.6}, {"table", 0.0, 0.0},
    {"blower", 10e-6, 0.8}, {"mixer", 0.0, 0.8}};
enum { CASES = sizeof cases / sizeof cases[0] };

static cvk_rig_config bench_of(const loop_case *c)
{
    cvk_rig_config rig = studio_rig(c->motor);
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    rig.sensing.amplifier_lag_s = 1e-6;
    rig.sensing.current_gain_tolerance = 0.0; /* a common gain is in no controller's reach */
    if (c->inductance_h > 0.0) {
        rig.motor.inductance_d_h = rig.motor.inductance_q_h = c->inductance_h;
    }
    rig.rotor_sensor.kind = CVK_ROTOR_ABSOLUTE; /* a good one: the loop is what is judged */
    rig.rotor_sensor.counts = 65536;
    rig.rotor_sensor.noise_mech_rad = rig.rotor_sensor.latency_s = 0.0;
    rig.rotor_sensor.harmonic_1_mech_rad = rig.rotor_sensor.harmonic_2_mech_rad = 0.0;
    compute(&rig, 0.01);
    rig.tune = gains.settings;
    rig.tune.angle.source = CVK_BY_ROTOR_SENSOR;
    rig.tune.rotor.bandwidth_hz = 200.0f;
    rig.tune.protect.trip_current_a = (float)(0.95 * rig.sensing.current_range_a);
    return rig;
}

static void ask(cvk_request request)
{
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &request, NULL), CVK_OK);
}

static void run_until(double time_s)
{
    while (cvk_rig_time_s(sim.rig) < time_s) {
        const cvk_moment *now = cvk_sim_step(&sim).now;
        ck_assert_msg(now->fault == CVK_FAULT_NONE, "%s", cvk_fault_text((cvk_fault)now->fault));
    }
}

/* The true current in the rotor's frame. */
static void true_dq(double dq[2])
{
    double i[3];
    const double theta = cvk_rig_electrical_angle(sim.rig);
    cvk_rig_true_current(sim.rig, i);
    const double alpha = (2.0 * i[0] - i[1] - i[2]) / 3.0, beta = (i[1] - i[2]) / sqrt(3.0);
    dq[0] = alpha * cos(theta) + beta * sin(theta);
    dq[1] = beta * cos(theta) - alpha * sin(theta);
}

/* Offsets at rest, then the shaft is turned from outside. */
static void bring_to_speed(const cvk_rig_config *rig, double speed_mech_rad_s)
{
    static cvk_rig_scenario driven = {.count = 1};
    cvk_sim_close(&sim);
    ck_assert_int_eq(cvk_sim_init(&sim, rig, 7, NULL), CVK_OK);
    ask((cvk_request){.mode = CVK_MODE_REST});
    run_until(0.22);
    ask((cvk_request){.mode = CVK_MODE_OFF});
    driven.item[0] = cvk_rig_event_default(CVK_LOAD_DRIVEN);
    driven.item[0].value[0] = speed_mech_rad_s;
    cvk_rig_set_scenario(sim.rig, &driven);
    run_until(0.26);
    ask((cvk_request){.mode = CVK_MODE_CURRENT});
    run_until(0.36);
}

/* Periods until 63 % of a step of the q current, in the mean of many: around zero the dead time
 * makes single ones differ. Ends with the step's current. */
static int mean_rise(double step_a)
{
    enum { STEPS = 24, PERIODS = 60 };
    double mean[PERIODS] = {0.0};
    int rise = 0;
    for (int n = 0; n < STEPS; n++) {
        ask((cvk_request){.mode = CVK_MODE_CURRENT});
        run_until(cvk_rig_time_s(sim.rig) + 5e-3 + 0.37e-3 * n);
        ask((cvk_request){.mode = CVK_MODE_CURRENT, .current_a = {0.0f, (float)step_a}});
        for (int k = 0; k < PERIODS; k++) {
            double dq[2];
            true_dq(dq);
            mean[k] += dq[1] / STEPS;
            cvk_sim_step(&sim);
        }
    }
    while (rise < PERIODS && mean[rise] - mean[0] < 0.632 * (step_a - mean[0])) {
        rise++;
    }
    return rise;
}

START_TEST(the_current_loop_holds_on_a_real_bridge)
{
    const loop_case *c = &cases[_i];
    const cvk_rig_config rig = bench_of(c);
    const double limit_a = (double)rig.tune.limit.current_a, step_a = 0.3 * limit_a;
    const double no_load = rig.supply.bus_v / sqrt(3.0) / rig.motor.flux_linkage_wb;
    double dq[2], sum[2] = {0.0}, square = 0.0, rows = 0.0;
    bring_to_speed(&rig, c->speed_share * no_load / rig.motor.pole_pairs);
    const int rise = mean_rise(step_a);
    const double designed = gains.current.rise_periods;
    ck_assert_msg(rise <= 1.3 * designed, "%s at %.1f: 63 %% after %d periods, designed %.0f",
                  c->motor, c->speed_share, rise, designed);
    run_until(cvk_rig_time_s(sim.rig) + 0.1);
    for (const double end_s = cvk_rig_time_s(sim.rig) + 0.2; cvk_rig_time_s(sim.rig) < end_s;
         rows += 1.0) {
        true_dq(dq);
        cvk_sim_step(&sim);
        sum[0] += dq[0];
        sum[1] += dq[1];
        square += dq[0] * dq[0] + dq[1] * dq[1];
    }
    const double d = sum[0] / rows, q = sum[1] / rows;
    const double wander = sqrt(fmax(0.0, square / rows - d * d - q * q));
    ck_assert_msg(fabs(q - step_a) < 0.01 * step_a, "%s: mean q current %g, not %g", c->motor, q,
                  step_a);
    ck_assert_msg(wander < 0.03 * limit_a, "%s: wanders by %.2f %%", c->motor,
                  100.0 * wander / limit_a);
}
END_TEST

/* A step on a perfect bench is what was predicted, turning slowly and by 0.6 rad per sample; and
 * with two control calls in a PWM period in half the time. */
START_TEST(a_step_is_as_predicted)
{
    static const double turned[] = {0.02, 0.6};
    cvk_rig_config rig = ideal_rig();
    const double step_a = 0.15; /* the bus has no more to give at 0.6 rad per sample */
    double dq[2], highest = 0.0;
    int rise = 0;
    rig.motor.flux_linkage_wb = 8e-4;
    rig.inverter.updates_per_period = 1 + _i / 2;
    compute(&rig, 0.01);
    const double rate_hz = rig.inverter.pwm_hz * rig.inverter.updates_per_period;
    ck_assert_double_eq_tol(gains.current.bandwidth_hz * 2.0 * PI, rate_hz / 3.5, 1e-3 * rate_hz);
    rig.tune = gains.settings;
    rig.tune.angle.source = CVK_BY_ROTOR_SENSOR;
    rig.tune.rotor.bandwidth_hz = 200.0f;
    rig.tune.protect.trip_current_a = 50.0f;
    bring_to_speed(&rig, turned[_i % 2] * rig.inverter.pwm_hz / rig.motor.pole_pairs);
    ask((cvk_request){.mode = CVK_MODE_CURRENT, .current_a = {0.0f, (float)step_a}});
    true_dq(dq);
    ck_assert_double_eq_tol(dq[1], 0.0, 0.01 * step_a);
    for (int n = 1; n <= 200;
         n++) { /* after step n: the sample of period n, counted from the set-point's */
        cvk_sim_step(&sim);
        true_dq(dq);
        rise = rise == 0 && dq[1] >= 0.632 * step_a ? n : rise;
        highest = fmax(highest, dq[1]);
    }
    ck_assert_double_eq_tol(rise, gains.current.rise_periods, 0.1 * gains.current.rise_periods);
    ck_assert_double_le(highest, (1.0 + 1.1 * gains.current.overshoot + 0.005) * step_a);
    ck_assert_double_eq_tol(dq[1], step_a, 0.01 * step_a);
    ck_assert_double_eq_tol(dq[0], 0.0, 0.02 * step_a);
}
END_TEST

/* Largest ripple of a phase, by switching through many periods in small steps. */
static double switched_ripple_a(const cvk_rig_config *rig, double pwm_hz, double l_h)
{
    enum { STEPS = 2000 };
    double most = 0.0;
    for (int m = 1; m <= 12; m++) {
        for (int k = 0; k < 24; k++) {
            const float share = (float)(m / 12.0 / sqrt(3.0));
            const cvk_rotation turn = cvk_rotation_of(0.2618f * (float)k);
            const float bus_v = (float)rig->supply.bus_v;
            const cvk_ab v = {share * bus_v * turn.cosine, share * bus_v * turn.sine};
            const cvk_abc d = cvk_svm(v, bus_v, CVK_DEPTH_HEXAGON).duties;
            double i = 0.0, low = 0.0, high = 0.0;
            for (int n = 0; n < STEPS; n++) {
                const double up = fabs(2.0 * (n + 0.5) / STEPS - 1.0); /* the carrier */
                const double a = (double)d.a > up, b = (double)d.b > up, c = (double)d.c > up;
                i += (rig->supply.bus_v * (a - (a + b + c) / 3.0) - (double)v.alpha) / STEPS /
                     pwm_hz / l_h;
                low = fmin(low, i);
                high = fmax(high, i);
            }
            most = fmax(most, high - low);
        }
    }
    return most;
}

/* The advice's ripple is what switching makes; both ends of the range are bad for their own reason.
 */
START_TEST(pwm_frequencies_are_compared)
{
    const cvk_rig_config rig = studio_rig("blower");
    const cvk_card card = card_of(&rig, 0.01);
    const cvk_gains_stage stage = stage_of(&rig);
    ck_assert_int_eq(cvk_compute_gains(&card, &stage, &rig.tune, NULL, &gains), CVK_OK);
    cvk_pwm_advice advice;
    const cvk_pwm_stage power = {40e3, 1.0, rig.supply.bus_v, 200e-9, 1e-3, 0.002, 30e-9};
    cvk_advise_pwm(&gains, &power, &advice);
    const cvk_pwm_row *now = &advice.row[advice.present];
    ck_assert_double_eq(now->pwm_hz, 40e3);
    const double ripple_a = switched_ripple_a(&rig, 40e3, rig.motor.inductance_d_h);
    ck_assert_double_eq_tol(now->cost[CVK_PWM_RIPPLE] * (double)gains.settings.limit.current_a,
                            ripple_a, 0.03 * ripple_a);
    ck_assert_double_lt(advice.row[advice.poorest].pwm_hz, 20e3);
    ck_assert_double_gt(advice.row[advice.poorest].worst_ratio, 1.0);
    ck_assert_double_lt(advice.row[advice.best].worst_ratio, 1.0);
    for (size_t n = 1; n < advice.count; n++) {
        const double *slow = advice.row[n - 1].cost, *fast = advice.row[n].cost;
        ck_assert_double_lt(fast[CVK_PWM_RIPPLE], slow[CVK_PWM_RIPPLE]);
        ck_assert_double_lt(fast[CVK_PWM_BLOCKED], slow[CVK_PWM_BLOCKED]);
        ck_assert_double_gt(fast[CVK_PWM_DEAD_TIME], slow[CVK_PWM_DEAD_TIME]);
        ck_assert_double_gt(fast[CVK_PWM_SWITCHING], slow[CVK_PWM_SWITCHING]);
    }
}
END_TEST

/* Periods of a step of the q current at rest until 63 % of it truly flow. */
static double step_periods(const cvk_rig_config *bench, uint64_t seed, double share)
{
    static cvk_sim sim;
    const float wanted_a = (float)share * bench->tune.limit.current_a;
    cvk_request r = {.mode = CVK_MODE_REST};
    double before_a = 0.0, periods = 0.0;
    ck_assert_int_eq(cvk_sim_init(&sim, bench, seed, NULL), CVK_OK);
    cvk_rig_hold_shaft(sim.rig, true);
    cvk_rig_place(sim.rig, 0.3 * (double)seed);
    for (int part = 0; part < 2; part++) {
        ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &r, NULL), CVK_OK);
        for (int k = 0; k < 15000; k++) {
            (void)cvk_sim_step(&sim);
        }
        r = (cvk_request){.mode = CVK_MODE_CURRENT};
    }
    r.current_a.q = wanted_a;
    ck_assert_int_eq(cvk_drive_request(&sim.drive, CVK_SIM_OWNER, &r, NULL), CVK_OK);
    for (int k = 0; k < 100 && periods == 0.0; k++) {
        double leg[3];
        (void)cvk_sim_step(&sim);
        cvk_rig_true_current(sim.rig, leg);
        const cvk_ab i = cvk_clarke((cvk_abc){(float)leg[0], (float)leg[1], (float)leg[2]});
        const float angle_rad = (float)cvk_rig_electrical_angle(sim.rig);
        const double q_a = (double)cvk_park(i, cvk_rotation_of(angle_rad)).q;
        const double goal_a = 0.632 * (double)wanted_a;
        periods = q_a > goal_a ? k + (goal_a - before_a) / (q_a - before_a) : 0.0;
        before_a = q_a;
    }
    cvk_sim_close(&sim);
    return periods;
}

/* 10 uH at 48 kHz, noise far above the knee of the dead time: its compensation must not go by the
 * sign of a noisy reading near zero, or a small step takes seven periods in place of five. */
START_TEST(a_small_step_from_zero_takes_no_longer)
{
    cvk_rig_config bench = studio_rig("blower");
    bench.motor.inductance_d_h = bench.motor.inductance_q_h = 10e-6;
    bench.motor.winding = CVK_WINDING_STAR;
    bench.inverter.pwm_hz = 48e3;
    bench.inverter.dead_time_s = 300e-9;
    bench.sensing.current_noise_a = 0.15;
    bench = with_own_gains(&bench, 2);
    bench.tune.angle.source = CVK_BY_ROTOR_SENSOR;
    for (int f = 0; f < 2; f++) {
        bench.inverter.fidelity = f;
        for (uint64_t seed = 200; seed < 206; seed++) {
            for (int n = 0; n < 3; n++) {
                const double share[] = {0.1, 0.3, 0.8};
                ck_assert_double_le(step_periods(&bench, seed, share[n]), 5.0);
            }
        }
    }
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, a_small_step_from_zero_takes_no_longer);
    tcase_add_loop_test(tests, gains_are_consistent_and_careful, 0, 4);
    tcase_add_test(tests, what_the_card_lacks_is_named);
    tcase_add_test(tests, the_margin_is_where_the_loop_becomes_unstable);
    tcase_add_loop_test(tests, without_margin_a_loop_does_not_come_to_rest, 0, 4);
    tcase_add_loop_test(tests, gains_hold_for_every_load, 0, 4);
    tcase_add_test(tests, wishes_are_kept_or_refused);
    tcase_add_test(tests, pwm_frequencies_are_compared);
    tcase_add_loop_test(tests, a_step_is_as_predicted, 0, 4);
    tcase_add_loop_test(tests, the_current_loop_holds_on_a_real_bridge, 0, CASES);
}

int main(void)
{
    return run_suite("gains", add);
}
