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
        if (severity != CVK_ERROR) {
            return;
        }
        out->findings--;
    }
    cvk_finding *finding = &out->finding[out->findings++];
    finding->severity = severity;
    snprintf(finding->log, sizeof finding->log, "%s", log);
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(finding->text, sizeof finding->text, format, arguments);
    va_end(arguments);
}

size_t cvk_errors_since(const cvk_estimate *out, size_t first)
{
    size_t errors = 0;
    for (size_t n = first; n < out->findings; n++) {
        errors += out->finding[n].severity == CVK_ERROR;
    }
    return errors;
}
