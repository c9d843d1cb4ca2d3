/* SPDX-License-Identifier: Apache-2.0
 *
 * Examination of a log and its conversion to signals. Rows with a missing cell, repeated rows and
 * rows that go back in time are left out; what remains is cut into contiguous pieces.
 */
#include "signals.h"

#include "conditioning.h"
#include "findings.h"
#include "numeric.h"
#include "wiring.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define PI 3.14159265358979323846
#define SMALLEST_PIECE 64u
#define LEAST_SPREAD 1e-6      /* of the same: currents along one direction only */
#define SPREAD_FOR_GAINS 100.0 /* of the currents' principal axes: below, gains cannot be told */
#define LARGEST_LOST_SHARE 0.2
#define SHORTEST_PERIOD_S 1e-7
#define LONGEST_PERIOD_S 2e-3

typedef struct needed {
    cvk_column column[12];
    int count;
} needed;

static void need(needed *list, cvk_column column)
{
    list->column[list->count++] = column;
}

static bool has_all(const cvk_log *log, cvk_column a, cvk_column b, cvk_column c)
{
    return cvk_log_has(log, a) && cvk_log_has(log, b) && cvk_log_has(log, c);
}

typedef enum voltage_kind {
    VOLTAGE_NONE,
    VOLTAGE_TERMINALS,
    VOLTAGE_LINES,
    VOLTAGE_DUTIES
} voltage_kind;

static voltage_kind voltage_kind_of(const cvk_log *log)
{
    int lines = cvk_log_has(log, CVK_COLUMN_VAB) + cvk_log_has(log, CVK_COLUMN_VBC) +
                cvk_log_has(log, CVK_COLUMN_VCA);
    if (has_all(log, CVK_COLUMN_VA, CVK_COLUMN_VB, CVK_COLUMN_VC)) {
        return VOLTAGE_TERMINALS;
    }
    if (lines >= 2) {
        return VOLTAGE_LINES;
    }
    if (has_all(log, CVK_COLUMN_DUTY_A, CVK_COLUMN_DUTY_B, CVK_COLUMN_DUTY_C) &&
        cvk_log_has(log, CVK_COLUMN_VDC)) {
        return VOLTAGE_DUTIES;
    }
    return VOLTAGE_NONE;
}

/* The columns without which a row is of no use; false (with a finding) when a column is missing. */
static bool list_needed(const cvk_log *log, voltage_kind voltage, needed *list, cvk_estimate *out)
{
    int currents = 0;
    need(list, CVK_COLUMN_T);
    for (int c = CVK_COLUMN_IA; c <= CVK_COLUMN_IC; c++) {
        if (cvk_log_has(log, (cvk_column)c)) {
            need(list, (cvk_column)c);
            currents++;
        }
    }
    if (!cvk_log_has(log, CVK_COLUMN_T)) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "no time column: name one `t [s]` (or map it with --map t=NAME)");
        return false;
    }
    if (currents < 2) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "%d phase current column%s, at least two of ia, ib, ic are needed: log "
                        "them, or map their names with --map ia=NAME",
                        currents, currents == 1 ? "" : "s");
        return false;
    }
    static const cvk_column first[] = {[VOLTAGE_TERMINALS] = CVK_COLUMN_VA,
                                       [VOLTAGE_LINES] = CVK_COLUMN_VAB,
                                       [VOLTAGE_DUTIES] = CVK_COLUMN_DUTY_A};
    if (voltage == VOLTAGE_NONE) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "no voltages: log va vb vc, or two of vab vbc vca, or duty_a duty_b duty_c "
                        "with vdc");
        return false;
    }
    for (int c = 0; c < 3; c++) {
        cvk_column column = (cvk_column)((int)first[voltage] + c);
        if (cvk_log_has(log, column)) {
            need(list, column);
        }
    }
    if (voltage == VOLTAGE_DUTIES) {
        need(list, CVK_COLUMN_VDC);
    }
    return true;
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
    size_t missing, repeated, backward, gaps;
    size_t first_missing, first_gap, first_backward;
} row_counts;

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
            if (kept - piece_begin < SMALLEST_PIECE || s->pieces == CVK_MAX_PIECES) {
                kept = piece_begin;
            } else {
                s->piece[s->pieces++] = (cvk_span){piece_begin, kept};
            }
            piece_begin = kept;
        }
        rows[kept++] = row;
        last_t = t[row];
    }
    if (kept - piece_begin >= SMALLEST_PIECE && s->pieces < CVK_MAX_PIECES) {
        s->piece[s->pieces++] = (cvk_span){piece_begin, kept};
    } else {
        kept = piece_begin;
    }
    return kept;
}

