/* SPDX-License-Identifier: Apache-2.0
 *
 * The interrupt's part of a change on trial: see corvak/core/trial.h.
 */
#ifndef CORVAK_CORE_DRIVE_TRIAL_STATE_H
#define CORVAK_CORE_DRIVE_TRIAL_STATE_H

#include "angle/angle_sources.h"
#include "corvak/core/trial.h"
#include "base/setup.h"

enum { CVK_MODEL_ROWS = 6 }; /* parameters with a factor, in the order of the table */

/* What the owner has asked for and the interrupt has not yet done. */
typedef enum cvk_trial_wish {
    CVK_WISH_NONE = 0,
    CVK_WISH_BEGIN, /* with the next adoption */
    CVK_WISH_KEEP,
    CVK_WISH_TAKE_BACK
} cvk_trial_wish;

typedef struct cvk_trial {
    /* the task's, while no trial runs */
    cvk_trial_terms terms;
    uint32_t watch_ticks, confirm_ticks, patience_ticks, contradiction_ticks;
    volatile uint8_t wish; /* cvk_trial_wish */
    /* the interrupt's */
    volatile bool runs;
    uint32_t ticks, speed_off, quality_off, angle_off;
    float before_a;              /* length of the current a call ago */
    float low_rad_s, high_rad_s; /* speeds that were asked for since it began */
    float lagging_rad_s;         /* the speed, as much later as its filter sees it late */
    cvk_angle twin;              /* as the observer with the settings before sees it */
    /* how it runs, over half a second or so: largest phase current, least quality */
    float peak_a, quality;
    uint32_t seen_ticks;
    /* the same when the settings were last called good; and what they were */
    float good_peak_a, good_quality, good_speed_rad_s;
    float good_model[CVK_MODEL_ROWS];
    volatile bool good_wanted; /* the figures are taken as soon as the motor has run for a while */
} cvk_trial;

/* Checks the terms, fits the guards that they leave open, and keeps them. Task, while no trial
 * runs. */
cvk_status cvk_trial_prepare(cvk_trial *trial, const cvk_trial_terms *terms,
                             const cvk_setup *in_force, const cvk_moment *now,
                             cvk_refusal *why) CVK_MUST_CHECK;

/* The adopted set is on trial from this call on. */
void cvk_trial_begin(cvk_trial *trial, const cvk_setup *before, cvk_moment *now);

/* ---- guards.c -------------------------------------------------------------------------------- */

/* These settings are good. Task. */
void cvk_trial_call_good(cvk_trial *trial, const cvk_settings *settings);

/* Every call: how the motor runs. */
void cvk_trial_look(cvk_trial *trial, const cvk_setup *setup, const cvk_moment *now);

/* What the terms leave at 0 is made of how the motor runs, and has run when it was called good. */
void cvk_trial_fit_guards(cvk_trial *trial, const cvk_setup *setup, const cvk_moment *now);

void cvk_trial_arm_guards(cvk_trial *trial, const cvk_moment *now);

/* Currents as they are now, and as they are about to be; speed, quality and angles as the call
 * before left them. A bridge that is off shows nothing. */
cvk_trial_reason cvk_trial_guard(cvk_trial *trial, const cvk_setup *setup, const cvk_moment *now);

/* ---- trial.c --------------------------------------------------------------------------------- */

/* One call of a trial that runs. True when the settings are to go back, in this call. */
bool cvk_trial_step(cvk_trial *trial, const cvk_setup *setup, bool owned, cvk_moment *now);

#endif
