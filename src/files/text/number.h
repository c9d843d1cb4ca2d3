/* SPDX-License-Identifier: Apache-2.0
 *
 * A decimal number from text: quick for the numbers that logs are made of, exact for all.
 */
#ifndef CORVAK_FILES_TEXT_NUMBER_H
#define CORVAK_FILES_TEXT_NUMBER_H

#include <stdbool.h>
#include <stdint.h>

/* Reads one number at `text` (before `end`), with `point` as decimal mark. Leaves the first
 * character after it in `after`. False, with `value` NaN, when there is none. */
bool cvk_read_number(const char *text, const char *end, char point, double *value,
                     const char **after);

/* The common case in a loop over many cells: a sign, digits, a point, digits. False when the cell
 * is anything else; cvk_read_number() then knows. */
static inline bool cvk_read_plain(const char *text, const char *end, char point, double *value,
                                  const char **after)
{
    static const double powers[] = {1e0, 1e1, 1e2,  1e3,  1e4,  1e5,  1e6,  1e7,
                                    1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15};
    const char *p = text, *first;
    bool negative = p < end && *p == '-';
    uint64_t mantissa = 0;
    p += negative;
    for (first = p; p < end && (unsigned char)(*p - '0') < 10; p++) {
        mantissa = mantissa * 10u + (uint64_t)(*p - '0');
    }
    int digits = (int)(p - first), decimals = 0;
    if (p < end && *p == point) {
        for (first = ++p; p < end && (unsigned char)(*p - '0') < 10; p++) {
            mantissa = mantissa * 10u + (uint64_t)(*p - '0');
        }
        decimals = (int)(p - first);
    }
    /* 15 digits and a power of ten up to 22 are exact in a double: one division rounds correctly
     * (Clinger, "How to read floating point numbers accurately", PLDI 1990) */
    if (digits == 0 || digits + decimals > 15 || (p < end && (*p == 'e' || *p == 'E'))) {
        return false;
    }
    double result = (double)mantissa / powers[decimals];
    *value = negative ? -result : result;
    *after = p;
    return true;
}

#endif
