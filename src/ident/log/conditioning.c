/* SPDX-License-Identifier: Apache-2.0
 *
 * Conditioning of a log. Each step makes a new set of columns from the one before.
 */
#include "conditioning.h"

#include "findings.h"
#include "math/numeric.h"
#include "pwm_period.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define UNEVEN_SHARE 0.05  /* rms of the time steps' deviation, share of the step */
#define SMALLEST_DUTY 0.03 /* difference of two duties that still tells their currents apart */
#define LONGEST_HOLE 64u   /* rows that may be bridged between */
#define MANY_HOLES 30u     /* fewer only cut the log into pieces */
#define LONGEST_BRIDGE 3   /* rows */
#define LARGEST_BRIDGED_SHARE 0.1
#define LARGEST_STRETCH 1.5   /* a longer step than so many periods is a gap, not unevenness */
#define FEWEST_GOOD_ROWS 20.0 /* in a PWM period, for sharp values */
#define PLACED_EDGE 0.1       /* rows, within which an edge with a sample on its way is placed */
#define QUIET_PART 0.7        /* of the time without edges, that is averaged for a current */

double cvk_median_step(const cvk_log *log)
{
    const double *t = log->column[CVK_COLUMN_T];
    double steps[2000];
    size_t count = 0, stride = log->rows / 2000u + 1u;
    for (size_t k = 1; k < log->rows && count < 2000u; k += stride) {
        double step = t[k] - t[k - 1];
        if (isfinite(step) && step > 0.0) {
            steps[count++] = step;
        }
    }
    return cvk_median(steps, count);
}

/* Room for `rows` rows of the columns that `like` has; `c->log` gets them, not yet filled. */
static bool make_columns(cvk_conditioned *c, const cvk_log *like, size_t rows, double **storage,
                         double *column[CVK_COLUMN_COUNT])
{
    size_t columns = 0;
    for (int k = 0; k < CVK_COLUMN_COUNT; k++) {
        columns += like->column[k] != NULL;
    }
    *storage = malloc((columns * rows + 1) * sizeof **storage);
    if (*storage == NULL) {
        return false;
    }
    c->log = *like;
    c->log.rows = rows;
    double *next = *storage;
    for (int k = 0; k < CVK_COLUMN_COUNT; k++) {
        if (like->column[k] != NULL) {
            c->log.column[k] = column[k] = next;
            next += rows;
        }
    }
    return true;
}

/* Columns of a step before may still be in use: all are kept to the end. */
static void keep_storage(cvk_conditioned *c, double *storage)
{
    c->storage[c->steps++] = storage;
}

/* ---- switching visible ----------------------------------------------------------------------- */

/* Integral of x from row 0 to `at`, trapezoids; `sum` holds it at whole rows. */
static double integral_to(const double *x, const double *sum, size_t rows, double at)
{
    const size_t k = at > 0.0 ? (size_t)at : 0u;
    if (rows < 2u || k >= rows - 1u) {
        return rows > 0 ? sum[rows - 1u] : 0.0;
    }
    double part = at - (double)k;
    return sum[k] + part * (x[k] + 0.5 * part * (x[k + 1] - x[k]));
}

static void integrate(const double *x, size_t rows, double *sum)
{
    sum[0] = 0.0;
    for (size_t k = 1; k < rows; k++) {
        sum[k] = sum[k - 1] + 0.5 * (x[k - 1] + x[k]);
    }
}

static bool is_current(int column)
{
    return column >= CVK_COLUMN_IA && column <= CVK_COLUMN_IC;
}

/* One end of the stretch without a gap that begins at `begin`. */
static size_t stretch_end(const double *t, size_t begin, size_t rows, double step_s)
{
    size_t end = begin + 1;
    while (end < rows && t[end] - t[end - 1] < LARGEST_STRETCH * step_s) {
        end++;
    }
    return end;
}

/* Averages of one column over the periods of a stretch: voltages over the period that follows,
 * currents around the middle of the zero vector that begins it. The time stands for that middle. */
static void average_column(const double *x, int column, size_t length, const cvk_pwm *pwm,
                           double first, size_t periods, double *sum, double *out)
{
    const double reach = fmax(0.5, fmin(QUIET_PART * pwm->quiet_rows, 0.5 * pwm->period_rows));
    const double slope = (x[length - 1] - x[0]) / ((double)length - 1.0);
    integrate(x, length, sum);
    for (size_t n = 0; n < periods; n++) {
        const double at = first + (double)n * pwm->period_rows;
        const double from = is_current(column) ? fmax(at - reach, 0.0) : at;
        const double to = is_current(column) ? at + reach : at + pwm->period_rows;
        out[n] = column == CVK_COLUMN_T
                     ? x[0] + slope * at
                     : (integral_to(x, sum, length, to) - integral_to(x, sum, length, from)) /
                           (to - from);
    }
}

