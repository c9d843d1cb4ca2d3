/* SPDX-License-Identifier: Apache-2.0
 *
 * Findings: what a reader of the result should know of the logs.
 */
#include "findings.h"

#include <stdarg.h>
#include <stdio.h>

void cvk_add_finding(cvk_estimate *out, cvk_severity severity, const char *log, const char *format,
                     ...)
{
    if (out->findings == CVK_MAX_FINDINGS) {
        return;
    }
    cvk_finding *finding = &out->finding[out->findings++];
    finding->severity = severity;
    snprintf(finding->log, sizeof finding->log, "%s", log);
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(finding->text, sizeof finding->text, format, arguments);
    va_end(arguments);
}

bool cvk_has_errors(const cvk_estimate *out)
{
    for (size_t n = 0; n < out->findings; n++) {
        if (out->finding[n].severity == CVK_ERROR) {
            return true;
        }
    }
    return false;
}
