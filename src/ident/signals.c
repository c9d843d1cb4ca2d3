/* SPDX-License-Identifier: Apache-2.0
 *
 * Examination of a log and its conversion to signals. Rows with a missing cell, repeated rows and
 * rows that go back in time are left out; what remains is cut into contiguous pieces.
 */
#include "signals.h"

#include "channels.h"
#include "conditioning.h"
#include "findings.h"
#include "numeric.h"
#include "wiring.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define PI 3.14159265358979323846
#define SMALLEST_PIECE 64u
#define SMALLEST_CAPTURE 16u  /* of PWM periods that a scope shows */
#define LARGEST_DOUBT 0.06    /* of the largest voltage, that averaged ones may have */
#define LARGEST_MISMATCH 0.03 /* of the current channels' gains */
#define DUTY_MARGIN 0.02
#define STRAY_ROWS 3u
#define LARGEST_GAIN_ERROR 0.1 /* of a voltage channel against the others */
#define PAIR_TOLERANCE 0.15
#define LARGEST_ROUGHNESS 0.2 /* power that changes from row to row, share */
#define LARGEST_LOST_SHARE 0.2
#define SHORTEST_PERIOD_S 1e-7
#define LONGEST_PERIOD_S 2e-3
#define SAME_PERIOD 0.01
#define LONGEST_PWM_S 2e-4 /* rows that far apart are not one a PWM period, unless it is stated */

/* The columns without which a row is of no use. */
typedef struct needed {
    cvk_column column[12];
    cvk_clipping clipping[12]; /* of each, where it is a measured one */
    int count;
} needed;

static void need(needed *list, cvk_column column)
{
    list->column[list->count++] = column;
}

typedef enum voltage_kind {
    VOLTAGE_NONE,
    VOLTAGE_TERMINALS,
    VOLTAGE_LINES,
    VOLTAGE_DUTIES,
    VOLTAGE_PAIR /* two terminals of a motor without current */
} voltage_kind;

static const cvk_column first_column[] = {[VOLTAGE_NONE] = CVK_COLUMN_VA,
                                          [VOLTAGE_TERMINALS] = CVK_COLUMN_VA,
                                          [VOLTAGE_LINES] = CVK_COLUMN_VAB,
                                          [VOLTAGE_DUTIES] = CVK_COLUMN_DUTY_A,
                                          [VOLTAGE_PAIR] = CVK_COLUMN_VA};

static int count_columns(const cvk_log *log, cvk_column first)
{
    int count = 0;
    for (int c = 0; c < 3; c++) {
        count += cvk_log_has(log, (cvk_column)((int)first + c));
    }
    return count;
}

static voltage_kind voltage_kind_of(const cvk_log *log)
{
    const int currents = count_columns(log, CVK_COLUMN_IA);
    if (count_columns(log, CVK_COLUMN_VA) == 3) {
        return VOLTAGE_TERMINALS;
    }
    if (count_columns(log, CVK_COLUMN_VAB) >= 2) {
        return VOLTAGE_LINES;
    }
    if (count_columns(log, CVK_COLUMN_DUTY_A) == 3 && cvk_log_has(log, CVK_COLUMN_VDC)) {
        return VOLTAGE_DUTIES;
    }
    return currents == 0 && count_columns(log, CVK_COLUMN_VA) == 2 ? VOLTAGE_PAIR : VOLTAGE_NONE;
}

