/* SPDX-License-Identifier: Apache-2.0
 *
 * Recordings: an excitation that a device runs by itself, and its rows as they come, in constant
 * memory.
 */
#ifndef CORVAK_HOST_RECORDER_H
#define CORVAK_HOST_RECORDER_H

#include "corvak/host/device.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What a recording looks at in each row, in this order; the signals that are wanted follow. */
enum {
    CVK_RECORD_RECORDED = 0,
    CVK_RECORD_STEP,
    CVK_RECORD_FAULT,
    CVK_RECORD_IA,
    CVK_RECORD_IB,
    CVK_RECORD_IC,
    CVK_RECORD_SPEED,
    CVK_RECORD_SIGNALS
};
#define CVK_RECORD_MORE_SIGNALS (CVK_LINK_STREAM_SIGNALS - CVK_RECORD_SIGNALS)

typedef struct cvk_record_wish {
    const char *excitation;
    bool shaft_held;                           /* a simulated bench holds it */
    const char *more[CVK_RECORD_MORE_SIGNALS]; /* signals beside those above */
    unsigned more_count;
    double spacing_s; /* of the rows, at best; 0: each control period */
    void *context;
    /* Each row as it comes; `recorded`: it belongs into the log. False ends the recording. `truth`
     * is null when there is none. */
    bool (*row)(void *context, const cvk_device_row *row, const cvk_bench_truth *truth,
                bool recorded);
} cvk_record_wish;

typedef struct cvk_record_summary {
    size_t rows, missing; /* that came and belong into the log; that did not come */
    double length_s;      /* of what was run */
    double largest_a;     /* of any phase */
    double fastest_rad_s; /* electrical, of the angle in use */
    cvk_fault fault;      /* that ended it */
    bool stopped;         /* by the caller */
} cvk_record_summary;

/* Commands the device, runs the excitation to its end and stops. CVK_STOPPED after a fault; what
 * the session says, with its text: CVK_UNKNOWN_NAME for a device without that excitation. */
cvk_status cvk_record_device(cvk_device *device, const cvk_record_wish *wish,
                             cvk_record_summary *out) CVK_MUST_CHECK;

/* The place of a signal in a row; -1 when it is not asked for. */
int cvk_record_place(const cvk_record_wish *wish, const char *signal);

#ifdef __cplusplus
}
#endif
#endif
