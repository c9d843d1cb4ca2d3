/* SPDX-License-Identifier: Apache-2.0
 *
 * From a header cell to a canonical column and the factor to SI.
 */
#ifndef CORVAK_FILES_LOG_COLUMN_NAMES_H
#define CORVAK_FILES_LOG_COLUMN_NAMES_H

#include "corvak/files/log_file.h"

typedef struct cvk_column_head {
    bool known;
    cvk_column column;
    double factor, offset; /* SI value = factor * cell + offset */
    int map;               /* that named it; -1 for none */
    bool bad_unit;         /* the name is known, the unit is not */
    char unit[24];         /* as written */
} cvk_column_head;

/* Understands `name`, `name [unit]`, `name (unit)` and `name_unit`, and the maps' names. */
cvk_column_head cvk_column_of_head(const char *cell, size_t length, const cvk_column_map *maps,
                                   size_t map_count);

/* Factor to SI of a unit of this column; 0 when it is none. */
double cvk_unit_factor(cvk_column column, const char *text, size_t length);

/* Units that a column may have, for messages: "A mA uA kA". */
const char *cvk_column_units(cvk_column column);

#endif
