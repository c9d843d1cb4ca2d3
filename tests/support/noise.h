/* SPDX-License-Identifier: Apache-2.0
 *
 * Noise for the models that tests write themselves, the same on every machine.
 */
#ifndef CORVAK_TESTS_NOISE_H
#define CORVAK_TESTS_NOISE_H

#include <stdint.h>

static uint32_t lcg;

/* Even, -0.5 .. 0.5. */
static inline double uniform(void)
{
    lcg = lcg * 1664525u + 1013904223u;
    return (double)(lcg >> 8) / 16777216.0 - 0.5;
}

/* Twelve evens make a fair bell. */
static inline double noise(void)
{
    double sum = 0.0;
    for (int n = 0; n < 12; n++) {
        sum += uniform();
    }
    return sum;
}

#endif
