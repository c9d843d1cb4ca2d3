/* SPDX-License-Identifier: Apache-2.0
 *
 * The ends of the range on the studio's benches, every imperfection on: speeds at each depth of
 * modulation against the torque-speed map, field weakening that comes and goes, least current.
 */
#include "sensorless.h"
#include "recording.h"
#include "suite.h"

#include "corvak/core/parameters.h"
#include "corvak/host/torque_map.h"
#include "corvak/sim/device.h"
#include "corvak/sim/sim.h"

#include <math.h>

static const char *const motors[] = {"wheel", "mixer", "blower"};

static cvk_torque_map map_of(const cvk_rig_config *rig)
{
    const cvk_hardware hardware = cvk_sim_hardware(rig);
    const cvk_settings *s = &rig->tune;
    const cvk_torque_motor m = {.resistance_ohm = (double)s->motor.resistance_ohm,
                                .inductance_d_h = (double)s->motor.inductance_d_h,
                                .inductance_q_h = (double)s->motor.inductance_q_h,
                                .flux_linkage_wb = (double)s->motor.flux_linkage_wb,
                                .pole_pairs = rig->motor.pole_pairs,
                                .bus_v = rig->supply.bus_v,
                                .inverter_v = (double)s->inverter.voltage_v,
                                .most_duty = (double)cvk_hardware_most_duty(&hardware),
                                .current_a = (double)s->limit.current_a,
                                .weakening_a = (double)s->limit.current_a,
                                .bus_most_v = (double)s->protect.bus_max_v};
    cvk_torque_map map;
    cvk_torque_map_compute(&m, &map);
    return map;
}

typedef struct seen {
    double lowest_weakening_a, last_weakening_a, highest_bus_v, mean_rad_s, rows, from_s;
    double pole_pairs;
} seen;

#define MORE CVK_RUN_ROW_SIGNALS

static bool on_row(void *context, const cvk_device_row *row, const cvk_bench_truth *truth)
{
    seen *s = context;
    const double weakening_a = (double)row->value[MORE], bus_v = (double)row->value[MORE + 1];
    s->lowest_weakening_a = fmin(s->lowest_weakening_a, weakening_a);
    s->last_weakening_a = weakening_a;
    s->highest_bus_v = fmax(s->highest_bus_v, bus_v);
    if (row->time_s > s->from_s) {
        s->mean_rad_s += truth->speed_mech_rad_s;
        s->rows += 1.0;
    }
    return true;
}

static cvk_run run_seen(const cvk_rig_config *rig, const cvk_run_plan *plan,
                        const cvk_rig_scenario *scenario, seen *s)
{
    cvk_device device;
    cvk_run run;
    ck_assert_int_eq(cvk_sim_device_open(&device, rig, 4, false, NULL), CVK_OK);
    if (scenario != NULL) {
        cvk_rig_set_scenario(cvk_sim_device_inside(&device)->rig, scenario);
    }
    cvk_run_plan wanted = *plan;
    wanted.more[0] = "id_weakening";
    wanted.more[1] = "vdc";
    wanted.more_count = 2;
    const cvk_status status = cvk_run_device(&device, &wanted, on_row, s, &run);
    cvk_device_close(&device);
    ck_assert_msg(status == CVK_OK, "%s: %s", rig->name, cvk_fault_text(run.fault));
    return run;
}

static double start_s(const cvk_settings *s)
{
    return 0.5 +
           (double)(s->start.align_s + 2.0f * s->start.speed_rad_s / s->start.acceleration_rad_s2);
}

