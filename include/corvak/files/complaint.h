/* SPDX-License-Identifier: Apache-2.0
 *
 * Why a file was refused: which file, which line, what, and the cure.
 */
#ifndef CORVAK_FILES_COMPLAINT_H
#define CORVAK_FILES_COMPLAINT_H

#include "corvak/core/status.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_COMPLAINT_LENGTH 512

typedef struct cvk_complaint {
    char text[CVK_COMPLAINT_LENGTH]; /* "FILE:LINE: what; cure", without a newline */
} cvk_complaint;

/* Fills in the complaint (which may be null) and returns `status`. Line 0 is left out. */
#if defined(__GNUC__)
__attribute__((format(printf, 5, 6)))
#endif
cvk_status
cvk_complain(cvk_complaint *complaint, cvk_status status, const char *file, long line,
             const char *format, ...);

#ifdef __cplusplus
}
#endif
#endif
