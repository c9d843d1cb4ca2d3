/* SPDX-License-Identifier: Apache-2.0
 *
 * Numbers as people write them.
 */
#ifndef CORVAK_DOCUMENT_NUMBER_H
#define CORVAK_DOCUMENT_NUMBER_H

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

/* To so many significant digits: never with an exponent between a millionth and a billion; `-`
 * where there is none. In a buffer of its own for the next sixteen calls. */
const char *digits(double value, int significant);

/* With as many decimals as an uncertainty of `half_width` deserves. */
void print_number(char *out, size_t size, double value, double half_width);

/* How a quantity is printed: number = factor * SI value. */
typedef struct cvk_display {
    const char *unit; /* such as mΩ; "" */
    double factor;
} cvk_display;

/* The customary unit of a key, by the SI unit that it ends with, for a number of this size: rpm of
 * a mech_rad_s, mΩ or Ω of an ohm, % of a share. */
cvk_display cvk_display_of(const char *key, double value);

#ifdef __cplusplus
}
#endif
#endif
