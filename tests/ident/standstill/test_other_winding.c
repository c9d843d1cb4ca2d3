/* SPDX-License-Identifier: Apache-2.0
 *
 * The standstill fit on windings that no rig has made: a second model with its own integration, its
 * own curves of the inverter's voltage and other excitations than ours. What is estimated must lie
 * within the bars and within its interval.
 */
#include "corvak/ident/estimate.h"
#include "noise.h"
#include "recording.h"
#include "suite.h"

#include <complex.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

enum { ROWS = 24000, FINE = 16 };
#define PI 3.14159265358979323846

typedef enum bend { TANH, ROOT, ARC, CLIP } bend;
typedef enum excitation { LEVELS, CHIRP, BINARY, INJECTIONS, SQUARE } excitation;

typedef struct winding {
    double r, l_d, l_q, square_q; /* square_q: Lq falls as 1 / (1 + square_q i^2) */
    double period_s, current_a;
    double dead_v, knee_a;
    bend bend;
    excitation excitation;
    double late; /* periods between a voltage and its acting */
    double axis_rad, noise_a;
    int half; /* rows of a square wave */
    double peak_d_a,
        width_d_a; /* Ld falls to both sides of a current as 1 / cosh^2; width 0: not */
} winding;

static const winding windings[] = {
    {0.29, 57e-6, 98e-6, 0.0, 50e-6, 9.0, 0.64, 0.14, ARC, LEVELS, 0, 0.4, 0.05, 0, 0.0, 0.0},
    {4.0, 1.1e-3, 1.1e-3, 6.0, 62.5e-6, 0.19, 0.17, 2.3e-3, TANH, BINARY, 1, 1.0, 0.7e-3, 0, 0.0,
     0.0},
    {0.0073, 9.3e-6, 9.3e-6, 1.4e-5, 100e-6, 70.0, 0.46, 1.7, ROOT, LEVELS, 0, 0.7, 0.3, 0, 0.0,
     0.0},
    {7.9, 5e-3, 8.5e-3, 0.0, 25e-6, 0.2, 0.27, 5e-3, ROOT, LEVELS, 1, 2.1, 0.5e-3, 0, 0.0, 0.0},
    {0.069, 145e-6, 323e-6, 5.6e-4, 50e-6, 18.0, 0.35, 1.1, ARC, LEVELS, 1, 1.4, 0.05, 0, 0.0, 0.0},
    {0.24, 45e-6, 105e-6, 0.0, 25e-6, 2.5, 0.46, 0.1, CLIP, CHIRP, 1, 0.2, 0.01, 0, 0.0, 0.0},
    {0.026, 14e-6, 25e-6, 0.0, 25e-6, 22.0, 0.14, 0.55, CLIP, BINARY, 0, 2.8, 0.08, 0, 0.0, 0.0},
    {2.2, 0.96e-3, 1.7e-3, 0.0, 100e-6, 0.86, 0.21, 0.03, CLIP, CHIRP, 1, 0.9, 3e-3, 0, 0.0, 0.0},
};

static double column[7][ROWS]; /* t, ia ib ic, va vb vc */
static cvk_estimate result;

static double share_of(const winding *w, double current_a)
{
    const double x = current_a / w->knee_a;
    switch (w->bend) {
    case TANH:
        return tanh(x);
    case ROOT:
        return x / sqrt(1.0 + x * x);
    case ARC:
        return 2.0 / PI * atan(0.5 * PI * x);
    default:
        return fmax(-1.0, fmin(1.0, x));
    }
}

static double complex phase_axis(int phase)
{
    return cexp(2.0 * PI / 3.0 * I * phase);
}

static double complex inverter_v(const winding *w, double complex i)
{
    double complex sum = 0.0;
    for (int n = 0; n < 3; n++) {
        sum += share_of(w, creal(i * conj(phase_axis(n)))) * phase_axis(n);
    }
    return 2.0 / 3.0 * w->dead_v * sum;
}

static double inductance_d(const winding *w, double current_a)
{
    if (w->width_d_a == 0.0) {
        return w->l_d;
    }
    const double here = cosh((current_a - w->peak_d_a) / w->width_d_a);
    const double none = cosh(w->peak_d_a / w->width_d_a);
    return w->l_d * none * none / (here * here);
}

/* One period in small midpoint steps, in which a voltage comes after the one before; the axes'
 * inductances at their currents. */
