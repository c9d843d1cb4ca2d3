/* SPDX-License-Identifier: Apache-2.0
 *
 * The observers alone.
 */
#include "corvak/core/observers_alone.h"

#include "prepare.h"

#include "angle/angle_sources.h"
#include "control/inverter.h"

#include <stddef.h>

/* What is beyond, or no number, is no reading. */
#define MOST_A 1e4f
#define MOST_V 1e3f

typedef struct alone_state {
    cvk_setup setup;
    cvk_angles angles;
    cvk_moment now;
} alone_state;

_Static_assert(sizeof(alone_state) <= sizeof(cvk_observers_alone),
               "A cvk_observers_alone is too small for what is kept inside it: raise "
               "CVK_OBSERVERS_ALONE_BYTES in corvak/core/observers_alone.h.");

static alone_state *state_of(cvk_observers_alone *alone)
{
    return (alone_state *)(void *)&alone->inside;
}

cvk_status cvk_observers_alone_init(cvk_observers_alone *alone, float period_s,
                                    const cvk_settings *settings, cvk_refusal *why)
{
    if (alone == NULL || settings == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_hardware hardware = cvk_hardware_default();
    hardware.period_s = period_s;
    cvk_settings s = *settings;
    s.angle.source = CVK_BY_OBSERVER;
    const float fastest_hz = 0.06f / period_s; /* the current loop does not matter here */
    s.current.bandwidth_hz =
        s.current.bandwidth_hz < fastest_hz ? s.current.bandwidth_hz : fastest_hz;
    alone_state *o = state_of(alone);
    *o = (alone_state){.now = {.tick = 0}};
    cvk_status status = cvk_check_range("period_s", period_s, 5e-6f, 1e-3f, why);
    if (status == CVK_OK) {
        status = cvk_setup_prepare(&o->setup, &hardware, &s, why);
    }
    return status == CVK_OK ? cvk_setup_allows(&o->setup, CVK_MODE_CURRENT, true, why) : status;
}

void cvk_observers_alone_seed(cvk_observers_alone *alone, cvk_ab current_a, float angle_rad,
                              float speed_rad_s)
{
    alone_state *o = state_of(alone);
    o->now.current_ab_a = current_a;
    cvk_observers_seed(&o->angles, &o->setup, &o->now, cvk_wrap_angle(angle_rad), speed_rad_s,
                       0.01f);
}

const cvk_moment *cvk_observers_alone_step(cvk_observers_alone *alone,
                                           const cvk_observers_alone_row *row)
{
    alone_state *o = state_of(alone);
    cvk_moment *now = &o->now;
    const cvk_ab before = now->current_ab_a, i = row->current_a;
    const cvk_ab v = row->acted_v;
    const bool whole = fabsf(i.alpha) < MOST_A && fabsf(i.beta) < MOST_A &&
                       fabsf(v.alpha) < MOST_V && fabsf(v.beta) < MOST_V;
    now->tick++;
    now->bridge_on = row->bridge_on;
    now->angle_source = (int32_t)o->setup.observer.chosen;
    now->terminals_known = row->bridge_on == 0 ? 1 : 0;
    now->fault = whole ? CVK_FAULT_NONE : CVK_FAULT_SAMPLE;
    if (whole) {
        now->current_ab_a = i;
        now->acted_v = v;
        if (row->own_left != 0 && row->bridge_on != 0) {
            const cvk_abc mean = cvk_clarke_inverse(
                (cvk_ab){0.5f * (before.alpha + i.alpha), 0.5f * (before.beta + i.beta)});
            const cvk_ab own = cvk_clarke((cvk_abc){cvk_inverter_own_v(&o->setup, mean.a),
                                                    cvk_inverter_own_v(&o->setup, mean.b),
                                                    cvk_inverter_own_v(&o->setup, mean.c)});
            now->acted_v.alpha -= own.alpha;
            now->acted_v.beta -= own.beta;
        }
    }
    cvk_observers_step(&o->angles, &o->setup, now);
    return now;
}
