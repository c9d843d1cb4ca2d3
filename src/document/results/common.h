/* SPDX-License-Identifier: Apache-2.0
 *
 * What several documents are made with.
 */
#ifndef CORVAK_DOCUMENT_BUILD_COMMON_H
#define CORVAK_DOCUMENT_BUILD_COMMON_H

#include "corvak/document/documents.h"

#include <glib.h>

/* How a key of the card is called. */
const char *cvk_card_label(cvk_card_key key);

/* An entry of a card, as an interval with what it comes from; null when it is not known. */
void put_card_entry(cvk_doc *doc, const char *key, const char *label, const cvk_card_entry *entry);

/* name, motor, inverter, saturation, derived, missing; for people the rows of the card, beside the
 * rig's truth unless that is null, and what is not known: whole, with `why`. */
void put_card(cvk_doc *doc, const cvk_card *card, const cvk_rig_config *truth, double row_s,
              bool why);

/* Reasons of what is not known, for machines. */
void put_missing(cvk_doc *doc, const cvk_card *card);

void put_measured(cvk_doc *doc, const char *key, const char *label, const cvk_measured *x);

/* "note: log: text" for people, an array "log" for machines. */
void put_findings(cvk_doc *doc, const cvk_estimate *estimate, const char *headline);

/* Length of a reason up to what could be done about it. */
int first_clause(const char *text);

#endif
