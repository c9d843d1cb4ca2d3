/* SPDX-License-Identifier: Apache-2.0
 *
 * A change on trial: its terms and its end. The guards stand in guards.c.
 */
#include "trial_state.h"

#include "base/arithmetic.h"

#include <stddef.h>

#define CONTRADICTED_S                                                                             \
    5e-3f /* new observer and old: after so long it is no passing disturbance                      \
           */

cvk_trial_terms cvk_trial_terms_default(void)
{
    return (cvk_trial_terms){.watch_s = 1.0f, .confirm_s = 10.0f};
}

cvk_status cvk_trial_prepare(cvk_trial *trial, const cvk_trial_terms *terms,
                             const cvk_setup *in_force, const cvk_moment *now, cvk_refusal *why)
{
    static const cvk_range ranges[] = {
        {"watch_s", offsetof(cvk_trial_terms, watch_s), 0.01f, 60.0f},
        {"confirm_s", offsetof(cvk_trial_terms, confirm_s), 0.01f, 600.0f},
        {"current_a", offsetof(cvk_trial_terms, current_a), 0.0f, 1e4f},
        {"speed_error_rad_s", offsetof(cvk_trial_terms, speed_error_rad_s), 0.0f, 1e5f},
        {"least_quality", offsetof(cvk_trial_terms, least_quality), 0.0f, 1.0f},
    };
    const float T = in_force->period_s;
    const cvk_status status =
        cvk_check_ranges(terms, ranges, sizeof ranges / sizeof ranges[0], why);
    if (status != CVK_OK) {
        return status;
    }
    trial->terms = *terms;
    cvk_trial_fit_guards(trial, in_force, now);
    trial->watch_ticks = cvk_ticks_of(terms->watch_s, T);
    trial->confirm_ticks = cvk_ticks_of(terms->confirm_s, T);
    trial->patience_ticks = cvk_ticks_of(CVK_TRIAL_PATIENCE_S, T);
    trial->contradiction_ticks = cvk_ticks_of(CONTRADICTED_S, T);
    return CVK_OK;
}

void cvk_trial_begin(cvk_trial *trial, const cvk_setup *before, cvk_moment *now)
{
    trial->twin = now->source[before->observer.chosen];
    trial->ticks = 0;
    trial->runs = true;
    cvk_trial_arm_guards(trial, now);
    now->trial = CVK_TRIAL_WATCHED;
    now->trial_reason = CVK_TRIAL_FINE;
}

static cvk_trial_reason word_of_owner(cvk_trial *t, bool owned)
{
    return !owned                                          ? CVK_TRIAL_OWNER_LOST
           : t->wish == CVK_WISH_TAKE_BACK                 ? CVK_TRIAL_TAKEN_BACK
           : t->ticks >= t->watch_ticks + t->confirm_ticks ? CVK_TRIAL_UNCONFIRMED
                                                           : CVK_TRIAL_FINE;
}

bool cvk_trial_step(cvk_trial *t, const cvk_setup *setup, bool owned, cvk_moment *now)
{
    cvk_trial_reason reason = cvk_trial_guard(t, setup, now);
    if (reason == CVK_TRIAL_FINE) {
        reason = word_of_owner(t, owned);
    }
    const bool back = reason != CVK_TRIAL_FINE;
    const bool kept = !back && t->wish == CVK_WISH_KEEP;
    t->ticks++;
    now->trial_reason = (int32_t)reason;
    now->trial = back                         ? CVK_TRIAL_GONE_BACK
                 : kept                       ? CVK_TRIAL_KEPT
                 : t->ticks >= t->watch_ticks ? CVK_TRIAL_WAITING
                                              : CVK_TRIAL_WATCHED;
    if (back || kept) {
        t->wish = CVK_WISH_NONE;
        t->runs = false;
    }
    return back;
}

bool cvk_trial_runs(int32_t state)
{
    return state == CVK_TRIAL_WATCHED || state == CVK_TRIAL_WAITING;
}

const char *cvk_trial_state_text(cvk_trial_state state)
{
    static const char *const texts[CVK_TRIAL_STATES] = {
        [CVK_TRIAL_NONE] = "none",
        [CVK_TRIAL_WATCHED] = "watched",
        [CVK_TRIAL_WAITING] = "waiting to be kept",
        [CVK_TRIAL_KEPT] = "kept",
        [CVK_TRIAL_GONE_BACK] = "gone back",
    };
    return (unsigned)state < CVK_TRIAL_STATES ? texts[state] : "unknown state";
}

const char *cvk_trial_reason_text(cvk_trial_reason reason)
{
    static const char *const texts[CVK_TRIAL_REASONS] = {
        [CVK_TRIAL_FINE] = "fine",
        [CVK_TRIAL_FAULT] = "the drive stopped with a fault",
        [CVK_TRIAL_CURRENT] = "a phase current went beyond its guard",
        [CVK_TRIAL_SPEED] = "the speed left its set-point",
        [CVK_TRIAL_QUALITY] = "the angle was not trusted any more",
        [CVK_TRIAL_OWNER_LOST] = "its owner was lost",
        [CVK_TRIAL_UNCONFIRMED] = "nobody kept it in time",
        [CVK_TRIAL_TAKEN_BACK] = "taken back",
        [CVK_TRIAL_ANGLE] = "the observer parted from the one before it",
    };
    return (unsigned)reason < CVK_TRIAL_REASONS ? texts[reason] : "unknown reason";
}
