/* SPDX-License-Identifier: Apache-2.0
 *
 * Adding a finding to a result.
 */
#ifndef CORVAK_IDENT_FINDINGS_H
#define CORVAK_IDENT_FINDINGS_H

#include "corvak/ident/result.h"

#if defined(__GNUC__)
__attribute__((format(printf, 4, 5)))
#endif
void cvk_add_finding(cvk_estimate *out, cvk_severity severity, const char *log, const char *format,
                     ...);

/* An error is among the findings: the log cannot be used. */
bool cvk_has_errors(const cvk_estimate *out);

#endif
