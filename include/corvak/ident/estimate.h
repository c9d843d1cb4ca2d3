/* SPDX-License-Identifier: Apache-2.0
 *
 * From one or several logs of one motor to its card. Methods and sources: docs/theory.md.
 */
#ifndef CORVAK_IDENT_ESTIMATE_H
#define CORVAK_IDENT_ESTIMATE_H

#include "corvak/core/status.h"
#include "corvak/ident/log.h"
#include "corvak/ident/result.h"

#ifdef __cplusplus
extern "C" {
#endif

cvk_estimate_options cvk_estimate_options_default(void);

/* Estimates what the logs show; what they do not show is null with a reason. Fails with
 * CVK_NOT_IN_LOG when a log is unusable or nothing could be estimated: the findings say why.
 * `out` is large (about 40 kB): keep it off small stacks. */
cvk_status cvk_estimate_logs(const cvk_log *const *logs, size_t count,
                             const cvk_estimate_options *options, cvk_estimate *out) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
