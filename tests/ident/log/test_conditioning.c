/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs as they come: switching visible, uneven time, one current with the bus current, two
 * terminals, columns under wrong names. The motor is a second model, written here: a winding at
 * standstill behind an inverter that really switches.
 */
#include "corvak/ident/estimate.h"
#include "corvak/ident/examine.h"
#include "noise.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <stdint.h>
#include <string.h>

enum { PERIODS = 6000, PER_PERIOD = 40, ROWS = PERIODS * PER_PERIOD };
#define TWO_PI 6.283185307179586
#define PWM_S 50e-6
#define BUS_V 24.0
#define R_OHM 0.5
#define L_H 0.8e-3

static cvk_estimate result;
static cvk_examination examination;
static const cvk_estimate_options options = {-1.0, -1.0, 500.0, 0.0, 0, 1, NULL};

static double column[8][ROWS]; /* t, ia ib ic, va vb vc, spare */

/* Voltage of the program in a PWM period: levels of both signs along three directions, then square
 * waves. */
static double level_of(size_t period, double *direction)
{
    static const double shares[] = {1.0, -1.0, 0.6, -0.6, 0.3, -0.3};
    const size_t part = period / 200;
    *direction = (double)(part / 6 % 3) * TWO_PI / 3.0;
    if (part < 18) {
        return 3.0 * shares[part % 6];
    }
    *direction = part < 24 ? 0.0 : TWO_PI / 4.0;
    return (period / 10) % 2 == 0 ? 4.0 : -4.0;
}

/* Share of sample s of a period in which a centred pulse of this duty is high. */
static double high_share(double duty, int s)
{
    double from = 0.5 * (1.0 - duty) * PER_PERIOD, to = 0.5 * (1.0 + duty) * PER_PERIOD;
    double low = fmax(from, s), high = fmin(to, s + 1.0);
    return high > low ? high - low : 0.0;
}

/* Fills the columns: the scope's samples are means over their interval. */
static cvk_log scope_log(double noise_a)
{
    double i[2] = {0.0, 0.0};
    const double step = PWM_S / PER_PERIOD, keep = exp(-R_OHM * step / L_H);
    lcg = 99;
    for (size_t row = 0; row < ROWS; row++) {
        double direction, v[3], level = level_of(row / PER_PERIOD, &direction);
        for (int n = 0; n < 3; n++) {
            double duty = 0.5 + level * cos(direction - n * TWO_PI / 3.0) / BUS_V;
            v[n] = BUS_V * high_share(duty, (int)(row % PER_PERIOD));
            double along = i[0] * cos(n * TWO_PI / 3.0) + i[1] * sin(n * TWO_PI / 3.0);
            column[1 + n][row] = along + noise_a * uniform();
            column[4 + n][row] = v[n];
        }
        column[0][row] = (double)row * step;
        const double alpha = (2.0 * v[0] - v[1] - v[2]) / 3.0, beta = (v[1] - v[2]) / sqrt(3.0);
        i[0] = keep * i[0] + (1.0 - keep) / R_OHM * alpha;
        i[1] = keep * i[1] + (1.0 - keep) / R_OHM * beta;
    }
    cvk_log log = cvk_log_empty("scope");
    log.rows = ROWS;
    for (int c = 0; c < 3; c++) {
        log.column[CVK_COLUMN_IA + c] = column[1 + c];
        log.column[CVK_COLUMN_VA + c] = column[4 + c];
    }
    log.column[CVK_COLUMN_T] = column[0];
    return log;
}

static bool has_finding(const cvk_estimate *e, cvk_severity severity, const char *words)
{
    for (size_t n = 0; n < e->findings; n++) {
        if (e->finding[n].severity == severity && strstr(e->finding[n].text, words) != NULL) {
            return true;
        }
    }
    return false;
}

static void assert_near(cvk_card_key key, double truth, double per_cent)
{
    const cvk_card_entry *entry = &result.card.entry[key];
    ck_assert_msg(entry->known, "%s is missing: %s", cvk_card_key_name(key), entry->missing);
    double off = 100.0 * (entry->value / truth - 1.0);
    ck_assert_msg(fabs(off) <= per_cent, "%s is %g, %.2f %% off", cvk_card_key_name(key),
                  entry->value, off);
}

static cvk_status estimate(const cvk_log *log)
{
    return cvk_estimate_logs(&log, 1, &options, &result);
}

