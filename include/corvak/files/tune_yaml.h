/* SPDX-License-Identifier: Apache-2.0
 *
 * Tune files: a controller's parameters by their keys, with where each came from.
 */
#ifndef CORVAK_FILES_TUNE_YAML_H
#define CORVAK_FILES_TUNE_YAML_H

#include "corvak/core/parameters.h"
#include "corvak/files/complaint.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_TUNE_VERSION 1
#define CVK_TUNE_MOST 128u /* parameters */
#define CVK_TUNE_TEXT 192u

typedef struct cvk_tune {
    char name[32]; /* of the motor or the bench */
    cvk_settings settings;
    bool given[CVK_TUNE_MOST];               /* by row of the parameter table: else its preset */
    char from[CVK_TUNE_MOST][CVK_TUNE_TEXT]; /* where it came from; may be empty */
} cvk_tune;

/* Nothing given: every parameter at its preset. */
void cvk_tune_start(cvk_tune *tune);

/* Reads a tune file. Refused, with file, line, key, value, range and unit: an unknown key (the
 * closest one is named), one given twice, a value out of its range, a file of another version, and
 * parameters that contradict each other (the sentence says which two). */
cvk_status cvk_tune_file_read(cvk_tune *tune, const char *path,
                              cvk_complaint *complaint) CVK_MUST_CHECK;

/* The same from memory; `path` is used in messages. */
cvk_status cvk_tune_file_parse(cvk_tune *tune, const char *path, const char *text, size_t length,
                               cvk_complaint *complaint) CVK_MUST_CHECK;

/* Marks a row of the parameter table as given, with where its value comes from. */
void cvk_tune_give(cvk_tune *tune, const cvk_parameter *row, const char *from);

/* Sets one parameter, "KEY=VALUE", and checks the whole again. */
cvk_status cvk_tune_set(cvk_tune *tune, const char *assignment, const char *from,
                        cvk_complaint *complaint) CVK_MUST_CHECK;

/* Writes what is given; `path` null: to stdout. */
cvk_status cvk_tune_file_write(const cvk_tune *tune, const char *path,
                               cvk_complaint *complaint) CVK_MUST_CHECK;

/* A value as a tune file has it: a number, a name, yes or no. */
void cvk_parameter_text(const cvk_parameter *row, float value, char *out, size_t size);

/* What a control layer refused, as a sentence that names key, value, range and unit. */
void cvk_refusal_text(cvk_status status, const cvk_refusal *why, char *out, size_t size);

#ifdef __cplusplus
}
#endif
#endif