/* More speed is asked for than there is: without load the motor comes to what the map says. */
static void top_speed(cvk_rig_config rig, int depth, bool few_periods)
{
    rig.tune.modulation.depth = depth;
    const cvk_torque_map map = map_of(&rig);
    const cvk_settings *s = &rig.tune;
    const double top = map.depth[depth].top_mech_rad_s * rig.motor.pole_pairs;
    const double end_s = start_s(s) + 1.6 * top / (double)s->speed.acceleration_rad_s2 + 2.0;
    const cvk_run_plan plan = {
        .count = 1,
        .item = {{0.3, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)(1.5 * top)}}},
        .length_s = end_s};
    seen seen_now = {.from_s = end_s - 0.3};
    /* more current that cannot flow would turn the shortened vector, and weaken the field by itself
     */
    rig.tune.speed.current_a = 0.7f * rig.tune.limit.current_a;
    rig.shaft.friction_coulomb_nm *= 0.1; /* without load: friction takes some of the voltage */
    rig.shaft.friction_viscous_nm_s *= 0.1;
    rig.shaft.friction_static_nm *= 0.1;
    rig.motor.iron_loss_ohm *= 10.0;
    run_seen(&rig, &plan, NULL, &seen_now);
    const double mean = seen_now.mean_rad_s / seen_now.rows;
    const double off = mean / map.depth[depth].top_mech_rad_s - 1.0;
    /* where the vector is shortened to the hexagon a d current comes by itself, and some speed */
    const double more = depth == CVK_DEPTH_HEXAGON ? 0.04 : 0.02;
    /* the blower turns by 0.38 rad in a period: too few of them for six clean steps */
    const double less = depth == CVK_DEPTH_SIX_STEP && few_periods ? 0.06 : 0.02;
    ck_assert_msg(off < more && off > -less, "%s, depth %d: %.1f rad/s, the map says %.1f",
                  rig.name, depth, mean, map.depth[depth].top_mech_rad_s);
}

START_TEST(speeds_are_those_of_the_map)
{
    const cvk_rig_config rig = bench_with_gains(motors[_i], 2);
    for (int depth = 0; depth < CVK_DEPTHS; depth++) {
        top_speed(rig, depth, _i == 2);
    }
}
END_TEST

/* A motor of a few microhenries, where no current error makes the wanted voltage much larger than
 * what there is: six steps weaken as well, and reach no less than the hexagon. */
START_TEST(six_steps_weaken_a_small_inductance)
{
    cvk_rig_config rig = studio_rig("blower");
    double mean[2];
    rig.motor.pole_pairs = 7.0;
    rig.tune.motor.pole_pairs = 7;
    rig.supply.bus_v = 48.0;
    rig.sensing.voltage_range_v = 70.0;
    rig.tune.protect.bus_min_v = 24.0f;
    rig.tune.protect.bus_max_v = 60.0f;
    rig.inverter.pwm_hz = 50e3;
    rig = with_own_gains(&rig, 2);
    rig.tune.torque.weakening = 1;
    const cvk_torque_map map = map_of(&rig);
    const double top = map.depth[CVK_DEPTH_HEXAGON].weakened_mech_rad_s * rig.motor.pole_pairs;
    const double end_s =
        start_s(&rig.tune) + 2.0 * top / (double)rig.tune.speed.acceleration_rad_s2 + 2.0;
    const cvk_run_plan plan = {
        .count = 1,
        .item = {{0.3, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)(1.1 * top)}}},
        .length_s = end_s};
    for (int n = 0; n < 2; n++) {
        seen seen_now = {.from_s = end_s - 0.2};
        rig.tune.modulation.depth = n == 0 ? CVK_DEPTH_HEXAGON : CVK_DEPTH_SIX_STEP;
        run_seen(&rig, &plan, NULL, &seen_now);
        mean[n] = seen_now.mean_rad_s / seen_now.rows;
    }
    ck_assert_msg(mean[1] > 0.99 * mean[0], "six steps %.0f rad/s, hexagon %.0f, the map says %.0f",
                  mean[1], mean[0], top / rig.motor.pole_pairs);
}
END_TEST

/* Up to 1.5 times the base speed, a load in the middle, set-points that jump, back, and the other
 * way round: nothing trips, the bus keeps below its ceiling, and at low speed nothing weakens. */
