/* SPDX-License-Identifier: Apache-2.0
 *
 * The electrical parameters, from logs of a motor that stands still, then of one that turns.
 */
#include "learning_parts.h"

void cvk_learn(cvk_learning *l, cvk_prepared *logs, size_t count,
               const cvk_estimate_options *options, cvk_estimate *out)
{
    l->readings.count = 0;
    l->moved = false;
    l->misfit[0] = l->cure[0] = l->short_of[0] = l->one_line[0] = '\0';
    l->channel_mismatch = options->voltage_gain_tolerance >= 0.0
                              ? options->voltage_gain_tolerance
                              : CVK_DEFAULT_VOLTAGE_GAIN_TOLERANCE;
    cvk_knowledge_start(&l->known, logs, count, options->switch_resistance_ohm);
    l->crumbs = true;
    for (size_t n = 0; n < count; n++) {
        l->crumbs = l->crumbs && logs[n].still_count == 0 && logs[n].turns.count == 0 &&
                    logs[n].signals.pieces > 1;
        if (logs[n].usable) {
            cvk_learn_standstill(l, &logs[n], options, out);
            l->moved = l->moved || logs[n].moved;
        }
    }
    cvk_knowledge_join(&l->known);
    l->still = l->known;
    cvk_learn_turning(l, logs, count, options->threads, out);
}

bool cvk_other_motor(const cvk_learning *l)
{
    const cvk_path path = cvk_knowledge_first(&l->known);
    return l->misfit[0] != '\0' || cvk_agree(&l->readings, CVK_B_L_D, path).contradicts ||
           cvk_agree(&l->readings, CVK_B_L_Q, path).contradicts ||
           cvk_agree(&l->readings, CVK_B_FLUX, path).contradicts;
}
