/* SPDX-License-Identifier: Apache-2.0
 *
 * What all observers share: the flux linkage that the voltage has added since the sample before,
 * with a resistance that is adapted, and what a doubt about the angle means for its quality.
 *
 * The quality of an angle is the probability that it is off by less than 30 degrees, for a normal
 * error whose spread is the sum of three: what the voltages may be off by, over the back-EMF (at
 * observer.least_speed_rad_s it makes 30 degrees); how far the tracking filter has to turn back;
 * how far the flux linkage's length is off. docs/theory.md says how it is checked.
 */
#ifndef CORVAK_CORE_ANGLE_TRACKING_H
#define CORVAK_CORE_ANGLE_TRACKING_H

#include "base/arithmetic.h"
#include "base/setup.h"

#define CVK_ANYWHERE_RAD2 3.29f /* variance of an angle of which nothing is known */
#define CVK_JUDGE_TICKS 8u      /* control calls between two judgements and adaptations */

/* What a step of an observer starts from. */
typedef struct cvk_observed {
    cvk_ab step_wb;    /* integral of v - R i since the sample before */
    cvk_ab current_a;  /* at this sample */
    cvk_ab before_a;   /* and at the one before */
    float flux_wb;     /* the magnets', adapted */
    float doubt_rad_s; /* speed times angle that the voltages may be off by */
    bool fresh;        /* the first step: nothing is known of the sample before */
    bool judge;        /* in this call qualities are judged */
} cvk_observed;

/* Resistance and flux linkage as they have turned out, less what the settings say. */
typedef struct cvk_adaptation {
    float resistance_ohm, flux_wb;
} cvk_adaptation;

/* Probability that a normal error of this variance is below 30 degrees; within 0.02. */
static inline float cvk_quality_of(float variance_rad2)
{
    /* erf(x / sqrt 2) is near sqrt(1 - exp(-2 x^2 / pi)); exp by (1 + y/4)^-4 */
    const float y = (CVK_PI * CVK_PI / 36.0f) * (2.0f / CVK_PI) * 0.25f / (variance_rad2 + 1e-6f);
    const float base = 1.0f / (1.0f + y), square = base * base;
    return sqrtf(1.0f - square * square);
}

/* What an observer knows of angle and speed, and of how well its model fits: observer.c. */
typedef struct cvk_tracked {
    float angle_rad, speed_rad_s;
    float misfit_wb;    /* mean: by how much the flux linkage is shorter than expected */
    cvk_ab before_wb;   /* where what is tracked pointed at the sample before */
    float unknown_rad2; /* variance of the angle that was begun with, as far as it still counts */
    float turned_back_rad2; /* mean square: by how much the filter had to turn back */
} cvk_tracked;

/* Gains of a tracking filter with both poles at a bandwidth (rad/s): the discrete alpha-beta filter
 * with r = exp(-bandwidth T), gain_angle = 1 - r^2, gain_speed = (1 - r)^2 / T. */
void cvk_tracking_gains(float bandwidth_rad_s, float period_s, float *gain_angle,
                        float *gain_speed);

/* How the active flux has moved since the sample before. */
static inline cvk_ab cvk_chord_seen(const cvk_observed *o, const cvk_setup *setup)
{
    const float l_q = setup->settings.motor.inductance_q_h;
    return (cvk_ab){o->step_wb.alpha - l_q * (o->current_a.alpha - o->before_a.alpha),
                    o->step_wb.beta - l_q * (o->current_a.beta - o->before_a.beta)};
}

/* The flux linkage along the rotor (active flux) of a stator's, and how long it should be. */
static inline cvk_ab cvk_active_flux(const cvk_setup *setup, cvk_ab stator_wb, cvk_ab current_a)
{
    const float l_q = setup->settings.motor.inductance_q_h;
    return (cvk_ab){stator_wb.alpha - l_q * current_a.alpha, stator_wb.beta - l_q * current_a.beta};
}

static inline float cvk_active_length(const cvk_setup *setup, float flux_wb, float current_d_a)
{
    const cvk_motor_settings *m = &setup->settings.motor;
    return flux_wb + (m->inductance_d_h - m->inductance_q_h) * current_d_a;
}

/* Share of the tracking bandwidth that a speed allows. An offset or a wrong resistance makes the
 * angle wobble once a turn; a filter much faster than the rotor turns lets that into the speed, the
 * speed loop makes a current of it, and that with the wrong resistance more of the offset. */
static inline float cvk_pace_of(const cvk_setup *setup, float speed_rad_s)
{
    const float pace = fabsf(speed_rad_s) * setup->observer.pace_per_rad_s;
    return pace > 1.0f ? 1.0f
                       : (pace < setup->observer.pace_least ? setup->observer.pace_least : pace);
}

/* The filter goes on at its speed; it turns to what is seen, with its bandwidth times `pace`. */
static inline void cvk_tracked_predict(cvk_tracked *t, const cvk_setup *setup)
{
    t->speed_rad_s = cvk_clamp(t->speed_rad_s, setup->observer.most_rad_s);
    t->angle_rad = cvk_wrap_angle(t->angle_rad + t->speed_rad_s * setup->period_s);
}

static inline void cvk_tracked_correct(cvk_tracked *t, const cvk_setup *setup, float error_rad,
                                       float pace)
{
    t->angle_rad = cvk_wrap_angle(t->angle_rad + pace * setup->observer.gain_angle * error_rad);
    t->speed_rad_s += pace * pace * setup->observer.gain_speed * error_rad;
}

/* Far from what is seen: the filter begins anew where that points, with the speed at which it
 * turned from one sample to the next. A filter cannot catch what turns faster than its bandwidth.
 */
void cvk_tracked_relocate(cvk_tracked *t, const cvk_setup *setup, cvk_ab flux_wb);
/* The same for an observer that sees how the flux linkage has moved since the sample before. */
void cvk_tracked_relocate_by_chord(cvk_tracked *t, const cvk_setup *setup, cvk_ab chord_wb,
                                   float flux_wb);

#define CVK_FAR 0.5f /* cosine */

/* The sine of an error stands for it, and a right angle for anything beyond. */
static inline float cvk_error_of(float along, float across)
{
    return along >= 0.0f ? across : copysignf(1.0f, across);
}

/* Takes in the misfit and the squared error of this step, and writes the source. */
void cvk_tracked_tell(cvk_tracked *t, const cvk_setup *setup, const cvk_observed *observed,
                      float misfit_wb, float error_rad2, cvk_angle *out);

#endif
