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

#define CVK_RUN_MOST 64

/* What a run looks at in each row, in this order; the signals that the plan adds follow. */
#define CVK_RUN_SIGNALS(X)                                                                         \
    X(IA, "ia")                                                                                    \
    X(IB, "ib")                                                                                    \
    X(IC, "ic")                                                                                    \
    X(ID, "id")                                                                                    \
    X(IQ, "iq")                                                                                    \
    X(ID_SET, "id_set")                                                                            \
    X(IQ_SET, "iq_set")                                                                            \
    X(THETA, "theta_e")                                                                            \
    X(SPEED, "speed_e")                                                                            \
    X(SPEED_SET, "speed_set")                                                                      \
    X(QUALITY, "quality")                                                                          \
    X(TURNS, "turns")                                                                              \
    X(POSITION, "position")                                                                        \
    X(MODE, "mode")                                                                                \
    X(SOURCE, "angle_source")                                                                      \
    X(BRIDGE_ON, "bridge_on")                                                                      \
    X(REST_DONE, "rest_done")                                                                      \
    X(FAULT, "fault")                                                                              \
    X(START_PHASE, "start_phase")                                                                  \
    X(START_ATTEMPT, "start_attempt")                                                              \
    X(START_REASON, "start_reason")
#define CVK_RUN_PLACE(NAME, name) CVK_RUN_ROW_##NAME,
enum { CVK_RUN_SIGNALS(CVK_RUN_PLACE) CVK_RUN_ROW_SIGNALS };
#undef CVK_RUN_PLACE
#define CVK_RUN_MORE_SIGNALS (CVK_LINK_STREAM_SIGNALS - CVK_RUN_ROW_SIGNALS)

/* From a time on, until the next one. */
typedef struct cvk_run_request {
    double from_s;
    cvk_request request;
} cvk_run_request;

/* What is asked of a stretch of time, as a criterion of the verdict. */
typedef enum cvk_run_quantity {
    CVK_RUN_SPEED = 0, /* off `wanted` (mechanical rad/s) by at most `limit`, a share of it */
    CVK_RUN_POSITION,  /* off `wanted` (mechanical rad, any number of turns) by at most `limit` rad
                        */
    CVK_RUN_CURRENT,   /* no phase beyond `limit` A */
    CVK_RUN_ANGLE,     /* angle in use off by at most `limit` rad rms, electrical */
    CVK_RUN_RIPPLE,    /* speed about its mean, rms: at most `limit` mechanical rad/s */
    CVK_RUN_QUANTITIES
} cvk_run_quantity;

typedef struct cvk_run_criterion {
    char name[32];
    cvk_run_quantity quantity;
    double from_s, to_s, wanted, limit;
} cvk_run_criterion;

/* NaN: nothing could be measured (no truth, or the run ended before); then it is not met. */
typedef struct cvk_run_finding {
    double measured; /* in the unit of the criterion's limit */
    bool met;
} cvk_run_finding;

typedef struct cvk_run_plan {
    size_t count;
    cvk_run_request item[CVK_RUN_MOST]; /* by time */
    size_t criteria;
    cvk_run_criterion criterion[CVK_RUN_MOST];
    double length_s;
    double rated_rad_s; /* electrical: the angle error is judged above a tenth of it */
    double spacing_s;   /* of the rows; 0: each control period, or what the line carries */
    const char *more[CVK_RUN_MORE_SIGNALS]; /* signals beside CVK_RUN_SIGNALS */
    unsigned more_count;
} cvk_run_plan;

/* What came of one request. */
typedef struct cvk_run_result {
    double from_s;
    int32_t mode;
    double wanted_rad_s;    /* electrical */
    double wanted_mech_rad; /* of a position */
    double reached_s; /* after so long the speed came within 3 % and stayed, the position within 0.5
                         degrees, or the bridge is off after a stop; NaN: not reached, or there is
                         nothing to reach (torque, coast, brake) */
    double mean_rad_s;   /* over the last fifth of its time */
    double ripple_rad_s; /* rms around that mean */
    /* over the same time: length of the current vector, mean; quality of the angle in use, mean;
     * how far that angle is off, rms (NaN without a truth); share in which the vector held the
     * rotor */
    double current_a, quality, angle_rms_rad, by_vector;
} cvk_run_result;

typedef struct cvk_run {
    size_t count;
    cvk_run_result result[CVK_RUN_MOST];
    cvk_run_finding finding[CVK_RUN_MOST]; /* one for each criterion of the plan */
    cvk_fault fault;
    double fault_s;
    int32_t start_attempts;        /* of the last start */
    cvk_start_reason start_reason; /* why the attempt before, or the start, failed */
    double largest_current_a;
    /* Estimated angle less true one, while the observer gives it and the motor turns faster than a
     * tenth of the rated speed; NaN without a truth. */
    double angle_rms_rad, angle_worst_rad;
    double angle_s;       /* time over which that was judged */
    size_t rows, missing; /* that came, and that did not */
} cvk_run;

/* Called with each row; false ends the run. `truth` is null when there is none. */
typedef bool (*cvk_run_row)(void *context, const cvk_device_row *row, const cvk_bench_truth *truth);

/* Commands the device, calibrates its current offsets at rest, then follows the plan. CVK_STOPPED
 * after a fault; what the session says, with its text. It stays the owner. */
cvk_status cvk_run_device(cvk_device *device, const cvk_run_plan *plan, cvk_run_row on_row,
                          void *context, cvk_run *out) CVK_MUST_CHECK;

/* The place of a signal in a row of this plan; -1 when it is not asked for. */
int cvk_run_place(const cvk_run_plan *plan, const char *signal);

/* There is something to reach in this mode, and whether all was reached and every criterion met. */
bool cvk_run_has_goal(int32_t mode);
bool cvk_run_is_good(const cvk_run *run, const cvk_run_plan *plan);

#ifdef __cplusplus
}
#endif
#endif