/* One row per PWM period of each stretch without a gap. */
static cvk_status average_pwm(cvk_conditioned *c, const cvk_log *log, const cvk_pwm *pwm)
{
    const double *t = log->column[CVK_COLUMN_T];
    const double step_s = cvk_median_step(log);
    const size_t most = (size_t)((double)log->rows / pwm->period_rows) + 1u;
    double *storage = NULL, *columns[CVK_COLUMN_COUNT], *sum = malloc(log->rows * sizeof *sum);
    size_t made = 0;
    if (sum == NULL || !make_columns(c, log, most, &storage, columns)) {
        free(sum);
        return CVK_NO_MEMORY;
    }
    for (size_t begin = 0, end = 0; begin < log->rows; begin = end) {
        cvk_pwm here = *pwm;
        end = stretch_end(t, begin, log->rows, step_s);
        if (begin > 0 && !cvk_place_pwm(log, begin, end, &here)) {
            free(sum);
            free(storage);
            return CVK_NO_MEMORY;
        }
        const double first =
            here.centre_row < 1.0 ? here.centre_row + here.period_rows : here.centre_row;
        const double room = ((double)(end - begin) - 2.0 - first) / here.period_rows;
        const size_t periods = room > 0.0 ? (size_t)room : 0;
        for (int column = 0; column < CVK_COLUMN_COUNT && periods > 0; column++) {
            if (log->column[column] != NULL) {
                average_column(log->column[column] + begin, column, end - begin, &here, first,
                               periods, sum, columns[column] + made);
            }
        }
        made += periods;
    }
    free(sum);
    c->log.rows = made;
    keep_storage(c, storage);
    return CVK_OK;
}

/* A rate near `rate_hz` at which samples fall everywhere into the PWM's period. */
static double better_rate(double rate_hz, double pwm_hz)
{
    return pwm_hz * (fmax(floor(rate_hz / pwm_hz + 0.01), FEWEST_GOOD_ROWS) + 0.618);
}

static cvk_status condition_pwm(cvk_conditioned *c, cvk_estimate *out)
{
    const cvk_log original = c->log;
    const double step_s = cvk_median_step(&original);
    const cvk_pwm pwm = step_s > 0.0 ? cvk_find_pwm(&original, step_s) : (cvk_pwm){.found = false};
    if (pwm.switching && !pwm.found) {
        cvk_add_finding(
            out, CVK_ERROR, original.name,
            "the voltages switch, but no PWM period of four samples or more is found "
            "in %.4g kHz: sample at ten times the PWM frequency or faster, and not at a "
            "multiple of it",
            1e-3 / step_s);
    }
    if (!pwm.found) {
        return CVK_OK;
    }
    cvk_status status = average_pwm(c, &original, &pwm);
    if (status == CVK_OK) {
        c->pwm_hz = 1.0 / (pwm.period_rows * step_s);
        /* two edges a period, each somewhere between two rows */
        c->edge_noise_v =
            (pwm.placed ? PLACED_EDGE : 1.0) * sqrt(2.0 / 12.0) * pwm.step_v / pwm.period_rows;
        c->voltage_doubt_v = c->edge_noise_v * pwm.gap_rows;
        snprintf(
            c->cure, sizeof c->cure,
            "edges fall between samples: %.1f rows a PWM period leave %.2g V of doubt in every "
            "voltage; sample at a rate that is no multiple of the PWM's, such as %.4g kHz, or "
            "ten times as fast",
            pwm.period_rows, c->voltage_doubt_v, 1e-3 * better_rate(1.0 / step_s, c->pwm_hz));
        cvk_add_finding(
            out, CVK_NOTE, original.name,
            "the switching is visible: averaged over the PWM period found in the log "
            "(%.4g kHz, %.1f rows a period; edges between rows leave %.2g V of noise and "
            "%.2g V of doubt)",
            1e-3 * c->pwm_hz, pwm.period_rows, c->edge_noise_v, c->voltage_doubt_v);
    }
    return status;
}

/* ---- many short holes ------------------------------------------------------------------------ */

static bool is_measured(int column)
{
    return column >= CVK_COLUMN_IA && column <= CVK_COLUMN_DUTY_C;
}

