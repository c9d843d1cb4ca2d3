/* SPDX-License-Identifier: Apache-2.0
 *
 * The estimators, on logs of the simulated wheel with all imperfections and on logs from a second,
 * independent model written here: another curve of the inverter's voltage, other delays, terminal
 * voltages, other columns.
 */
#include "corvak/ident/estimate.h"
#include "corvak/rig/rig.h"
#include "noise.h"
#include "recording.h"
#include "suite.h"

#include <complex.h>
#include <math.h>
#include <stdio.h>
#include <string.h>

#define TWO_PI 6.283185307179586

static cvk_estimate result;
static const cvk_estimate_options options = {-1.0, -1.0, 500.0, 0.0, 0, 1, NULL};

static cvk_status estimate(const cvk_log *log)
{
    return cvk_estimate_logs(&log, 1, &options, &result);
}

static void assert_near(cvk_card_key key, double truth, double per_cent)
{
    const cvk_card_entry *entry = &result.card.entry[key];
    ck_assert_msg(entry->known, "%s is missing: %s", cvk_card_key_name(key), entry->missing);
    double off = 100.0 * (entry->value / truth - 1.0);
    ck_assert_msg(fabs(off) <= per_cent, "%s is %g, %.2f %% off", cvk_card_key_name(key),
                  entry->value, off);
    ck_assert_msg(entry->low <= entry->statistical_low && entry->high >= entry->statistical_high,
                  "%s: the statistical interval is wider than the total", cvk_card_key_name(key));
}

static bool has_finding(cvk_severity severity, const char *words)
{
    for (size_t n = 0; n < result.findings; n++) {
        if (result.finding[n].severity == severity &&
            strstr(result.finding[n].text, words) != NULL) {
            return true;
        }
    }
    return false;
}

/* ---- the simulated wheel --------------------------------------------------------------------- */

/* The inverter's own voltage approaches its full value slowly, as 1 - 1/(2 x): a log of levels up
 * to some current leaves part of it open, which its interval must say. */
static void assert_dead_time_voltage(double truth)
{
    const cvk_card_entry *entry = &result.card.entry[CVK_CARD_DEAD_TIME_VOLTAGE];
    bool inside = truth >= entry->low && truth <= entry->high;
    ck_assert_msg(inside || fabs(entry->value / truth - 1.0) < 0.04, "%g, not %g", entry->value,
                  truth);
}

/* Each motor of the studio, all imperfections on: every value within its bar. The intervals do not
 * count iron loss yet: without it, and without the gain errors that no log can show, the truth lies
 * inside nearly all. */
START_TEST(studio_is_estimated_within_the_bars)
{
    static const char *const names[] = {"wheel", "blower", "mixer", "table"};
    static const double bars[] = {1.5, 3.0, 3.0, 0.7};
    cvk_rig_config rig = studio_rig(names[_i]);
    const double truths[] = {cvk_rig_visible_resistance(&rig), rig.motor.inductance_d_h,
                             rig.motor.inductance_q_h, rig.motor.flux_linkage_wb};
    int inside = 0;
    for (unsigned run = 0; run < 3; run++) {
        const uint64_t seed = 20 + run + 10 * (unsigned)_i; /* other gain errors for each motor */
        recording r[3];
        rig.imperfections.iron_loss = run < 1;
        rig.imperfections.current_gain = rig.imperfections.voltage_gain = run < 1;
        record(&r[0], &rig, "standstill", seed, false);
        record(&r[1], &rig, "spin", seed, true);
        record(&r[2], &rig, "coast", seed, false);
        const cvk_log *logs[] = {&r[0].log, &r[1].log, &r[2].log};
        ck_assert_int_eq(cvk_estimate_logs(logs, 3, &options, &result), CVK_OK);
        for (int key = 0; key <= CVK_CARD_FLUX_LINKAGE; key++) {
            assert_near((cvk_card_key)key, truths[key], bars[key]);
            inside += run >= 1 && truths[key] >= result.card.entry[key].low &&
                      truths[key] <= result.card.entry[key].high;
        }
        ck_assert_double_eq(result.card.entry[CVK_CARD_POLE_PAIRS].value, rig.motor.pole_pairs);
        ck_assert_double_gt(result.card.entry[CVK_CARD_POLE_PAIRS].probability, 0.99);
        assert_dead_time_voltage(cvk_rig_dead_time_voltage(&rig));
        ck_assert_double_eq_tol(result.card.entry[CVK_CARD_DELAY].value, 1.0, 0.02);
        for (int n = 0; n < 3; n++) {
            recording_free(&r[n]);
        }
    }
    ck_assert_int_ge(inside, 7);
}
END_TEST

