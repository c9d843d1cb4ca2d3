/* SPDX-License-Identifier: Apache-2.0
 *
 * The name that was probably meant.
 */
#ifndef CORVAK_FILES_CLOSEST_H
#define CORVAK_FILES_CLOSEST_H

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

/* How many characters must be changed, put in or left out to make one name of the other; letters
 * in upper and lower case are alike. Names are compared up to 64 characters. */
size_t cvk_name_distance(const char *a, const char *b);

/* Of `count` names the one that was probably meant: two changes away at most; null when none is. */
const char *cvk_closest_name(const char *name, size_t count, const char *(*name_at)(size_t n));

#ifdef __cplusplus
}
#endif
#endif