static bool complete(const cvk_log *log, size_t row)
{
    bool fine = isfinite(log->column[CVK_COLUMN_T][row]);
    for (int k = CVK_COLUMN_IA; k <= CVK_COLUMN_DUTY_C && fine; k++) {
        fine = log->column[k] == NULL || isfinite(log->column[k][row]);
    }
    return fine;
}

/* Steps of time from one complete row to the next; what goes back or stands still is none. */
static long steps_between(const cvk_log *log, size_t before, size_t row, double step_s)
{
    const double *t = log->column[CVK_COLUMN_T];
    return lround(fmin((t[row] - t[before]) / step_s, 1e6));
}

/* The `n`-th of so many steps from one row to another: by straight lines what is measured. */
static void bridge_row(const cvk_log *log, size_t before, size_t row, long n, long steps,
                       double *const *columns, size_t to)
{
    const double share = (double)n / (double)steps;
    for (int k = 0; k < CVK_COLUMN_COUNT; k++) {
        const double *x = log->column[k];
        const bool line = n < steps && (is_measured(k) || k == CVK_COLUMN_T);
        if (x != NULL) {
            columns[k][to] =
                line ? x[before] + share * (x[row] - x[before]) : x[n < steps ? before : row];
        }
    }
}

/* Fills columns[..] with the complete rows and straight lines through short holes; returns how many
 * rows, and how many of them were put in. Without columns it only counts. */
static size_t bridge_rows(const cvk_log *log, double step_s, double *const *columns, size_t *put_in)
{
    size_t made = 0, before = log->rows;
    *put_in = 0;
    for (size_t row = 0; row < log->rows; row++) {
        if (!complete(log, row)) {
            continue;
        }
        long steps = before < log->rows ? steps_between(log, before, row, step_s) : 1;
        if (steps < 1) {
            continue;
        }
        steps = steps > LONGEST_BRIDGE + 1 ? 1 : steps;
        for (long n = 1; n <= steps; n++, made++) {
            if (columns != NULL) {
                bridge_row(log, before, row, n, steps, columns, made);
            }
        }
        *put_in += (size_t)steps - 1u;
        before = row;
    }
    return made;
}

/* A few holes cut a log into pieces, which is best; many would leave only crumbs. */
static cvk_status condition_holes(cvk_conditioned *c, cvk_estimate *out)
{
    const cvk_log original = c->log;
    const double step_s = cvk_median_step(&original);
    double *storage = NULL, *columns[CVK_COLUMN_COUNT] = {NULL};
    size_t put_in = 0;
    if (!(step_s > 0.0)) {
        return CVK_OK;
    }
    const size_t rows = bridge_rows(&original, step_s, NULL, &put_in);
    if (put_in < MANY_HOLES || (double)put_in > LARGEST_BRIDGED_SHARE * (double)original.rows) {
        return CVK_OK;
    }
    if (!make_columns(c, &original, rows, &storage, columns)) {
        return CVK_NO_MEMORY;
    }
    (void)bridge_rows(&original, step_s, columns, &put_in);
    keep_storage(c, storage);
    cvk_add_finding(out, CVK_WARNING, original.name,
                    "%zu rows are missing or incomplete, one to %d at a time: bridged by straight "
                    "lines; a log without holes gives sharper values",
                    put_in, LONGEST_BRIDGE);
    return CVK_OK;
}

/* ---- uneven time base ------------------------------------------------------------------------ */

/* Rms deviation of the time steps from `step_s`, gaps and repeats left out, as a share. */
static double unevenness(const cvk_log *log, double step_s)
{
    const double *t = log->column[CVK_COLUMN_T];
    double square = 0.0, count = 0.0;
    for (size_t k = 1; k < log->rows; k++) {
        double share = (t[k] - t[k - 1]) / step_s;
        if (share > 0.0 && share < LARGEST_STRETCH) {
            square += (share - 1.0) * (share - 1.0);
            count += 1.0;
        }
    }
    return count > 0.0 ? sqrt(square / count) : 0.0;
}

/* Straight lines between rows, onto an even grid. A gap stays one: nothing is put into it. */
static cvk_status resample(cvk_conditioned *c, const cvk_log *log, double step_s)
{
    const double *t = log->column[CVK_COLUMN_T];
    double *storage = NULL, *columns[CVK_COLUMN_COUNT];
    const size_t most = log->rows + 1;
    if (!make_columns(c, log, most, &storage, columns)) {
        return CVK_NO_MEMORY;
    }
    size_t row = 1, made = 0;
    double now = t[0];
    while (row < log->rows && made < most) {
        if (!(t[row] > t[row - 1]) || t[row] < now) {
            row++;
            continue;
        }
        if (t[row] - t[row - 1] > LARGEST_STRETCH * step_s) {
            now = t[row]; /* begin anew behind the gap */
            row++;
            continue;
        }
        double share = (now - t[row - 1]) / (t[row] - t[row - 1]);
        for (int k = 0; k < CVK_COLUMN_COUNT; k++) {
            if (log->column[k] != NULL) {
                columns[k][made] = log->column[k][row - 1] +
                                   share * (log->column[k][row] - log->column[k][row - 1]);
            }
        }
        made++;
        now += step_s;
    }
    c->log.rows = made;
    keep_storage(c, storage);
    return CVK_OK;
}

