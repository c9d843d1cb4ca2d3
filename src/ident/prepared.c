/* SPDX-License-Identifier: Apache-2.0
 *
 * Preparing the logs.
 */
#include "prepared.h"

#include <stdlib.h>
#include <string.h>

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

cvk_status cvk_prepare(cvk_prepared *prepared, const cvk_log *log,
                       const cvk_estimate_options *options, cvk_estimate *out)
{
    cvk_signals *signals = &prepared->signals;
    prepared->log = log;
    cvk_status status = cvk_signals_from_log(signals, log, options, out);
    if (status == CVK_OK) {
        status = cvk_find_turns(&prepared->turns, signals);
    }
    if (status == CVK_OK) {
        prepared->usable = true;
        cvk_remove_offset(signals, &prepared->turns);
        prepared->still_count =
            cvk_still_spans(signals, &prepared->turns, prepared->still, CVK_MOST_SPANS);
    }
    return status == CVK_NOT_IN_LOG ? CVK_OK : status;
}

void cvk_prepared_free(cvk_prepared *prepared)
{
    cvk_signals_free(&prepared->signals);
    cvk_turns_free(&prepared->turns);
}
