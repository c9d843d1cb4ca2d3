/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as a CSV log: read or refused with a message; what is read can be estimated, and its
 * sensors calibrated.
 */
#include "corvak/files/log_file.h"
#include "corvak/ident/calibrate.h"
#include "corvak/ident/estimate.h"

#include <stdint.h>
#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static cvk_log_file file;
static cvk_estimate estimate;
static cvk_calibration calibration;

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    cvk_complaint complaint = {.text = ""};
    cvk_status status =
        cvk_log_file_parse(&file, "fuzz.csv", (const char *)data, size, NULL, 0, &complaint);
    if (status != CVK_OK && complaint.text[0] == '\0' && status != CVK_NO_MEMORY) {
        abort(); /* a refusal without a word */
    }
    if (status == CVK_OK) {
        const cvk_log *logs[] = {&file.log};
        const cvk_estimate_options options = cvk_estimate_options_default();
        status = cvk_estimate_logs(logs, 1, &options, &estimate);
        const cvk_calibrate_options sensors = cvk_calibrate_options_default();
        status = cvk_calibrate_log(&file.log, &sensors, &calibration);
        (void)status;
    }
    cvk_log_file_free(&file);
    return 0;
}
