/* SPDX-License-Identifier: Apache-2.0
 *
 * Rig files: the simulated bench as YAML. Keys and ranges: cvk_rig_fields().
 */
#ifndef CORVAK_FILES_RIG_YAML_H
#define CORVAK_FILES_RIG_YAML_H

#include "corvak/files/complaint.h"
#include "corvak/rig/rig.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Reads and checks a rig file. Keys without a preset must be there; an unknown key, one given
 * twice, a value that is not a number or not one of the names, or one outside its range is refused
 * with file, line, key and range, and so are values that contradict each other. The tune stands at
 * its presets, or at what a section `drive:` of an older file says; then the complaint holds a note
 * on that, though the status is CVK_OK. Without a note it is empty. */
cvk_status cvk_rig_file_read(cvk_rig_config *config, const char *path,
                             cvk_complaint *complaint) CVK_MUST_CHECK;

/* The same for whoever needs a bench's data only: it may be one that cannot be simulated. */
cvk_status cvk_rig_file_read_data(cvk_rig_config *config, const char *path,
                                  cvk_complaint *complaint) CVK_MUST_CHECK;

/* The same from memory; `path` is used in messages. */
cvk_status cvk_rig_file_parse(cvk_rig_config *config, const char *path, const char *text,
                              size_t length, cvk_complaint *complaint) CVK_MUST_CHECK;

/* Sets one key, "SECTION.KEY=VALUE", and checks the whole again. */
cvk_status cvk_rig_set(cvk_rig_config *config, const char *assignment,
                       cvk_complaint *complaint) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
