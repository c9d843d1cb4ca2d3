/* SPDX-License-Identifier: Apache-2.0
 *
 * The drive and the excitations on a port that only records what it is told.
 */
#include "corvak/core/drive.h"
#include "suite.h"

#include <math.h>
#include <string.h>

typedef struct gate {
    bool on;
    int changes;
} gate;

static void gate_enable(void *context, bool enable)
{
    gate *g = context;
    g->on = enable;
    g->changes++;
}

static const cvk_drive_config good = {
    .current = {50e-6f, 500.0f, 0.17f, 320e-6f, 470e-6f, 0.0215f},
    .sensor = {50e-6f, 12.0f, 1.0f, 0.0f, 100.0f},
    .trip_current_a = 25.0f,
    .bus_min_v = 15.0f,
    .bus_max_v = 32.0f,
    .speed_gain_a_s = 0.2f,
    .speed_integral_gain_a = 0.4f,
    .speed_limit_a = 10.0f,
};
static const cvk_drive_sample calm = {.current_a = {0.1f, -0.05f, -0.05f}, .bus_v = 24.0f};

static gate the_gate;
static cvk_port port = {.context = &the_gate, .gate_enable = gate_enable};
static cvk_drive drive;

static void setup(void)
{
    the_gate = (gate){0};
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &good, NULL), CVK_OK);
}

static void command_drive(cvk_command command)
{
    ck_assert_int_eq(cvk_drive_set_command(&drive, command, NULL), CVK_OK);
}

START_TEST(starts_with_the_bridge_off)
{
    ck_assert_int_eq(the_gate.changes, 1);
    ck_assert(!the_gate.on);
    cvk_drive_control(&drive, &calm);
    ck_assert(!the_gate.on);
}
END_TEST

START_TEST(a_command_turns_the_bridge_on_and_off)
{
    command_drive((cvk_command){.mode = CVK_MODE_VOLTAGE, .voltage_v = {6.0f, 0}});
    cvk_abc duties = cvk_drive_control(&drive, &calm);
    ck_assert(the_gate.on);
    ck_assert_float_eq_tol((duties.a - duties.b) * 24.0f, 9.0f, 1e-4f);
    command_drive((cvk_command){.mode = CVK_MODE_OFF});
    cvk_drive_control(&drive, &calm);
    ck_assert(!the_gate.on);
}
END_TEST

/* Nothing that is no number gets in, and what was commanded before still counts. */
START_TEST(a_command_that_is_no_number_is_refused)
{
    const cvk_command bad[] = {
        {.mode = CVK_MODE_VOLTAGE, .voltage_v = {NAN, 0.0f}},
        {.mode = CVK_MODE_VOLTAGE, .voltage_v = {0.0f, INFINITY}},
        {.mode = CVK_MODE_CURRENT, .current_a = {0.0f, NAN}},
        {.mode = CVK_MODE_SPEED, .speed_rad_s = -INFINITY},
        {.mode = (cvk_drive_mode)7},
    };
    command_drive((cvk_command){.mode = CVK_MODE_VOLTAGE, .voltage_v = {6.0f, 0.0f}});
    for (size_t n = 0; n < sizeof bad / sizeof bad[0]; n++) {
        cvk_refusal why = {0};
        ck_assert_int_eq(cvk_drive_set_command(&drive, bad[n], &why), CVK_OUT_OF_RANGE);
        ck_assert_ptr_nonnull(why.field);
        const cvk_abc duties = cvk_drive_control(&drive, &calm);
        ck_assert_float_eq_tol((duties.a - duties.b) * 24.0f, 9.0f, 1e-4f);
    }
}
END_TEST

/* From an imposed voltage to a current: what was predicted before the voltage ruled is forgotten,
 * so that the first voltage asked for is that of a controller that starts anew. */
