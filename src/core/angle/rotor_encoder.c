/* SPDX-License-Identifier: Apache-2.0
 *
 * An incremental encoder. The counter may wrap around at any time: only its differences count, and
 * the position within a turn is kept here. Each index mark puts right what was lost since the one
 * before; the first one gives the position, when the start-up waits for it.
 */
#include "decoders.h"

#define MOST_STEP 4 /* of a turn from reading to reading: one part in this */

static int32_t within(int32_t position, int32_t counts)
{
    const int32_t rest = position % counts;
    return rest < 0 ? rest + counts : rest;
}

/* The mark lies at its place: what the count is off by then was lost, as long as that is little. */
static void use_mark(cvk_encoder *e, const cvk_setup *setup, int32_t step)
{
    const int32_t counts = setup->settings.rotor.counts;
    const int32_t at = setup->rotor.index_counts + step / 2;
    const int32_t off = within(at - e->position + counts / 2, counts) - counts / 2;
    const bool first = setup->settings.rotor.startup == CVK_ROTOR_INDEX && !e->indexed;
    const int32_t little = setup->rotor.index_doubt_counts + (step < 0 ? -step : step);
    if (first || (e->indexed && off <= little && off >= -little)) {
        e->position = within(e->position + off, counts);
        e->indexed = true;
    }
}

cvk_rotor_reading cvk_encoder_read(cvk_encoder *e, const cvk_setup *setup,
                                   const cvk_rotor_readings *read)
{
    const int32_t counts = setup->settings.rotor.counts;
    if (!e->begun) {
        *e = (cvk_encoder){.begun = true,
                           .counts_before = read->encoder_counts,
                           .position = within(read->encoder_counts, counts)};
    }
    const int32_t step = (int32_t)((uint32_t)read->encoder_counts - (uint32_t)e->counts_before);
    e->counts_before = read->encoder_counts;
    if (step > counts / MOST_STEP || step < -counts / MOST_STEP) {
        /* the counter was set anew: the rotor has gone on as it did before */
        e->position = within(e->position + e->step_before, counts);
        return cvk_rotor_refused(CVK_ANGLE_JUMPED);
    }
    e->step_before = step;
    e->position = within(e->position + step, counts);
    if (read->index_passed != 0) {
        use_mark(e, setup, step);
    }
    return (cvk_rotor_reading){setup->rotor.per_count_rad * (float)e->position, 1.0f,
                               CVK_ANGLE_FINE};
}
