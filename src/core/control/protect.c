/* SPDX-License-Identifier: Apache-2.0
 *
 * The checks of every control call.
 */
#include "protect.h"

#include <stddef.h>

static const cvk_parameter rows[] = {
    CVK_ROW(protect, trip_current_a, "A", 0.01f, 2000.0f, 20.0f, true,
            "a phase current beyond it switches the bridge off"),
    CVK_ROW(protect, bus_min_v, "V", 1.0f, 100.0f, 6.0f, true,
            "a bus below it switches the bridge off"),
    CVK_ROW(protect, bus_max_v, "V", 1.0f, 100.0f, 60.0f, true,
            "a bus above it switches the bridge off"),
    CVK_ROW(limit, current_a, "A", 0.01f, 1000.0f, 5.0f, true,
            "largest phase current that is asked for, peak"),
};
const cvk_parameter_rows cvk_protect_rows = CVK_ROWS(rows);

void cvk_protect_raise(cvk_moment *now, cvk_fault fault)
{
    now->fault = now->fault == CVK_FAULT_NONE ? (int32_t)fault : now->fault;
}

/* What is wrong with these currents and this bus, of which something is. */
static cvk_fault name_fault(const cvk_bounds *s, cvk_abc i, float bus_v)
{
    if (!isfinite(i.a) || !isfinite(i.b) || !isfinite(i.c) || !isfinite(bus_v)) {
        return CVK_FAULT_SAMPLE;
    }
    return bus_v < s->bus_min_v || bus_v > s->bus_max_v ? CVK_FAULT_BUS_VOLTAGE
                                                        : CVK_FAULT_OVERCURRENT;
}

void cvk_protect_step(const cvk_setup *setup, bool clear, cvk_moment *now)
{
    const cvk_bounds *s = &setup->bounds;
    const cvk_abc i = now->phase_a;
    const float trip_a = s->trip_current_a, bus_v = now->bus_v;
    now->fault = clear ? CVK_FAULT_NONE : now->fault;
    if (now->readings.stage_tripped != 0) {
        cvk_protect_raise(now, CVK_FAULT_STAGE);
    }
    /* all of it is false for what is no number */
    if (!(fabsf(i.a) <= trip_a && fabsf(i.b) <= trip_a && fabsf(i.c) <= trip_a &&
          bus_v >= s->bus_min_v && bus_v <= s->bus_max_v)) {
        cvk_protect_raise(now, name_fault(s, i, bus_v));
    }
}

static float lower(float a, float b)
{
    return a < b ? a : b;
}

cvk_bounds cvk_bounds_of(const cvk_settings *s)
{
    return (cvk_bounds){s->protect.trip_current_a, s->protect.bus_min_v, s->protect.bus_max_v,
                        s->limit.current_a, s->limit.current_a * s->limit.current_a};
}

cvk_bounds cvk_bounds_tighter(cvk_bounds a, cvk_bounds b)
{
    const float current_a = lower(a.current_a, b.current_a);
    return (cvk_bounds){lower(a.trip_current_a, b.trip_current_a),
                        -lower(-a.bus_min_v, -b.bus_min_v), lower(a.bus_max_v, b.bus_max_v),
                        current_a, current_a * current_a};
}