/* Lists the columns; false (with a finding) when one is missing. */
static bool list_needed(const cvk_log *log, voltage_kind voltage, needed *list, cvk_estimate *out)
{
    const int currents = count_columns(log, CVK_COLUMN_IA);
    if (!cvk_log_has(log, CVK_COLUMN_T)) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "no time column: name one `t [s]` (or map it with --map t=NAME)");
        return false;
    }
    if (voltage == VOLTAGE_NONE) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "no voltages: log va vb vc, or two of vab vbc vca, or duty_a duty_b duty_c "
                        "with vdc");
        return false;
    }
    const bool open = currents == 0 && voltage != VOLTAGE_DUTIES;
    if (currents < 2 && !open) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "%d phase current column%s, at least two of ia, ib, ic are needed: log "
                        "them, or map their names with --map ia=NAME",
                        currents, currents == 1 ? "" : "s");
        return false;
    }
    const cvk_column starts[] = {CVK_COLUMN_IA, first_column[voltage]};
    need(list, CVK_COLUMN_T);
    for (int c = 0; c < 6; c++) {
        cvk_column column = (cvk_column)((int)starts[c / 3] + c % 3);
        if (cvk_log_has(log, column)) {
            need(list, column);
        }
    }
    if (voltage == VOLTAGE_DUTIES) {
        need(list, CVK_COLUMN_VDC);
    }
    return true;
}

/* Finds the clipped ends of the measured columns and tells them. */
static void find_clipping(const cvk_log *log, needed *list, cvk_estimate *out)
{
    for (int n = 0; n < list->count; n++) {
        const cvk_column c = list->column[n];
        const bool current = c <= CVK_COLUMN_IC;
        cvk_clipping *clipping = &list->clipping[n];
        if (c < CVK_COLUMN_IA || c > CVK_COLUMN_VCA) {
            continue;
        }
        *clipping = cvk_find_clipping(log, c);
        if (clipping->rows > 0) {
            cvk_add_finding(out, CVK_WARNING, log->name,
                            "%s stays at %.4g %s for %zu rows as at no other value: clipped; these "
                            "rows are left "
                            "out. %s",
                            cvk_column_name(c),
                            clipping->high ? clipping->highest : clipping->lowest,
                            current ? "A" : "V", clipping->rows,
                            current ? "Lower the current or widen the range"
                                    : "Widen the range, or measure from terminal to terminal");
        }
    }
}

static bool row_clipped(const cvk_log *log, const needed *list, size_t row)
{
    for (int n = 0; n < list->count; n++) {
        if (list->clipping[n].rows > 0 &&
            cvk_is_clipped(&list->clipping[n], log->column[list->column[n]][row])) {
            return true;
        }
    }
    return false;
}

static bool row_complete(const cvk_log *log, const needed *list, size_t row)
{
    for (int c = 0; c < list->count; c++) {
        if (!isfinite(log->column[list->column[c]][row])) {
            return false;
        }
    }
    return true;
}

/* Mean step over all rows that follow their neighbour by about one period: free of the rounding
 * of a printed time. */
static double refined_period(const cvk_log *log, double typical_s)
{
    const double *t = log->column[CVK_COLUMN_T];
    double sum = 0.0;
    size_t count = 0;
    for (size_t row = 1; row < log->rows; row++) {
        double step = t[row] - t[row - 1];
        if (step > 0.5 * typical_s && step < 1.5 * typical_s) {
            sum += step;
            count++;
        }
    }
    return count > 0 ? sum / (double)count : typical_s;
}

typedef struct row_counts {
    size_t missing, repeated, backward, gaps, clipped;
    size_t first_missing, first_gap, first_backward;
} row_counts;

static size_t smallest_piece(const cvk_signals *s)
{
    return s->path == CVK_PATH_AVERAGED ? SMALLEST_CAPTURE : SMALLEST_PIECE;
}