/* Twice as much saturation as in the studio: small-current inductances all the same, and a note. */
START_TEST(saturation_is_seen_and_told)
{
    cvk_rig_config rig = studio_rig("wheel");
    rig.motor.saturation_q_a = 22;
    rig.motor.saturation_d_a = 35;
    recording r;
    record(&r, &rig, "standstill", 6, false);
    const cvk_log *logs[] = {&r.log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
    assert_near(CVK_CARD_INDUCTANCE_D, rig.motor.inductance_d_h, 3.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h, 3.0);
    ck_assert(has_finding(CVK_NOTE, "inductance q falls by "));
    rig.imperfections.saturation = 0;
    recording_free(&r);
    record(&r, &rig, "standstill", 6, false);
    const cvk_log *plain[] = {&r.log};
    ck_assert_int_eq(cvk_estimate_logs(plain, 1, &options, &result), CVK_OK);
    ck_assert(!has_finding(CVK_NOTE, "inductance q falls by"));
    recording_free(&r);
}
END_TEST

/* The card's cross-saturation by the rig's flux map at small current. */
static double cross_of(const cvk_rig_config *rig)
{
    const double i_q = 0.02 * rig->motor.saturation_q_a;
    double none_d, none_q, here_d, here_q;
    cvk_rig_flux_at(rig, 0.0, 0.0, &none_d, &none_q);
    cvk_rig_flux_at(rig, 0.0, i_q, &here_d, &here_q);
    return 2.0 * (none_d - here_d) / (i_q * i_q) /
           (0.5 * (rig->motor.inductance_d_h + rig->motor.inductance_q_h));
}

/* Wherever the rotor rests: how a q current couples the axes, and its sign. */
START_TEST(cross_saturation_is_seen)
{
    static const char *const motors[] = {"wheel", "mixer", "table"};
    const cvk_rig_config rig = studio_rig(motors[_i]);
    const double truth = cross_of(&rig);
    recording r;
    for (uint64_t seed = 20; seed < 22; seed++) {
        record(&r, &rig, "standstill", seed, false);
        const cvk_log *logs[] = {&r.log};
        ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
        const cvk_card_entry *cross = &result.card.entry[CVK_CARD_CROSS];
        ck_assert(cross->known && cross->low > 0.0);
        ck_assert_double_lt(cross->low, truth);
        ck_assert_double_gt(cross->high, truth);
        recording_free(&r);
    }
}
END_TEST

/* Amperes within a period: what the legs lose depends on the current at their edges. */
START_TEST(few_microhenry_on_a_switched_inverter)
{
    cvk_rig_config rig = studio_rig("blower");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    rig.sensing.current_gain_tolerance = rig.sensing.voltage_gain_tolerance = 0.0;
    rig.motor.resistance_ohm = 5e-3;
    rig.motor.inductance_d_h = rig.motor.inductance_q_h = 4e-6;
    recording r;
    record(&r, &rig, "standstill", 2, false);
    const cvk_log *logs[] = {&r.log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig), 2.0);
    assert_near(CVK_CARD_INDUCTANCE_D, 4e-6, 1.5);
    assert_near(CVK_CARD_INDUCTANCE_Q, 4e-6, 1.5);
    recording_free(&r);
}
END_TEST

/* The last quarter of a standstill log, with currents of a few amperes: each curve of the inverter
 * has its own idea of resistance and saturation, which is a doubt and must not move either. */
START_TEST(a_part_of_a_standstill_log_is_enough)
{
    cvk_rig_config rig = studio_rig("wheel");
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    rig.imperfections.saturation = 0;
    rig.motor.inductance_d_h = rig.motor.inductance_q_h = 69e-6;
    recording r;
    record(&r, &rig, "standstill", 1, false);
    const size_t cut = r.log.rows / 4u * 3u;
    const cvk_log part = part_of_log(&r.log, cut, r.log.rows - cut);
    const cvk_log *logs[] = {&part};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&rig), 3.0);
    assert_near(CVK_CARD_INDUCTANCE_D, 69e-6, 1.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, 69e-6, 1.0);
    recording_free(&r);
}
END_TEST

/* Turning fast at a current that saturates: the flux circle leaves the inductances where standstill
 * has seen them. */
START_TEST(saturation_does_not_bend_the_circle)
{
    cvk_rig_config rig = studio_rig("wheel");
    rig.motor.saturation_q_a = 16;
    recording r[2];
    record(&r[0], &rig, "standstill", 6, false);
    record(&r[1], &rig, "spin", 6, false);
    const cvk_log *logs[] = {&r[0].log, &r[1].log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 2, &options, &result), CVK_OK);
    assert_near(CVK_CARD_INDUCTANCE_D, rig.motor.inductance_d_h, 3.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h, 3.0);
    assert_near(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, 0.7);
    recording_free(&r[0]);
    recording_free(&r[1]);
}
END_TEST

