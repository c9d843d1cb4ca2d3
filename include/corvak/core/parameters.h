/* SPDX-License-Identifier: Apache-2.0
 *
 * The parameter table: for every setting its key, unit, kind, range, preset, whether it may change
 * while the bridge is on, and a sentence of help. Range checks, the tune file, help and
 * documentation are built from it; there is no second list. The rows of a section stand in the file
 * of the module that uses them.
 */
#ifndef CORVAK_CORE_PARAMETERS_H
#define CORVAK_CORE_PARAMETERS_H

#include "corvak/core/settings.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum cvk_parameter_kind {
    CVK_REAL = 0, /* a float */
    CVK_WHOLE,    /* an int32_t */
    CVK_CHOICE,   /* an int32_t that indexes `names` */
    CVK_YES_NO    /* an int32_t, 0 or 1 */
} cvk_parameter_kind;

typedef struct cvk_parameter {  /* named in cvk_refusal */
    const char *section, *name; /* the key is "section.name"; the name ends with the unit */
    const char *unit;           /* "" when it has none */
    uint16_t offset;            /* in cvk_settings */
    uint8_t kind;               /* a cvk_parameter_kind */
    bool while_on;              /* may change while the bridge is on */
    float low, high, preset;
    float factor; /* while it is on, one change makes it at most so many times larger or smaller;
                     0: any. What the voltage directly depends on would else throw the current far
                     in the one period before it is seen */
    const char *const *names; /* of a choice, ended by null; else null */
    const char *help;
} cvk_parameter;

unsigned cvk_parameter_count(void);

/* Row 0 .. count - 1, in the order of a tune file; null beyond. */
const cvk_parameter *cvk_parameter_at(unsigned index);

/* The row with the key "section.name"; null when there is none. */
const cvk_parameter *cvk_parameter_named(const char *key);

/* Value of a parameter as a number (index of a choice, 0 or 1 of a yes/no). Any context. */
float cvk_parameter_get(const cvk_settings *settings, const cvk_parameter *row);

/* Sets it in a struct of settings, which is not yet a drive's. CVK_OUT_OF_RANGE, and nothing
 * changes, outside the row's range or when a whole number is wanted. `why` may be null. */
cvk_status cvk_parameter_set(cvk_settings *settings, const cvk_parameter *row, float value,
                             cvk_refusal *why) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
