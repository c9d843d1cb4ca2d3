/* SPDX-License-Identifier: Apache-2.0
 *
 * A closed-loop run of a device through a list of requests, and what came of it.
 */
#ifndef CORVAK_HOST_RUN_H
#define CORVAK_HOST_RUN_H

#include "corvak/host/device.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_RUN_MOST 32

/* From a time on, until the next one. */
typedef struct cvk_run_request {
    double from_s;
    cvk_request request;
} cvk_run_request;

typedef struct cvk_run_plan {
    size_t count;
    cvk_run_request item[CVK_RUN_MOST]; /* by time */
    double length_s;
    double rated_rad_s; /* electrical: the angle error is judged above a tenth of it */
} cvk_run_plan;

/* What came of one request. */
typedef struct cvk_run_result {
    double from_s;
    int32_t mode;
    double wanted_rad_s; /* electrical */
    double reached_s;    /* after so long the speed stays within 3 % (a stop: the bridge is off);
                            NaN: not reached */
    double mean_rad_s;   /* over the last fifth of its time */
    double ripple_rad_s; /* rms around that mean */
} cvk_run_result;

typedef struct cvk_run {
    size_t count;
    cvk_run_result result[CVK_RUN_MOST];
    cvk_fault fault;
    double fault_s;
    double largest_current_a;
    /* Estimated angle less true one, while the observer gives it and the motor turns faster than a
     * tenth of the rated speed; NaN without a truth. */
    double angle_rms_rad, angle_worst_rad;
    double angle_s; /* time over which that was judged */
} cvk_run;

/* Called after each control period; false ends the run. `truth` is null when there is none. */
typedef bool (*cvk_run_row)(void *context, const cvk_device_row *row,
                            const cvk_device_truth *truth);

/* Calibrates the current offsets at rest first, then follows the plan. CVK_STOPPED after a fault;
 * refusals of the device as they are. */
cvk_status cvk_run_device(cvk_device *device, const cvk_run_plan *plan, cvk_run_row on_row,
                          void *context, cvk_run *out, cvk_refusal *why) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