/* A coast-down alone: flux linkage and, from the pattern of unequal magnets, pole pairs; what it
 * cannot show is named. */
START_TEST(coast_alone_gives_flux_and_pole_pairs)
{
    cvk_rig_config wheel = studio_rig("wheel");
    wheel.sensing.current_offset_a = 2.0; /* an offset is no current */
    recording r;
    record(&r, &wheel, "coast", 3, false);
    ck_assert_int_eq(estimate(&r.log), CVK_OK);
    assert_near(CVK_CARD_FLUX_LINKAGE, wheel.motor.flux_linkage_wb, 0.7);
    ck_assert_double_eq(result.card.entry[CVK_CARD_POLE_PAIRS].value, 12.0);
    ck_assert(!result.card.entry[CVK_CARD_RESISTANCE].known);
    ck_assert_ptr_nonnull(strstr(result.card.entry[CVK_CARD_RESISTANCE].missing, "standstill"));
    ck_assert_ptr_nonnull(strstr(result.card.entry[CVK_CARD_INDUCTANCE_D].missing, "directions"));
    recording_free(&r);
}
END_TEST

/* Equal magnets leave no pattern: no number is invented. */
START_TEST(equal_magnets_show_no_pole_pairs)
{
    cvk_rig_config wheel = studio_rig("wheel");
    wheel.motor.magnet_spread = 0.0;
    recording r;
    record(&r, &wheel, "coast", 3, false);
    ck_assert_int_eq(estimate(&r.log), CVK_OK);
    ck_assert(!result.card.entry[CVK_CARD_POLE_PAIRS].known);
    ck_assert_ptr_nonnull(strstr(result.card.entry[CVK_CARD_POLE_PAIRS].missing, "by hand"));
    recording_free(&r);
}
END_TEST

START_TEST(standstill_alone_names_what_it_cannot_show)
{
    const cvk_rig_config wheel = studio_rig("wheel");
    recording r;
    record(&r, &wheel, "standstill", 9, false);
    const cvk_log *log = &r.log;
    static cvk_estimate_curves curves;
    cvk_estimate_options drawn = options;
    drawn.curves = &curves;
    ck_assert_int_eq(cvk_estimate_logs(&log, 1, &drawn, &result), CVK_OK);
    const cvk_card_entry with_curves = result.card.entry[CVK_CARD_RESISTANCE];
    ck_assert_uint_gt(curves.step.points, 20);
    ck_assert_uint_gt(curves.line.points, 10);
    ck_assert_int_eq(estimate(&r.log), CVK_OK); /* alike without them */
    ck_assert_double_eq(result.card.entry[CVK_CARD_RESISTANCE].value, with_curves.value);
    ck_assert_double_eq(result.card.entry[CVK_CARD_RESISTANCE].low, with_curves.low);
    assert_near(CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(&wheel), 1.5);
    ck_assert(!result.card.entry[CVK_CARD_FLUX_LINKAGE].known);
    ck_assert_ptr_nonnull(strstr(result.card.entry[CVK_CARD_FLUX_LINKAGE].missing, "spin"));
    recording_free(&r);
}
END_TEST

/* The tolerance of the channels widens the interval but not its statistical part. */
START_TEST(scale_tolerance_is_kept_apart)
{
    const cvk_rig_config wheel = studio_rig("wheel");
    recording r;
    record(&r, &wheel, "standstill", 4, false);
    const cvk_log *logs[] = {&r.log};
    cvk_estimate_options none = options, wide = options;
    none.current_gain_tolerance = none.voltage_gain_tolerance = 0.0;
    wide.current_gain_tolerance = 0.05;
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &none, &result), CVK_OK);
    cvk_card_entry sharp = result.card.entry[CVK_CARD_RESISTANCE];
    ck_assert_double_eq(sharp.low, sharp.statistical_low);
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &wide, &result), CVK_OK);
    cvk_card_entry loose = result.card.entry[CVK_CARD_RESISTANCE];
    ck_assert_double_eq(loose.statistical_low, sharp.statistical_low);
    ck_assert_double_gt((loose.high - loose.low) / loose.value, 0.09);
    recording_free(&r);
}
END_TEST

/* The shaft was not held: the rotor turns to and fro, and nothing is made up from that. */
START_TEST(a_rotor_that_moves_is_noticed)
{
    const cvk_rig_config rig = studio_rig("mixer");
    recording r;
    record_with(&r, &rig, "standstill", 2, false, true);
    cvk_status status = estimate(&r.log);
    ck_assert(status == CVK_OK || status == CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_WARNING, "did the rotor move?"));
    ck_assert(!result.card.entry[CVK_CARD_RESISTANCE].known);
    ck_assert(!result.card.entry[CVK_CARD_INDUCTANCE_Q].known);
    ck_assert_ptr_nonnull(strstr(result.card.entry[CVK_CARD_RESISTANCE].missing, "hold the shaft"));
    recording_free(&r);
}
END_TEST

