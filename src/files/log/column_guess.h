/* SPDX-License-Identifier: Apache-2.0
 *
 * Guessing what a column is from how people name such columns, in several languages.
 */
#ifndef CORVAK_FILES_LOG_COLUMN_GUESS_H
#define CORVAK_FILES_LOG_COLUMN_GUESS_H

#include "corvak/ident/log.h"

/* CVK_COLUMN_COUNT when nothing fits. `sure` is set when the name says it by letters (I_U, Strom
 * A), not only by a number (current 1) or in passing. A unit in brackets is not looked at. */
cvk_column cvk_guess_column(const char *name, size_t length, bool *sure);

#endif
