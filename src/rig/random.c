/* SPDX-License-Identifier: Apache-2.0
 *
 * SplitMix64 (Steele, Lea, Flood, "Fast splittable pseudorandom number generators", OOPSLA 2014)
 * and the polar method of Marsaglia for normal numbers.
 */
#include "random.h"

#include <math.h>

void cvk_rig_random_seed(cvk_rig_random *random, uint64_t seed)
{
    random->state = seed;
}

static uint64_t next(cvk_rig_random *random)
{
    random->state += 0x9e3779b97f4a7c15u;
    uint64_t z = random->state;
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9u;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebu;
    return z ^ (z >> 31);
}

double cvk_rig_random_even(cvk_rig_random *random)
{
    return (double)(next(random) >> 11) * 0x1p-52 - 1.0;
}

double cvk_rig_random_normal(cvk_rig_random *random)
{
    double x, y, s;
    do {
        x = cvk_rig_random_even(random);
        y = cvk_rig_random_even(random);
        s = x * x + y * y;
    } while (s >= 1.0 || s == 0.0);
    return x * sqrt(-2.0 * log(s) / s);
}