/* ---- an independent model -------------------------------------------------------------------- */

enum { MODEL_ROWS = 24000, FINE = 10 };

typedef struct model {
    double r, l_d, l_q, angle, dead_v, knee, delay, period; /* delay in periods */
    double noise, offset;
    bool tanh_curve;
} model;

static struct {
    double t[MODEL_ROWS], i[3][MODEL_ROWS], v[3][MODEL_ROWS], theta[MODEL_ROWS];
} columns;

/* Levels of both signs along three directions, then square waves along two. */
static double complex program(size_t row, double level_v, double square_v)
{
    static const double shares[] = {1.0, -1.0, 0.6, -0.6, 0.3, -0.3};
    size_t part = row / 800;
    if (part < 18) {
        return level_v * shares[part % 6] * cexp(I * (double)(part / 6) * TWO_PI / 3.0);
    }
    double sign = (row / 8) % 2 == 0 ? 1.0 : -1.0;
    return square_v * sign * cexp(I * (part < 24 ? 0.0 : TWO_PI / 4.0));
}

static void phases(double complex x, double out[3])
{
    for (int n = 0; n < 3; n++) {
        out[n] = creal(x * cexp(-I * n * TWO_PI / 3.0));
    }
}

static double complex inverter(const model *m, double complex i)
{
    double phase[3];
    double complex sum = 0.0;
    phases(i, phase);
    for (int n = 0; n < 3; n++) {
        double x = phase[n] / m->knee;
        double share = m->tanh_curve ? tanh(x) : x / (1.0 + fabs(x));
        sum += 2.0 / 3.0 * m->dead_v * share * cexp(I * n * TWO_PI / 3.0);
    }
    return sum;
}

/* A log of what is in the columns. */
static cvk_log model_log(void)
{
    cvk_log log = cvk_log_empty("model");
    log.rows = MODEL_ROWS;
    log.column[CVK_COLUMN_T] = columns.t;
    for (int n = 0; n < 3; n++) {
        log.column[CVK_COLUMN_IA + n] = columns.i[n];
        log.column[CVK_COLUMN_VA + n] = columns.v[n];
    }
    return log;
}

/* Simulates in steps of a tenth of a period and fills the columns. */
static cvk_log simulate(const model *m, double level_v, double square_v)
{
    double complex i = 0.0, axis = cexp(I * m->angle);
    lcg = 12345;
    for (size_t k = 0; k < MODEL_ROWS; k++) {
        double phase[3], command[3];
        phases(i, phase);
        phases(program(k, level_v, square_v), command);
        columns.t[k] = (double)k * m->period;
        for (int n = 0; n < 3; n++) {
            columns.i[n][k] = phase[n] + m->noise * noise() + m->offset * (n - 1.2);
            columns.v[n][k] = command[n] + 12.0;
        }
        for (int f = 0; f < FINE; f++) {
            double source = (double)k - m->delay + (double)f / FINE;
            double complex v =
                source < 0.0 ? 0.0 : program((size_t)floor(source + 1e-9), level_v, square_v);
            double complex slope = (v - m->r * i - inverter(m, i)) * conj(axis);
            i += m->period / FINE * (creal(slope) / m->l_d + I * cimag(slope) / m->l_q) * axis;
        }
    }
    return model_log();
}

static const model plain_model = {.r = 0.08,
                                  .l_d = 60e-6,
                                  .l_q = 110e-6,
                                  .angle = 0.9,
                                  .dead_v = 0.2,
                                  .knee = 0.5,
                                  .delay = 1.0,
                                  .period = 50e-6,
                                  .noise = 0.02,
                                  .offset = 0.1,
                                  .tanh_curve = true};

/* The delay is found wherever it lies, and L does not suffer from it. */
START_TEST(any_delay_is_found)
{
    static const double delays[] = {0.0, 0.5, 1.0, 1.7, 2.0};
    model m = plain_model;
    m.delay = delays[_i];
    cvk_log log = simulate(&m, 2.0, 6.0);
    ck_assert_int_eq(estimate(&log), CVK_OK);
    ck_assert_double_eq_tol(result.card.entry[CVK_CARD_DELAY].value, m.delay, 0.06);
    assert_near(CVK_CARD_RESISTANCE, m.r, 1.5);
    assert_near(CVK_CARD_INDUCTANCE_D, m.l_d, 3.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, m.l_q, 3.0);
}
END_TEST

