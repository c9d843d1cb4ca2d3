/* SPDX-License-Identifier: Apache-2.0
 *
 * Hall words: which sixth of an electrical turn a word stands for, and which hall is dead.
 *
 * Bit 0 is hall a, bit 1 hall b, bit 2 hall c; three halls 120 degrees apart.
 */
#ifndef CORVAK_CORE_HALLS_H
#define CORVAK_CORE_HALLS_H

#include <stdbool.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Sector of a hall word, 0 to 5 in the order of positive rotation; -1 for 0, 7 and anything that
 * is no word of three halls. */
static inline int32_t cvk_hall_sector(int32_t word)
{
    static const int32_t sectors[8] = {-1, 0, 2, 1, 4, 5, 3, -1};
    return word >= 0 && word <= 7 ? sectors[word] : -1;
}

/* The hall, 1 to 3 for a to c, that has the same level in all words of `seen` (bit n: word n was
 * seen); the last one when there are several, 0 when each has been high and low. */
static inline int32_t cvk_dead_hall(uint32_t seen)
{
    int32_t dead = 0;
    for (int32_t n = 0; n < 3; n++) {
        bool high = false, low = false;
        for (int32_t word = 0; word < 8; word++) {
            if ((seen >> word & 1u) != 0u) {
                high = high || (word >> n & 1) != 0;
                low = low || (word >> n & 1) == 0;
            }
        }
        dead = high && low ? dead : n + 1;
    }
    return dead;
}

#ifdef __cplusplus
}
#endif

#endif
