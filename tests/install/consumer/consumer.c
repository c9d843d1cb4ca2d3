/* SPDX-License-Identifier: Apache-2.0
 *
 * Another project that uses the installed package: touches every layer once.
 */
#include <corvak/files/log_file.h>
#include <corvak/ident/estimate.h>
#include <corvak/sim/device.h>
#include <corvak/sim/recorder.h>

#include <stdio.h>
#include <string.h>

static cvk_sim sim;
static cvk_log_file file;
static cvk_estimate estimate;

int main(void)
{
    const char text[] = "t,ia,ib,va,vb,vc\n0,1,2,3,4,5\n";
    const cvk_rig_config nothing = {.name = "nothing"};
    cvk_complaint complaint;
    if (cvk_sim_init(&sim, &nothing, 1, NULL) != CVK_OUT_OF_RANGE) {
        return 1;
    }
    if (cvk_log_file_parse(&file, "memory", text, strlen(text), NULL, 0, &complaint) != CVK_OK) {
        return 2;
    }
    const cvk_log *logs[] = {&file.log};
    const cvk_estimate_options options = cvk_estimate_options_default();
    cvk_status status = cvk_estimate_logs(logs, 1, &options, &estimate);
    cvk_recording recording;
    cvk_device device;
    if (cvk_sim_device_open(&device, &nothing, 1, false, NULL) != CVK_OUT_OF_RANGE ||
        cvk_sim_record(&recording, NULL, false) != CVK_NULL_ARGUMENT) {
        return 4;
    }
    cvk_device_close(&device);
    printf("one row: %s\n", cvk_status_text(status));
    cvk_log_file_free(&file);
    return status == CVK_NOT_IN_LOG ? 0 : 3;
}
