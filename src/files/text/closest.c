/* SPDX-License-Identifier: Apache-2.0
 *
 * Edit distance (Levenshtein, Soviet Physics Doklady 10(8), 1966), row by row.
 */
#include "corvak/files/closest.h"

#include <ctype.h>
#include <stdbool.h>
#include <string.h>

#define MOST 64u

static size_t smaller(size_t a, size_t b)
{
    return a < b ? a : b;
}

size_t cvk_name_distance(const char *a, const char *b)
{
    size_t row[MOST + 1u], length = smaller(strlen(b), MOST);
    for (size_t k = 0; k <= length; k++) {
        row[k] = k;
    }
    for (size_t n = 0; a[n] != '\0'; n++) {
        size_t diagonal = row[0]++;
        for (size_t k = 0; k < length; k++) {
            const bool differ = tolower((unsigned char)a[n]) != tolower((unsigned char)b[k]);
            const size_t changed = diagonal + (differ ? 1u : 0u);
            diagonal = row[k + 1];
            row[k + 1] = smaller(changed, smaller(row[k], diagonal) + 1u);
        }
    }
    return row[length];
}

const char *cvk_closest_name(const char *name, size_t count, const char *(*name_at)(size_t n))
{
    const char *best = NULL;
    size_t least = 3;
    for (size_t n = 0; n < count; n++) {
        const size_t distance = cvk_name_distance(name, name_at(n));
        if (distance < least) {
            least = distance;
            best = name_at(n);
        }
    }
    return best;
}