/* Commanded voltages belong to their sample whatever its time stamp says: only measured ones are
 * resampled. */
static cvk_status condition_time(cvk_conditioned *c, cvk_estimate *out)
{
    const double step_s = cvk_median_step(&c->log);
    const bool measured = cvk_log_has(&c->log, CVK_COLUMN_VA) ||
                          cvk_log_has(&c->log, CVK_COLUMN_VAB) ||
                          cvk_log_has(&c->log, CVK_COLUMN_VBC);
    const double uneven = step_s > 0.0 ? unevenness(&c->log, step_s) : 0.0;
    if (uneven < UNEVEN_SHARE || !isfinite(c->log.column[CVK_COLUMN_T][0])) {
        return CVK_OK;
    }
    cvk_add_finding(out, CVK_NOTE, c->log.name, "the time steps vary by %.0f %% rms: %s",
                    100.0 * uneven,
                    measured ? "resampled to an even grid"
                             : "taken for even, since voltages are commanded sample by sample");
    const cvk_log original = c->log;
    return measured ? resample(c, &original, step_s) : CVK_OK;
}

/* ---- one phase current and the bus current --------------------------------------------------- */

/* Straight lines over stretches of NaN that are not too long. */
static void bridge_holes(double *x, size_t rows)
{
    size_t last = rows;
    for (size_t k = 0; k < rows; k++) {
        if (!isfinite(x[k])) {
            continue;
        }
        if (last < rows && k - last > 1 && k - last <= LONGEST_HOLE) {
            for (size_t j = last + 1; j < k; j++) {
                x[j] = x[last] + (x[k] - x[last]) * (double)(j - last) / (double)(k - last);
            }
        }
        last = k;
    }
}

/* The bus carries the sum of duty times current: with one current known and all three summing to
 * zero, a second one follows wherever the other two duties differ. */
static cvk_status condition_bus_current(cvk_conditioned *c, cvk_estimate *out)
{
    int known = -1, currents = 0;
    for (int k = 0; k < 3; k++) {
        if (cvk_log_has(&c->log, (cvk_column)(CVK_COLUMN_IA + k))) {
            known = k;
            currents++;
        }
    }
    if (currents != 1 || !cvk_log_has(&c->log, CVK_COLUMN_IDC) ||
        !cvk_log_has(&c->log, CVK_COLUMN_DUTY_A) || !cvk_log_has(&c->log, CVK_COLUMN_DUTY_B) ||
        !cvk_log_has(&c->log, CVK_COLUMN_DUTY_C)) {
        return CVK_OK;
    }
    const int next = (known + 1) % 3, other = (known + 2) % 3;
    const double *i = c->log.column[CVK_COLUMN_IA + known], *bus = c->log.column[CVK_COLUMN_IDC];
    const double *duty[3] = {c->log.column[CVK_COLUMN_DUTY_A], c->log.column[CVK_COLUMN_DUTY_B],
                             c->log.column[CVK_COLUMN_DUTY_C]};
    double *found = malloc(c->log.rows * sizeof *found);
    if (found == NULL) {
        return CVK_NO_MEMORY;
    }
    size_t told = 0;
    for (size_t k = 0; k < c->log.rows; k++) {
        double between = duty[next][k] - duty[other][k];
        bool tells = fabs(between) > SMALLEST_DUTY;
        found[k] = tells ? (bus[k] - (duty[known][k] - duty[other][k]) * i[k]) / between : NAN;
        told += tells;
    }
    bridge_holes(found, c->log.rows);
    c->log.column[CVK_COLUMN_IA + next] = found;
    keep_storage(c, found);
    cvk_add_finding(
        out, CVK_NOTE, c->log.name,
        "i%c is taken from the bus current, i%c and the duties; %.0f %% of the rows show "
        "it",
        'a' + next, 'a' + known, 100.0 * (double)told / (double)c->log.rows);
    return CVK_OK;
}

/* ---- two terminals --------------------------------------------------------------------------- */

