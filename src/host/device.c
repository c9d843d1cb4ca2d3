/* SPDX-License-Identifier: Apache-2.0
 *
 * What all devices share.
 */
#include "corvak/host/device.h"

#include <stddef.h>

void cvk_device_close(cvk_device *device)
{
    if (device->close != NULL && device->context != NULL) {
        device->close(device->context);
        device->context = NULL;
    }
}