/* A curve of the inverter's voltage that is none of the fitted ones, and none at all. */
START_TEST(resistance_does_not_absorb_the_inverter)
{
    model m = plain_model;
    cvk_log log = simulate(&m, 2.0, 6.0);
    ck_assert_int_eq(estimate(&log), CVK_OK);
    assert_near(CVK_CARD_RESISTANCE, m.r, 1.0);
    assert_near(CVK_CARD_DEAD_TIME_VOLTAGE, m.dead_v, 5.0);
    m.dead_v = 0.0;
    log = simulate(&m, 2.0, 6.0);
    ck_assert_int_eq(estimate(&log), CVK_OK);
    assert_near(CVK_CARD_RESISTANCE, m.r, 1.0);
    ck_assert_double_lt(fabs(result.card.entry[CVK_CARD_DEAD_TIME_VOLTAGE].value), 0.01);
}
END_TEST

START_TEST(two_currents_and_line_voltages_do)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    static double vab[MODEL_ROWS], vbc[MODEL_ROWS];
    for (size_t k = 0; k < MODEL_ROWS; k++) {
        vab[k] = columns.v[0][k] - columns.v[1][k];
        vbc[k] = columns.v[1][k] - columns.v[2][k];
        log.column[CVK_COLUMN_VA] = log.column[CVK_COLUMN_VB] = log.column[CVK_COLUMN_VC] = NULL;
    }
    log.column[CVK_COLUMN_VAB] = vab;
    log.column[CVK_COLUMN_VBC] = vbc;
    log.column[CVK_COLUMN_IB] = NULL;
    ck_assert_int_eq(estimate(&log), CVK_OK);
    assert_near(CVK_CARD_RESISTANCE, plain_model.r, 1.5);
    assert_near(CVK_CARD_INDUCTANCE_D, plain_model.l_d, 3.0);
    assert_near(CVK_CARD_INDUCTANCE_Q, plain_model.l_q, 3.0);
}
END_TEST

/* A motor that turns half a radian per sample behind an inverter that holds its voltage. The flux
 * linkages at the samples are exact: T v = psi(k+1) - psi(k) + R (integral of i). */
static cvk_log fast_log(const model *m, double flux, double pole_pairs)
{
    double angle = 0.3;
    for (size_t k = 0; k < MODEL_ROWS; k++) {
        double speed = k < MODEL_ROWS / 2 ? 10000.0 : 4000.0;
        double complex current = I * (k % 3000 < 1500 ? 4.0 : 8.0); /* dq */
        double complex now = cexp(I * angle), next = cexp(I * (angle + speed * m->period));
        double complex psi = m->l_q * current + flux + m->r * current / (I * speed);
        double i[3], v[3];
        phases(current * now, i);
        phases(psi * (next - now) / m->period + inverter(m, current * now), v);
        for (int n = 0; n < 3; n++) {
            columns.i[n][k] = i[n] + m->noise * noise();
            columns.v[n][k] = v[n] + 12.0;
        }
        columns.t[k] = (double)k * m->period;
        columns.theta[k] = fmod(angle / pole_pairs, TWO_PI);
        angle += speed * m->period;
    }
    cvk_log log = model_log();
    log.column[CVK_COLUMN_THETA_M] = columns.theta;
    return log;
}

START_TEST(half_a_radian_per_sample_is_no_problem)
{
    static double still[7][MODEL_ROWS];
    model m = plain_model;
    m.delay = 0.0;
    cvk_log standing = simulate(&m, 2.0, 6.0);
    for (int c = 0; c < 7; c++) { /* t, three currents, three voltages: out of the way */
        cvk_column column = (cvk_column)(CVK_COLUMN_T + c);
        memcpy(still[c], standing.column[column], sizeof still[c]);
        standing.column[column] = still[c];
    }
    cvk_log turning = fast_log(&m, 4e-3, 5.0);
    const cvk_log *logs[] = {&standing, &turning};
    ck_assert_int_eq(cvk_estimate_logs(logs, 2, &options, &result), CVK_OK);
    assert_near(CVK_CARD_FLUX_LINKAGE, 4e-3, 0.3);
    ck_assert_double_eq(result.card.entry[CVK_CARD_POLE_PAIRS].value, 5.0);
}
END_TEST

/* ---- awkward logs ---------------------------------------------------------------------------- */

START_TEST(gaps_and_nan_become_findings)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    for (size_t k = 9000; k < MODEL_ROWS; k++) {
        columns.t[k] += 0.01;
    }
    columns.i[1][5000] = NAN;
    columns.t[100] = columns.t[99];
    ck_assert_int_eq(estimate(&log), CVK_OK);
    ck_assert(has_finding(CVK_WARNING, "time jumps forward"));
    ck_assert(has_finding(CVK_WARNING, "empty or non-numeric"));
    ck_assert(has_finding(CVK_WARNING, "repeat the time"));
    assert_near(CVK_CARD_RESISTANCE, plain_model.r, 1.5);
    assert_near(CVK_CARD_INDUCTANCE_D, plain_model.l_d, 3.0);
}
END_TEST

