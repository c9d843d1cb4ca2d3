/* SPDX-License-Identifier: Apache-2.0
 *
 * SplitMix64 (Steele, Lea, Flood, "Fast splittable pseudorandom number generators", OOPSLA 2014)
 * and normal numbers by the ziggurat (Marsaglia, Tsang, "The ziggurat method for generating random
 * variables", J. Stat. Software 5(8), 2000; set up as by Doornik, 2005).
 */
#include "random.h"

#include <math.h>

#define LAYERS CVK_RIG_NORMAL_LAYERS
#define TAIL_AT 3.442619855899         /* where the tail begins, 128 layers */
#define LAYER_AREA 9.91256303526217e-3 /* of each layer */

void cvk_rig_random_seed(cvk_rig_random *random, uint64_t seed)
{
    random->state = seed;
    double f = exp(-0.5 * TAIL_AT * TAIL_AT);
    random->edge[0] = LAYER_AREA / f;
    random->edge[1] = TAIL_AT;
    random->edge[LAYERS] = 0.0;
    for (int n = 2; n < LAYERS; n++) {
        random->edge[n] = sqrt(-2.0 * log(LAYER_AREA / random->edge[n - 1] + f));
        f = exp(-0.5 * random->edge[n] * random->edge[n]);
    }
    for (int n = 0; n < LAYERS; n++) {
        random->ratio[n] = random->edge[n + 1] / random->edge[n];
    }
}

static uint64_t next(cvk_rig_random *random)
{
    random->state += 0x9e3779b97f4a7c15u;
    uint64_t z = random->state;
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9u;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebu;
    return z ^ (z >> 31);
}

static double even_of(uint64_t bits)
{
    return (double)(int64_t)(bits >> 11) * 0x1p-52 - 1.0;
}

double cvk_rig_random_even(cvk_rig_random *random)
{
    return even_of(next(random));
}

/* Beyond the last layer. */
static double tail(cvk_rig_random *random, bool negative)
{
    double x, y;
    do {
        x = log(0.5 * (1.0 + cvk_rig_random_even(random)) + 0x1p-60) / TAIL_AT;
        y = log(0.5 * (1.0 + cvk_rig_random_even(random)) + 0x1p-60);
    } while (-2.0 * y < x * x);
    return negative ? x - TAIL_AT : TAIL_AT - x;
}

double cvk_rig_random_normal(cvk_rig_random *random)
{
    for (;;) {
        uint64_t bits = next(random);
        double u = even_of(bits);
        unsigned layer = (unsigned)(bits & (LAYERS - 1));
        if (fabs(u) < random->ratio[layer]) {
            return u * random->edge[layer];
        }
        if (layer == 0) {
            return tail(random, u < 0.0);
        }
        double x = u * random->edge[layer];
        double above = exp(-0.5 * (random->edge[layer] * random->edge[layer] - x * x));
        double below = exp(-0.5 * (random->edge[layer + 1] * random->edge[layer + 1] - x * x));
        if (below + 0.5 * (1.0 + cvk_rig_random_even(random)) * (above - below) < 1.0) {
            return x;
        }
    }
}