START_TEST(a_mode_change_leaves_no_stale_prediction)
{
    static const cvk_drive_sample flowing = {.current_a = {8.0f, -4.0f, -4.0f}, .bus_v = 24.0f};
    const cvk_command current = {.mode = CVK_MODE_CURRENT};
    const cvk_command voltage = {.mode = CVK_MODE_VOLTAGE};
    command_drive(current);
    for (int n = 0; n < 20; n++) {
        cvk_drive_control(&drive, &calm);
    }
    command_drive(voltage);
    for (int n = 0; n < 20; n++) {
        cvk_drive_control(&drive, &flowing);
    }
    command_drive(current);
    const cvk_abc after = cvk_drive_control(&drive, &flowing);
    setup();
    command_drive(voltage);
    cvk_drive_control(&drive, &flowing);
    command_drive(current);
    const cvk_abc fresh = cvk_drive_control(&drive, &flowing);
    ck_assert_float_eq_tol(after.a, fresh.a, 1e-6f);
    ck_assert_float_eq_tol(after.b, fresh.b, 1e-6f);
}
END_TEST

/* The bridge is off in the very call that sees a bad sample, and stays off until it is cleared. */
START_TEST(a_fault_stops_in_the_same_call)
{
    static const struct {
        cvk_drive_sample sample;
        cvk_fault fault;
    } bad[] = {
        {{.current_a = {NAN, 0, 0}, .bus_v = 24.0f}, CVK_FAULT_SAMPLE},
        {{.current_a = {0, INFINITY, 0}, .bus_v = 24.0f}, CVK_FAULT_SAMPLE},
        {{.current_a = {0, 0, 0}, .bus_v = NAN}, CVK_FAULT_SAMPLE},
        {{.current_a = {0, 0, -26.0f}, .bus_v = 24.0f}, CVK_FAULT_OVERCURRENT},
        {{.current_a = {0, 0, 0}, .bus_v = 14.0f}, CVK_FAULT_BUS_VOLTAGE},
        {{.current_a = {0, 0, 0}, .bus_v = 33.0f}, CVK_FAULT_BUS_VOLTAGE},
    };
    for (size_t n = 0; n < sizeof bad / sizeof bad[0]; n++) {
        setup();
        command_drive((cvk_command){.mode = CVK_MODE_VOLTAGE});
        cvk_drive_control(&drive, &calm);
        ck_assert(the_gate.on);
        cvk_drive_control(&drive, &bad[n].sample);
        ck_assert(!the_gate.on);
        ck_assert_int_eq(drive.fault, bad[n].fault);
        ck_assert_str_ne(cvk_fault_text(drive.fault), "unknown fault");
        cvk_drive_control(&drive, &calm);
        ck_assert(!the_gate.on);
        cvk_drive_clear_fault(&drive);
        cvk_drive_control(&drive, &calm);
        ck_assert(the_gate.on);
    }
}
END_TEST

START_TEST(the_first_cause_is_kept)
{
    cvk_drive_sample overcurrent = calm, undervoltage = calm;
    overcurrent.current_a.a = 30.0f;
    undervoltage.bus_v = 1.0f;
    cvk_drive_control(&drive, &overcurrent);
    cvk_drive_control(&drive, &undervoltage);
    ck_assert_int_eq(drive.fault, CVK_FAULT_OVERCURRENT);
}
END_TEST

START_TEST(bad_config_is_refused_by_name)
{
    cvk_drive_config config = good;
    cvk_refusal why = {0};
    config.bus_max_v = 10.0f;
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &config, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "bus_max_v");
    config = good;
    config.trip_current_a = 0.0f;
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &config, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "trip_current_a");
    config = (cvk_drive_config){0};
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &config, &why), CVK_OUT_OF_RANGE);
    ck_assert_int_eq(cvk_drive_init(&drive, NULL, &good, &why), CVK_NULL_ARGUMENT);
}
END_TEST

/* ---- excitations ----------------------------------------------------------------------------- */

/* Steps a standstill program on a resistor: current follows the voltage at once. */
static float run_on_resistor(cvk_excitation *x, float resistance, float *largest, unsigned *rows)
{
    cvk_ab i = {0.0f, 0.0f};
    float sum_alpha = 0.0f;
    *largest = 0.0f;
    *rows = 0;
    while (!cvk_excitation_finished(x) && *rows < 200000u) {
        cvk_command command = cvk_excitation_next(x, i);
        i = (cvk_ab){command.voltage_v.alpha / resistance, command.voltage_v.beta / resistance};
        *largest = fmaxf(*largest, hypotf(i.alpha, i.beta));
        sum_alpha += i.alpha;
        (*rows)++;
    }
    return sum_alpha;
}