static void scale_currents(double factor)
{
    for (int n = 0; n < 3; n++) {
        for (size_t k = 0; k < MODEL_ROWS; k++) {
            columns.i[n][k] *= factor;
        }
    }
}

START_TEST(unusable_logs_are_refused_with_a_cure)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    scale_currents(1000.0);
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_ERROR, "milliampere"));

    log = simulate(&plain_model, 2.0, 6.0);
    for (size_t k = 0; k < MODEL_ROWS; k++) {
        columns.i[2][k] = -columns.i[2][k];
    }
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_ERROR, "inverted"));

    log = simulate(&plain_model, 2.0, 6.0);
    for (size_t k = 0; k < MODEL_ROWS; k++) {
        columns.t[k] *= 1000.0;
    }
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_ERROR, "t [ms]"));

    log = simulate(&plain_model, 2.0, 6.0);
    log.column[CVK_COLUMN_T] = NULL;
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_ERROR, "no time column"));

    log = simulate(&plain_model, 2.0, 6.0);
    log.column[CVK_COLUMN_IA] = log.column[CVK_COLUMN_IB] = NULL;
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_ERROR, "at least two of ia, ib, ic"));

    log = simulate(&plain_model, 2.0, 6.0);
    log.column[CVK_COLUMN_VB] = NULL;
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_ERROR, "no voltages"));
}
END_TEST

/* Injection along one direction shows one inductance only: Ld and Lq are not made up. */
START_TEST(one_direction_does_not_give_two_inductances)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    log.rows = 800 * 6; /* the levels along the first direction only */
    cvk_status status = estimate(&log);
    ck_assert(status == CVK_OK || status == CVK_NOT_IN_LOG);
    if (result.card.entry[CVK_CARD_INDUCTANCE_Q].known) {
        const cvk_card_entry *q = &result.card.entry[CVK_CARD_INDUCTANCE_Q];
        ck_assert_msg(plain_model.l_q >= q->low && plain_model.l_q <= q->high,
                      "Lq %g .. %g without q excitation", q->low, q->high);
    }
}
END_TEST

/* No current at all, constant rubbish, and a handful of rows: never a number, never a crash. */
START_TEST(empty_content_gives_nothing)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    scale_currents(0.0);
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    log = simulate(&plain_model, 0.0, 0.0);
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    log.rows = 10;
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    log.rows = 0;
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    const cvk_log *none[] = {&log};
    ck_assert_int_eq(cvk_estimate_logs(none, 0, &options, &result), CVK_NULL_ARGUMENT);
    ck_assert_int_eq(cvk_estimate_logs(none, 1, NULL, &result), CVK_NULL_ARGUMENT);
}
END_TEST

/* Sensor reversed: the same pole pairs, and a note about the direction. */
START_TEST(reversed_rotor_sensor_is_noted)
{
    const cvk_rig_config wheel = studio_rig("wheel");
    recording r;
    record(&r, &wheel, "spin", 5, true);
    double *angle = r.storage + (r.log.column[CVK_COLUMN_THETA_M] - r.storage);
    for (size_t k = 0; k < r.log.rows; k++) {
        angle[k] = -angle[k];
    }
    ck_assert_int_eq(estimate(&r.log), CVK_OK);
    ck_assert_double_eq(result.card.entry[CVK_CARD_POLE_PAIRS].value, 12.0);
    ck_assert(has_finding(CVK_NOTE, "backwards"));
    recording_free(&r);
}
END_TEST

/* ---- what is noticed about a log ------------------------------------------------------------- */

/* Gain mismatch is seen in ia + ib + ic and corrected; only the mean gain stays in R. */
START_TEST(gain_mismatch_is_corrected)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    static const double gains[] = {1.02, 0.99, 0.99};
    for (int n = 0; n < 3; n++) {
        for (size_t k = 0; k < MODEL_ROWS; k++) {
            columns.i[n][k] *= gains[n];
        }
    }
    ck_assert_int_eq(estimate(&log), CVK_OK);
    ck_assert(has_finding(CVK_NOTE, "differ in gain (+2."));
    assert_near(CVK_CARD_RESISTANCE, plain_model.r, 0.3);
    assert_near(CVK_CARD_INDUCTANCE_Q, plain_model.l_q, 1.0);
}
END_TEST

