/* SPDX-License-Identifier: Apache-2.0
 *
 * A single shunt in the bus: the studio's motors start without a sensor and run from 2 to 95 % of
 * what the voltage allows, the currents that the core makes of two readings are the true ones, and
 * the pulses leave room for both in every period.
 */
#include "recording.h"
#include "sensorless.h"
#include "suite.h"

#include "corvak/core/drive.h"

#include <math.h>
#include <stdlib.h>

static const char *const motors[] = {"wheel", "blower", "mixer", "table"};

/* Difference of the core's currents from the true ones while the bridge is on, by item of the plan;
 * what the channel's gain takes is not the core's fault. */
#define JUDGED 0.8 /* behind so much of each stretch */

typedef struct difference {
    const cvk_run_plan *plan;
    double gain;
    double window; /* that each reading needs, share of the period */
    double square_a2[2], largest_a[2], rows[2];
    double speed_mech_rad_s[2], judged[2]; /* in the last fifth of each */
    cvk_sim sim;
} difference;

static int by_value(const void *a, const void *b)
{
    const double x = *(const double *)a, y = *(const double *)b;
    return x < y ? -1 : x > y;
}

/* The legs rise one after the other, far enough apart for both readings, and every pulse, whole as
 * it is, lies within its period. */
static void pulses_leave_windows(const cvk_moment *now, double window)
{
    const double duty[3] = {(double)now->duty.a, (double)now->duty.b, (double)now->duty.c};
    const double shift[3] = {(double)now->shift.a, (double)now->shift.b, (double)now->shift.c};
    double rise[3];
    for (int n = 0; n < 3; n++) {
        rise[n] = 0.5 * (1.0 - duty[n]) + shift[n];
        ck_assert_double_ge_tol(rise[n], 0.0, 1e-6);
        ck_assert_double_le_tol(rise[n] + duty[n], 1.0, 1e-6);
    }
    qsort(rise, 3, sizeof rise[0], by_value);
    ck_assert_double_ge_tol(rise[1] - rise[0], window, 1e-6);
    ck_assert_double_ge_tol(rise[2] - rise[1], window, 1e-6);
}

static bool compare(void *context, const cvk_request *asked, const cvk_sim_row *row)
{
    difference *d = context;
    const cvk_run_plan *plan = d->plan;
    const int item = row->time_s >= plan->item[1].from_s ? 1 : 0;
    const cvk_abc now = row->now->phase_a;
    const double seen[3] = {(double)now.a, (double)now.b, (double)now.c};
    if (row->now->bridge_on == 0 || asked->mode == CVK_MODE_REST) {
        return true;
    }
    pulses_leave_windows(row->now, d->window);
    for (int n = 0; n < 3; n++) {
        const double off = seen[n] / d->gain - d->sim.truth.current_a[n];
        d->square_a2[item] += off * off / 3.0;
        d->largest_a[item] = fmax(d->largest_a[item], fabs(off));
    }
    d->rows[item]++;
    if (row->time_s > JUDGED * plan->length_s + (1.0 - JUDGED) * plan->item[1].from_s) {
        d->speed_mech_rad_s[1] += d->sim.truth.speed_mech_rad_s;
        d->judged[1]++;
    } else if (item == 0 && row->time_s > JUDGED * plan->item[1].from_s) {
        d->speed_mech_rad_s[0] += d->sim.truth.speed_mech_rad_s;
        d->judged[0]++;
    }
    return true;
}

/* To 2 % of the speed without load, then to 95 %. */
static cvk_run_plan slow_and_fast(const cvk_rig_config *bench)
{
    cvk_run_plan plan = there_and_back(bench, 1.0);
    const double no_load = plan.rated_rad_s / 0.6;
    const double start_s = plan.item[1].from_s;
    plan.item[0].request.speed_rad_s = (float)(0.02 * no_load);
    plan.item[1].request.speed_rad_s = (float)(0.95 * no_load);
    plan.item[2].from_s =
        start_s + 3.0 + 2.0 * no_load / (double)bench->tune.speed.acceleration_rad_s2;
    plan.length_s = plan.item[2].from_s;
    plan.count = 2;
    return plan;
}

static void runs(cvk_rig_config bench, uint64_t seed, double most)
{
    const cvk_run_plan plan = slow_and_fast(&bench);
    const double window_s = bench.sensing.settling_s + bench.inverter.dead_time_s;
    difference d = {.plan = &plan, .gain = 1.0, .window = window_s * bench.inverter.pwm_hz};
    bench.sensing.current_gain_tolerance = 0.0; /* it would scale all, with any sensing */
    bench.sensing.current_sensing = CVK_SENSING_SINGLE_SHUNT;
    ck_assert_int_eq(cvk_sim_init(&d.sim, &bench, seed, NULL), CVK_OK);
    ck_assert_int_eq(follow_plan(&d.sim, &plan, compare, &d), CVK_FAULT_NONE);
    cvk_sim_close(&d.sim);
    for (int n = 0; n < 2; n++) {
        const double share = sqrt(d.square_a2[n] / d.rows[n]) / (double)bench.tune.limit.current_a;
        const double speed = d.speed_mech_rad_s[n] / d.judged[n] * bench.motor.pole_pairs /
                             (double)plan.item[n].request.speed_rad_s;
        ck_assert_double_gt(d.rows[n], 1000.0);
        ck_assert_msg(share < most, "%s: %.2f %% of the limit at speed %d", bench.name,
                      100.0 * share, n);
        ck_assert_msg(fabs(speed - 1.0) < 0.03, "%s: %g of speed %d", bench.name, speed, n);
    }
}

/* The mixer's back-EMF has harmonics, and the blower's ripple is larger than its limit: that is not
 * foreseen when a reading is carried on. */
static const double most_off[] = {0.01, 0.04, 0.04, 0.01};

START_TEST(a_single_shunt_is_enough)
{
    cvk_rig_config bench = bench_with_gains(motors[_i], 2);
    runs(bench, 5, most_off[_i]);
    bench.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    runs(bench, 6, most_off[_i]);
}
END_TEST

static void ignore_gates(void *context, bool on)
{
    (void)context;
    (void)on;
}

/* Shifted pulses need both halves of a period for themselves. */
START_TEST(double_update_is_refused)
{
    static cvk_drive drive;
    static const cvk_port port = {.gate_enable = ignore_gates};
    const cvk_settings settings = cvk_settings_default();
    cvk_hardware hardware = cvk_hardware_default();
    cvk_refusal why;
    hardware.current_sensing = CVK_CURRENTS_SINGLE_SHUNT;
    hardware.window_s = 1.5e-6f;
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, &settings, &why), CVK_OK);
    hardware.window_s = 0.0f;
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, &settings, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "window_s");
    hardware.window_s = 1.5e-6f;
    hardware.updates_per_period = 2;
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, &settings, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "updates_per_period");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, a_single_shunt_is_enough, 0, 4);
    tcase_add_test(tests, double_update_is_refused);
}

int main(void)
{
    return run_suite("a single shunt", add);
}