/* From 5 mOhm to 8 ohm the program finds its voltage by itself and stays within the limit. */
START_TEST(standstill_finds_its_voltage)
{
    static const float resistances[] = {0.005f, 0.05f, 0.5f, 8.0f};
    static const float limits[] = {60.0f, 20.0f, 10.0f, 1.2f};
    for (int n = 0; n < 4; n++) {
        cvk_excitation x;
        float largest;
        unsigned rows;
        cvk_excitation_config config = cvk_excitation_config_default(50e-6f, limits[n], 24.0f);
        ck_assert_int_eq(cvk_excitation_standstill(&x, &config, NULL), CVK_OK);
        run_on_resistor(&x, resistances[n], &largest, &rows);
        ck_assert(cvk_excitation_finished(&x));
        ck_assert_float_le(largest, limits[n]);
        ck_assert_float_ge(largest, 0.8f * limits[n]);
        ck_assert_uint_le(rows, (unsigned)(cvk_excitation_length_s(&x) / 50e-6f) + 30u);
    }
}
END_TEST

START_TEST(finished_program_switches_off)
{
    cvk_excitation x;
    float largest;
    unsigned rows;
    cvk_excitation_config config = cvk_excitation_config_default(50e-6f, 10.0f, 24.0f);
    ck_assert_int_eq(cvk_excitation_standstill(&x, &config, NULL), CVK_OK);
    run_on_resistor(&x, 0.5f, &largest, &rows);
    ck_assert_int_eq(cvk_excitation_next(&x, (cvk_ab){0, 0}).mode, CVK_MODE_OFF);
    ck_assert(!cvk_excitation_recorded(&x));
}
END_TEST

START_TEST(coast_is_recorded_with_the_bridge_off_only)
{
    cvk_excitation x;
    cvk_excitation_config config = cvk_excitation_config_default(50e-6f, 10.0f, 24.0f);
    ck_assert_int_eq(cvk_excitation_coast(&x, &config, NULL), CVK_OK);
    unsigned recorded = 0;
    while (!cvk_excitation_finished(&x)) {
        cvk_command command = cvk_excitation_next(&x, (cvk_ab){0, 0});
        if (cvk_excitation_recorded(&x)) {
            ck_assert_int_eq(command.mode, CVK_MODE_OFF);
            recorded++;
        }
    }
    ck_assert_uint_ge(recorded, 6000);
}
END_TEST

START_TEST(bad_excitation_config_is_refused_by_name)
{
    cvk_excitation x;
    cvk_refusal why = {0};
    cvk_excitation_config config = cvk_excitation_config_default(50e-6f, -1.0f, 24.0f);
    ck_assert_int_eq(cvk_excitation_spin(&x, &config, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "current_limit_a");
    config = cvk_excitation_config_default(50e-6f, 5.0f, 24.0f);
    config.square_half_s = 1e-6f;
    ck_assert_int_eq(cvk_excitation_standstill(&x, &config, &why), CVK_OUT_OF_RANGE);
    ck_assert_str_eq(why.field, "square_half_s");
    ck_assert_int_eq(cvk_excitation_coast(NULL, &config, &why), CVK_NULL_ARGUMENT);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_checked_fixture(tests, setup, NULL);
    tcase_add_test(tests, starts_with_the_bridge_off);
    tcase_add_test(tests, a_command_turns_the_bridge_on_and_off);
    tcase_add_test(tests, a_command_that_is_no_number_is_refused);
    tcase_add_test(tests, a_mode_change_leaves_no_stale_prediction);
    tcase_add_test(tests, a_fault_stops_in_the_same_call);
    tcase_add_test(tests, the_first_cause_is_kept);
    tcase_add_test(tests, bad_config_is_refused_by_name);
    tcase_add_test(tests, standstill_finds_its_voltage);
    tcase_add_test(tests, finished_program_switches_off);
    tcase_add_test(tests, coast_is_recorded_with_the_bridge_off_only);
    tcase_add_test(tests, bad_excitation_config_is_refused_by_name);
}

int main(void)
{
    return run_suite("drive", add, 30.0);
}
