/* SPDX-License-Identifier: Apache-2.0
 *
 * bench_contradictions [SETS [FIRST]]: how many confident wrong answers random damaged sets of logs
 * get. The bar is none beyond its interval by more than twice the interval.
 */
#include "damaged_sets.h"

#include <stdio.h>
#include <stdlib.h>

enum { THREADS = 2 };

int main(int argc, char **argv)
{
    const unsigned sets = argc > 1 ? (unsigned)strtoul(argv[1], NULL, 10) : 200u;
    const unsigned first = argc > 2 ? (unsigned)strtoul(argv[2], NULL, 10) : 0u;
    int known = 0, outside = 0, far_outside = 0, refused = 0;
    for (unsigned n = first; n < first + sets; n++) {
        const damaged_result r = estimate_damaged_set(n, THREADS);
        known += r.known;
        outside += r.outside;
        far_outside += r.far_outside;
        refused += r.status != CVK_OK;
        if (r.outside > 0) {
            printf("%4u %-7s %-22s %d known, %d outside%s: %s\n", n, r.motor, r.damage, r.known,
                   r.outside, r.far_outside > 0 ? ", FAR" : "", r.worst);
            fflush(stdout);
        }
    }
    printf("%u sets: %d refused as a whole; %d entries given, %d outside their interval, %d beyond "
           "it by more than twice the interval (bar: 0)\n",
           sets, refused, known, outside, far_outside);
    free_damaged_sets();
    return EXIT_SUCCESS;
}
