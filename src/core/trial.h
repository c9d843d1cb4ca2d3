/* SPDX-License-Identifier: Apache-2.0
 *
 * The interrupt's part of a change on trial: see corvak/core/trial.h.
 */
#ifndef CORVAK_CORE_TRIAL_STATE_H
#define CORVAK_CORE_TRIAL_STATE_H

#include "corvak/core/trial.h"
#include "setup.h"

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
    uint32_t watch_ticks, confirm_ticks, patience_ticks;
    volatile uint8_t wish; /* cvk_trial_wish */
    /* the interrupt's */
    volatile bool runs;
    uint32_t ticks, speed_off, quality_off;
} cvk_trial;

/* Checks the terms and keeps them. Task, while no trial runs. */
cvk_status cvk_trial_prepare(cvk_trial *trial, const cvk_trial_terms *terms,
                             const cvk_setup *in_force, cvk_refusal *why) CVK_MUST_CHECK;

/* The adopted set is on trial from this call on. */
void cvk_trial_begin(cvk_trial *trial, cvk_moment *now);

/* One call of a trial that runs. True when the settings are to go back, in this call. */
bool cvk_trial_step(cvk_trial *trial, bool owned, cvk_moment *now);

#endif
