/* SPDX-License-Identifier: Apache-2.0
 *
 * Settings on their way into force.
 */
#ifndef CORVAK_CORE_DRIVE_PREPARE_H
#define CORVAK_CORE_DRIVE_PREPARE_H

#include "base/setup.h"

/* Checks settings against the hardware and prepares them. */
cvk_status cvk_setup_prepare(cvk_setup *setup, const cvk_hardware *hardware,
                             const cvk_settings *settings, cvk_refusal *why) CVK_MUST_CHECK;

/* What a mode needs and is not known; CVK_OK when nothing. */
cvk_status cvk_setup_allows(const cvk_setup *setup, cvk_mode mode, bool rotor_known,
                            cvk_refusal *why) CVK_MUST_CHECK;

#endif
