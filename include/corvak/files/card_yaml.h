/* SPDX-License-Identifier: Apache-2.0
 *
 * Motor cards as YAML that a person may edit. Keys: docs/file-formats.md.
 */
#ifndef CORVAK_FILES_CARD_YAML_H
#define CORVAK_FILES_CARD_YAML_H

#include "corvak/files/complaint.h"
#include "corvak/ident/card.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Writes the card: first to a file beside it, then renamed, so that a cut leaves the old card or
 * the new one. */
cvk_status cvk_card_file_write(const cvk_card *card, const char *path,
                               cvk_complaint *complaint) CVK_MUST_CHECK;

/* Reads a card. On failure `complaint` (may be null) says what, where and what to do. */
cvk_status cvk_card_file_read(cvk_card *card, const char *path,
                              cvk_complaint *complaint) CVK_MUST_CHECK;

/* The same from a block of memory; `path` is used in messages. */
cvk_status cvk_card_parse(cvk_card *card, const char *path, const char *text, size_t length,
                          cvk_complaint *complaint) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
