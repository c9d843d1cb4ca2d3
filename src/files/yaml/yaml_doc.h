/* SPDX-License-Identifier: Apache-2.0
 *
 * A YAML file as a flat walk over scalars: "section.name" with its value and line. Two levels of
 * mappings are all that most files need, cards have three ("motor.resistance_ohm" is then the
 * section); anything else is refused with its line.
 */
#ifndef CORVAK_FILES_YAML_YAML_DOC_H
#define CORVAK_FILES_YAML_YAML_DOC_H

#include "corvak/files/complaint.h"

#include <stddef.h>

/* Called for every scalar, in file order. `section` is "" at the top level. Return anything but
 * CVK_OK to stop. */
typedef cvk_status (*cvk_yaml_scalar)(void *context, const char *section, const char *key,
                                      const char *value, long line);

/* A comment that ends the header of a file that ends with its last line: one that lacks it was cut,
 * and is refused. */
#define CVK_YAML_ENDS "The last line is three dots."

cvk_status cvk_yaml_walk(const char *path, const char *text, size_t length, cvk_yaml_scalar visit,
                         void *context, cvk_complaint *complaint);

/* The same with mappings up to `levels` deep: 2 or 3. */
cvk_status cvk_yaml_walk_levels(const char *path, const char *text, size_t length, int levels,
                                cvk_yaml_scalar visit, void *context, cvk_complaint *complaint);

#endif
