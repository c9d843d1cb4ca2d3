/* SPDX-License-Identifier: Apache-2.0
 *
 * Random numbers for drawing motors, the same on every machine: splitmix64 (Steele, Lea, Flood,
 * "Fast splittable pseudorandom number generators", OOPSLA 2014).
 */
#ifndef CORVAK_TESTS_DRAW_H
#define CORVAK_TESTS_DRAW_H

#include <math.h>
#include <stdint.h>

/* From 0 to 1. */
static inline double draw_even(uint64_t *state)
{
    uint64_t x = *state += 0x9e3779b97f4a7c15u;
    x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9u;
    x = (x ^ (x >> 27)) * 0x94d049bb133111ebu;
    return (double)((x ^ (x >> 31)) >> 11) * 0x1p-53;
}

static inline double draw_between(uint64_t *state, double low, double high)
{
    return low + (high - low) * draw_even(state);
}

/* Every ratio is as likely. */
static inline double draw_ratio(uint64_t *state, double low, double high)
{
    return low * pow(high / low, draw_even(state));
}

#endif
