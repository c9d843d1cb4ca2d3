/* SPDX-License-Identifier: Apache-2.0
 *
 * Complaints about files.
 */
#include "corvak/files/complaint.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>

cvk_status cvk_complain(cvk_complaint *complaint, cvk_status status, const char *file, long line,
                        const char *format, ...)
{
    if (complaint == NULL) {
        return status;
    }
    char where[32] = "";
    if (line > 0) {
        snprintf(where, sizeof where, ":%ld", line);
    }
    snprintf(complaint->text, sizeof complaint->text, "%s%s: ", file, where);
    size_t used = strlen(complaint->text);
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(complaint->text + used, sizeof complaint->text - used, format, arguments);
    va_end(arguments);
    return status;
}
