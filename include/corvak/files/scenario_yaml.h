/* SPDX-License-Identifier: Apache-2.0
 *
 * Scenario files: what happens to a rig during a run. Each section is one event; its keys are
 * in docs/file-formats.md.
 */
#ifndef CORVAK_FILES_SCENARIO_YAML_H
#define CORVAK_FILES_SCENARIO_YAML_H

#include "corvak/files/complaint.h"
#include "corvak/rig/scenario.h"

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Reads and checks a scenario. An unknown key or kind, a missing value or one out of range is
 * refused with file, line and what is allowed. */
cvk_status cvk_scenario_file_read(cvk_rig_scenario *scenario, const char *path,
                                  cvk_complaint *complaint) CVK_MUST_CHECK;

/* The same from memory; `path` is used in messages. */
cvk_status cvk_scenario_file_parse(cvk_rig_scenario *scenario, const char *path, const char *text,
                                   size_t length, cvk_complaint *complaint) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
