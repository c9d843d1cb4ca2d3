/* SPDX-License-Identifier: Apache-2.0
 *
 * The health of a log: its time base, its channels, how they fit together, and what each parameter
 * of the motor can hope for in it.
 */
#ifndef CORVAK_IDENT_EXAMINE_H
#define CORVAK_IDENT_EXAMINE_H

#include "corvak/ident/estimate.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Of one column, in its SI unit. NaN where a figure has no meaning. */
typedef struct cvk_channel_health {
    cvk_column column;
    double lowest, highest, mean;
    double noise;   /* rms, from fourth differences: what changes from row to row */
    double step;    /* smallest step between values: quantisation; 0 when there is none */
    size_t missing; /* rows without a number */
    double
        clipped_share; /* of the rows that stay at the channel's extreme; 0 when it moves there */
} cvk_channel_health;

typedef struct cvk_examination {
    size_t rows, channels;
    cvk_channel_health channel[CVK_COLUMN_COUNT];
    /* time base */
    double duration_s, period_s;
    double jitter; /* rms deviation of a step, share of the period */
    size_t gaps, repeated, backward;
    double pwm_hz; /* found in the log when the switching is visible; else 0 */
    /* the currents among each other; NaN with fewer than three */
    double current_sum_mean_a, current_sum_rms_a;
    double gain_error[3]; /* of each current channel against their mean; NaN when not visible */
    /* currents against voltages */
    double offset_a[3];      /* of each current channel; NaN when not visible */
    char phase[4];           /* phases to which columns ia, ib, ic belong: "abc" when named right */
    bool inverted, miswired; /* all with the other sign; surely so */
    bool gives_back;         /* only the sign differs: it is wrong, or the motor brakes */
    double alike;            /* 0 .. 1: how alike voltage and current are, named so */
    /* what the log can show: the estimate's own intervals, and the reasons where there is none */
    cvk_estimate estimate;
} cvk_examination;

/* Examines one log. Fails with CVK_NOT_IN_LOG when it cannot be used for anything (the findings in
 * `estimate` say why; the figures are filled as far as they go). `out` is large (100 kB). */
cvk_status cvk_examine_log(const cvk_log *log, const cvk_estimate_options *options,
                           cvk_examination *out) CVK_MUST_CHECK;

/* How sharply a parameter can be had from the log: half its statistical interval over its value.
 * NaN when it cannot. */
double cvk_examine_hope(const cvk_examination *examination, cvk_card_key key);

#ifdef __cplusplus
}
#endif
#endif