static void weaken(cvk_rig_config rig)
{
    rig.tune.torque.weakening = 1;
    const cvk_torque_map map = map_of(&rig);
    const cvk_settings *s = &rig.tune;
    const double p = rig.motor.pole_pairs;
    const double base = map.depth[CVK_DEPTH_HEXAGON].base_mech_rad_s * p;
    const double top = map.depth[CVK_DEPTH_HEXAGON].weakened_mech_rad_s * p;
    const double fast = fmin(1.5 * base, 0.92 * top);
    const double ramp_s = 1.3 * fast / (double)s->speed.acceleration_rad_s2 + 0.8;
    const double t0 = 0.3 + start_s(s) + ramp_s;
    const cvk_run_plan plan = {
        .count = 6,
        .item = {{0.3, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)fast}},
                 {t0 + 1.0, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)(0.7 * fast)}},
                 {t0 + 1.3, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)fast}},
                 {t0 + 1.3 + ramp_s, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)-fast}},
                 {t0 + 1.3 + 3.5 * ramp_s,
                  {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)(-0.3 * fast)}},
                 {t0 + 1.3 + 4.5 * ramp_s, {.mode = CVK_MODE_STOP}}},
        .length_s = t0 + 1.3 + 4.5 * ramp_s};
    cvk_rig_scenario load = {.count = 1};
    load.item[0] = cvk_rig_event_default(CVK_LOAD_BRAKE);
    load.item[0].from_s = t0 + 0.2;
    load.item[0].for_s = 0.5;
    load.item[0].value[0] = 0.2 * map.torque_nm;
    seen seen_now = {.from_s = 1e9};
    const cvk_run run = run_seen(&rig, &plan, &load, &seen_now);
    ck_assert_double_lt(seen_now.lowest_weakening_a, -0.02 * (double)s->limit.current_a);
    ck_assert_double_eq(seen_now.last_weakening_a, 0.0);
    ck_assert_double_lt(seen_now.highest_bus_v, (double)s->protect.bus_max_v);
    ck_assert_double_lt(run.largest_current_a, 1.15 * (double)s->limit.current_a);
    ck_assert_msg(fabs(run.result[0].mean_rad_s / fast - 1.0) < 0.02, "%s: %.0f of %.0f rad/s",
                  rig.name, run.result[0].mean_rad_s, fast);
    ck_assert_msg(fabs(run.result[3].mean_rad_s / -fast - 1.0) < 0.02, "%s: %.0f of %.0f rad/s",
                  rig.name, run.result[3].mean_rad_s, -fast);
}

START_TEST(weakening_comes_and_goes)
{
    cvk_rig_config rig = bench_with_gains(motors[_i], 3);
    weaken(rig);
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    weaken(rig);
}
END_TEST

/* Torque of a pair of currents, by the rig's own flux map. */
static double torque_of(const cvk_rig_config *rig, double d_a, double q_a)
{
    double d_wb, q_wb;
    cvk_rig_flux_at(rig, d_a, q_a, &d_wb, &q_wb);
    return 1.5 * rig->motor.pole_pairs * (d_wb * q_a - q_wb * d_a);
}

/* The torque that is asked for, by a current that is within 1 % of the shortest that makes it. */
static void least_current(cvk_rig_config rig, double share, bool worth_it)
{
    rig.tune.torque.least_current = 1;
    const cvk_torque_map map = map_of(&rig);
    const double half = 0.4 * map.depth[0].base_mech_rad_s * rig.motor.pole_pairs;
    const double t = start_s(&rig.tune) + 1.0 + half / (double)rig.tune.speed.acceleration_rad_s2;
    const cvk_run_plan plan = {
        .count = 2,
        .item = {{0.3, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)half}},
                 {t, {.mode = CVK_MODE_TORQUE, .torque_nm = (float)(share * map.torque_nm)}}},
        .length_s = t + 0.03};
    cvk_device device;
    cvk_run run;
    ck_assert_int_eq(cvk_sim_device_open(&device, &rig, 4, false, NULL), CVK_OK);
    ck_assert_msg(cvk_run_device(&device, &plan, NULL, NULL, &run) == CVK_OK, "%s",
                  cvk_fault_text(run.fault));
    const cvk_dq i = cvk_drive_now(&cvk_sim_device_inside(&device)->drive)->current_set_a;
    cvk_device_close(&device);
    const double length = hypot((double)i.d, (double)i.q);
    const double torque = torque_of(&rig, (double)i.d, (double)i.q);
    double best = INFINITY;
    for (int step = 0; step < 500; step++) {
        const double d = -0.002 * step * length;
        double low = 0.0, high = 2.0 * length;
        for (int n = 0; n < 40; n++) {
            const double q = 0.5 * (low + high);
            *(torque_of(&rig, d, q) < torque ? &low : &high) = q;
        }
        best = fmin(best, hypot(d, low));
    }
    ck_assert_double_gt(torque, 0.8 * share * map.torque_nm);
    ck_assert_msg(length < 1.01 * best, "%s: %.2f A, the shortest is %.2f A", rig.name, length,
                  best);
    if (worth_it) { /* without the d current it takes more */
        ck_assert_float_lt(i.d, -0.03f * i.q);
    }
}

