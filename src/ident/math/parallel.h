/* SPDX-License-Identifier: Apache-2.0
 *
 * A loop whose turns do not depend on each other, over several threads. What it computes does not
 * depend on how many there are.
 */
#ifndef CORVAK_IDENT_MATH_PARALLEL_H
#define CORVAK_IDENT_MATH_PARALLEL_H

#include <stdbool.h>
#include <stddef.h>

/* Calls work(context, n) for n = 0 .. count-1. False when one of them was false; the rest may then
 * have been left out. */
bool cvk_for_each(size_t count, int threads, bool (*work)(void *context, size_t n), void *context);

#endif