START_TEST(clipping_is_noticed)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    for (int n = 0; n < 3; n++) {
        for (size_t k = 0; k < MODEL_ROWS; k++) {
            columns.i[n][k] = fmax(-15.0, fmin(15.0, columns.i[n][k]));
        }
    }
    (void)!estimate(&log);
    ck_assert(has_finding(CVK_WARNING, "clipped"));
}
END_TEST

/* Milliampere of a small motor are believable as ampere; the heat that they would make is not. */
START_TEST(milliampere_of_a_small_motor_are_noticed)
{
    model m = plain_model;
    m.r = 8.0;
    m.l_d = 5e-3;
    m.l_q = 6e-3;
    m.knee = 0.02;
    m.noise = 0.001;
    m.offset = 0.01;
    cvk_log log = simulate(&m, 4.0, 6.0);
    ck_assert_int_eq(estimate(&log), CVK_OK);
    assert_near(CVK_CARD_RESISTANCE, m.r, 1.5);
    log = simulate(&m, 8.0, 6.0);
    scale_currents(1000.0);
    cvk_estimate_options trusting = options;
    trusting.largest_current_a = 5000.0;
    const cvk_log *logs[] = {&log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &trusting, &result), CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_ERROR, "milliampere"));
}
END_TEST

START_TEST(implausible_voltages_are_refused)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    for (int n = 0; n < 3; n++) {
        for (size_t k = 0; k < MODEL_ROWS; k++) {
            columns.v[n][k] *= 1000.0;
        }
    }
    ck_assert_int_eq(estimate(&log), CVK_NOT_IN_LOG);
    ck_assert(has_finding(CVK_ERROR, "millivolt"));
}
END_TEST

START_TEST(logs_that_contradict_each_other_are_noticed)
{
    const cvk_rig_config cold = studio_rig("wheel");
    cvk_rig_config hot = cold;
    hot.motor.resistance_ohm *= 1.2;
    recording a, b;
    record(&a, &cold, "standstill", 1, false);
    record(&b, &hot, "standstill", 1, false);
    const cvk_log *logs[] = {&a.log, &b.log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 2, &options, &result), CVK_OK);
    const cvk_card_entry *r = &result.card.entry[CVK_CARD_RESISTANCE];
    ck_assert(!r->known && strstr(r->missing, "contradict each other") != NULL);
    assert_near(CVK_CARD_INDUCTANCE_Q, cold.motor.inductance_q_h, 3.0); /* copper warms, iron not */
    recording_free(&a);
    recording_free(&b);
}
END_TEST

/* An encoder or a speed column tells pole pairs as an angle column does. */
START_TEST(other_rotor_columns_tell_pole_pairs)
{
    const cvk_rig_config wheel = studio_rig("wheel");
    recording r;
    record(&r, &wheel, "spin", 6, true);
    const double *angle = r.log.column[CVK_COLUMN_THETA_M];
    double *made = malloc(r.log.rows * sizeof *made);
    ck_assert_ptr_nonnull(made);
    for (size_t k = 0; k < r.log.rows; k++) {
        made[k] = floor(angle[k] / TWO_PI * 4096.0);
    }
    r.log.column[CVK_COLUMN_THETA_M] = NULL;
    r.log.column[CVK_COLUMN_ENC] = made;
    r.log.encoder_counts = 4096.0;
    ck_assert_int_eq(estimate(&r.log), CVK_OK);
    ck_assert_double_eq(result.card.entry[CVK_CARD_POLE_PAIRS].value, 12.0);

    for (size_t k = 0; k < r.log.rows; k++) { /* speed over 20 ms */
        size_t before = k > 200 ? k - 200 : 0, after = k + 200 < r.log.rows ? k + 200 : k;
        double turned = remainder(angle[after] - angle[before], TWO_PI);
        made[k] = turned / ((double)(after - before) * 50e-6 + 1e-9);
    }
    r.log.column[CVK_COLUMN_ENC] = NULL;
    r.log.column[CVK_COLUMN_SPEED_M] = made;
    ck_assert_int_eq(estimate(&r.log), CVK_OK);
    ck_assert_double_eq(result.card.entry[CVK_CARD_POLE_PAIRS].value, 12.0);
    free(made);
    recording_free(&r);
}
END_TEST

/* A geared sensor gives a ratio that is no whole number: a finding, and no pole pairs. */
START_TEST(geared_sensor_gives_no_pole_pairs)
{
    const cvk_rig_config wheel = studio_rig("wheel");
    recording r;
    record(&r, &wheel, "spin", 8, true);
    double *angle = r.storage + (r.log.column[CVK_COLUMN_THETA_M] - r.storage);
    double last = angle[0], turns = 0.0;
    for (size_t k = 0; k < r.log.rows; k++) {
        turns -= round((angle[k] - last) / TWO_PI);
        last = angle[k];
        angle[k] = 1.6 * (angle[k] + TWO_PI * turns);
    }
    ck_assert_int_eq(estimate(&r.log), CVK_OK);
    ck_assert(!result.card.entry[CVK_CARD_POLE_PAIRS].known);
    ck_assert(has_finding(CVK_WARNING, "geared"));
    recording_free(&r);
}
END_TEST

