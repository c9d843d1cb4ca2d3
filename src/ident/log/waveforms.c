/* SPDX-License-Identifier: Apache-2.0
 *
 * Examination of a log and its conversion to signals. Rows with a missing cell, repeated rows and
 * rows that go back in time are left out; what remains is cut into contiguous pieces.
 */
#include "waveforms_parts.h"

#include "channels.h"
#include "conditioning.h"
#include "findings.h"
#include "math/numeric.h"
#include "phase_names.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define SMALLEST_PIECE 64u
#define SMALLEST_CAPTURE 16u /* of PWM periods that a scope shows */
#define LARGEST_DOUBT 0.06   /* of the largest voltage, that averaged ones may have */
#define DUTY_MARGIN 0.02
#define STRAY_ROWS 3u
#define LARGEST_ROUGHNESS 0.2 /* power that changes from row to row, share */
#define LARGEST_LOST_SHARE 0.2
#define SHORTEST_PERIOD_S 1e-7
#define LONGEST_PERIOD_S 2e-3
#define SAME_PERIOD 0.01

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

/* Lists the columns; false (with a finding) when one is missing. */
static bool list_needed(const cvk_log *log, cvk_voltage_kind voltage, needed *list,
                        cvk_estimate *out)
{
    const int currents = cvk_count_columns(log, CVK_COLUMN_IA);
    if (!cvk_log_has(log, CVK_COLUMN_T)) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "no time column: name one `t [s]` (or map it with --map t=NAME)");
        return false;
    }
    if (voltage == CVK_VOLTAGE_NONE) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "no voltages: log va vb vc, or two of vab vbc vca, or duty_a duty_b duty_c "
                        "with vdc");
        return false;
    }
    const bool open = currents == 0 && voltage != CVK_VOLTAGE_DUTIES;
    if (currents < 2 && !open) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "%d phase current column%s, at least two of ia, ib, ic are needed: log "
                        "them, or map their names with --map ia=NAME",
                        currents, currents == 1 ? "" : "s");
        return false;
    }
    const cvk_column starts[] = {CVK_COLUMN_IA, cvk_first_voltage(voltage)};
    need(list, CVK_COLUMN_T);
    for (int c = 0; c < 6; c++) {
        cvk_column column = (cvk_column)((int)starts[c / 3] + c % 3);
        if (cvk_log_has(log, column)) {
            need(list, column);
        }
    }
    if (voltage == CVK_VOLTAGE_DUTIES) {
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

static size_t smallest_piece(const cvk_waveforms *s)
{
    return s->path == CVK_PATH_AVERAGED ? SMALLEST_CAPTURE : SMALLEST_PIECE;
}

/* Picks the usable rows into `rows` and cuts the pieces. */
static size_t pick_rows(cvk_waveforms *s, const cvk_log *log, const needed *list, size_t *rows,
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
                        "time jumps forward in %zu place%s (the first at data row %zu); the log is "
                        "used as %zu pieces",
                        counts->gaps, counts->gaps == 1 ? "" : "s", counts->first_gap + 1, pieces);
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

/* Phases whose names the current columns surely do not bear. */
static void check_wiring(const cvk_waveforms *s, cvk_estimate *out)
{
    const cvk_wiring wiring = cvk_find_wiring(s);
    if (!cvk_miswired(&wiring)) {
        return;
    }
    if (cvk_gives_back(&wiring)) {
        cvk_add_finding(
            out, CVK_ERROR, s->name,
            "the motor gives power back all through the log (likeness %.2f): it brakes, "
            "another machine drives it, or all currents have the wrong sign, and "
            "nothing tells which: record a run that also takes power, or negate the "
            "currents (`scale: -1` in a mapping file)",
            wiring.as_named);
        return;
    }
    cvk_add_finding(out, CVK_ERROR, s->name,
                    "currents and voltages do not belong together as named (likeness %.2f), or "
                    "another machine drives the motor; they do when ia, ib, ic are taken for i%c, "
                    "i%c, i%c%s (%.2f): rename the columns, or use --map",
                    wiring.as_named, wiring.phase[0], wiring.phase[1], wiring.phase[2],
                    wiring.inverted ? " with the other sign" : "", wiring.score);
}

/* Without current columns nothing may have driven the motor: a back-EMF is smooth, and does not
 * jump from row to row. */
static bool looks_undriven(const cvk_waveforms *s, bool pwm_visible, cvk_estimate *out)
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

double cvk_largest_voltage(const cvk_waveforms *s, cvk_span rows)
{
    double largest_v = 0.0;
    for (size_t k = rows.begin; k < rows.end; k++) {
        largest_v = fmax(largest_v, hypot(s->v_alpha[k], s->v_beta[k]));
    }
    return largest_v;
}

bool cvk_too_coarse(const cvk_waveforms *s, cvk_span rows)
{
    return s->voltage_doubt_v > LARGEST_DOUBT * cvk_largest_voltage(s, rows);
}

bool cvk_currentless(const cvk_waveforms *s, size_t begin, size_t end)
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

enum { LEG_COLUMNS = sizeof(cvk_legs) / sizeof(double) };

static cvk_status allocate(cvk_waveforms *s, const cvk_log *log)
{
    bool angle = cvk_has_rotor_angle(log), speed = cvk_log_has(log, CVK_COLUMN_SPEED_M);
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

static bool plausible(const cvk_waveforms *s, const cvk_log *log,
                      const cvk_estimate_options *options, cvk_estimate *out)
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

static bool find_period(cvk_waveforms *s, const cvk_log *log, cvk_estimate *out)
{
    double typical_s = cvk_median_step(log);
    if (log->rows < 2) {
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "%s, at least %u rows are needed: record a longer log",
                        log->rows == 0 ? "no row" : "a single row", SMALLEST_PIECE);
        return false;
    }
    if (isnan(typical_s)) { /* no step is forward */
        cvk_add_finding(out, CVK_ERROR, log->name,
                        "time never goes forward from one row to the next: is another column named "
                        "t, or the log written backwards?");
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

static cvk_status convert(cvk_waveforms *s, const cvk_conditioned *conditioned,
                          const cvk_estimate_options *options, cvk_estimate *out)
{
    const cvk_log *log = &conditioned->log;
    const bool pwm_visible = conditioned->pwm_hz > 0.0;
    const size_t first_finding = out->findings;
    *s = (cvk_waveforms){.name = log->name,
                         .pwm_hz = conditioned->pwm_hz,
                         .edge_noise_v = conditioned->edge_noise_v,
                         .voltage_doubt_v = conditioned->voltage_doubt_v};
    memcpy(s->cure, conditioned->cure, sizeof s->cure);
    memcpy(s->terminals, conditioned->terminals, sizeof s->terminals);
    needed list = {.count = 0};
    cvk_voltage_kind kind = cvk_voltage_kind_of(log);
    s->path = kind == CVK_VOLTAGE_DUTIES ? CVK_PATH_COMMANDED
              : pwm_visible              ? CVK_PATH_AVERAGED
                                         : CVK_PATH_MEASURED;
    if (!list_needed(log, kind, &list, out) || !find_period(s, log, out) ||
        (kind == CVK_VOLTAGE_DUTIES && !plausible_duties(log, out))) {
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
        cvk_convert_currents(s, log, rows, out);
        cvk_convert_bus(s, log, rows, kind);
        bool fine = cvk_convert_voltages(s, log, rows, kind, out);
        cvk_convert_rotor(s, log, rows);
        s->open_circuit = cvk_count_columns(log, CVK_COLUMN_IA) == 0;
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

cvk_status cvk_waveforms_from_log(cvk_waveforms *s, const cvk_log *log,
                                  const cvk_estimate_options *options, cvk_estimate *out)
{
    cvk_conditioned conditioned;
    const size_t first_finding = out->findings;
    *s = (cvk_waveforms){.name = log->name};
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

bool cvk_row_each_period(const cvk_waveforms *s)
{
    return fabs(s->pwm_period_s / s->period_s - 1.0) < SAME_PERIOD;
}

void cvk_waveforms_free(cvk_waveforms *waveforms)
{
    free(waveforms->storage);
    waveforms->storage = NULL;
}