static double complex advance(const winding *w, double complex i, double complex v,
                              double complex before_v)
{
    const double complex axis = cexp(I * w->axis_rad);
    const double h = w->period_s / FINE;
    const double rest = w->late - floor(w->late);
    for (int n = 0; n < FINE; n++) {
        const double complex now_v = n < rest * FINE ? before_v : v;
        double complex middle = i, next = i;
        for (int pass = 0; pass < 2; pass++) {
            const double complex u = (now_v - w->r * middle - inverter_v(w, middle)) * conj(axis);
            const double i_q = cimag(middle * conj(axis));
            const double l_q = w->l_q / (1.0 + w->square_q * i_q * i_q);
            const double l_d = inductance_d(w, creal(middle * conj(axis)));
            next = i + h * axis * (creal(u) / l_d + I * cimag(u) / l_q);
            middle = 0.5 * (i + next);
        }
        i = next;
    }
    return i;
}

/* DC levels along the phases with a square wave on top of two thirds of each. */
static double complex levels(const winding *w, size_t row, double swing_v, size_t half)
{
    static const double level[] = {-1.0, -0.6, -0.3, 0.0, 0.3, 0.6, 1.0, 0.15};
    const size_t length = ROWS / 24, part = row / length;
    const double complex along = phase_axis((int)(part / 8)),
                         across = cexp(I * PI / 3.0 * (double)(part % 3));
    const double complex i = 0.8 * w->current_a * level[part % 8] * along;
    const double sign = (row / half) % 2 == 0 ? 1.0 : -1.0;
    return w->r * i + inverter_v(w, i) +
           (row % length > length / 3 ? sign * swing_v : 0.0) * across;
}

/* Levels along two axes with a frequency that rises on top. */
static double complex chirp(const winding *w, size_t row, double swing_v)
{
    static const double level[] = {0.2, 0.5, 0.9, -0.2, -0.5, -0.9};
    static double phase;
    const size_t length = ROWS / 24, part = row / length;
    const double highest = 0.2 / w->period_s, lowest = 0.02 * w->r / w->l_d;
    const double f = fmin(highest, lowest * pow(60.0, (double)(row % length) / (double)length));
    phase = row == 0 ? 0.0 : phase + 2.0 * PI * f * w->period_s;
    const double complex i = 0.8 * w->current_a * level[part % 6] * ((part / 6) % 2 ? I : 1.0);
    return w->r * i + 0.5 * swing_v * sin(phase) * ((part / 12) % 2 ? I : 1.0);
}

/* Random signs on both axes over a level that wanders. */
static double complex binary(const winding *w, size_t row, double swing_v, size_t half)
{
    static double complex signs;
    if (row % half == 0) {
        signs = (uniform() < 0.0 ? -1.0 : 1.0) + I * (uniform() < 0.0 ? -1.0 : 1.0);
    }
    const double x = 2.0 * PI * (double)row / ROWS;
    return 0.6 * w->r * w->current_a * (sin(3.0 * x) + I * sin(4.3 * x)) + 0.5 * swing_v * signs;
}

/* Levels first, then square waves along three directions, without and with a level. */
static double complex injections(const winding *w, size_t row, double swing_v)
{
    static const double level[] = {1.0, -1.0, 0.66, -0.66, 0.33, -0.33};
    const size_t length = ROWS / 24, part = row / length;
    const double sign = row % 2 == 0 ? 1.0 : -1.0;
    const double complex along = phase_axis((int)(part % 3));
    if (part < 12) {
        const double complex i = w->current_a * level[part / 2] * phase_axis((int)(part % 2));
        return w->r * i + inverter_v(w, i);
    }
    const double complex i = part % 4 < 2 ? 0.0 : 0.5 * w->current_a * along;
    return w->r * i + inverter_v(w, i) + sign * swing_v * along;
}

/* A square wave along three directions. */
static double complex square(const winding *w, size_t row, double swing_v)
{
    const double sign = (row / (size_t)w->half) % 2 == 0 ? 1.0 : -1.0;
    return sign * swing_v * phase_axis((int)(row / (ROWS / 24) % 3));
}