/* Commanded duties and their own bus give the same as the voltages that they make. */
START_TEST(duties_with_a_moving_bus_do)
{
    cvk_log log = simulate(&plain_model, 2.0, 6.0);
    static double duty[3][MODEL_ROWS], bus[MODEL_ROWS];
    for (size_t k = 0; k < MODEL_ROWS; k++) {
        bus[k] = 24.0 + 1.5 * sin((double)k * 1e-3);
        for (int n = 0; n < 3; n++) {
            duty[n][k] = columns.v[n][k] / bus[k];
        }
    }
    for (int n = 0; n < 3; n++) {
        log.column[CVK_COLUMN_VA + n] = NULL;
        log.column[CVK_COLUMN_DUTY_A + n] = duty[n];
    }
    log.column[CVK_COLUMN_VDC] = bus;
    ck_assert_int_eq(estimate(&log), CVK_OK);
    assert_near(CVK_CARD_RESISTANCE, plain_model.r, 1.5);
    assert_near(CVK_CARD_INDUCTANCE_D, plain_model.l_d, 3.0);
}
END_TEST

START_TEST(derived_quantities_follow_the_conventions)
{
    cvk_card card = {.name = "x"};
    cvk_card_entry entry;
    ck_assert(!cvk_card_torque_constant(&card, &entry));
    card.entry[CVK_CARD_FLUX_LINKAGE] =
        (cvk_card_entry){.known = true, .value = 0.02, .low = 0.019, .high = 0.021};
    card.entry[CVK_CARD_POLE_PAIRS] = (cvk_card_entry){.known = true, .value = 10};
    ck_assert(cvk_card_torque_constant(&card, &entry));
    ck_assert_double_eq_tol(entry.value, 0.3, 1e-12);
    ck_assert_double_eq_tol(entry.high, 0.315, 1e-12);
    ck_assert(cvk_card_rpm_per_volt(&card, &entry));
    ck_assert_double_eq_tol(entry.value, 60.0 / TWO_PI / (sqrt(3.0) * 0.2), 1e-9);
    ck_assert_double_lt(entry.low, entry.value);
    ck_assert_double_gt(entry.high, entry.value);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, studio_is_estimated_within_the_bars, 0, 4);
    tcase_add_test(tests, saturation_is_seen_and_told);
    tcase_add_test(tests, saturation_does_not_bend_the_circle);
    tcase_add_loop_test(tests, cross_saturation_is_seen, 0, 3);
    tcase_add_test(tests, few_microhenry_on_a_switched_inverter);
    tcase_add_test(tests, a_part_of_a_standstill_log_is_enough);
    tcase_add_test(tests, coast_alone_gives_flux_and_pole_pairs);
    tcase_add_test(tests, equal_magnets_show_no_pole_pairs);
    tcase_add_test(tests, standstill_alone_names_what_it_cannot_show);
    tcase_add_test(tests, a_rotor_that_moves_is_noticed);
    tcase_add_test(tests, scale_tolerance_is_kept_apart);
    tcase_add_loop_test(tests, any_delay_is_found, 0, 5);
    tcase_add_test(tests, resistance_does_not_absorb_the_inverter);
    tcase_add_test(tests, two_currents_and_line_voltages_do);
    tcase_add_test(tests, half_a_radian_per_sample_is_no_problem);
    tcase_add_test(tests, gaps_and_nan_become_findings);
    tcase_add_test(tests, unusable_logs_are_refused_with_a_cure);
    tcase_add_test(tests, one_direction_does_not_give_two_inductances);
    tcase_add_test(tests, empty_content_gives_nothing);
    tcase_add_test(tests, reversed_rotor_sensor_is_noted);
    tcase_add_test(tests, gain_mismatch_is_corrected);
    tcase_add_test(tests, clipping_is_noticed);
    tcase_add_test(tests, milliampere_of_a_small_motor_are_noticed);
    tcase_add_test(tests, implausible_voltages_are_refused);
    tcase_add_test(tests, logs_that_contradict_each_other_are_noticed);
    tcase_add_test(tests, other_rotor_columns_tell_pole_pairs);
    tcase_add_test(tests, geared_sensor_gives_no_pole_pairs);
    tcase_add_test(tests, duties_with_a_moving_bus_do);
    tcase_add_test(tests, derived_quantities_follow_the_conventions);
}

int main(void)
{
    return run_suite("estimate", add);
}