/* Picks the usable rows into `rows` and cuts the pieces. */
static size_t pick_rows(cvk_signals *s, const cvk_log *log, const needed *list, size_t *rows,
                        row_counts *counts)
{
    const double *t = log->column[CVK_COLUMN_T];
    size_t kept = 0, piece_begin = 0;
    double last_t = -INFINITY;
    for (size_t row = 0; row < log->rows; row++) {
        if (!row_complete(log, list, row)) {
            if (counts->missing++ == 0) {
                counts->first_missing = row;
            }
            continue;
        }
        if (row_clipped(log, list, row)) {
            counts->clipped++;
            continue;
        }
        if (t[row] <= last_t) {
            if (t[row] < last_t && counts->backward++ == 0) {
                counts->first_backward = row;
            }
            counts->repeated += t[row] == last_t;
            continue;
        }
        bool gap = kept > 0 && t[row] - last_t > 1.5 * s->period_s;
        if (gap) {
            if (counts->gaps++ == 0) {
                counts->first_gap = row;
            }
            if (kept - piece_begin < smallest_piece(s) || s->pieces == CVK_MAX_PIECES) {
                kept = piece_begin;
            } else {
                s->piece[s->pieces++] = (cvk_span){piece_begin, kept};
            }
            piece_begin = kept;
        }
        rows[kept++] = row;
        last_t = t[row];
    }
    if (kept - piece_begin >= smallest_piece(s) && s->pieces < CVK_MAX_PIECES) {
        s->piece[s->pieces++] = (cvk_span){piece_begin, kept};
    } else {
        kept = piece_begin;
    }
    return kept;
}

/* Turns the counts into findings; false when too much is lost. */
static bool report_rows(const cvk_log *log, const row_counts *counts, size_t kept, size_t pieces,
                        size_t fewest, cvk_estimate *out)
{
    if (counts->missing > 0) {
        cvk_add_finding(out, CVK_WARNING, log->name,
                        "%zu of %zu rows have an empty or non-numeric cell (the first is data row "
                        "%zu); they are left out",
                        counts->missing, log->rows, counts->first_missing + 1);
    }
    if (counts->repeated > 0) {
        cvk_add_finding(out, CVK_WARNING, log->name,
                        "%zu rows repeat the time before them; they are left out",
                        counts->repeated);
    }
    if (counts->backward > 0) {
        cvk_add_finding(out, CVK_WARNING, log->name,
                        "time goes back in %zu rows (the first is data row %zu); they are left "
                        "out: check that the log is one recording",
                        counts->backward, counts->first_backward + 1);
    }
    if (counts->gaps > 0) {
        cvk_add_finding(out, CVK_WARNING, log->name,
                        "time jumps forward %zu times (the first at data row %zu); the log is used "
                        "as %zu pieces",
                        counts->gaps, counts->first_gap + 1, pieces);
    }
    const bool few = (double)kept < (1.0 - LARGEST_LOST_SHARE) * (double)log->rows || kept < fewest;
    if (few && counts->clipped > 0) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "%zu of %zu rows touch a clipped channel and leave only %zu that can be "
                        "used: what they show would be too small. Measure from terminal to "
                        "terminal, or with a wider range",
                        counts->clipped, log->rows, kept);
        return false;
    }
    if (few) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "only %zu of %zu rows are usable, at least %.0f %% (and %zu) are needed: "
                        "record again without gaps",
                        kept, log->rows, 100.0 * (1.0 - LARGEST_LOST_SHARE), fewest);
        return false;
    }
    return true;
}

/* Index of the one channel whose gain has the other sign; -1 for none. */
static int inverted_channel(const double gain[3])
{
    for (int c = 0; c < 3; c++) {
        double own = gain[c], a = gain[(c + 1) % 3], b = gain[(c + 2) % 3];
        if (own * a < 0.0 && own * b < 0.0) {
            return c;
        }
    }
    return -1;
}

/* More than amplifiers differ by: one channel is scaled. The other two, when they agree, are right;
 * else nobody knows which. */
static bool trust_two(double gain[3], const cvk_log *log, cvk_estimate *out)
{
    for (int odd = 0; odd < 3; odd++) {
        const double a = gain[(odd + 1) % 3], b = gain[(odd + 2) % 3], mean = 0.5 * (a + b);
        if (fabs(a - b) < LARGEST_MISMATCH * mean &&
            fabs(gain[odd] / mean - 1.0) > LARGEST_MISMATCH) {
            cvk_add_finding(out, CVK_WARNING, log->name,
                            "i%c reads %+.1f %% against the other two channels, which agree: it is "
                            "taken for the odd one and corrected; check its gain",
                            'a' + odd, 100.0 * (mean / gain[odd] - 1.0));
            for (int c = 0; c < 3; c++) {
                gain[c] /= mean;
            }
            return true;
        }
    }
    cvk_add_finding(
        out, CVK_ERROR, log->name,
        "the current channels differ in gain by more than %.0f %% (%.2f, %.2f, %.2f would "
        "make their sum constant): which one is right cannot be told",
        100.0 * LARGEST_MISMATCH, gain[0], gain[1], gain[2]);
    return false;
}