START_TEST(visible_switching_is_averaged)
{
    const cvk_log log = scope_log(0.02);
    ck_assert_int_eq(estimate(&log), CVK_OK);
    ck_assert(has_finding(&result, CVK_NOTE, "averaged over the PWM period"));
    ck_assert(has_finding(&result, CVK_NOTE, "20 kHz"));
    assert_near(CVK_CARD_RESISTANCE, R_OHM, 1.5);
    assert_near(CVK_CARD_INDUCTANCE_D, L_H, 3.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, L_H, 3.0);
    ck_assert_double_eq_tol(result.card.entry[CVK_CARD_DELAY].value, 0.0, 0.05);
    ck_assert_int_eq(cvk_examine_log(&log, &options, &examination), CVK_OK);
    ck_assert_double_eq_tol(examination.pwm_hz, 20e3, 20.0);
}
END_TEST

enum { PROBE_RATES = 5 };

/* `truth` lies in the interval, which is no wider than `share` of it to either side. */
static void assert_holds(const cvk_card_entry *entry, double truth, double share)
{
    ck_assert_msg(entry->known && truth >= entry->low && truth <= entry->high &&
                      entry->high - entry->low < 2.0 * share * truth,
                  "%g is not in %g .. %g, or that is too wide", truth, entry->low, entry->high);
}

/* Between terminals a and b with c open, as a bench scope with two probes sees it. */
START_TEST(two_terminals_show_resistance_and_inductance)
{
    /* from a fast scope to a slow logger */
    static const double periods_s[PROBE_RATES] = {2e-6, 10e-6, 20e-6, 50e-6, 100e-6};
    double i = 0.0;
    const double period = periods_s[_i], keep = exp(-R_OHM * period / L_H);
    const size_t hold = (size_t)ceil(40e-6 / period); /* rows of a step of the program */
    const size_t rows = 4800u * hold < ROWS ? 4800u * hold : ROWS;
    lcg = 7;
    for (size_t k = 0; k < rows; k++) {
        double direction;
        column[0][k] = (double)k * period;
        column[4][k] = level_of(k / hold, &direction);
        column[1][k] = i + 0.01 * uniform();
        i = keep * i + (1.0 - keep) / (2.0 * R_OHM) * column[4][k];
    }
    cvk_log log = cvk_log_empty("probes");
    log.rows = rows;
    log.column[CVK_COLUMN_T] = column[0];
    log.column[CVK_COLUMN_IA] = column[1];
    log.column[CVK_COLUMN_VAB] = column[4];
    cvk_status status = estimate(&log);
    ck_assert_msg(status == CVK_OK, "%s",
                  result.findings > 0 ? result.finding[result.findings - 1].text : "");
    ck_assert(has_finding(&result, CVK_NOTE, "between terminals a and b"));
    assert_near(CVK_CARD_RESISTANCE, R_OHM, 1.5);
    /* what was seen is the inductance between two terminals: of neither axis */
    ck_assert(!result.card.entry[CVK_CARD_INDUCTANCE_D].known);
    ck_assert(!result.card.entry[CVK_CARD_INDUCTANCE_Q].known);
    ck_assert_uint_eq(result.line_readings, 1);
    const cvk_line_reading *reading = &result.line_reading[0];
    ck_assert_str_eq(reading->terminals, "ab");
    assert_holds(&reading->resistance, 2.0 * R_OHM, 0.02);
    assert_holds(&reading->inductance, 2.0 * L_H, 0.03);
}
END_TEST

/* The same two probes with the switching visible: averaged first, then completed. */
START_TEST(two_probes_of_a_scope_show_the_resistance)
{
    double i = 0.0;
    const double step = PWM_S / PER_PERIOD, keep = exp(-R_OHM * step / L_H);
    lcg = 8;
    for (size_t row = 0; row < ROWS; row++) {
        double direction, level = level_of(row / PER_PERIOD, &direction) / BUS_V;
        column[0][row] = (double)row * step;
        column[1][row] = i + 0.01 * uniform();
        column[4][row] = BUS_V * high_share(0.5 + 0.5 * level, (int)(row % PER_PERIOD));
        column[5][row] = BUS_V * high_share(0.5 - 0.5 * level, (int)(row % PER_PERIOD));
        i = keep * i + (1.0 - keep) / (2.0 * R_OHM) * (column[4][row] - column[5][row]);
    }
    cvk_log log = cvk_log_empty("scope");
    log.rows = ROWS;
    log.column[CVK_COLUMN_T] = column[0];
    log.column[CVK_COLUMN_IA] = column[1];
    log.column[CVK_COLUMN_VA] = column[4];
    log.column[CVK_COLUMN_VB] = column[5];
    ck_assert_int_eq(estimate(&log), CVK_OK);
    ck_assert(has_finding(&result, CVK_NOTE, "averaged over the PWM period"));
    ck_assert(has_finding(&result, CVK_NOTE, "between terminals a and b"));
    assert_near(CVK_CARD_RESISTANCE, R_OHM, 1.5);
}
END_TEST

