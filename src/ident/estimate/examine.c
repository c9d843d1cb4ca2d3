/* SPDX-License-Identifier: Apache-2.0
 *
 * Examination of a log. What a parameter can hope for is found by estimating it.
 */
#include "corvak/ident/examine.h"

#include "log/channels.h"
#include "log/conditioning.h"
#include "math/numeric.h"
#include "log/waveforms.h"
#include "log/phase_names.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define SAMPLES 4000u /* values looked at for noise and quantisation */
#define GAP_PERIODS 1.5
#define STEP_TOLERANCE 0.05 /* of a step: values that are whole multiples of it */
#define ON_STEPS 0.98       /* share of the values that are */

static int ascending(const void *a, const void *b)
{
    double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

/* Smallest step of which all differences are whole multiples; 0 when there is none. */
static double quantisation_of(double *values, size_t count)
{
    double smallest = INFINITY;
    qsort(values, count, sizeof *values, ascending);
    double range = count > 0 ? values[count - 1] - values[0] : 0.0;
    for (size_t k = 1; k < count; k++) {
        double step = values[k] - values[k - 1];
        if (step > 1e-7 * range && step < smallest) {
            smallest = step;
        }
    }
    if (!isfinite(smallest) || range < 3.0 * smallest || range > 1e5 * smallest) {
        return 0.0;
    }
    size_t on = 0;
    for (size_t k = 1; k < count; k++) {
        double steps = (values[k] - values[k - 1]) / smallest;
        on += fabs(steps - round(steps)) < STEP_TOLERANCE * fmax(1.0, round(steps) * 0.01);
    }
    return (double)on > ON_STEPS * (double)(count - 1) ? smallest : 0.0;
}

/* Rms of what changes from row to row; a fourth difference has 70 times the variance of white
 * noise. */
static double noise_of(const double *x, size_t rows)
{
    double values[SAMPLES];
    /* odd, so that it does not keep step with a square wave */
    size_t count = 0, stride = 2u * (rows / SAMPLES / 2u) + 1u;
    for (size_t k = 4; k < rows && count < SAMPLES; k += stride) {
        double d = x[k] - 4.0 * x[k - 1] + 6.0 * x[k - 2] - 4.0 * x[k - 3] + x[k - 4];
        if (isfinite(d)) {
            values[count++] = fabs(d);
        }
    }
    return cvk_median(values, count) / 0.6745 / sqrt(70.0);
}

static cvk_channel_health channel_health(const cvk_log *log, cvk_column column)
{
    const double *x = log->column[column];
    cvk_channel_health h = {.column = column, .lowest = INFINITY, .highest = -INFINITY};
    double sum = 0.0, values[SAMPLES] = {0};
    size_t finite = 0, count = 0, stride = log->rows / SAMPLES + 1u;
    for (size_t k = 0; k < log->rows; k++) {
        if (!isfinite(x[k])) {
            h.missing++;
            continue;
        }
        h.lowest = x[k] < h.lowest ? x[k] : h.lowest;
        h.highest = x[k] > h.highest ? x[k] : h.highest;
        sum += x[k];
        finite++;
        if (k % stride == 0 && count < SAMPLES) {
            values[count++] = x[k];
        }
    }
    const bool measured = column >= CVK_COLUMN_IA && column <= CVK_COLUMN_IDC;
    h.mean = finite > 0 ? sum / (double)finite : NAN;
    h.noise = measured ? noise_of(x, log->rows) : NAN;
    h.step = column != CVK_COLUMN_T ? quantisation_of(values, count) : 0.0;
    const bool may_clip = column >= CVK_COLUMN_IA && column <= CVK_COLUMN_VCA;
    h.clipped_share =
        may_clip ? (double)cvk_find_clipping(log, column).rows / (double)log->rows : 0.0;
    return h;
}

static void examine_time(cvk_examination *e, const cvk_log *log)
{
    const double *t = log->column[CVK_COLUMN_T];
    double square = 0.0, regular = 0.0;
    e->period_s = cvk_median_step(log);
    for (size_t k = 1; k < log->rows; k++) {
        double share = (t[k] - t[k - 1]) / e->period_s;
        e->repeated += share == 0.0;
        e->backward += share < 0.0;
        e->gaps += share > GAP_PERIODS;
        if (share > 0.0 && share < GAP_PERIODS) {
            square += (share - 1.0) * (share - 1.0);
            regular += 1.0;
        }
    }
    e->jitter = regular > 0.0 ? sqrt(square / regular) : NAN;
    e->duration_s = log->rows > 0 ? t[log->rows - 1] - t[0] : NAN;
}

static void examine_currents(cvk_examination *e, const cvk_log *log)
{
    e->current_sum_mean_a = e->current_sum_rms_a = NAN;
    for (int c = 0; c < 3; c++) {
        e->gain_error[c] = NAN;
        if (!cvk_log_has(log, (cvk_column)(CVK_COLUMN_IA + c))) {
            return;
        }
    }
    double sum = 0.0, square = 0.0, count = 0.0, gain[3];
    for (size_t k = 0; k < log->rows; k++) {
        double all = log->column[CVK_COLUMN_IA][k] + log->column[CVK_COLUMN_IB][k] +
                     log->column[CVK_COLUMN_IC][k];
        if (isfinite(all)) {
            sum += all;
            square += all * all;
            count += 1.0;
        }
    }
    if (count > 0.0) {
        e->current_sum_mean_a = sum / count;
        e->current_sum_rms_a =
            sqrt(fmax(0.0, square / count - e->current_sum_mean_a * e->current_sum_mean_a));
    }
    if (cvk_channel_gains(log, CVK_COLUMN_IA, NULL, log->rows, gain)) {
        for (int c = 0; c < 3; c++) {
            e->gain_error[c] = 1.0 / gain[c] - 1.0;
        }
    }
}

/* Offsets: those of the vector from the estimate, what all three share from their sum. */
static void examine_offsets(cvk_examination *e)
{
    const double alpha = e->estimate.offset_alpha_a, beta = e->estimate.offset_beta_a;
    const double common = isfinite(e->current_sum_mean_a) ? e->current_sum_mean_a / 3.0 : 0.0;
    e->offset_a[0] = alpha + common;
    e->offset_a[1] = -0.5 * alpha + 0.5 * sqrt(3.0) * beta + common;
    e->offset_a[2] = -0.5 * alpha - 0.5 * sqrt(3.0) * beta + common;
}

/* Wiring and PWM, from the log as the estimators see it. Its findings are those of the estimate. */
static cvk_status examine_signals(cvk_examination *e, const cvk_log *log,
                                  const cvk_estimate_options *options)
{
    cvk_estimate *unused = calloc(1, sizeof *unused);
    cvk_waveforms waveforms = {.storage = NULL};
    if (unused == NULL) {
        return CVK_NO_MEMORY;
    }
    cvk_status status = cvk_waveforms_from_log(&waveforms, log, options, unused);
    e->pwm_hz = waveforms.pwm_hz;
    if (waveforms.storage != NULL) { /* even of a log that is refused for its wiring */
        cvk_wiring wiring = cvk_find_wiring(&waveforms);
        memcpy(e->phase, wiring.phase, sizeof e->phase);
        e->inverted = wiring.inverted;
        e->gives_back = cvk_gives_back(&wiring);
        e->miswired = cvk_miswired(&wiring);
        e->alike = fmax(wiring.score, 0.0);
    }
    cvk_waveforms_free(&waveforms);
    free(unused);
    return status == CVK_NOT_IN_LOG ? CVK_OK : status;
}

cvk_status cvk_examine_log(const cvk_log *log, const cvk_estimate_options *options,
                           cvk_examination *out)
{
    if (log == NULL || options == NULL || out == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    *out = (cvk_examination){.rows = log->rows, .phase = "abc", .alike = NAN, .period_s = NAN};
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        if (cvk_log_has(log, (cvk_column)c)) {
            out->channel[out->channels++] = channel_health(log, (cvk_column)c);
        }
    }
    if (cvk_log_has(log, CVK_COLUMN_T)) {
        examine_time(out, log);
    }
    examine_currents(out, log);
    cvk_status status = examine_signals(out, log, options);
    if (status != CVK_OK) {
        return status;
    }
    status = cvk_estimate_logs(&log, 1, options, &out->estimate);
    examine_offsets(out);
    return status;
}

double cvk_examine_hope(const cvk_examination *e, cvk_card_key key)
{
    const cvk_card_entry *entry = &e->estimate.card.entry[key];
    return entry->known
               ? 0.5 * (entry->statistical_high - entry->statistical_low) / fabs(entry->value)
               : NAN;
}
