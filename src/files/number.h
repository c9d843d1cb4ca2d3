/* SPDX-License-Identifier: Apache-2.0
 *
 * A decimal number from text: quick for the numbers that logs are made of, exact for all.
 */
#ifndef CORVAK_FILES_NUMBER_H
#define CORVAK_FILES_NUMBER_H

#include <stdbool.h>

/* Reads one number at `text` (before `end`), with `point` as decimal mark. Leaves the first
 * character after it in `after`. False, with `value` NaN, when there is none. */
bool cvk_read_number(const char *text, const char *end, char point, double *value,
                     const char **after);

#endif