static cvk_log simulate(const winding *w, uint32_t seed)
{
    const size_t own = (size_t)fmax(2.0, ceil(0.3 * w->l_d / (w->r * w->period_s)));
    const size_t half = w->half > 0 ? (size_t)w->half : own;
    const double swing_v =
        0.4 * w->current_a * hypot(w->r, w->l_d * PI / ((double)half * w->period_s));
    const double quick_v = 0.3 * w->current_a * w->l_d / w->period_s;
    const int whole = (int)floor(w->late);
    double complex i = 0.0, last[4] = {0.0};
    lcg = seed;
    for (size_t row = 0; row < ROWS; row++) {
        double complex v = w->excitation == LEVELS       ? levels(w, row, swing_v, half)
                           : w->excitation == CHIRP      ? chirp(w, row, swing_v)
                           : w->excitation == SQUARE     ? square(w, row, swing_v)
                           : w->excitation == INJECTIONS ? injections(w, row, quick_v)
                                                         : binary(w, row, swing_v, half);
        column[0][row] = (double)row * w->period_s;
        for (int n = 0; n < 3; n++) {
            column[1 + n][row] = creal(i * conj(phase_axis(n))) + w->noise_a * noise();
            column[4 + n][row] = 24.0 + creal(v * conj(phase_axis(n)));
        }
        memmove(last + 1, last, 3 * sizeof last[0]);
        last[0] = v;
        i = advance(w, i, last[whole], last[whole + 1]);
    }
    cvk_log log = cvk_log_empty("other");
    log.rows = ROWS;
    log.column[CVK_COLUMN_T] = column[0];
    for (int n = 0; n < 3; n++) {
        log.column[CVK_COLUMN_IA + n] = column[1 + n];
        log.column[CVK_COLUMN_VA + n] = column[4 + n];
    }
    return log;
}

static void assert_found(cvk_card_key key, double truth, double per_cent)
{
    const cvk_card_entry *entry = &result.card.entry[key];
    ck_assert_msg(entry->known, "%s is missing: %s", cvk_card_key_name(key), entry->missing);
    const double off = 100.0 * (entry->value / truth - 1.0);
    ck_assert_msg(fabs(off) <= per_cent && truth >= entry->low && truth <= entry->high,
                  "%s is %.2f %% off: %g, interval %g .. %g", cvk_card_key_name(key), off,
                  entry->value, entry->low, entry->high);
}

START_TEST(another_winding_is_estimated)
{
    const winding *w = &windings[_i];
    const cvk_log log = simulate(w, 77u + (uint32_t)_i);
    const cvk_log *logs[] = {&log};
    const cvk_estimate_options options = {0.0, 0.0, 500.0, 0.0, 0, 1, NULL};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
    assert_found(CVK_CARD_RESISTANCE, w->r, 1.5);
    assert_found(CVK_CARD_INDUCTANCE_D, w->l_d, w->l_d < 10e-6 ? 5.0 : 3.0);
    assert_found(CVK_CARD_INDUCTANCE_Q, w->l_q, w->l_q < 10e-6 ? 5.0 : 3.0);
    ck_assert_double_eq_tol(result.card.entry[CVK_CARD_DELAY].value, w->late, 0.03);
}
END_TEST

/* The likelihood falls to both sides of the fitted resistance, as fast as the interval says. */
START_TEST(the_likelihood_profile_fits_the_interval)
{
    const cvk_log log = simulate(&windings[2], 5u);
    const cvk_log *logs[] = {&log};
    static cvk_estimate_curves curves = {.with_profile = true};
    const cvk_estimate_options options = {0.0, 0.0, 500.0, 0.0, 0, 1, &curves};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
    const cvk_curve *c = &curves.profile;
    ck_assert_uint_gt(c->points, 10);
    const size_t middle = c->points / 2;
    ck_assert_double_lt(fabs(c->y[middle]), 0.3);
    for (size_t n = 0; n < c->points; n++) {
        ck_assert_double_ge(c->y[n], 0.7 * c->fit[n] - 0.3);
        ck_assert_double_le(c->y[n], 1.4 * c->fit[n] + 0.3);
    }
}
END_TEST

/* Values of one motor from a whole log and from pieces of it. */
enum { PIECES = 6 };

static void assert_agree(cvk_card_key key, const cvk_card_entry of[PIECES], double truth)
{
    for (int a = 0; a < PIECES; a++) {
        if (!of[a].known) {
            continue;
        }
        ck_assert_msg(truth >= of[a].low && truth <= of[a].high, "%s %g .. %g, true %g",
                      cvk_card_key_name(key), of[a].low, of[a].high, truth);
        for (int b = 0; b < a; b++) {
            const double apart = fabs(of[a].value - of[b].value);
            const double joint = 0.5 * hypot(of[a].high - of[a].low, of[b].high - of[b].low);
            ck_assert_msg(!of[b].known || apart <= joint, "%s %g and %g, joint interval %g",
                          cvk_card_key_name(key), of[a].value, of[b].value, joint);
        }
    }
}

