/* SPDX-License-Identifier: Apache-2.0
 *
 * Which recording to make next: each possible one is tried on a simulated device, together with the
 * logs that there are, and judged by what it does to the widest interval.
 */
#ifndef CORVAK_HOST_PLAN_H
#define CORVAK_HOST_PLAN_H

#include "corvak/core/settings.h"
#include "corvak/ident/estimate.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_plan_limits {
    double current_a;   /* largest phase current; 0: the settings' */
    double speed_rad_s; /* largest electrical speed; 0: the settings' */
    double time_s;      /* longest recording; 0: any */
    bool rotor_sensor;  /* a rotor sensor may be logged */
    int threads;        /* at most, for the estimates; the plan is the same; 0: one */
} cvk_plan_limits;

#define CVK_PLAN_MOST 16
#define CVK_PLAN_KEYS 6 /* resistance, both inductances, flux linkage, pole pairs, inertia */

/* Relative half width of the statistical 95 % interval of each key; 1 when it is not known. Of the
 * pole pairs: one minus the probability. */
typedef struct cvk_plan_widths {
    double width[CVK_PLAN_KEYS];
} cvk_plan_widths;

typedef struct cvk_plan_option {
    const char *excitation;
    double length_s, plateau_s;
    bool possible; /* within the limits, and it ran */
    cvk_plan_widths after;
    double gain; /* natural logarithms of before over after, summed over the keys */
} cvk_plan_option;

typedef struct cvk_plan {
    cvk_plan_widths before;
    cvk_card_key widest; /* the key to be sharpened */
    size_t options;
    cvk_plan_option option[CVK_PLAN_MOST];
    int best; /* index of the option to take; -1 when none helps */
    double current_a, speed_rad_s;
} cvk_plan;

cvk_card_key cvk_plan_key(int index);

/* A simulated bench like the one that is planned for. */
typedef struct cvk_plan_bench {
    void *context;
    /* Records an excitation with these settings, to be given back to `drop`, also on a failure. */
    cvk_status (*record)(void *context, const cvk_settings *settings, const char *excitation,
                         bool rotor_sensor, cvk_log *out);
    void (*drop)(void *context);
    double period_s; /* of a row */
} cvk_plan_bench;

/* `bench` is like the real one as far as power stage and motor are known; `settings` are the
 * controller's; `logs` (may be none) what there is already. `progress` (may be null) is called with
 * 0 .. 1. Takes about as long as each recording and an estimate from it. */
cvk_status cvk_plan_next(const cvk_plan_bench *bench, const cvk_settings *settings,
                         const cvk_log *const *logs, size_t count, const cvk_plan_limits *limits,
                         void (*progress)(double share), cvk_plan *out) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
