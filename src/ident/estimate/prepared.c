/* SPDX-License-Identifier: Apache-2.0
 *
 * Preparing the logs.
 */
#include "prepared.h"

#include "model/edges.h"
#include "log/findings.h"
#include "math/numeric.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define MOST_WRAPS 200u
#define WRAP_SHARE 0.8 /* of the range, that a counter falls back by when it starts anew */
#define FEWEST_COUNTS 15.0

/* More rows first, then by the cells themselves, last by name. */
static int compare_logs(const void *a, const void *b)
{
    const cvk_log *x = *(const cvk_log *const *)a, *y = *(const cvk_log *const *)b;
    if (x->rows != y->rows) {
        return x->rows > y->rows ? -1 : 1;
    }
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        if ((x->column[c] == NULL) != (y->column[c] == NULL)) {
            return x->column[c] != NULL ? -1 : 1;
        }
        int order = x->column[c] != NULL && x->rows > 0
                        ? memcmp(x->column[c], y->column[c], x->rows * sizeof(double))
                        : 0;
        if (order != 0) {
            return order;
        }
    }
    return strcmp(x->name, y->name);
}

void cvk_order_logs(const cvk_log *const *logs, size_t count, const cvk_log **order)
{
    memcpy(order, logs, count * sizeof(const cvk_log *));
    qsort(order, count, sizeof(const cvk_log *), compare_logs);
}

/* A counter that starts anew each turn shows its counts where it wraps: the jump back, and the step
 * that it would have made. */
static void find_encoder_counts(cvk_log *log, cvk_estimate *out)
{
    const double *x = log->column[CVK_COLUMN_ENC];
    double low = INFINITY, high = -INFINITY, jumps[MOST_WRAPS];
    size_t wraps = 0;
    if (x == NULL || log->encoder_counts > 0.0) {
        return;
    }
    for (size_t k = 0; k < log->rows; k++) {
        low = x[k] < low ? x[k] : low;
        high = x[k] > high ? x[k] : high;
    }
    for (size_t k = 2; k < log->rows && wraps < MOST_WRAPS; k++) {
        if (fabs(x[k] - x[k - 1]) > WRAP_SHARE * (high - low) && high - low > FEWEST_COUNTS) {
            jumps[wraps++] = fabs(x[k] - x[k - 1]) + fabs(x[k - 1] - x[k - 2]);
        }
    }
    if (wraps >= 2) {
        log->encoder_counts = round(cvk_median(jumps, wraps));
        log->encoder_counts = fmax(log->encoder_counts, high - low + 1.0);
        cvk_add_finding(
            out, CVK_NOTE, log->name,
            "the encoder starts anew after %.0f counts: taken for one turn; if not, add "
            "the line `# encoder_counts: N`",
            log->encoder_counts);
    } else {
        cvk_add_finding(out, CVK_WARNING, log->name,
                        "column enc is not used: its counts per turn are not known. Add the line "
                        "`# encoder_counts: 4096` (with your encoder's number) before the header");
    }
}

cvk_status cvk_prepare(cvk_prepared *prepared, const cvk_log *log,
                       const cvk_estimate_options *options, cvk_estimate *out)
{
    cvk_waveforms *waveforms = &prepared->waveforms;
    prepared->log = *log;
    find_encoder_counts(&prepared->log, out);
    cvk_status status = cvk_waveforms_from_log(waveforms, &prepared->log, options, out);
    if (status == CVK_OK) {
        status = cvk_find_turns(&prepared->turns, waveforms, options->threads);
    }
    if (status == CVK_OK) {
        prepared->usable = true;
        /* until the inverter is known */
        const cvk_loss none = {.dead_time_voltage_v = 0.0};
        cvk_find_all_edges(waveforms, &none, options->threads);
        cvk_remove_offset(waveforms, &prepared->turns);
        prepared->still_count =
            cvk_still_spans(waveforms, &prepared->turns, prepared->still, CVK_MOST_SPANS);
    }
    return status == CVK_NOT_IN_LOG ? CVK_OK : status;
}

void cvk_prepared_free(cvk_prepared *prepared)
{
    cvk_waveforms_free(&prepared->waveforms);
    cvk_turns_free(&prepared->turns);
}
