/* SPDX-License-Identifier: Apache-2.0
 *
 * Random sets of logs of one studio motor, damaged or in contradiction, drawn from a seed: for the
 * test and the benchmark that count confident wrong answers.
 */
#ifndef CORVAK_TESTS_DAMAGED_SETS_H
#define CORVAK_TESTS_DAMAGED_SETS_H

#include "corvak/ident/estimate.h"

typedef struct damaged_result {
    const char *motor, *damage; /* what was done */
    cvk_status status;
    int known, outside; /* entries; outside: of their interval */
    int far_outside;    /* beyond it by more than twice its width: a confident wrong answer */
    char worst[160];    /* the entry that is farthest off */
} damaged_result;

/* How many kinds of damage there are; a set's kind is its number modulo that. */
int damage_kinds(void);

/* Draws and estimates set number `n` (the same for the same number). */
damaged_result estimate_damaged_set(unsigned n, int threads);

/* Frees the recordings that the sets were made of. */
void free_damaged_sets(void);

#endif
