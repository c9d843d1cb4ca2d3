/* SPDX-License-Identifier: Apache-2.0
 *
 * The signal table: name, unit, place in the moment and a sentence of help for everything that can
 * be looked at. Logs, figures, help and documentation choose from it by name; there is no second
 * list. Where a log has a canonical column for it, the name is that column's.
 */
#ifndef CORVAK_CORE_SIGNALS_H
#define CORVAK_CORE_SIGNALS_H

#include "corvak/core/moment.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_signal {
    const char *name, *unit;
    const char *(*text)(int); /* of a whole number that stands for a state; or null */
    uint16_t offset;          /* in cvk_moment */
    bool whole;               /* an int32_t; else a float */
    uint8_t digits;           /* behind the point, when written as text */
    uint8_t states;           /* those are 0 .. states - 1 */
    const char *help;
} cvk_signal;

/* Any context. */
unsigned cvk_signal_count(void);

/* Row 0 .. count - 1; null beyond. */
const cvk_signal *cvk_signal_at(unsigned index);

/* Null when there is none of that name. */
const cvk_signal *cvk_signal_named(const char *name);

/* The signal's value in a moment. Any context. */
float cvk_signal_value(const cvk_moment *moment, const cvk_signal *signal);

#ifdef __cplusplus
}
#endif
#endif