/* Takes up the relative gains, or complains when they are beyond belief. */
static void current_gains(const cvk_log *log, const size_t *rows, size_t count, double gain[3],
                          cvk_estimate *out)
{
    double g[3], worst = 0.0;
    if (!cvk_channel_gains(log, CVK_COLUMN_IA, rows, count, g)) {
        return;
    }
    for (int c = 0; c < 3; c++) {
        worst = fmax(worst, fabs(g[c] - 1.0));
    }
    const int inverted = inverted_channel(g);
    if (inverted >= 0) {
        cvk_add_finding(
            out, CVK_ERROR, log->name,
            "i%c is inverted: ia + ib + ic is constant only with its sign changed; swap "
            "its sensor's wires, or negate the column",
            'a' + inverted);
        return;
    }
    if (worst > 0.2) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "ia + ib + ic is far from constant (it would need gains %.2f, %.2f, %.2f): "
                        "a channel is scaled differently or not a phase current",
                        g[0], g[1], g[2]);
        return;
    }
    if (worst > LARGEST_MISMATCH && !trust_two(g, log, out)) {
        return;
    }
    memcpy(gain, g, sizeof g);
    if (worst > 0.002 && worst <= LARGEST_MISMATCH) {
        cvk_add_finding(out, CVK_NOTE, log->name,
                        "current channels differ in gain (%+.2f %%, %+.2f %%, %+.2f %% of their "
                        "mean); corrected",
                        100.0 * (1.0 / g[0] - 1.0), 100.0 * (1.0 / g[1] - 1.0),
                        100.0 * (1.0 / g[2] - 1.0));
    }
}

/* Phases whose names the current columns surely do not bear. */
static void check_wiring(const cvk_signals *s, cvk_estimate *out)
{
    const cvk_wiring wiring = cvk_find_wiring(s);
    if (cvk_miswired(&wiring)) {
        cvk_add_finding(
            out, CVK_ERROR, s->name,
            "currents and voltages do not belong together as named (likeness %.2f), or another "
            "machine drives the motor; "
            "they do when ia, ib, ic are taken for i%c, i%c, i%c%s (%.2f): rename the "
            "columns, or use --map",
            wiring.as_named, wiring.phase[0], wiring.phase[1], wiring.phase[2],
            wiring.inverted ? " with the other sign" : "", wiring.score);
    }
}

