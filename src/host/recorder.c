/* SPDX-License-Identifier: Apache-2.0
 *
 * Recording from a device.
 */
#include "corvak/host/recorder.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define LEASE_S 0.5
#define BEGIN_S 1.0 /* an excitation has begun within this time */

static const char *const looked_at[CVK_RECORD_SIGNALS] = {[CVK_RECORD_RECORDED] = "recorded",
                                                          [CVK_RECORD_STEP] = "program_step",
                                                          [CVK_RECORD_FAULT] = "fault",
                                                          [CVK_RECORD_IA] = "ia",
                                                          [CVK_RECORD_IB] = "ib",
                                                          [CVK_RECORD_IC] = "ic",
                                                          [CVK_RECORD_SPEED] = "speed_e"};

int cvk_record_place(const cvk_record_wish *wish, const char *signal)
{
    for (int n = 0; n < CVK_RECORD_SIGNALS + (int)wish->more_count; n++) {
        const char *name =
            n < CVK_RECORD_SIGNALS ? looked_at[n] : wish->more[n - CVK_RECORD_SIGNALS];
        if (strcmp(name, signal) == 0) {
            return n;
        }
    }
    return -1;
}

/* Its rows, then the excitation, so that none of it is missed. */
static cvk_status begin(cvk_device *device, const cvk_record_wish *wish)
{
    cvk_session *s = &device->session;
    const cvk_bench *bench = &device->bench;
    const char *signal[CVK_LINK_STREAM_SIGNALS];
    memcpy(signal, looked_at, sizeof looked_at);
    for (unsigned n = 0; n < wish->more_count; n++) {
        signal[CVK_RECORD_SIGNALS + n] = wish->more[n];
    }
    cvk_status status = s->owner ? CVK_OK : cvk_session_claim(s, LEASE_S);
    if (status == CVK_OK) {
        status = cvk_device_begin(device, signal, CVK_RECORD_SIGNALS + wish->more_count,
                                  wish->spacing_s);
    }
    if (status == CVK_OK) {
        status = cvk_session_excite(s, wish->excitation);
    }
    if (status == CVK_OK && bench->hold_shaft != NULL) {
        bench->hold_shaft(bench->context, wish->shaft_held);
    }
    return status;
}

static void note(cvk_record_summary *out, const cvk_device_row *row)
{
    const float *v = row->value;
    for (int n = CVK_RECORD_IA; n <= CVK_RECORD_IC; n++) {
        out->largest_a = fmax(out->largest_a, fabs((double)v[n]));
    }
    out->fastest_rad_s = fmax(out->fastest_rad_s, fabs((double)v[CVK_RECORD_SPEED]));
    out->rows += v[CVK_RECORD_RECORDED] > 0.5f;
    out->missing += row->missing;
    out->length_s = row->time_s;
}

/* The excitation has been seen to run, and does so no longer. */
static cvk_status follow(cvk_device *device, const cvk_record_wish *wish, cvk_record_summary *out)
{
    const cvk_bench *bench = &device->bench;
    bool begun = false;
    for (;;) {
        cvk_device_row row;
        cvk_bench_truth truth;
        const cvk_status status = cvk_device_next(device, &row);
        if (status != CVK_OK) {
            return status;
        }
        const bool known = bench->truth != NULL && bench->truth(bench->context, row.tick, &truth);
        const bool runs = row.value[CVK_RECORD_STEP] > 0.5f;
        if (runs) {
            note(out, &row);
        }
        if (runs && !wish->row(wish->context, &row, known ? &truth : NULL,
                               row.value[CVK_RECORD_RECORDED] > 0.5f)) {
            out->stopped = true;
            return CVK_OK;
        }
        if (row.value[CVK_RECORD_FAULT] > 0.5f) {
            out->fault = (cvk_fault)row.value[CVK_RECORD_FAULT];
            return CVK_STOPPED;
        }
        if (!runs && (begun || row.time_s > BEGIN_S)) {
            return CVK_OK;
        }
        begun = begun || runs;
    }
}

cvk_status cvk_record_device(cvk_device *device, const cvk_record_wish *wish,
                             cvk_record_summary *out)
{
    cvk_session *s = &device->session;
    const cvk_request off = {.mode = CVK_MODE_OFF};
    *out = (cvk_record_summary){.rows = 0};
    cvk_status status = begin(device, wish);
    if (status == CVK_OK) {
        status = follow(device, wish, out);
    }
    cvk_device_end(device);
    if (status == CVK_OK) {
        status = cvk_session_request(s, &off);
    }
    return status;
}
