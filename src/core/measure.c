/* SPDX-License-Identifier: Apache-2.0
 *
 * Offsets at rest: with all legs at half duty no current flows, so what is read is the offset. The
 * first quarter of the time is left for currents to die out.
 */
#include "measure.h"

#include <stddef.h>

/* Spread of the readings at rest that is still noise, as a share of the current limit. */
#define LARGEST_SPREAD 0.1f

static const cvk_parameter rows[] = {
    CVK_ROW(sensing, offset_phase_a_a, "A", -100.0f, 100.0f, 0.0f, false,
            "reading of current channel a when no current flows"),
    CVK_ROW(sensing, offset_phase_b_a, "A", -100.0f, 100.0f, 0.0f, false, "the same of channel b"),
    CVK_ROW(sensing, offset_phase_c_a, "A", -100.0f, 100.0f, 0.0f, false, "the same of channel c"),
    CVK_ROW(sensing, rest_s, "s", 0.01f, 10.0f, 0.2f, true,
            "how long the calibration of the offsets at rest takes"),
};
const cvk_parameter_rows cvk_measure_rows = CVK_ROWS(rows);

void cvk_measure_start(cvk_measure *measure, const cvk_setup *setup)
{
    const cvk_sensing_settings *s = &setup->settings.sensing;
    *measure =
        (cvk_measure){.offset_a = {s->offset_phase_a_a, s->offset_phase_b_a, s->offset_phase_c_a}};
}

/* A phase that could not be seen follows from the two others, whose sum with it is zero. With two
 * missing, the currents of the period before stand in. */
static cvk_abc completed(cvk_abc read, int32_t valid, cvk_abc before)
{
    switch (valid & CVK_ALL_CURRENTS_VALID) {
    case 7:
        return read;
    case 3:
        return (cvk_abc){read.a, read.b, -read.a - read.b};
    case 5:
        return (cvk_abc){read.a, -read.a - read.c, read.c};
    case 6:
        return (cvk_abc){-read.b - read.c, read.b, read.c};
    default:
        return before;
    }
}

static float spread(float sum, float square, float count)
{
    const float mean = sum / count, variance = square / count - mean * mean;
    return variance > 0.0f ? variance : 0.0f;
}

static void finish_rest(cvk_measure *m, const cvk_setup *setup, float count, cvk_moment *now)
{
    const float limit_a = LARGEST_SPREAD * setup->settings.limit.current_a;
    const float most = limit_a * limit_a;
    if (most > 0.0f && (spread(m->sum_a.a, m->square_a2.a, count) > most ||
                        spread(m->sum_a.b, m->square_a2.b, count) > most ||
                        spread(m->sum_a.c, m->square_a2.c, count) > most)) {
        now->fault = now->fault == CVK_FAULT_NONE ? CVK_FAULT_REST : now->fault;
        return;
    }
    m->offset_a.a += m->sum_a.a / count;
    m->offset_a.b += m->sum_a.b / count;
    m->offset_a.c += m->sum_a.c / count;
}

/* While at rest the currents, less the offsets known so far, are offsets still to be found. */
static void calibrate(cvk_measure *m, const cvk_setup *setup, cvk_moment *now)
{
    const uint32_t from = setup->rest_ticks / 4u;
    if (now->request.mode != CVK_MODE_REST || now->bridge_on == 0) {
        m->rest_ticks = 0;
        m->sum_a = m->square_a2 = (cvk_abc){0.0f, 0.0f, 0.0f};
        now->rest_done = now->request.mode == CVK_MODE_REST ? now->rest_done : 0;
        return;
    }
    const cvk_abc i = now->phase_a;
    if (now->rest_done != 0 || m->rest_ticks++ < from) {
        return;
    }
    m->sum_a = (cvk_abc){m->sum_a.a + i.a, m->sum_a.b + i.b, m->sum_a.c + i.c};
    m->square_a2 = (cvk_abc){m->square_a2.a + i.a * i.a, m->square_a2.b + i.b * i.b,
                             m->square_a2.c + i.c * i.c};
    if (m->rest_ticks >= setup->rest_ticks) {
        finish_rest(m, setup, (float)(setup->rest_ticks - from), now);
        now->rest_done = 1;
    }
}

void cvk_measure_step(cvk_measure *m, const cvk_setup *setup, cvk_moment *now)
{
    const cvk_abc raw = now->readings.current_a;
    const cvk_abc read = {raw.a - m->offset_a.a, raw.b - m->offset_a.b, raw.c - m->offset_a.c};
    now->tick++;
    now->acted_v = now->acting_v;
    now->acting_v = now->voltage_made_v;
    now->phase_a = completed(read, now->readings.current_valid, now->phase_a);
    now->current_ab_a = cvk_clarke(now->phase_a);
    now->bus_v = now->readings.bus_v;
    calibrate(m, setup, now);
    now->offset_a = m->offset_a;
}