static void convert_currents(cvk_signals *s, const cvk_log *log, const size_t *rows,
                             cvk_estimate *out)
{
    double gain[3] = {1, 1, 1};
    const double *i[3] = {log->column[CVK_COLUMN_IA], log->column[CVK_COLUMN_IB],
                          log->column[CVK_COLUMN_IC]};
    if (i[0] != NULL && i[1] != NULL && i[2] != NULL) {
        current_gains(log, rows, s->rows, gain, out);
    }
    for (size_t k = 0; k < s->rows; k++) {
        double x[3];
        for (int c = 0; c < 3; c++) {
            x[c] = i[c] != NULL ? gain[c] * i[c][rows[k]] : 0.0;
        }
        for (int c = 0; c < 3; c++) {
            if (i[c] == NULL) {
                x[c] = -(x[(c + 1) % 3] + x[(c + 2) % 3]);
            }
        }
        s->i_alpha[k] = (2.0 * x[0] - x[1] - x[2]) / 3.0;
        s->i_beta[k] = (x[1] - x[2]) / sqrt(3.0);
        s->peak_current_a = fmax(s->peak_current_a, hypot(s->i_alpha[k], s->i_beta[k]));
    }
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

static void convert_bus(cvk_signals *s, const cvk_log *log, const size_t *rows, voltage_kind kind)
{
    double sum = 0.0;
    for (size_t k = 0; k < s->rows; k++) {
        s->bus_share[k] = kind == VOLTAGE_DUTIES
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
static void terminals_of(const cvk_signals *s, const cvk_log *log, voltage_kind kind, size_t row,
                         size_t k, const double gain[3], double pair_share, double v[3])
{
    const double bus = kind == VOLTAGE_DUTIES ? s->bus_v * s->bus_share[k] : 1.0;
    double x[3], sum = 0.0;
    for (int c = 0; c < 3; c++) {
        const double *column = log->column[(int)first_column[kind] + c];
        x[c] = column != NULL ? gain[c] * bus * column[row] : NAN;
        sum += column != NULL ? x[c] : 0.0;
    }
    if (kind == VOLTAGE_LINES) {
        from_lines(x, v);
        return;
    }
    for (int c = 0; c < 3; c++) {
        v[c] = isnan(x[c]) ? pair_share * sum : x[c];
    }
}

static bool convert_voltages(cvk_signals *s, const cvk_log *log, const size_t *rows,
                             voltage_kind kind, cvk_estimate *out)
{
    double gain[3] = {1.0, 1.0, 1.0}, pair_share = 0.0;
    const int lines = count_columns(log, CVK_COLUMN_VAB);
    if (kind == VOLTAGE_TERMINALS || (kind == VOLTAGE_LINES && lines == 3)) {
        voltage_gains(log, kind == VOLTAGE_LINES ? CVK_COLUMN_VAB : CVK_COLUMN_VA, rows, s->rows,
                      gain, out);
    } else if (kind == VOLTAGE_PAIR && !complete_pair(log, rows, s->rows, &pair_share, out)) {
        return false;
    }
    s->two_voltages = kind == VOLTAGE_PAIR || (kind == VOLTAGE_LINES && lines == 2);
    for (size_t k = 0; k < s->rows; k++) {
        double v[3];
        terminals_of(s, log, kind, rows[k], k, gain, pair_share, v);
        s->v_alpha[k] = (2.0 * v[0] - v[1] - v[2]) / 3.0;
        s->v_beta[k] = (v[1] - v[2]) / sqrt(3.0);
    }
    s->pwm_period_s = log->pwm_hz > 0.0 ? 1.0 / log->pwm_hz : s->period_s;
    const bool duties = kind == VOLTAGE_DUTIES && s->pwm_period_s < LONGEST_PWM_S;
    s->late_s = duties ? fmax(log->current_delay_s, 0.0) : 0.0;
    s->late_unknown = duties && log->current_delay_s < 0.0;
    s->legs = duties ? s->legs : NULL;
    return true;
}

/* Without current columns nothing may have driven the motor: a back-EMF is smooth, and does not
 * jump from row to row. */
static bool looks_undriven(const cvk_signals *s, bool pwm_visible, cvk_estimate *out)
{
    double square = 0.0, rough = 0.0, mean[2] = {0.0, 0.0};
    for (size_t k = 0; k < s->rows; k++) {
        mean[0] += s->v_alpha[k] / (double)s->rows;
        mean[1] += s->v_beta[k] / (double)s->rows;
    }
    for (size_t k = 2; k < s->rows; k++) {
        const double a = s->v_alpha[k] - 2.0 * s->v_alpha[k - 1] + s->v_alpha[k - 2];
        const double b = s->v_beta[k] - 2.0 * s->v_beta[k - 1] + s->v_beta[k - 2];
        rough += (a * a + b * b) / 6.0;
        square += pow(s->v_alpha[k] - mean[0], 2.0) + pow(s->v_beta[k] - mean[1], 2.0);
    }
    if (pwm_visible || rough > LARGEST_ROUGHNESS * square) {
        cvk_add_finding(out, CVK_ERROR, s->name,
                        "the voltages switch, and there is no current column: a driven motor needs "
                        "its currents. Log two of ia, ib, ic, or switch the bridge off");
        return false;
    }
    cvk_add_finding(out, CVK_NOTE, s->name,
                    "no current columns, and voltages without switching: taken for a motor that "
                    "turns with the bridge off, its currents for zero");
    return true;
}

double cvk_largest_voltage(const cvk_signals *s, cvk_span rows)
{
    double largest_v = 0.0;
    for (size_t k = rows.begin; k < rows.end; k++) {
        largest_v = fmax(largest_v, hypot(s->v_alpha[k], s->v_beta[k]));
    }
    return largest_v;
}

bool cvk_too_coarse(const cvk_signals *s, cvk_span rows)
{
    return s->voltage_doubt_v > LARGEST_DOUBT * cvk_largest_voltage(s, rows);
}

bool cvk_currentless(const cvk_signals *s, size_t begin, size_t end)
{
    double step = 0.0, square = 0.0, mean_a = 0.0, mean_b = 0.0, n = (double)(end - begin);
    for (size_t k = begin; k < end; k++) {
        size_t before = k > begin ? k - 1 : k;
        double da = s->i_alpha[k] - s->i_alpha[before], db = s->i_beta[k] - s->i_beta[before];
        step += da * da + db * db;
        mean_a += s->i_alpha[k] / n;
        mean_b += s->i_beta[k] / n;
        square += s->i_alpha[k] * s->i_alpha[k] + s->i_beta[k] * s->i_beta[k];
    }
    double variance = square / n - mean_a * mean_a - mean_b * mean_b;
    return variance < 1.5 * 1.5 * 0.5 * step / n + 1e-12;
}

double cvk_mark_level(const cvk_log *log)
{
    const double *index = log->column[CVK_COLUMN_INDEX];
    double most = 0.0;
    for (size_t k = 0; k < log->rows; k++) {
        most = index[k] > most ? index[k] : most;
    }
    return 0.5 * most;
}

/* One turn from mark to mark, evenly in between; not known before the first and after the last. */
static void angle_from_marks(cvk_signals *s, const cvk_log *log, const size_t *rows)
{
    size_t last = 0, turns = 0;
    const double *index = log->column[CVK_COLUMN_INDEX], level = cvk_mark_level(log);
    for (size_t k = 0; k < s->rows; k++) {
        s->theta_m[k] = NAN;
    }
    for (size_t k = 1; k < s->rows; k++) {
        if (!(index[rows[k]] > level && !(index[rows[k - 1]] > level))) {
            continue;
        }
        for (size_t j = last; j < k && turns > 0; j++) {
            double share = (double)(j - last) / (double)(k - last);
            s->theta_m[j] = 2.0 * PI * ((double)turns + share);
        }
        last = k;
        turns++;
    }
}

static void convert_rotor(cvk_signals *s, const cvk_log *log, const size_t *rows)
{
    double turns = 0.0, last = 0.0;
    const double *angle = log->column[CVK_COLUMN_THETA_M];
    double scale = 1.0, wrap = 2.0 * PI;
    if (angle == NULL && cvk_log_has(log, CVK_COLUMN_ENC) && log->encoder_counts > 0.0) {
        angle = log->column[CVK_COLUMN_ENC];
        scale = 2.0 * PI / log->encoder_counts;
    }
    for (size_t k = 0; s->theta_m != NULL && angle != NULL && k < s->rows; k++) {
        double now = scale * angle[rows[k]];
        if (!isfinite(now)) {
            now = last;
        }
        if (k > 0) {
            turns -= wrap * round((now - last) / wrap);
        }
        last = now;
        s->theta_m[k] = now + turns;
    }
    if (angle == NULL && s->theta_m != NULL) {
        angle_from_marks(s, log, rows);
    }
    for (size_t k = 0; k < s->rows; k++) {
        s->time_s[k] = log->column[CVK_COLUMN_T][rows[k]];
    }
    for (size_t k = 0; s->speed_m != NULL && k < s->rows; k++) {
        s->speed_m[k] = log->column[CVK_COLUMN_SPEED_M][rows[k]];
    }
}

static bool has_rotor_angle(const cvk_log *log)
{
    return cvk_log_has(log, CVK_COLUMN_THETA_M) ||
           (cvk_log_has(log, CVK_COLUMN_ENC) && log->encoder_counts > 0.0) ||
           (cvk_log_has(log, CVK_COLUMN_INDEX) && !cvk_log_has(log, CVK_COLUMN_SPEED_M));
}

enum { LEG_COLUMNS = sizeof(cvk_legs) / sizeof(double) };

static cvk_status allocate(cvk_signals *s, const cvk_log *log)
{
    bool angle = has_rotor_angle(log), speed = cvk_log_has(log, CVK_COLUMN_SPEED_M);
    size_t columns = 6u + LEG_COLUMNS + (angle ? 1u : 0u) + (speed ? 1u : 0u);
    double *block = malloc(columns * s->rows * sizeof *block);
    if (block == NULL) {
        return CVK_NO_MEMORY;
    }
    s->storage = block;
    s->i_alpha = block;
    s->i_beta = block + s->rows;
    s->v_alpha = block + 2 * s->rows;
    s->v_beta = block + 3 * s->rows;
    s->bus_share = block + 4 * s->rows;
    s->time_s = block + 5 * s->rows;
    s->legs = (cvk_legs *)(block + 6 * s->rows);
    block += (6u + LEG_COLUMNS) * s->rows;
    if (angle) {
        s->theta_m = block;
        block += s->rows;
    }
    s->speed_m = speed ? block : NULL;
    return CVK_OK;
}

static bool plausible(const cvk_signals *s, const cvk_log *log, const cvk_estimate_options *options,
                      cvk_estimate *out)
{
    if (s->peak_current_a > options->largest_current_a) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "peak phase current is %.4g A, at most %.4g A is believed: if the column "
                        "is in milliampere, head it `ia [mA]`; if it is right, raise "
                        "--largest-current",
                        s->peak_current_a, options->largest_current_a);
        return false;
    }
    double most_v = 0.0;
    for (size_t k = 0; k < s->rows; k++) {
        most_v = fmax(most_v, fabs(s->v_alpha[k]) + fabs(s->v_beta[k]));
    }
    if (most_v > 1000.0) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "voltages reach %.4g V, at most 1000 V is believed: if they are in "
                        "millivolt, head the columns `va [mV]`; duties must be 0 .. 1 or `[%%]`",
                        most_v);
        return false;
    }
    return true;
}

