/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes to the controller's end of a link: as they are, and as messages in whole frames (a byte
 * of length before each). Whatever comes, the settings in force are ones that pass their check, and
 * each duty is a number in 0 .. 1.
 */
#include "toy_controller.h"

#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static toy_controller toy;

static void go_on(void)
{
    for (int n = 0; n < 3; n++) {
        const cvk_abc duty = cvk_drive_control(&toy.drive, &toy.readings);
        cvk_link_sample(&toy.link);
        while (cvk_link_poll(&toy.link)) {
        }
        if (!(duty.a >= 0.0f && duty.a <= 1.0f) ||
            cvk_settings_check(cvk_drive_settings(&toy.drive), NULL) != CVK_OK) {
            abort();
        }
        toy.out.count = 0;
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    uint8_t wire[CVK_FRAME_BYTES_MAX];
    if (size < 2 || toy_open(&toy) != CVK_OK) {
        return 0;
    }
    if (data[0] % 2 == 0) { /* as they are */
        for (size_t at = 1; at < size; at += 512) {
            toy_put(&toy, data + at, size - at < 512 ? size - at : 512);
            go_on();
        }
        return 0;
    }
    for (size_t at = 1; at + 1 < size;) {
        const size_t left = size - at - 1, length = data[at] < left ? data[at] : left;
        toy_put(&toy, wire, cvk_frame_write(data + at + 1, length, wire, sizeof wire));
        go_on();
        at += length + 1;
    }
    return 0;
}
