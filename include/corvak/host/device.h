/* SPDX-License-Identifier: Apache-2.0
 *
 * A device: a controller behind a link, wherever it is: over the network, at a serial line, or
 * simulated in this process (corvak/sim/device.h), where time passes as fast as it can be computed.
 * What a verb does with a controller stands on this: its session for all that is asked, and rows of
 * its signals one after the other. What only a simulated bench knows is apart, and optional.
 */
#ifndef CORVAK_HOST_DEVICE_H
#define CORVAK_HOST_DEVICE_H

#include "corvak/host/session.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What only a simulated bench knows, at the instant of a sample. */
typedef struct cvk_bench_truth {
    double angle_e_rad, speed_mech_rad_s, winding_degc;
    double current_a[3]; /* by leg */
    /* set-points that reached it: NaN when nothing (new) arrived */
    double pulse_s, pedal_v, digital;
} cvk_bench_truth;

typedef struct cvk_bench {
    void *context; /* null: there is none */
    /* At this control call; false when it is too long ago. */
    bool (*truth)(void *context, uint32_t tick, cvk_bench_truth *out);
    void (*hold_shaft)(void *context, bool held); /* by a hand that gets tired of nothing */
    void (*close)(void *context);
} cvk_bench;

/* One control call, as far as it was asked for. */
typedef struct cvk_device_row {
    double time_s; /* of the sample, since the first row of this stream */
    uint32_t tick;
    uint32_t missing;   /* rows between the one before and this one that did not come */
    const float *value; /* in the order asked for; until the next row is taken */
} cvk_device_row;

typedef struct cvk_device {
    cvk_session session;
    cvk_bench bench;
    struct cvk_device_rows *rows; /* private */
} cvk_device;

/* A controller behind this wire, as cvk_session_open(). Close the device in any case. */
cvk_status cvk_device_open(cvk_device *device, const cvk_wire *wire) CVK_MUST_CHECK;

/* Frees what the device holds; it may be one that failed to open, or all zeros. */
void cvk_device_close(cvk_device *device);

/* Begins rows of these signals, by name (CVK_LINK_SIGNALS_MOST at most), one each `spacing_s` or as
 * often as the line carries them; one before ends. CVK_UNKNOWN_NAME, with the session's text, when
 * the controller has none of that name. */
cvk_status cvk_device_begin(cvk_device *device, const char *const *signal, unsigned count,
                            double spacing_s) CVK_MUST_CHECK;

/* The next row, in the order of time; waits for it. CVK_NO_ANSWER when none comes any more. */
cvk_status cvk_device_next(cvk_device *device, cvk_device_row *row) CVK_MUST_CHECK;

/* Time between two rows. */
double cvk_device_spacing_s(const cvk_device *device);

/* Ends the rows; nothing when none were begun. */
void cvk_device_end(cvk_device *device);

#ifdef __cplusplus
}
#endif
#endif