/* Duties beyond 0 .. 1 are in another unit: more than a stray row or two says so. */
static bool plausible_duties(const cvk_log *log, cvk_estimate *out)
{
    for (int c = CVK_COLUMN_DUTY_A; c <= CVK_COLUMN_DUTY_C; c++) {
        const double *x = log->column[c];
        double farthest = 0.5;
        size_t beyond = 0;
        for (size_t k = 0; k < log->rows; k++) {
            farthest = fabs(x[k] - 0.5) > fabs(farthest - 0.5) ? x[k] : farthest;
            beyond += fabs(x[k] - 0.5) > 0.5 + DUTY_MARGIN;
        }
        if (beyond > STRAY_ROWS) {
            const char *name = cvk_column_name((cvk_column)c);
            cvk_add_finding(out, CVK_ERROR, log->name,
                            "%s reaches %.4g, but a duty is 0 .. 1: if it is in percent, head it "
                            "`%s [%%]`; if in timer ticks, scale it in a mapping file",
                            name, farthest, name);
            return false;
        }
    }
    return true;
}

static bool find_period(cvk_signals *s, const cvk_log *log, cvk_estimate *out)
{
    double typical_s = cvk_median_step(log);
    if (log->rows < 2) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "a single row, at least %u are needed: record a longer log",
                        SMALLEST_PIECE);
        return false;
    }
    if (!(typical_s >= SHORTEST_PERIOD_S && typical_s <= LONGEST_PERIOD_S)) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "time step is %.4g s, allowed is %g .. %g s: is the time column in another "
                        "unit? Head it `t [ms]` or `t [us]`",
                        typical_s, SHORTEST_PERIOD_S, LONGEST_PERIOD_S);
        return false;
    }
    s->period_s = refined_period(log, typical_s);
    return true;
}

