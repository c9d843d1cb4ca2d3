/* SPDX-License-Identifier: Apache-2.0
 *
 * Voltages to the stationary plane, from terminals, lines or duties of a bus.
 */
#include "waveforms_parts.h"

#include "channels.h"
#include "findings.h"

#include <math.h>
#include <string.h>

#define LARGEST_GAIN_ERROR 0.1 /* of a voltage channel against the others */
#define PAIR_TOLERANCE 0.15
#define LONGEST_PWM_S 2e-4 /* rows that far apart are not one a PWM period, unless it is stated */

cvk_column cvk_first_voltage(cvk_voltage_kind kind)
{
    static const cvk_column first[] = {[CVK_VOLTAGE_NONE] = CVK_COLUMN_VA,
                                       [CVK_VOLTAGE_TERMINALS] = CVK_COLUMN_VA,
                                       [CVK_VOLTAGE_LINES] = CVK_COLUMN_VAB,
                                       [CVK_VOLTAGE_DUTIES] = CVK_COLUMN_DUTY_A,
                                       [CVK_VOLTAGE_PAIR] = CVK_COLUMN_VA};
    return first[kind];
}

cvk_voltage_kind cvk_voltage_kind_of(const cvk_log *log)
{
    const int currents = cvk_count_columns(log, CVK_COLUMN_IA);
    if (cvk_count_columns(log, CVK_COLUMN_VA) == 3) {
        return CVK_VOLTAGE_TERMINALS;
    }
    if (cvk_count_columns(log, CVK_COLUMN_VAB) >= 2) {
        return CVK_VOLTAGE_LINES;
    }
    if (cvk_count_columns(log, CVK_COLUMN_DUTY_A) == 3 && cvk_log_has(log, CVK_COLUMN_VDC)) {
        return CVK_VOLTAGE_DUTIES;
    }
    return currents == 0 && cvk_count_columns(log, CVK_COLUMN_VA) == 2 ? CVK_VOLTAGE_PAIR
                                                                       : CVK_VOLTAGE_NONE;
}

/* The bus moves slowly against its converter's noise: averaged over a few neighbours. */
static double smooth_bus(const double *vdc, const size_t *rows, size_t count, size_t k)
{
    const size_t reach = 4;
    size_t begin = k > reach ? k - reach : 0, end = k + reach + 1 < count ? k + reach + 1 : count;
    double sum = 0.0;
    for (size_t n = begin; n < end; n++) {
        sum += vdc[rows[n]];
    }
    return sum / (double)(end - begin);
}

void cvk_convert_bus(cvk_waveforms *s, const cvk_log *log, const size_t *rows,
                     cvk_voltage_kind kind)
{
    double sum = 0.0;
    for (size_t k = 0; k < s->rows; k++) {
        s->bus_share[k] = kind == CVK_VOLTAGE_DUTIES
                              ? smooth_bus(log->column[CVK_COLUMN_VDC], rows, s->rows, k)
                              : 1.0;
        sum += s->bus_share[k];
    }
    s->bus_v = sum / (double)s->rows;
    for (size_t k = 0; k < s->rows; k++) {
        s->bus_share[k] /= s->bus_v;
    }
}

/* Relative gains of the voltage channels, where their sum shows them. */
static void voltage_gains(const cvk_log *log, cvk_column first, const size_t *rows, size_t count,
                          double gain[3], cvk_estimate *out)
{
    double g[3];
    if (!cvk_channel_gains(log, first, rows, count, g)) {
        return;
    }
    double worst = fmax(fmax(fabs(g[0] - 1.0), fabs(g[1] - 1.0)), fabs(g[2] - 1.0));
    if (worst > LARGEST_GAIN_ERROR) {
        return; /* a reference that moves, rather than gains */
    }
    memcpy(gain, g, sizeof g);
    if (worst > 0.002) {
        cvk_add_finding(out, CVK_NOTE, log->name,
                        "voltage channels differ in gain (%+.2f %%, %+.2f %%, %+.2f %% of their "
                        "mean); corrected",
                        100.0 * (1.0 / g[0] - 1.0), 100.0 * (1.0 / g[1] - 1.0),
                        100.0 * (1.0 / g[2] - 1.0));
    }
}

/* Terminal voltages of one row from line voltages, b as reference: three in the least squares
 * sense (what does not add up to zero is shared among them), or any two. */
static void from_lines(const double line[3], double v[3])
{
    double ab = line[0], bc = line[1];
    if (isnan(ab)) {
        ab = -line[1] - line[2];
    } else if (isnan(bc)) {
        bc = -line[0] - line[2];
    } else if (!isnan(line[2])) {
        const double third = (line[0] + line[1] + line[2]) / 3.0;
        ab -= third;
        bc -= third;
    }
    v[0] = ab;
    v[1] = 0.0;
    v[2] = -bc;
}