/* Measured voltages at uneven times are brought to an even grid; commanded ones are not touched. */
START_TEST(uneven_times_are_resampled)
{
    const cvk_rig_config rig = studio_rig("wheel");
    recording r;
    record(&r, &rig, "coast", 5, false);
    ck_assert_uint_gt(r.log.rows, 1);
    double *t = calloc(r.log.rows, sizeof *t);
    ck_assert_ptr_nonnull(t);
    double *uneven[3];
    lcg = 5;
    for (size_t k = 0; k < r.log.rows; k++) {
        t[k] = r.log.column[CVK_COLUMN_T][k];
    }
    for (int c = 0; c < 3; c++) {
        uneven[c] = malloc(r.log.rows * sizeof *t);
        ck_assert_ptr_nonnull(uneven[c]);
    }
    const double period = t[1] - t[0];
    for (size_t k = 0; k < r.log.rows; k++) {
        double shift = k > 0 && k + 1 < r.log.rows ? 0.5 * uniform() : 0.0;
        t[k] += shift * period;
        for (int c = 0; c < 3; c++) {
            const double *v = r.log.column[CVK_COLUMN_VA + c];
            size_t to = shift > 0.0 ? k + 1 : (k > 0 ? k - 1 : 0);
            uneven[c][k] = v[k] + fabs(shift) * (v[to < r.log.rows ? to : k] - v[k]);
        }
    }
    r.log.column[CVK_COLUMN_T] = t;
    for (int c = 0; c < 3; c++) {
        r.log.column[CVK_COLUMN_VA + c] = uneven[c];
    }
    ck_assert_int_eq(estimate(&r.log), CVK_OK);
    ck_assert(has_finding(&result, CVK_NOTE, "resampled to an even grid"));
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.7);
    recording_free(&r);
    free(t);
    for (int c = 0; c < 3; c++) {
        free(uneven[c]);
    }
}
END_TEST

/* One phase current and the bus current of an inverter do where the duties differ. */
START_TEST(bus_current_stands_in_for_a_phase)
{
    const cvk_rig_config rig = studio_rig("mixer");
    recording r;
    record(&r, &rig, "spin", 3, true);
    double *bus = calloc(r.log.rows, sizeof *bus);
    ck_assert_ptr_nonnull(bus);
    for (size_t k = 0; k < r.log.rows; k++) {
        for (int c = 0; c < 3; c++) {
            bus[k] += r.log.column[CVK_COLUMN_DUTY_A + c][k] * r.log.column[CVK_COLUMN_IA + c][k];
        }
    }
    r.log.column[CVK_COLUMN_IDC] = bus;
    r.log.column[CVK_COLUMN_IB] = r.log.column[CVK_COLUMN_IC] = NULL;
    ck_assert_int_eq(estimate(&r.log), CVK_OK);
    ck_assert(has_finding(&result, CVK_NOTE, "taken from the bus current"));
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 2.0);
    recording_free(&r);
    free(bus);
}
END_TEST

/* Every exchange of two current columns, the cycles and the sign are named, not estimated through.
 */
