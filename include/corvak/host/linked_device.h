/* SPDX-License-Identifier: Apache-2.0
 *
 * A controller behind a link as a cvk_device, for closed-loop runs: its rows are those of a stream
 * of the signals that a run is judged by, as fast as the line carries them.
 */
#ifndef CORVAK_HOST_LINKED_DEVICE_H
#define CORVAK_HOST_LINKED_DEVICE_H

#include "corvak/host/device.h"
#include "corvak/host/session.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Begins the stream; the session must own the controller, and outlive the device. Only settings,
 * step, request and close may be called. Rows that were lost on the way are left out.
 * CVK_UNKNOWN_NAME when the controller lacks a signal, CVK_NO_MEMORY, or what the session says. */
cvk_status cvk_linked_device_open(cvk_device *device, cvk_session *session) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