/* Of a d axis that the magnet has biased: its inductance falls to both sides of a maximum. */
START_TEST(pieces_of_a_log_agree)
{
    static const double width_a[] = {60.0, 40.0, 30.0, 25.0};
    static const cvk_card_key keys[] = {CVK_CARD_INDUCTANCE_D, CVK_CARD_INDUCTANCE_Q};
    cvk_card_entry found[2][PIECES];
    const winding w = {.r = 0.05,
                       .l_d = 35.5e-6,
                       .l_q = 42.6e-6,
                       .square_q = 2e-4,
                       .period_s = 50e-6,
                       .current_a = 20.0,
                       .dead_v = 0.3,
                       .knee_a = 0.3,
                       .bend = ROOT,
                       .excitation = INJECTIONS,
                       .late = 1.0,
                       .axis_rad = 0.7,
                       .noise_a = 0.04,
                       .peak_d_a = -4.0 * (_i % 3),
                       .width_d_a = width_a[_i]};
    const cvk_log log = simulate(&w, 5u + (uint32_t)_i);
    for (int n = 0; n < PIECES; n++) {
        const size_t rows = n == 0 ? ROWS : (size_t)(ROWS * (0.65 + 0.3 * uniform()));
        const cvk_log part =
            part_of_log(&log, (size_t)((0.5 + uniform()) * (double)(ROWS - rows)), rows);
        const cvk_log *logs[] = {&part};
        const cvk_estimate_options options = {0.0, 0.0, 500.0, 0.0, 0, 1, NULL};
        ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, &result), CVK_OK);
        for (int k = 0; k < 2; k++) {
            found[k][n] = result.card.entry[keys[k]];
            ck_assert(n > 0 || found[k][n].known);
        }
    }
    assert_agree(keys[0], found[0], w.l_d);
    assert_agree(keys[1], found[1], w.l_q);
}
END_TEST

/* Nothing but a square wave, which may be as quick as its voltage is late. */
START_TEST(an_injection_alone_is_used)
{
    static const int half[] = {1, 2, 4, 8};
    static const double late[] = {0.5, 1.0, 1.5, 2.0};
    winding w = {.r = 0.12,
                 .l_d = 60e-6,
                 .l_q = 95e-6,
                 .period_s = 50e-6,
                 .current_a = 8.0,
                 .excitation = SQUARE,
                 .half = half[_i / 4],
                 .late = late[_i % 4],
                 .dead_v = 0.1,
                 .knee_a = 0.2,
                 .bend = ROOT,
                 .axis_rad = 1.1,
                 .noise_a = 0.01};
    const cvk_log log = simulate(&w, 9u + (uint32_t)_i);
    const cvk_log *logs[] = {&log};
    const cvk_estimate_options options = {0.0, 0.0, 500.0, 0.0, 0, 1, NULL};
    const cvk_status status = cvk_estimate_logs(logs, 1, &options, &result);
    if (w.half == 1 && w.late != floor(w.late)) { /* rows lie where the current is near zero */
        const cvk_card_entry *e = &result.card.entry[CVK_CARD_INDUCTANCE_D];
        ck_assert(!e->known || (w.l_d >= e->low && w.l_d <= e->high));
        return;
    }
    ck_assert_int_eq(status, CVK_OK);
    ck_assert_double_eq_tol(result.card.entry[CVK_CARD_RESISTANCE].value, w.r, 0.03 * w.r);
    assert_found(CVK_CARD_INDUCTANCE_D, w.l_d, 3.0);
    assert_found(CVK_CARD_INDUCTANCE_Q, w.l_q, 3.0);
    ck_assert_double_eq_tol(result.card.entry[CVK_CARD_DELAY].value, w.late, 0.03);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, pieces_of_a_log_agree, 0, 4);
    tcase_add_loop_test(tests, an_injection_alone_is_used, 0, 16);
    tcase_add_loop_test(tests, another_winding_is_estimated, 0,
                        (int)(sizeof windings / sizeof windings[0]));
    tcase_add_test(tests, the_likelihood_profile_fits_the_interval);
}

int main(void)
{
    return run_suite("other winding", add);
}
