/* SPDX-License-Identifier: Apache-2.0
 *
 * A motor that turns with the bridge off, recorded by voltage probes alone; and what channels show
 * of themselves: gains and clipping.
 */
#include "corvak/ident/estimate.h"
#include "noise.h"
#include "suite.h"

#include <math.h>
#include <stdint.h>
#include <string.h>

enum { ROWS = 60000 };
#define TWO_PI 6.283185307179586
#define FLUX_WB 0.02
#define STEP_S 50e-6

static const cvk_estimate_options options = {-1.0, -1.0, 500.0, 0.0, 0, 1, NULL};
static cvk_estimate result;
static double t[ROWS], v[3][ROWS]; /* of the star's phases */

/* From 60 to 20 electrical turns a second. */
static void coast_down(void)
{
    double angle = 0.3;
    lcg = 5;
    for (size_t k = 0; k < ROWS; k++) {
        const double omega = TWO_PI * (60.0 - 40.0 * (double)k / ROWS);
        t[k] = (double)k * STEP_S;
        for (int n = 0; n < 3; n++) {
            v[n][k] = -FLUX_WB * omega * sin(angle - n * TWO_PI / 3.0);
        }
        angle += omega * STEP_S;
    }
}

static double column[3][ROWS];

/* Columns first, first + 1, ... as `count` weighted sums of the phases, with gains and noise. */
static cvk_log log_of(cvk_column first, int count, const double weight[3][3], const double gain[3])
{
    cvk_log log = cvk_log_empty("probes");
    log.rows = ROWS;
    log.column[CVK_COLUMN_T] = t;
    for (int n = 0; n < count; n++) {
        for (size_t k = 0; k < ROWS; k++) {
            const double x =
                weight[n][0] * v[0][k] + weight[n][1] * v[1][k] + weight[n][2] * v[2][k];
            column[n][k] = gain[n] * x + 0.01 * noise();
        }
        log.column[(int)first + n] = column[n];
    }
    return log;
}

static const double lines[3][3] = {{1, -1, 0}, {0, 1, -1}, {-1, 0, 1}};
static const double phases[3][3] = {{1, 0, 0}, {0, 1, 0}, {0, 0, 1}};
static const double against_c[3][3] = {{1, 0, -1}, {0, 1, -1}, {0, 0, 0}};
static const double even[3] = {1, 1, 1};

static cvk_status estimate(const cvk_log *log)
{
    return cvk_estimate_logs(&log, 1, &options, &result);
}

static bool has_finding(const char *words)
{
    for (size_t n = 0; n < result.findings; n++) {
        if (strstr(result.finding[n].text, words) != NULL) {
            return true;
        }
    }
    return false;
}

static void assert_flux(double per_cent)
{
    const cvk_card_entry *e = &result.card.entry[CVK_CARD_FLUX_LINKAGE];
    ck_assert_msg(e->known, "flux linkage is missing: %s", e->missing);
    ck_assert_msg(fabs(e->value / FLUX_WB - 1.0) < 0.01 * per_cent, "flux linkage %g", e->value);
    ck_assert(e->low <= FLUX_WB && e->high >= FLUX_WB);
}

START_TEST(voltages_alone_show_the_flux_linkage)
{
    coast_down();
    const cvk_log logs[] = {log_of(CVK_COLUMN_VAB, 3, lines, even)};
    ck_assert_int_eq(estimate(&logs[0]), CVK_OK);
    ck_assert(has_finding("its currents for zero"));
    assert_flux(0.1);
    const double three = result.card.entry[CVK_CARD_FLUX_LINKAGE].high;
    const cvk_log terminals = log_of(CVK_COLUMN_VA, 3, phases, even);
    ck_assert_int_eq(estimate(&terminals), CVK_OK);
    assert_flux(0.1);
    const cvk_log two = log_of(CVK_COLUMN_VAB, 2, lines, even);
    ck_assert_int_eq(estimate(&two), CVK_OK);
    assert_flux(0.1);
    /* the mismatch of two channels cannot be seen */
    ck_assert_double_gt(result.card.entry[CVK_CARD_FLUX_LINKAGE].high, three * 1.0005);
    const cvk_log pair = log_of(CVK_COLUMN_VA, 2, against_c, even);
    ck_assert_int_eq(estimate(&pair), CVK_OK);
    ck_assert(has_finding("against the third terminal"));
    assert_flux(0.1);
    const cvk_log star = log_of(CVK_COLUMN_VA, 2, phases, even);
    ck_assert_int_eq(estimate(&star), CVK_OK);
    ck_assert(has_finding("against the star point"));
    assert_flux(0.1);
}
END_TEST

/* Three channels show their gains against each other: only the mean one stays in the value. */
START_TEST(gains_of_voltage_channels_are_corrected)
{
    static const double gain[3] = {1.02, 0.99, 0.99};
    coast_down();
    const cvk_log log = log_of(CVK_COLUMN_VAB, 3, lines, gain);
    ck_assert_int_eq(estimate(&log), CVK_OK);
    ck_assert(has_finding("voltage channels differ in gain (+2."));
    assert_flux(0.1);
    const cvk_log terminals = log_of(CVK_COLUMN_VA, 3, phases, gain);
    ck_assert_int_eq(estimate(&terminals), CVK_OK);
    assert_flux(0.1);
}
END_TEST

/* A switching voltage without currents is no coast-down; nor is one whose current was left out. */
START_TEST(a_driven_motor_needs_its_currents)
{
    coast_down();
    cvk_log log = log_of(CVK_COLUMN_VA, 3, phases, even);
    for (int n = 0; n < 3; n++) {
        for (size_t k = 0; k < ROWS; k++) { /* samples of a PWM at random places */
            column[n][k] = uniform() + 0.5 < 0.5 + v[n][k] / 24.0 ? 24.0 : 0.0;
        }
    }
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding("needs its currents") || has_finding("the voltages switch"));
    log = log_of(CVK_COLUMN_VA, 3, phases, even);
    for (int n = 0; n < 3; n++) {
        for (size_t k = 0; k < ROWS; k++) { /* a load that grows: its drop is in the voltage */
            column[n][k] *= 1.0 + 0.3 * (double)k / ROWS;
        }
    }
    (void)!estimate(&log);
    ck_assert(!result.card.entry[CVK_CARD_FLUX_LINKAGE].known);
    ck_assert(has_finding("currents did flow"));
}
END_TEST

/* Probes that cannot go below zero: a third of each channel's rows is gone, silently. */
START_TEST(clipped_voltages_are_refused)
{
    coast_down();
    cvk_log log = log_of(CVK_COLUMN_VA, 3, phases, even);
    for (size_t k = 0; k < ROWS; k++) {
        const double lowest = fmin(fmin(column[0][k], column[1][k]), column[2][k]);
        for (int n = 0; n < 3; n++) { /* the lowest terminal sits on its diode */
            column[n][k] = fmax(column[n][k] - lowest - 0.55, 0.0);
        }
    }
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding("clipped"));
    ck_assert_ptr_nonnull(strstr(result.card.entry[CVK_CARD_FLUX_LINKAGE].missing, "clipped"));
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, voltages_alone_show_the_flux_linkage);
    tcase_add_test(tests, gains_of_voltage_channels_are_corrected);
    tcase_add_test(tests, a_driven_motor_needs_its_currents);
    tcase_add_test(tests, clipped_voltages_are_refused);
}

int main(void)
{
    return run_suite("open_circuit", add);
}