/* The other terminal of the only line voltage, or of two terminal voltages, that contain `phase`;
 * -1 for none. Leaves the two columns (the second may be null) and the sign of phase - other. */
static int other_terminal(const cvk_log *log, int phase, const double *v[2], double *sign)
{
    int lines = 0, terminals = 0, other = -1;
    for (int k = 0; k < 3; k++) {
        lines += cvk_log_has(log, (cvk_column)(CVK_COLUMN_VAB + k));
        terminals += cvk_log_has(log, (cvk_column)(CVK_COLUMN_VA + k));
    }
    for (int k = 0; k < 3; k++) {
        const int next = (k + 1) % 3;
        if (lines == 1 && cvk_log_has(log, (cvk_column)(CVK_COLUMN_VAB + k)) &&
            (k == phase || next == phase)) {
            v[0] = log->column[CVK_COLUMN_VAB + k];
            v[1] = NULL;
            *sign = k == phase ? 1.0 : -1.0;
            other = k == phase ? next : k;
        }
        if (lines == 0 && terminals == 2 && k != phase &&
            cvk_log_has(log, (cvk_column)(CVK_COLUMN_VA + k)) &&
            cvk_log_has(log, (cvk_column)(CVK_COLUMN_VA + phase))) {
            v[0] = log->column[CVK_COLUMN_VA + phase];
            v[1] = log->column[CVK_COLUMN_VA + k];
            *sign = 1.0;
            other = k;
        }
    }
    return other;
}

/* One current and the voltage between two terminals: the third is taken to be open. */
static cvk_status condition_two_terminals(cvk_conditioned *c, cvk_estimate *out)
{
    int phase = -1, currents = 0;
    for (int k = 0; k < 3; k++) {
        if (cvk_log_has(&c->log, (cvk_column)(CVK_COLUMN_IA + k))) {
            phase = k;
            currents++;
        }
    }
    const double *v[2] = {NULL, NULL};
    double sign = 1.0;
    const int other = currents == 1 ? other_terminal(&c->log, phase, v, &sign) : -1;
    const bool duties = cvk_log_has(&c->log, CVK_COLUMN_DUTY_A);
    if (other < 0 || duties) {
        return CVK_OK;
    }
    const size_t rows = c->log.rows;
    const int third = 3 - phase - other;
    double *storage = malloc((5 * rows + 1) * sizeof *storage);
    if (storage == NULL) {
        return CVK_NO_MEMORY;
    }
    double *back = storage, *none = storage + rows, *here = storage + 2 * rows,
           *there = storage + 3 * rows, *open = storage + 4 * rows;
    for (size_t k = 0; k < rows; k++) {
        double between = sign * (v[0][k] - (v[1] != NULL ? v[1][k] : 0.0));
        back[k] = -c->log.column[CVK_COLUMN_IA + phase][k];
        none[k] = open[k] = 0.0;
        here[k] = 0.5 * between;
        there[k] = -here[k];
    }
    c->log.column[CVK_COLUMN_IA + other] = back;
    c->log.column[CVK_COLUMN_IA + third] = none;
    c->log.column[CVK_COLUMN_VA + phase] = here;
    c->log.column[CVK_COLUMN_VA + other] = there;
    c->log.column[CVK_COLUMN_VA + third] = open;
    for (int k = CVK_COLUMN_VAB; k <= CVK_COLUMN_VCA; k++) {
        c->log.column[k] = NULL;
    }
    keep_storage(c, storage);
    c->terminals[0] = (char)('a' + phase);
    c->terminals[1] = (char)('a' + other);
    cvk_add_finding(
        out, CVK_NOTE, c->log.name,
        "one current and the voltage between terminals %c and %c: taken as measured with "
        "%c open and the shaft held",
        'a' + phase, 'a' + other, 'a' + third);
    return CVK_OK;
}

cvk_status cvk_condition_log(cvk_conditioned *c, const cvk_log *log, cvk_estimate *out)
{
    *c = (cvk_conditioned){.log = *log};
    if (!cvk_log_has(log, CVK_COLUMN_T) || log->rows < 2) {
        return CVK_OK;
    }
    cvk_status status = condition_bus_current(c, out);
    if (status == CVK_OK) {
        status = condition_holes(c, out);
    }
    if (status == CVK_OK) {
        status = condition_time(c, out);
    }
    if (status == CVK_OK) {
        status = condition_pwm(c, out);
    }
    if (status == CVK_OK) {
        status = condition_two_terminals(c, out);
    }
    return status;
}

void cvk_conditioned_free(cvk_conditioned *c)
{
    while (c->steps > 0) {
        free(c->storage[--c->steps]);
    }
}
