/* SPDX-License-Identifier: Apache-2.0
 *
 * The observers against a motor in closed form: a rotor that turns evenly under constant currents
 * in its frame, with the exact mean voltage of each period.
 */
#include "corvak/core/observers_alone.h"
#include "noise.h"
#include "suite.h"

#include <complex.h>
#include <math.h>

#define PI 3.14159265358979323846
#define DEGREES (180.0 / PI)
#define T 50e-6
#define FLUX 0.02
#define OHM 0.15
#define HENRY_D 300e-6
#define HENRY_Q 450e-6

typedef struct motor {
    double speed_rad_s, d_a, q_a, angle_rad;
} motor;

static cvk_observers_alone observing;

static cvk_settings known(void)
{
    cvk_settings s = cvk_settings_default();
    s.motor = (cvk_motor_settings){7, (float)OHM, (float)HENRY_D, (float)HENRY_Q, (float)FLUX};
    s.angle.source = CVK_BY_OBSERVER;
    s.observer.all = 1;
    s.observer.least_speed_rad_s = 20.0f;
    s.observer.tracking_bandwidth_rad_s = 300.0f;
    return s;
}

static void begin(const cvk_settings *settings)
{
    cvk_refusal why = {0};
    ck_assert_int_eq(cvk_observers_alone_init(&observing, (float)T, settings, &why), CVK_OK);
}

/* The period that ends now: flux linkage and current turn with the rotor, so both are known exactly
 * at its ends, and R times the current can be integrated. */
static cvk_observers_alone_row turn(motor *m)
{
    const double w = m->speed_rad_s, x = w * T;
    const double complex i = m->d_a + I * m->q_a;
    const double complex psi = FLUX + HENRY_D * m->d_a + I * HENRY_Q * m->q_a;
    const double complex before = cexp(I * m->angle_rad), after = before * cexp(I * x);
    const double complex mean = fabs(x) > 1e-9 ? i * (after - before) / (I * x) : i * before;
    const double complex v = psi * (after - before) / T + OHM * mean;
    m->angle_rad = remainder(m->angle_rad + x, 2.0 * PI);
    return (cvk_observers_alone_row){
        .current_a = {(float)creal(i * after), (float)cimag(i * after)},
        .acted_v = {(float)creal(v), (float)cimag(v)},
        .bridge_on = 1};
}

static double error_of(const cvk_moment *now, int kind, const motor *m)
{
    return remainder((double)now->source[CVK_ANGLE_FLUX + kind].angle_rad - m->angle_rad, 2.0 * PI);
}

static const cvk_moment *run(motor *m, double length_s)
{
    const cvk_moment *now = NULL;
    const int calls = (int)ceil(length_s / T);
    for (int n = 0; n < calls; n++) {
        const cvk_observers_alone_row row = turn(m);
        now = cvk_observers_alone_step(&observing, &row);
    }
    return now;
}

/* From nothing, either way, slow and at eight samples a turn, with current of both axes. */
static const double turns_rad[] = {0.005, -0.005, 0.1, -0.3, 0.6, -0.785};

START_TEST(every_observer_finds_the_angle)
{
    const cvk_settings settings = known();
    motor m = {turns_rad[_i] / T, -2.0, 6.0, 2.5};
    begin(&settings);
    const cvk_moment *now = run(&m, 1.0);
    for (int kind = 0; kind < 3; kind++) {
        const cvk_angle *seen = &now->source[CVK_ANGLE_FLUX + kind];
        ck_assert_msg(fabs(error_of(now, kind, &m)) < 0.3 / DEGREES, "observer %d off by %.2f deg",
                      kind, DEGREES * error_of(now, kind, &m));
        ck_assert_double_eq_tol((double)seen->speed_rad_s, m.speed_rad_s,
                                1e-3 * fabs(m.speed_rad_s) + 0.05);
        ck_assert_float_gt(seen->quality, 0.9f);
        ck_assert_int_eq(seen->reason, CVK_ANGLE_FINE);
    }
}
END_TEST

/* What settings have wrong is found: flux at speed. Where the current counts, only the sum of what
 * resistance and flux make of the flux's length can be seen: the angle is right all the same. */
START_TEST(resistance_and_flux_are_found)
{
    cvk_settings settings = known();
    settings.observer.kind = _i;
    settings.motor.resistance_ohm *= 1.15f;
    begin(&settings);
    motor slow = {100.0, 0.0, 8.0, 0.3};
    const cvk_moment *now = run(&slow, 4.0);
    ck_assert_double_lt((double)now->adapted_resistance_ohm, 1.1 * OHM);
    ck_assert_double_lt(fabs(error_of(now, _i, &slow)), 0.5 / DEGREES);
    settings = known();
    settings.observer.kind = _i;
    settings.motor.flux_linkage_wb *= 0.92f;
    begin(&settings);
    motor fast = {2000.0, 0.0, 1.0, 0.3};
    now = run(&fast, 3.0);
    ck_assert_double_eq_tol((double)now->adapted_flux_wb, FLUX, 0.01 * FLUX);
}
END_TEST

START_TEST(nothing_is_adapted_when_it_may_not_be)
{
    cvk_settings settings = known();
    settings.observer.adapt = 0;
    settings.motor.flux_linkage_wb *= 0.92f;
    begin(&settings);
    motor m = {2000.0, 0.0, 1.0, 0.3};
    const cvk_moment *now = run(&m, 1.0);
    ck_assert_float_eq(now->adapted_flux_wb, settings.motor.flux_linkage_wb);
}
END_TEST

