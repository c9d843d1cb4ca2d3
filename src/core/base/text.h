/* SPDX-License-Identifier: Apache-2.0
 *
 * The little that the tables need of text: the core links no <string.h>.
 */
#ifndef CORVAK_CORE_BASE_TEXT_H
#define CORVAK_CORE_BASE_TEXT_H

#include <stdbool.h>
#include <stddef.h>

/* What a parameter or signal means. A build for little flash leaves it out: hosts know it too. */
#ifdef CVK_WITHOUT_MEANINGS
#define CVK_MEANING(text) ""
#else
#define CVK_MEANING(text) text
#endif

/* What follows in `text` after `start`; null when it begins otherwise. */
static inline const char *cvk_text_after(const char *text, const char *start)
{
    if (text == NULL) {
        return NULL;
    }
    while (*start != '\0' && *text == *start) {
        text++;
        start++;
    }
    return *start == '\0' ? text : NULL;
}

static inline bool cvk_same_text(const char *a, const char *b)
{
    const char *rest = cvk_text_after(a, b);
    return rest != NULL && *rest == '\0';
}

#endif
