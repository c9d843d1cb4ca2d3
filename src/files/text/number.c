/* SPDX-License-Identifier: Apache-2.0
 *
 * Numbers of any form: a copy with a plain point, and strtod (this program keeps the C locale).
 */
#include "number.h"

#include <math.h>
#include <stddef.h>
#include <stdlib.h>

static bool belongs(char c, char point)
{
    return (c >= '0' && c <= '9') || c == '+' || c == '-' || c == 'e' || c == 'E' || c == point;
}

bool cvk_read_number(const char *text, const char *end, char point, double *value,
                     const char **after)
{
    char copy[64];
    size_t length = 0;
    if (cvk_read_plain(text, end, point, value, after)) {
        return true;
    }
    while (text + length < end && length + 1 < sizeof copy && belongs(text[length], point)) {
        copy[length] = text[length] == point ? '.' : text[length];
        length++;
    }
    copy[length] = '\0';
    char *stop = copy;
    double result = strtod(copy, &stop);
    bool found = stop != copy && isfinite(result);
    *value = found ? result : NAN;
    *after = text + (stop - copy);
    return found;
}
