/* SPDX-License-Identifier: Apache-2.0
 *
 * A guarded change of a running controller, and what it did: the figures before and after it.
 */
#ifndef CORVAK_HOST_CHANGE_H
#define CORVAK_HOST_CHANGE_H

#include "corvak/host/session.h"

#ifdef __cplusplus
extern "C" {
#endif

/* How the motor ran for a while. */
typedef struct cvk_running_figures {
    double length_s;
    double speed_rad_s;       /* mean, electrical */
    double speed_error_rad_s; /* rms against the set-point */
    double current_q_a;       /* mean */
    double ripple_a;          /* of the current vector, rms about its mean */
    double peak_a;            /* of the current vector's length */
    double quality;           /* least, of the angle in use */
} cvk_running_figures;

#define CVK_CHANGE_MOST 256

typedef struct cvk_change {
    unsigned count;
    cvk_session_change item[CVK_CHANGE_MOST];
    float before_value[CVK_CHANGE_MOST];
    cvk_trial_terms terms; /* as they were asked for */
    bool on_trial;         /* else the bridge was off: adopted at once */
    cvk_running_figures before, during;
    int32_t state, reason; /* cvk_trial_state, cvk_trial_reason, as far as it is known */
} cvk_change;

/* Looks at the motor for a while. */
cvk_status cvk_look_how_it_runs(cvk_session *session, double length_s,
                                cvk_running_figures *out) CVK_MUST_CHECK;

/* Guards that fit how it runs now: twice its peak current, but at least half of the limit, and no
 * more than half way from limit to trip; a fifth of its speed; two thirds of its quality. Fills in
 * what is 0 in `terms`. */
void cvk_fit_guards(const cvk_session *session, const cvk_running_figures *now,
                    cvk_trial_terms *terms);

/* How a trial stands or, when it has gone back, why. Never null. */
const char *cvk_trial_words(const cvk_session *session, int32_t state, int32_t reason);

/* Sends a change (`count`, `item`, `terms`: what is 0 there is filled in) and follows it until its
 * watch is over: then it waits to be kept, or has gone back. With the bridge off it is adopted at
 * once. Refusals of the session. Claims nothing. */
cvk_status cvk_change_guarded(cvk_session *session, cvk_change *change) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
