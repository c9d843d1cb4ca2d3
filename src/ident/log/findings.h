/* SPDX-License-Identifier: Apache-2.0
 *
 * Adding a finding to a result. When there is no room left, an error takes the place of the last
 * note.
 */
#ifndef CORVAK_IDENT_LOG_FINDINGS_H
#define CORVAK_IDENT_LOG_FINDINGS_H

#include "corvak/ident/result.h"

#if defined(__GNUC__)
__attribute__((format(printf, 4, 5)))
#endif
void cvk_add_finding(cvk_estimate *out, cvk_severity severity, const char *log, const char *format,
                     ...);

/* Errors among the findings from `first` on: what they belong to cannot be used. */
size_t cvk_errors_since(const cvk_estimate *out, size_t first);

#endif
