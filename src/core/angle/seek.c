/* SPDX-License-Identifier: Apache-2.0
 *
 * The start of a salient motor, at rest: injection finds the axis of the magnets; across it would
 * be an equilibrium too, but there the swing is the smaller one. Then a d current, first one way,
 * then the other: the way that the magnets point it saturates the iron, and the swing grows.
 */
#include "seek.h"

#include "injection.h"

#include "base/arithmetic.h"

enum stage { AXIS = 0, ACROSS, NORTH, SOUTH, FADE };

#define RISE_SHARE 0.2f /* of a pulse, in which its current rises */
#define MEAN_FROM 0.5f  /* of a stage with current: from then on the swing is averaged */
#define SURE_SIGMA 5.0f

static void go_to(cvk_seek *s, enum stage stage)
{
    s->stage = (int32_t)stage;
    s->ticks = 0;
    s->count = 0;
    s->sum_a = s->square_a2 = 0.0f;
}

void cvk_seek_begin(cvk_seek *s, cvk_angles *angles)
{
    *s = (cvk_seek){.stage = AXIS};
    cvk_injection_seed(&angles->injection, angles->injection.at.angle_rad, 0.0f, false);
}

/* The smaller swing lies across: then the axis is a quarter further. */
static void end_axis(cvk_seek *s, const cvk_setup *setup, cvk_injection *injection)
{
    const bool across = injection->swing_a.d < setup->injection.swing_a;
    if (across && s->stage == AXIS) {
        cvk_injection_seed(injection, cvk_wrap_angle(injection->at.angle_rad + 0.5f * CVK_PI), 0.0f,
                           false);
        go_to(s, ACROSS);
    } else {
        go_to(s, NORTH);
    }
}

static void average(cvk_seek *s, float swing_a)
{
    s->sum_a += swing_a;
    s->square_a2 += swing_a * swing_a;
    s->count++;
}

/* South is where the swing was larger: turn round. False when the difference is none. */
static bool end_south(cvk_seek *s, cvk_injection *injection)
{
    const float n = (float)s->count, mean = s->sum_a / n;
    const float variance = s->square_a2 / n - mean * mean;
    const float off = s->north_a - mean;
    if (off * off < SURE_SIGMA * SURE_SIGMA * 2.0f * (variance > 0.0f ? variance : 0.0f) / n) {
        return false;
    }
    const float turn = off > 0.0f ? 0.0f : CVK_PI;
    cvk_injection_seed(injection, cvk_wrap_angle(injection->at.angle_rad + turn), 0.0f, true);
    return true;
}

cvk_seek_answer cvk_seek_step(cvk_seek *s, const cvk_setup *setup, cvk_angles *angles,
                              cvk_moment *now)
{
    cvk_injection *injection = &angles->injection;
    const bool pulses = s->stage >= NORTH;
    const float length =
        (float)(pulses ? setup->start.pulse_ticks : setup->start.seek_ticks) + 1.0f;
    const float share = (float)s->ticks++ / length, full_a = setup->start.pulse_a;
    const float step_a = full_a / ((float)setup->start.pulse_ticks * RISE_SHARE + 1.0f);
    const float goal_a = s->stage == NORTH ? full_a : s->stage == SOUTH ? -full_a : 0.0f;
    s->current_a = cvk_toward(s->current_a, goal_a, step_a);
    now->current_set_a = (cvk_dq){s->current_a, 0.0f};
    if ((s->stage == NORTH || s->stage == SOUTH) && share > MEAN_FROM) {
        average(s, injection->last_swing_d_a);
    }
    if (share < 1.0f) {
        return CVK_SEEK_GOES_ON;
    }
    if (s->stage == AXIS || s->stage == ACROSS) {
        end_axis(s, setup, injection);
    } else if (s->stage == NORTH) {
        s->north_a = s->sum_a / (float)s->count;
        go_to(s, SOUTH);
    } else if (s->stage == SOUTH) {
        if (!end_south(s, injection)) {
            return CVK_SEEK_NO_POLARITY;
        }
        go_to(s, FADE);
    } else {
        s->found_rad = injection->at.angle_rad;
        return CVK_SEEK_FOUND;
    }
    return CVK_SEEK_GOES_ON;
}