START_TEST(a_torque_takes_the_least_current)
{
    const cvk_rig_config rig = bench_with_gains(motors[_i], 2);
    for (int n = 0; n < 3; n++) {
        least_current(rig, 0.35 + 0.25 * n, _i == 1);
    }
}
END_TEST

/* Tries another depth once there is hardly any voltage left, and once while there is plenty. */
typedef struct depth_trial {
    cvk_drive *drive;
    cvk_owner owner;
    bool tried_early, tried_late;
} depth_trial;

static cvk_status try_depth(cvk_drive *drive, cvk_owner owner, int depth, cvk_refusal *why)
{
    cvk_settings s = *cvk_drive_settings(drive);
    const cvk_trial_terms terms = cvk_trial_terms_default();
    s.modulation.depth = depth;
    return cvk_drive_try(drive, owner, &s, &terms, why);
}

static bool try_on_row(void *context, const cvk_device_row *row, const cvk_bench_truth *truth)
{
    depth_trial *d = context;
    cvk_refusal why = {0};
    (void)truth;
    const bool runs = (int)row->value[CVK_RUN_ROW_START_PHASE] == CVK_START_RUN;
    if (runs && !d->tried_early && row->value[MORE] > 0.5f) {
        ck_assert_int_eq(try_depth(d->drive, d->owner, CVK_DEPTH_LINEAR, &why), CVK_OK);
        d->tried_early = true;
    }
    if (runs && !d->tried_late && row->value[MORE] < 0.05f &&
        (int)row->value[MORE + 1] > CVK_TRIAL_WAITING) {
        ck_assert_int_eq(try_depth(d->drive, d->owner, CVK_DEPTH_SIX_STEP, &why),
                         CVK_CONTRADICTION);
        ck_assert_str_eq(why.field, "modulation.depth");
        d->tried_late = true;
    }
    return true;
}

START_TEST(the_depth_stays_near_the_end_of_the_voltage)
{
    const cvk_rig_config rig = bench_with_gains("mixer", 2);
    const cvk_torque_map map = map_of(&rig);
    const double top = map.depth[CVK_DEPTH_HEXAGON].top_mech_rad_s * rig.motor.pole_pairs;
    const cvk_run_plan plan = {
        .count = 2,
        .item = {{0.3, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)(0.2 * top)}},
                 {13.0, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)(1.2 * top)}}},
        .length_s = 14.5,
        .more = {"headroom", "trial"},
        .more_count = 2};
    cvk_device device;
    cvk_run run;
    ck_assert_int_eq(cvk_sim_device_open(&device, &rig, 4, false, NULL), CVK_OK);
    depth_trial trial = {.drive = &cvk_sim_device_inside(&device)->drive,
                         .owner = device.session.number};
    ck_assert_int_eq(cvk_run_device(&device, &plan, try_on_row, &trial, &run), CVK_OK);
    cvk_device_close(&device);
    ck_assert(trial.tried_early && trial.tried_late);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, the_depth_stays_near_the_end_of_the_voltage);
    tcase_add_test(tests, six_steps_weaken_a_small_inductance);
    tcase_add_loop_test(tests, speeds_are_those_of_the_map, 0, 3);
    tcase_add_loop_test(tests, weakening_comes_and_goes, 0, 3);
    tcase_add_loop_test(tests, a_torque_takes_the_least_current, 0, 2);
}

int main(void)
{
    return run_suite("torque", add);
}