static cvk_status convert(cvk_signals *s, const cvk_conditioned *conditioned,
                          const cvk_estimate_options *options, cvk_estimate *out)
{
    const cvk_log *log = &conditioned->log;
    const bool pwm_visible = conditioned->pwm_hz > 0.0;
    const size_t first_finding = out->findings;
    *s = (cvk_signals){.name = log->name,
                       .pwm_hz = conditioned->pwm_hz,
                       .edge_noise_v = conditioned->edge_noise_v,
                       .voltage_doubt_v = conditioned->voltage_doubt_v};
    memcpy(s->cure, conditioned->cure, sizeof s->cure);
    memcpy(s->terminals, conditioned->terminals, sizeof s->terminals);
    needed list = {.count = 0};
    voltage_kind kind = voltage_kind_of(log);
    s->path = kind == VOLTAGE_DUTIES ? CVK_PATH_COMMANDED
              : pwm_visible          ? CVK_PATH_AVERAGED
                                     : CVK_PATH_MEASURED;
    if (!list_needed(log, kind, &list, out) || !find_period(s, log, out) ||
        (kind == VOLTAGE_DUTIES && !plausible_duties(log, out))) {
        return CVK_NOT_IN_LOG;
    }
    size_t *rows = malloc((log->rows + 1) * sizeof *rows);
    if (rows == NULL) {
        return CVK_NO_MEMORY;
    }
    row_counts counts = {0};
    if (!pwm_visible) {
        find_clipping(log, &list, out);
    }
    s->rows = pick_rows(s, log, &list, rows, &counts);
    cvk_status status = CVK_NOT_IN_LOG;
    if (report_rows(log, &counts, s->rows, s->pieces, smallest_piece(s), out)) {
        status = allocate(s, log);
    }
    if (status == CVK_OK) {
        convert_currents(s, log, rows, out);
        convert_bus(s, log, rows, kind);
        bool fine = convert_voltages(s, log, rows, kind, out);
        convert_rotor(s, log, rows);
        s->open_circuit = count_columns(log, CVK_COLUMN_IA) == 0;
        fine = fine && (!s->open_circuit || looks_undriven(s, pwm_visible, out));
        if (!(s->voltage_doubt_v > 0.0 && cvk_too_coarse(s, (cvk_span){0, s->rows}))) {
            check_wiring(s, out);
        }
        fine = fine && plausible(s, log, options, out) && cvk_errors_since(out, first_finding) == 0;
        status = fine ? CVK_OK : CVK_NOT_IN_LOG;
    }
    free(rows);
    return status;
}

cvk_status cvk_signals_from_log(cvk_signals *s, const cvk_log *log,
                                const cvk_estimate_options *options, cvk_estimate *out)
{
    cvk_conditioned conditioned;
    const size_t first_finding = out->findings;
    *s = (cvk_signals){.name = log->name};
    cvk_status status = cvk_condition_log(&conditioned, log, out);
    if (status == CVK_OK && cvk_errors_since(out, first_finding) > 0) {
        status = CVK_NOT_IN_LOG;
    }
    if (status == CVK_OK) {
        status = convert(s, &conditioned, options, out);
    }
    cvk_conditioned_free(&conditioned);
    return status;
}

bool cvk_row_each_period(const cvk_signals *s)
{
    return fabs(s->pwm_period_s / s->period_s - 1.0) < SAME_PERIOD;
}

void cvk_signals_free(cvk_signals *signals)
{
    free(signals->storage);
    signals->storage = NULL;
}