/* A seed is where they go on from. */
START_TEST(a_seed_is_believed_at_once)
{
    const cvk_settings settings = known();
    motor m = {1500.0, 0.0, 5.0, -2.0};
    begin(&settings);
    const cvk_observers_alone_row first = turn(&m);
    cvk_observers_alone_seed(&observing, first.current_a, (float)m.angle_rad, (float)m.speed_rad_s);
    for (int n = 0; n < 10; n++) {
        const cvk_observers_alone_row row = turn(&m);
        const cvk_moment *now = cvk_observers_alone_step(&observing, &row);
        for (int kind = 0; kind < 3; kind++) {
            ck_assert_double_lt(fabs(error_of(now, kind, &m)), 1.0 / DEGREES);
        }
    }
}
END_TEST

/* ---- readings that lie ----------------------------------------------------------------------- */

/* However a row is spoilt, an angle that is off by more than 30 degrees has no high quality for
 * long.
 */
static cvk_observers_alone_row spoilt(cvk_observers_alone_row row, int how,
                                      const cvk_observers_alone_row *stuck)
{
    switch (how) {
    case 0: /* a current channel and its neighbour are swapped */
        row.current_a.beta = -row.current_a.beta;
        break;
    case 1: /* the currents stay as they are */
        row.current_a = stuck->current_a;
        break;
    case 2: /* the converter is at its end */
        row.current_a.alpha = row.current_a.alpha > 0.0f ? 60.0f : -60.0f;
        break;
    case 3: /* the voltages are those of another moment */
        row.acted_v = stuck->acted_v;
        break;
    case 4: /* anything */
        row.current_a = (cvk_ab){(float)(80.0 * uniform()), (float)(80.0 * uniform())};
        row.acted_v = (cvk_ab){(float)(60.0 * uniform()), (float)(60.0 * uniform())};
        break;
    default: /* now and then no number at all */
        row.current_a.alpha = uniform() > 0.45 ? NAN : row.current_a.alpha;
        break;
    }
    return row;
}

START_TEST(lies_get_no_high_quality)
{
    static const double speeds[] = {60.0, -300.0, 1500.0, -6000.0};
    const cvk_settings settings = known();
    for (size_t s = 0; s < sizeof speeds / sizeof speeds[0]; s++) {
        motor m = {speeds[s], 0.0, 10.0, 0.4};
        lcg = 5u + (uint32_t)s;
        begin(&settings);
        run(&m, 0.5);
        const cvk_observers_alone_row stuck = turn(&m);
        double wrong[3] = {0.0};
        const int rows = 20000;
        for (int n = 0; n < rows; n++) {
            const cvk_observers_alone_row row = spoilt(turn(&m), _i, &stuck);
            const cvk_moment *now = cvk_observers_alone_step(&observing, &row);
            for (int kind = 0; kind < 3; kind++) {
                const cvk_angle *a = &now->source[CVK_ANGLE_FLUX + kind];
                ck_assert(isfinite(a->angle_rad) && isfinite(a->speed_rad_s));
                ck_assert(a->quality >= 0.0f && a->quality <= 1.0f);
                wrong[kind] += a->quality > 0.9f && fabs(error_of(now, kind, &m)) > PI / 4.0;
            }
        }
        for (int kind = 0; kind < 3; kind++) {
            ck_assert_msg(wrong[kind] < 0.05 * rows,
                          "lie %d at %g rad/s: observer %d trusts a wrong angle in %.1f %% of rows",
                          _i, speeds[s], kind, 100.0 * wrong[kind] / rows);
        }
    }
}
END_TEST

START_TEST(at_rest_nothing_is_claimed)
{
    const cvk_settings settings = known();
    begin(&settings);
    for (int n = 0; n < 20000; n++) {
        const cvk_observers_alone_row row = {
            .current_a = {(float)(5.0 + 0.03 * noise()), (float)(0.03 * noise())},
            .acted_v = {(float)(OHM * 5.0), 0.0f},
            .bridge_on = 1};
        const cvk_moment *now = cvk_observers_alone_step(&observing, &row);
        for (int kind = 0; kind < 3; kind++) {
            ck_assert_float_lt(now->source[CVK_ANGLE_FLUX + kind].quality, 0.5f);
        }
    }
}
END_TEST

START_TEST(what_is_not_known_is_refused)
{
    cvk_settings settings = known();
    cvk_refusal why = {0};
    settings.motor.flux_linkage_wb = 0.0f;
    ck_assert_int_eq(cvk_observers_alone_init(&observing, (float)T, &settings, &why),
                     CVK_CONTRADICTION);
    ck_assert_str_eq(why.field, "motor.flux_linkage_wb");
    settings = known();
    ck_assert_int_eq(cvk_observers_alone_init(&observing, 1.0f, &settings, &why), CVK_OUT_OF_RANGE);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, every_observer_finds_the_angle, 0, 6);
    tcase_add_loop_test(tests, resistance_and_flux_are_found, 0, 3);
    tcase_add_test(tests, nothing_is_adapted_when_it_may_not_be);
    tcase_add_test(tests, a_seed_is_believed_at_once);
    tcase_add_loop_test(tests, lies_get_no_high_quality, 0, 6);
    tcase_add_test(tests, at_rest_nothing_is_claimed);
    tcase_add_test(tests, what_is_not_known_is_refused);
}

int main(void)
{
    return run_suite("observers", add);
}