/* Turns the counts into findings; false when too much is lost. */
static bool report_rows(const cvk_log *log, const row_counts *counts, size_t kept, size_t pieces,
                        cvk_estimate *out)
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
    if ((double)kept < (1.0 - LARGEST_LOST_SHARE) * (double)log->rows || kept < SMALLEST_PIECE) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "only %zu of %zu rows are usable, at least %.0f %% (and %u) are needed: "
                        "record again without gaps",
                        kept, log->rows, 100.0 * (1.0 - LARGEST_LOST_SHARE), SMALLEST_PIECE);
        return false;
    }
    return true;
}

static double finite_mean(const double *x, const size_t *rows, size_t count)
{
    double sum = 0.0, used = 0.0;
    for (size_t k = 0; k < count; k++) {
        double value = x[rows != NULL ? rows[k] : k];
        sum += isfinite(value) ? value : 0.0;
        used += isfinite(value) ? 1.0 : 0.0;
    }
    return used > 0.0 ? sum / used : 0.0;
}

bool cvk_current_gains(const cvk_log *log, const size_t *rows, size_t count, double gain[3])
{
    double cov[9] = {0}, values[3], mean[3], x[3];
    for (int c = 0; c < 3; c++) {
        mean[c] = finite_mean(log->column[CVK_COLUMN_IA + c], rows, count);
    }
    for (size_t k = 0; k < count; k++) {
        for (int c = 0; c < 3; c++) {
            x[c] = log->column[CVK_COLUMN_IA + c][rows != NULL ? rows[k] : k] - mean[c];
        }
        for (int c = 0; c < 9 && isfinite(x[0] + x[1] + x[2]); c++) {
            cov[c] += x[c / 3] * x[c % 3];
        }
    }
    if (!cvk_eigen3(cov, values) || !(values[1] > SPREAD_FOR_GAINS * values[0]) ||
        !(values[1] > LEAST_SPREAD * values[2])) {
        return false; /* no current, or along one direction only: nothing to compare */
    }
    double sum = cov[0] + cov[3] + cov[6];
    for (int c = 0; c < 3; c++) {
        gain[c] = 3.0 * cov[3 * c] / sum;
    }
    return isfinite(gain[0] + gain[1] + gain[2]);
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

/* Takes up the relative gains, or complains when they are beyond belief. */
static void current_gains(const cvk_log *log, const size_t *rows, size_t count, double gain[3],
                          cvk_estimate *out)
{
    double g[3], worst = 0.0;
    if (!cvk_current_gains(log, rows, count, g)) {
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
    memcpy(gain, g, sizeof g);
    if (worst > 0.002) {
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
        cvk_add_finding(out, CVK_ERROR, s->name,
                        "currents and voltages do not belong together as named (likeness %.2f); "
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

static void convert_voltages(cvk_signals *s, const cvk_log *log, const size_t *rows,
                             voltage_kind kind)
{
    const double *va = log->column[CVK_COLUMN_VA], *vb = log->column[CVK_COLUMN_VB],
                 *vc = log->column[CVK_COLUMN_VC];
    const double *vab = log->column[CVK_COLUMN_VAB], *vbc = log->column[CVK_COLUMN_VBC],
                 *vca = log->column[CVK_COLUMN_VCA];
    const double *da = log->column[CVK_COLUMN_DUTY_A], *db = log->column[CVK_COLUMN_DUTY_B],
                 *dc = log->column[CVK_COLUMN_DUTY_C];
    for (size_t k = 0; k < s->rows; k++) {
        size_t r = rows[k];
        double a, b, c;
        if (kind == VOLTAGE_LINES) { /* b as reference: a = vab, c = -vbc */
            a = vab != NULL ? vab[r] : -vbc[r] - vca[r];
            c = vbc != NULL ? -vbc[r] : vab[r] + vca[r];
            b = 0.0;
        } else if (kind == VOLTAGE_DUTIES) {
            double bus = s->bus_v * s->bus_share[k];
            a = da[r] * bus;
            b = db[r] * bus;
            c = dc[r] * bus;
        } else {
            a = va[r];
            b = vb[r];
            c = vc[r];
        }
        s->v_alpha[k] = (2.0 * a - b - c) / 3.0;
        s->v_beta[k] = (b - c) / sqrt(3.0);
    }
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

static cvk_status allocate(cvk_signals *s, const cvk_log *log)
{
    bool angle = has_rotor_angle(log), speed = cvk_log_has(log, CVK_COLUMN_SPEED_M);
    size_t columns = 5u + (angle ? 1u : 0u) + (speed ? 1u : 0u);
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
    block += 5 * s->rows;
    if (angle) {
        s->theta_m = block;
        block += s->rows;
    }
    s->speed_m = speed ? block : NULL;
    return CVK_OK;
}

/* Channels that sit at their extreme value for many rows are clipped. */
static void report_clipping(const cvk_log *log, cvk_estimate *out)
{
    for (int c = CVK_COLUMN_IA; c <= CVK_COLUMN_IC; c++) {
        const double *x = log->column[c];
        double extreme = 0.0;
        size_t at = 0;
        for (size_t r = 0; x != NULL && r < log->rows; r++) {
            if (fabs(x[r]) > extreme) {
                extreme = fabs(x[r]);
                at = 0;
            }
            at += fabs(x[r]) == extreme;
        }
        /* a noisy, unclipped signal visits its extreme a few times; a clipped one stays there */
        if (extreme > 0.0 && at > 20 && (double)at > 0.002 * (double)log->rows) {
            size_t longest = 0, run = 0;
            for (size_t r = 0; r < log->rows; r++) {
                run = fabs(x[r]) == extreme ? run + 1 : 0;
                longest = run > longest ? run : longest;
            }
            if (longest >= 8) {
                cvk_add_finding(out, CVK_WARNING, log->name,
                                "%s stays at %.4g A for %zu rows: clipped? Lower the current or "
                                "widen the range",
                                cvk_column_name((cvk_column)c), extreme, at);
            }
        }
    }
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

static bool find_period(cvk_signals *s, const cvk_log *log, cvk_estimate *out)
{
    double typical_s = cvk_median_step(log);
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

static cvk_status convert(cvk_signals *s, const cvk_log *log, const cvk_estimate_options *options,
                          cvk_estimate *out)
{
    *s = (cvk_signals){.name = log->name};
    needed list = {.count = 0};
    voltage_kind kind = voltage_kind_of(log);
    s->path = kind == VOLTAGE_DUTIES ? CVK_PATH_COMMANDED : CVK_PATH_MEASURED;
    if (!list_needed(log, kind, &list, out) || !find_period(s, log, out)) {
        return CVK_NOT_IN_LOG;
    }
    size_t *rows = malloc((log->rows + 1) * sizeof *rows);
    if (rows == NULL) {
        return CVK_NO_MEMORY;
    }
    row_counts counts = {0};
    s->rows = pick_rows(s, log, &list, rows, &counts);
    cvk_status status = CVK_NOT_IN_LOG;
    if (report_rows(log, &counts, s->rows, s->pieces, out)) {
        status = allocate(s, log);
    }
    if (status == CVK_OK) {
        convert_currents(s, log, rows, out);
        convert_bus(s, log, rows, kind);
        convert_voltages(s, log, rows, kind);
        convert_rotor(s, log, rows);
        report_clipping(log, out);
        check_wiring(s, out);
        bool fine = plausible(s, log, options, out) && !cvk_has_errors(out);
        status = fine ? CVK_OK : CVK_NOT_IN_LOG;
    }
    free(rows);
    return status;
}

cvk_status cvk_signals_from_log(cvk_signals *s, const cvk_log *log,
                                const cvk_estimate_options *options, cvk_estimate *out)
{
    cvk_conditioned conditioned;
    *s = (cvk_signals){.name = log->name};
    cvk_status status = cvk_condition_log(&conditioned, log, out);
    if (status == CVK_OK) {
        status = convert(s, &conditioned.log, options, out);
        s->pwm_hz = conditioned.pwm_hz;
        s->path = s->pwm_hz > 0.0 ? CVK_PATH_AVERAGED : s->path;
        s->voltage_doubt_v = conditioned.voltage_doubt_v;
    }
    cvk_conditioned_free(&conditioned);
    return status;
}

void cvk_signals_free(cvk_signals *signals)
{
    free(signals->storage);
    signals->storage = NULL;
}