START_TEST(wrong_names_are_told)
{
    static const struct {
        int from[3]; /* column a gets the phase from[0] */
        double sign;
        const char *phases;
    } cases[] = {{{1, 0, 2}, 1.0, "bac"}, {{0, 2, 1}, 1.0, "acb"}, {{2, 1, 0}, 1.0, "cba"},
                 {{1, 2, 0}, 1.0, "bca"}, {{2, 0, 1}, 1.0, "cab"}, {{0, 1, 2}, -1.0, "abc"},
                 {{0, 1, 2}, 1.0, "abc"}};
    const cvk_rig_config rig = studio_rig("wheel");
    recording r;
    record(&r, &rig, "spin", 4, false);
    double *copy = malloc(3 * r.log.rows * sizeof *copy);
    ck_assert_ptr_nonnull(copy);
    cvk_log log = r.log;
    for (int c = 0; c < 3; c++) {
        const double *from = r.log.column[CVK_COLUMN_IA + cases[_i].from[c]];
        for (size_t k = 0; k < log.rows; k++) {
            copy[(size_t)c * log.rows + k] = cases[_i].sign * from[k];
        }
        log.column[CVK_COLUMN_IA + c] = copy + (size_t)c * log.rows;
    }
    const bool right = _i == 6;
    ck_assert_int_eq(cvk_examine_log(&log, &options, &examination),
                     right ? CVK_OK : CVK_NOT_IN_LOG);
    ck_assert_int_eq(examination.miswired, !right);
    ck_assert_str_eq(examination.phase, cases[_i].phases);
    ck_assert_int_eq(examination.inverted, cases[_i].sign < 0.0);
    const char *told =
        cases[_i].sign < 0.0 ? "gives power back all through" : "do not belong together";
    ck_assert_int_eq(has_finding(&examination.estimate, CVK_ERROR, told), !right);
    recording_free(&r);
    free(copy);
}
END_TEST

START_TEST(an_inverted_channel_is_named)
{
    cvk_log log = scope_log(0.02);
    for (size_t k = 0; k < ROWS; k++) {
        column[7][k] = -column[2][k];
    }
    log.column[CVK_COLUMN_IB] = column[7];
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding(&result, CVK_ERROR, "ib is inverted"));
}
END_TEST

/* What the rig has put into its channels is what the examination reports. */
START_TEST(examination_finds_what_the_rig_put_in)
{
    cvk_rig_config rig = studio_rig("wheel");
    rig.sensing.current_noise_a = 0.05;
    recording r;
    record(&r, &rig, "standstill", 8, false);
    ck_assert_int_eq(cvk_examine_log(&r.log, &options, &examination), CVK_OK);
    const cvk_channel_health *ia = &examination.channel[1];
    ck_assert_int_eq(ia->column, CVK_COLUMN_IA);
    ck_assert_double_eq_tol(ia->noise, 0.05, 0.008);
    ck_assert_double_eq_tol(ia->step, 2.0 * rig.sensing.current_range_a / 4096.0, 1e-3);
    ck_assert_double_eq_tol(examination.period_s, 50e-6, 1e-9);
    ck_assert_uint_eq(examination.gaps, 0);
    ck_assert_double_lt(cvk_examine_hope(&examination, CVK_CARD_RESISTANCE), 0.02);
    ck_assert(isnan(cvk_examine_hope(&examination, CVK_CARD_FLUX_LINKAGE)));
    recording_free(&r);
}
END_TEST

/* One row in forty is lost or has an empty cell: bridged, with a word about it. */
START_TEST(many_short_holes_are_bridged)
{
    const cvk_rig_config rig = studio_rig("wheel");
    recording r;
    record(&r, &rig, "standstill", 12, false);
    double *columns[CVK_COLUMN_COUNT] = {NULL};
    size_t kept = 0;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        const double *from = r.log.column[c];
        columns[c] = from != NULL ? calloc(r.log.rows + 1, sizeof(double)) : NULL;
        kept = 0;
        for (size_t k = 0; k < r.log.rows; k++) {
            if (from != NULL) {
                columns[c][kept] = c == CVK_COLUMN_IB && k % 80 == 41 ? NAN : from[k];
            }
            kept += k % 80 != 1;
        }
    }
    cvk_log log = r.log;
    log.rows = kept;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        log.column[c] = columns[c];
    }
    ck_assert_int_eq(estimate(&log), CVK_OK);
    ck_assert(has_finding(&result, CVK_WARNING, "bridged by straight lines"));
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig), 1.5);
    assert_near(CVK_CARD_INDUCTANCE_D, rig.motor.inductance_d_h, 3.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h, 3.0);
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        free(columns[c]);
    }
    recording_free(&r);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, many_short_holes_are_bridged);
    tcase_add_test(tests, visible_switching_is_averaged);
    tcase_add_loop_test(tests, two_terminals_show_resistance_and_inductance, 0, PROBE_RATES);
    tcase_add_test(tests, two_probes_of_a_scope_show_the_resistance);
    tcase_add_test(tests, uneven_times_are_resampled);
    tcase_add_test(tests, bus_current_stands_in_for_a_phase);
    tcase_add_loop_test(tests, wrong_names_are_told, 0, 7);
    tcase_add_test(tests, an_inverted_channel_is_named);
    tcase_add_test(tests, examination_finds_what_the_rig_put_in);
}

int main(void)
{
    return run_suite("conditioning", add);
}
