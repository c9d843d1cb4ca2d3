/* SPDX-License-Identifier: Apache-2.0
 *
 * Up to 15 digits and a power of ten up to 22 are both exact in a double, so one multiplication or
 * division rounds correctly (Clinger, "How to read floating point numbers accurately", PLDI 1990).
 * Everything else goes to strtod.
 */
#include "number.h"

#include <math.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#define EXACT_DIGITS 15
#define EXACT_POWER 22

static bool is_digit(char c)
{
    return c >= '0' && c <= '9';
}

/* The slow way: a copy with a plain point, and strtod (in the C locale of this program). */
static bool read_slowly(const char *text, const char *end, char point, double *value,
                        const char **after)
{
    char copy[64];
    size_t length = 0;
    while (text + length < end && length + 1 < sizeof copy) {
        char c = text[length];
        if (!is_digit(c) && c != '+' && c != '-' && c != 'e' && c != 'E' && c != point) {
            break;
        }
        copy[length] = c == point ? '.' : c;
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

bool cvk_read_number(const char *text, const char *end, char point, double *value,
                     const char **after)
{
    static const double powers[EXACT_POWER + 1] = {1e0,  1e1,  1e2,  1e3,  1e4,  1e5,  1e6,  1e7,
                                                   1e8,  1e9,  1e10, 1e11, 1e12, 1e13, 1e14, 1e15,
                                                   1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22};
    const char *p = text;
    bool negative = p < end && *p == '-';
    p += p < end && (*p == '-' || *p == '+');
    uint64_t mantissa = 0;
    int digits = 0, power = 0;
    for (; p < end && is_digit(*p); p++) {
        mantissa = mantissa * 10u + (uint64_t)(*p - '0');
        digits += mantissa != 0;
    }
    const bool whole = p > text && is_digit(p[-1]);
    bool fraction = false;
    if (p < end && *p == point) {
        for (p++; p < end && is_digit(*p); p++, power--) {
            mantissa = mantissa * 10u + (uint64_t)(*p - '0');
            digits += mantissa != 0;
            fraction = true;
        }
    }
    bool exponent = p < end && (*p == 'e' || *p == 'E');
    if (exponent || digits > EXACT_DIGITS || power < -EXACT_POWER || !(whole || fraction)) {
        return read_slowly(text, end, point, value, after);
    }
    double result = (double)mantissa / powers[-power];
    *value = negative ? -result : result;
    *after = p;
    return true;
}
