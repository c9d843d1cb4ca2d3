/* SPDX-License-Identifier: Apache-2.0
 *
 * The electrical parameters, from logs of a motor that stands still, then of one that turns.
 */
#include "learning_parts.h"

#define SHARP 0.05 /* shares of their values, of R and L that a held motor has shown */

static bool has_stood(const cvk_learning *l, cvk_path path)
{
    const cvk_belief *known = &l->known.of[path];
    return known->from[CVK_B_L_D][0] != '\0' && cvk_belief_knows(known, CVK_B_RESISTANCE, SHARP) &&
           cvk_belief_knows(known, CVK_B_L_D, SHARP) && cvk_belief_knows(known, CVK_B_L_Q, SHARP);
}

/* Held motors first: one that turns later in its log swings about the vector that it starts by, and
 * what it shows before is asked only where no other log tells. */
static void learn_standing(cvk_learning *l, cvk_prepared *logs, size_t count,
                           const cvk_estimate_options *options, cvk_estimate *out)
{
    for (int turned = 0; turned < 2; turned++) {
        for (size_t n = 0; n < count; n++) {
            const bool turns = logs[n].turns.count > 0;
            if (logs[n].usable && turns == (turned != 0) &&
                !(turns && has_stood(l, logs[n].waveforms.path))) {
                cvk_learn_standstill(l, &logs[n], options, out);
                l->moved = l->moved || logs[n].moved;
            }
        }
    }
}

void cvk_learn(cvk_learning *l, cvk_prepared *logs, size_t count,
               const cvk_estimate_options *options, cvk_estimate *out)
{
    l->readings.count = 0;
    l->moved = false;
    l->misfit[0] = l->cure[0] = l->short_of[0] = l->one_line[0] = '\0';
    l->channel_mismatch = options->voltage_gain_tolerance >= 0.0
                              ? options->voltage_gain_tolerance
                              : CVK_DEFAULT_VOLTAGE_GAIN_TOLERANCE;
    cvk_path_beliefs_start(&l->known, logs, count, options->switch_resistance_ohm);
    l->crumbs = true;
    for (size_t n = 0; n < count; n++) {
        l->crumbs = l->crumbs && logs[n].still_count == 0 && logs[n].turns.count == 0 &&
                    logs[n].waveforms.pieces > 1;
    }
    learn_standing(l, logs, count, options, out);
    cvk_path_beliefs_join(&l->known);
    l->still = l->known;
    cvk_learn_turning(l, logs, count, options->threads, out);
}

bool cvk_other_motor(const cvk_learning *l)
{
    const cvk_path path = cvk_path_beliefs_first(&l->known);
    return l->misfit[0] != '\0' || cvk_agree(&l->readings, CVK_B_L_D, path).contradicts ||
           cvk_agree(&l->readings, CVK_B_L_Q, path).contradicts ||
           cvk_agree(&l->readings, CVK_B_FLUX, path).contradicts;
}
