/* SPDX-License-Identifier: Apache-2.0
 *
 * A change on trial: how settings change while the bridge is on. The new set is adopted between two
 * control calls, watched for a stated time, and stays only if its owner then confirms it. It goes
 * back by itself, in the control call that sees the reason, when a guard trips, when the owner is
 * lost, or when nobody confirms.
 *
 *     watched -> waiting -> kept
 *        '----------'-----> gone back
 *
 * Until it is kept, the tighter of the old and the new limits and protections hold: a trip or a
 * limit that is raised counts only from then on.
 */
#ifndef CORVAK_CORE_TRIAL_H
#define CORVAK_CORE_TRIAL_H

#include "corvak/core/status.h"

#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

/* For how long, and what must hold meanwhile. */
typedef struct cvk_trial_terms {
    float watch_s;   /* 0.01 .. 60 */
    float confirm_s; /* 0.01 .. 600, after the watch: in it the owner must keep the change */
    /* Guards; speed, quality and angles must be outside for CVK_TRIAL_PATIENCE_S. What is 0 is
     * fitted to how the motor has run in the last half second, and when its settings were last
     * called good (cvk_drive_call_good()): */
    float current_a; /* a phase current that is beyond it, or about to be, at once. 0: twice the
                        largest, at least half of the limit, at most half way from limit to trip */
    float speed_error_rad_s; /* electrical, of the speed loop against its set-point, and beyond what
                                was asked for. 0: 12 % of the speed and 5 rad/s */
    float least_quality;     /* of the angle in use, 0 .. 1. 0: two thirds of the least */
} cvk_trial_terms;

#define CVK_TRIAL_PATIENCE_S 0.05f

/* 1 s, 10 s to confirm, all guards fitted. */
cvk_trial_terms cvk_trial_terms_default(void);

typedef enum cvk_trial_state {
    CVK_TRIAL_NONE = 0, /* since init */
    CVK_TRIAL_WATCHED,  /* adopted; guarded */
    CVK_TRIAL_WAITING,  /* for the owner's word; still guarded */
    CVK_TRIAL_KEPT,
    CVK_TRIAL_GONE_BACK, /* the settings before it are in force again */
    CVK_TRIAL_STATES
} cvk_trial_state;

/* Why it went back. */
typedef enum cvk_trial_reason {
    CVK_TRIAL_FINE = 0,
    CVK_TRIAL_FAULT,       /* the drive stopped with a fault */
    CVK_TRIAL_CURRENT,     /* a phase current beyond its guard */
    CVK_TRIAL_SPEED,       /* too far from the set-point for too long */
    CVK_TRIAL_QUALITY,     /* the angle is not trusted any more */
    CVK_TRIAL_OWNER_LOST,  /* its lease ran out, or it released the drive */
    CVK_TRIAL_UNCONFIRMED, /* nobody kept it in time */
    CVK_TRIAL_TAKEN_BACK,  /* as its owner asked */
    CVK_TRIAL_ANGLE,       /* the observer saw another angle than with the settings before */
    CVK_TRIAL_REASONS
} cvk_trial_reason;

/* It is neither kept nor gone back yet. Any context. */
bool cvk_trial_runs(int32_t state);

/* English names, never null. */
const char *cvk_trial_state_text(cvk_trial_state state);
const char *cvk_trial_reason_text(cvk_trial_reason reason);

#ifdef __cplusplus
}
#endif
#endif
