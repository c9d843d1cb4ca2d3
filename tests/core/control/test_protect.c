/* SPDX-License-Identifier: Apache-2.0
 *
 * Protection by itself: what raises which fault, that the first one stays, and what ends it.
 */
#include "control/protect.h"

#include "suite.h"

#include <math.h>

static cvk_setup setup;
static cvk_moment now;

static void prepare(void)
{
    cvk_settings s = cvk_settings_default();
    s.protect.trip_current_a = 10.0f;
    s.protect.bus_min_v = 20.0f;
    s.protect.bus_max_v = 30.0f;
    setup = (cvk_setup){.settings = s, .bounds = cvk_bounds_of(&s)};
    now = (cvk_moment){.bus_v = 24.0f, .phase_a = {9.9f, -5.0f, -4.9f}};
}

static int32_t fault_of(cvk_abc current_a, float bus_v, bool clear)
{
    now.phase_a = current_a;
    now.bus_v = bus_v;
    cvk_protect_step(&setup, clear, &now);
    return now.fault;
}

START_TEST(each_fault_has_its_cause)
{
    static const struct {
        cvk_abc current_a;
        float bus_v;
        cvk_fault fault;
    } cases[] = {
        {{9.9f, -5.0f, -4.9f}, 24.0f, CVK_FAULT_NONE},
        {{10.0f, 0.0f, -10.0f}, 20.0f, CVK_FAULT_NONE}, /* the bounds themselves are allowed */
        {{10.1f, -5.0f, -5.1f}, 24.0f, CVK_FAULT_OVERCURRENT},
        {{0.0f, -10.1f, 10.0f}, 24.0f, CVK_FAULT_OVERCURRENT},
        {{0.0f, 0.0f, -10.1f}, 24.0f, CVK_FAULT_OVERCURRENT},
        {{0.0f, 0.0f, 0.0f}, 19.9f, CVK_FAULT_BUS_VOLTAGE},
        {{0.0f, 0.0f, 0.0f}, 30.1f, CVK_FAULT_BUS_VOLTAGE},
        {{NAN, 0.0f, 0.0f}, 24.0f, CVK_FAULT_SAMPLE},
        {{0.0f, INFINITY, 0.0f}, 24.0f, CVK_FAULT_SAMPLE},
        {{0.0f, 0.0f, 0.0f}, NAN, CVK_FAULT_SAMPLE},
    };
    for (size_t n = 0; n < sizeof cases / sizeof cases[0]; n++) {
        prepare();
        ck_assert_int_eq(fault_of(cases[n].current_a, cases[n].bus_v, false), cases[n].fault);
    }
}
END_TEST

START_TEST(the_first_fault_stays_until_it_is_cleared)
{
    const cvk_abc none = {0.0f, 0.0f, 0.0f};
    prepare();
    ck_assert_int_eq(fault_of((cvk_abc){11.0f, 0.0f, -11.0f}, 24.0f, false), CVK_FAULT_OVERCURRENT);
    ck_assert_int_eq(fault_of(none, 35.0f, false), CVK_FAULT_OVERCURRENT);
    ck_assert_int_eq(fault_of(none, 24.0f, false), CVK_FAULT_OVERCURRENT);
    ck_assert_int_eq(fault_of(none, 35.0f, true),
                     CVK_FAULT_BUS_VOLTAGE); /* cleared, and seen anew */
    ck_assert_int_eq(fault_of(none, 24.0f, true), CVK_FAULT_NONE);
    now.readings.stage_tripped = 1;
    ck_assert_int_eq(fault_of(none, 24.0f, true), CVK_FAULT_STAGE);
    cvk_protect_raise(&now, CVK_FAULT_ANGLE);
    ck_assert_int_eq(now.fault, CVK_FAULT_STAGE);
}
END_TEST

START_TEST(of_two_bounds_the_tighter_holds)
{
    cvk_settings a = cvk_settings_default(), b = a;
    a.protect.trip_current_a = 10.0f;
    b.protect.trip_current_a = 12.0f;
    a.protect.bus_min_v = 10.0f;
    b.protect.bus_min_v = 11.0f;
    a.protect.bus_max_v = 40.0f;
    b.protect.bus_max_v = 35.0f;
    a.limit.current_a = 8.0f;
    b.limit.current_a = 6.0f;
    const cvk_bounds t = cvk_bounds_tighter(cvk_bounds_of(&a), cvk_bounds_of(&b));
    ck_assert_float_eq(t.trip_current_a, 10.0f);
    ck_assert_float_eq(t.bus_min_v, 11.0f);
    ck_assert_float_eq(t.bus_max_v, 35.0f);
    ck_assert_float_eq(t.current_a, 6.0f);
    ck_assert_float_eq(t.current_square_a2, 36.0f);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, each_fault_has_its_cause);
    tcase_add_test(tests, the_first_fault_stays_until_it_is_cleared);
    tcase_add_test(tests, of_two_bounds_the_tighter_holds);
}

int main(void)
{
    return run_suite("protect", add);
}
