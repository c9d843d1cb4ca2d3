/* SPDX-License-Identifier: Apache-2.0
 *
 * Status texts and the one range check that all configuration goes through.
 */
#include "corvak/core/status.h"

#include <stddef.h>

const char *cvk_status_text(cvk_status status)
{
    static const char *const texts[CVK_STATUS_COUNT] = {
        [CVK_OK] = "ok",
        [CVK_OUT_OF_RANGE] = "a value is out of range",
        [CVK_NULL_ARGUMENT] = "a required argument is missing",
        [CVK_NO_MEMORY] = "out of memory",
        [CVK_FILE_ERROR] = "a file could not be read or written",
        [CVK_BAD_FORMAT] = "the contents could not be understood",
        [CVK_STOPPED] = "the drive stopped with a fault",
        [CVK_NOT_IN_LOG] = "the log does not show it",
        [CVK_CONTRADICTION] = "two parameters contradict each other",
        [CVK_BRIDGE_IS_ON] = "may change only while the bridge is off",
        [CVK_BUSY] = "what was asked for before has not been taken up yet",
        [CVK_UNKNOWN_NAME] = "there is nothing of that name",
        [CVK_NOT_OWNER] = "the drive belongs to somebody else, or to nobody",
        [CVK_NO_TRIAL] = "no change is on trial",
        [CVK_NO_ANSWER] = "the other end does not answer",
        [CVK_LOCKED] = "a secret has to be proved first",
    };
    if ((unsigned)status >= CVK_STATUS_COUNT) {
        return "unknown status";
    }
    return texts[status];
}

cvk_status cvk_check_range(const char *field, float value, float low, float high, cvk_refusal *why)
{
    if (value >= low && value <= high) { /* false for NaN */
        return CVK_OK;
    }
    if (why != NULL) {
        *why = (cvk_refusal){.field = field, .value = value, .low = low, .high = high};
    }
    return CVK_OUT_OF_RANGE;
}

cvk_status cvk_check_ranges(const void *object, const cvk_range *ranges, unsigned count,
                            cvk_refusal *why)
{
    for (unsigned n = 0; n < count; n++) {
        const float *value = (const float *)(const void *)((const char *)object + ranges[n].offset);
        cvk_status status =
            cvk_check_range(ranges[n].field, *value, ranges[n].low, ranges[n].high, why);
        if (status != CVK_OK) {
            return status;
        }
    }
    return CVK_OK;
}