/* Two terminals of a motor without current: 60 degrees apart when the third is their reference, 120
 * when the star point is. The third follows. */
static bool complete_pair(const cvk_log *log, const size_t *rows, size_t count, double *sum_share,
                          cvk_estimate *out)
{
    const double *x[2] = {NULL, NULL};
    for (int c = 0, n = 0; c < 3 && n < 2; c++) {
        if (cvk_log_has(log, (cvk_column)(CVK_COLUMN_VA + c))) {
            x[n++] = log->column[CVK_COLUMN_VA + c];
        }
    }
    if (x[0] == NULL || x[1] == NULL) {
        return false;
    }
    double product = 0.0, square[2] = {0.0, 0.0}, mean[2] = {0.0, 0.0};
    for (size_t k = 0; k < count; k++) {
        for (int n = 0; n < 2; n++) {
            mean[n] += x[n][rows[k]] / (double)count;
        }
    }
    for (size_t k = 0; k < count; k++) {
        const double a = x[0][rows[k]] - mean[0], b = x[1][rows[k]] - mean[1];
        product += a * b;
        square[0] += a * a;
        square[1] += b * b;
    }
    const double alike = product / sqrt(square[0] * square[1]);
    *sum_share = alike > 0.0 ? 0.0 : -1.0;
    if (fabs(fabs(alike) - 0.5) < PAIR_TOLERANCE) {
        cvk_add_finding(out, CVK_NOTE, log->name, "two terminal voltages, %s apart: %s",
                        alike > 0.0 ? "60 degrees" : "120",
                        alike > 0.0 ? "taken as measured against the third terminal"
                                    : "taken as measured against the star point");
        return true;
    }
    cvk_add_finding(out, CVK_ERROR, log->name,
                    "two terminal voltages without a third: their likeness is %.2f, but against "
                    "the third terminal it would be 0.5 and against the star point -0.5. Log all "
                    "three, or measure against the third terminal",
                    alike);
    return false;
}

/* The three terminals' voltages, against any common reference, of one row. */
static void terminals_of(const cvk_waveforms *s, const cvk_log *log, cvk_voltage_kind kind,
                         size_t row, size_t k, const double gain[3], double pair_share, double v[3])
{
    const double bus = kind == CVK_VOLTAGE_DUTIES ? s->bus_v * s->bus_share[k] : 1.0;
    double x[3], sum = 0.0;
    for (int c = 0; c < 3; c++) {
        const double *column = log->column[(int)cvk_first_voltage(kind) + c];
        x[c] = column != NULL ? gain[c] * bus * column[row] : NAN;
        sum += column != NULL ? x[c] : 0.0;
    }
    if (kind == CVK_VOLTAGE_LINES) {
        from_lines(x, v);
        return;
    }
    for (int c = 0; c < 3; c++) {
        v[c] = isnan(x[c]) ? pair_share * sum : x[c];
    }
}

bool cvk_convert_voltages(cvk_waveforms *s, const cvk_log *log, const size_t *rows,
                          cvk_voltage_kind kind, cvk_estimate *out)
{
    double gain[3] = {1.0, 1.0, 1.0}, pair_share = 0.0;
    const int lines = cvk_count_columns(log, CVK_COLUMN_VAB);
    if (kind == CVK_VOLTAGE_TERMINALS || (kind == CVK_VOLTAGE_LINES && lines == 3)) {
        voltage_gains(log, kind == CVK_VOLTAGE_LINES ? CVK_COLUMN_VAB : CVK_COLUMN_VA, rows,
                      s->rows, gain, out);
    } else if (kind == CVK_VOLTAGE_PAIR && !complete_pair(log, rows, s->rows, &pair_share, out)) {
        return false;
    }
    s->two_voltages = kind == CVK_VOLTAGE_PAIR || (kind == CVK_VOLTAGE_LINES && lines == 2);
    for (size_t k = 0; k < s->rows; k++) {
        double v[3];
        terminals_of(s, log, kind, rows[k], k, gain, pair_share, v);
        s->v_alpha[k] = (2.0 * v[0] - v[1] - v[2]) / 3.0;
        s->v_beta[k] = (v[1] - v[2]) / sqrt(3.0);
    }
    s->pwm_period_s = log->pwm_hz > 0.0 ? 1.0 / log->pwm_hz : s->period_s;
    const bool duties = kind == CVK_VOLTAGE_DUTIES && s->pwm_period_s < LONGEST_PWM_S;
    s->late_s = duties ? fmax(log->current_delay_s, 0.0) : 0.0;
    s->late_unknown = duties && log->current_delay_s < 0.0;
    s->legs = duties ? s->legs : NULL;
    return true;
}
