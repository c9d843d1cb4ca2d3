/* SPDX-License-Identifier: Apache-2.0
 *
 * Offsets at rest: with the bridge off no current flows, also in a motor that turns, so what is
 * read is the offset. The first quarter of the time is left for currents to die out.
 */
#include "measure.h"

#include "base/arithmetic.h"

#include <stddef.h>

/* Spread of the readings at rest that is still noise, as a share of the current limit. */
#define LARGEST_SPREAD 0.1f
#define MOST_TERMINAL_V 1000.0f /* what is beyond, or no number, is not measured */

static const cvk_parameter rows[] = {
    CVK_ROW(sensing, offset_phase_a_a, "A", -100.0f, 100.0f, 0.0f, false,
            "reading of current channel a when no current flows"),
    CVK_ROW(sensing, offset_phase_b_a, "A", -100.0f, 100.0f, 0.0f, false, "the same of channel b"),
    CVK_ROW(sensing, offset_phase_c_a, "A", -100.0f, 100.0f, 0.0f, false, "the same of channel c"),
    CVK_ROW(sensing, delay_s, "s", 0.0f, 2e-5f, 0.0f, true,
            "age of a current reading: amplifier and converter; corrected by the ripple's slope"),
    CVK_ROW(sensing, rest_s, "s", 0.01f, 10.0f, 0.2f, true,
            "how long the calibration of the offsets at rest takes"),
};
const cvk_parameter_rows cvk_measure_rows = CVK_ROWS(rows);

void cvk_measure_start(const cvk_setup *setup, cvk_moment *now)
{
    const cvk_sensing_settings *s = &setup->settings.sensing;
    now->offset_a = (cvk_abc){s->offset_phase_a_a, s->offset_phase_b_a, s->offset_phase_c_a};
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
    now->offset_a.a += m->sum_a.a / count;
    now->offset_a.b += m->sum_a.b / count;
    now->offset_a.c += m->sum_a.c / count;
}

/* While at rest the currents, less the offsets known so far, are offsets still to be found. */
static void calibrate(cvk_measure *m, const cvk_setup *setup, cvk_moment *now)
{
    const uint32_t from = setup->rest_ticks / 4u;
    if (m->rest_ticks == 0) {
        m->sum_a = m->square_a2 = (cvk_abc){0.0f, 0.0f, 0.0f};
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

/* At the carrier's valley the winding gets no voltage. A reading that is late by 1 us is off by 13
 * % of a torque current at 8 uH otherwise. */
static void correct_delay(const cvk_setup *setup, cvk_moment *now)
{
    const float delay_s = setup->settings.sensing.delay_s;
    if (delay_s > 0.0f && now->bridge_on != 0 && now->request.mode != CVK_MODE_REST) {
        const cvk_abc more = cvk_clarke_inverse(
            cvk_moved_on(setup, now, cvk_clarke(now->phase_a), (cvk_ab){0.0f, 0.0f}, delay_s));
        now->phase_a.a += more.a;
        now->phase_a.b += more.b;
        now->phase_a.c += more.c;
    }
}

/* The voltage since the sample before: what was made of the duties, or with the bridge off what the
 * terminals show, where they are measured. */
static void take_voltage(cvk_measure *m, const cvk_setup *setup, cvk_moment *now)
{
    now->acted_v = now->acting_v;
    now->acting_v = now->voltage_made_v;
    now->terminals_known = 0;
    if (now->bridge_on == 0) {
        const cvk_ab v = cvk_clarke(now->readings.terminal_v), before = m->terminal_v;
        const float turned = setup->period_s * now->source[setup->observer.chosen].speed_rad_s;
        const bool known = fabsf(v.alpha) < MOST_TERMINAL_V && fabsf(v.beta) < MOST_TERMINAL_V;
        now->terminals_known = known ? 1 : 0;
        now->acted_v =
            known ? cvk_mean_of_turning(m->terminals_seen ? before : v, v, cvk_clamp(turned, 1.0f))
                  : (cvk_ab){0.0f, 0.0f};
        m->terminal_v = v;
    }
    m->terminals_seen = now->terminals_known != 0;
}

/* Each leg by itself, as it was read at the sample instant. */
static void read_legs(const cvk_setup *setup, cvk_moment *now)
{
    const cvk_abc raw = now->readings.current_a, offset = now->offset_a;
    const cvk_abc read = {raw.a - offset.a, raw.b - offset.b, raw.c - offset.c};
    now->phase_a = completed(read, now->readings.current_valid, now->phase_a);
    correct_delay(setup, now);
}

void cvk_measure_step(cvk_measure *m, const cvk_setup *setup, cvk_moment *now)
{
    now->tick++;
    take_voltage(m, setup, now);
    if (setup->shunt_window > 0.0f) {
        cvk_shunt_read(&m->shunt, setup, now);
    } else {
        read_legs(setup, now);
    }
    now->base_ab_a = now->current_ab_a = cvk_clarke(now->phase_a);
    now->bus_v = now->readings.bus_v;
    if (now->request.mode == CVK_MODE_REST) {
        calibrate(m, setup, now);
    } else {
        now->rest_done = 0;
        m->rest_ticks = 0;
    }
}
