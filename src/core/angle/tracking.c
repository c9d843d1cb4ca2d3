/* SPDX-License-Identifier: Apache-2.0
 *
 * What an observer knows of angle and speed: where it begins anew, and what its angle is worth.
 */
#include "tracking.h"

#define WATCH 0.02f /* share by which means follow in one sample, at most */
#define LEAST_WATCH 1e-4f
#define MISFIT_SHARE 1.0f   /* rad of angle error for a length that is off by all of it */
#define FORGET_PER_RAD 0.6f /* as the flux linkage's length is held, its centre is found */
#define TURNED_BACK 2.0f    /* variance of the angle for that of what the filter turns back */

/* From the sample before to this one. */
static float turned_by(const cvk_tracked *t, cvk_ab seen)
{
    const cvk_ab b = t->before_wb;
    return cvk_angle_of(b.alpha * seen.alpha + b.beta * seen.beta,
                        b.alpha * seen.beta - b.beta * seen.alpha);
}

void cvk_tracked_relocate(cvk_tracked *t, const cvk_setup *setup, cvk_ab flux_wb)
{
    t->speed_rad_s = turned_by(t, flux_wb) / setup->period_s;
    t->angle_rad = cvk_angle_of(flux_wb.alpha, flux_wb.beta);
}

void cvk_tracked_relocate_by_chord(cvk_tracked *t, const cvk_setup *setup, cvk_ab chord_wb,
                                   float flux_wb)
{
    const float turned = turned_by(t, chord_wb), half = 0.5f * fabsf(turned);
    const float square = chord_wb.alpha * chord_wb.alpha + chord_wb.beta * chord_wb.beta;
    const float arc = 2.0f * flux_wb * half * (1.0f - half * half * (1.0f / 6.0f));
    if (square > 0.5f * arc * arc && square < 2.0f * arc * arc) { /* else it is noise */
        t->speed_rad_s = turned / setup->period_s;
        t->angle_rad = cvk_wrap_angle(cvk_angle_of(chord_wb.alpha, chord_wb.beta) + 0.5f * turned -
                                      copysignf(0.5f * CVK_PI, turned));
    }
}

void cvk_tracked_tell(cvk_tracked *t, const cvk_setup *setup, const cvk_observed *observed,
                      float misfit_wb, float error_rad2, cvk_angle *out)
{
    /* over a radian at least: what is wrong wobbles with the rotor, and fits now and then */
    const float turned_rad = fabsf(t->speed_rad_s) * setup->period_s;
    const float watch = turned_rad < WATCH ? turned_rad + LEAST_WATCH : WATCH;
    t->misfit_wb += watch * (misfit_wb - t->misfit_wb);
    t->turned_back_rad2 += watch * (error_rad2 - t->turned_back_rad2);
    out->angle_rad = t->angle_rad;
    out->speed_rad_s = t->speed_rad_s;
    if (observed->judge) {
        const float turned =
            cvk_clamp((float)CVK_JUDGE_TICKS * setup->period_s * t->speed_rad_s, 1.0f);
        t->unknown_rad2 *= 1.0f - FORGET_PER_RAD * fabsf(turned);
        const float slow = observed->doubt_rad_s, fast = fabsf(t->speed_rad_s) + 1e-3f;
        const float by_voltage = slow / fast, off = MISFIT_SHARE * t->misfit_wb / observed->flux_wb;
        out->quality = cvk_quality_of(by_voltage * by_voltage + TURNED_BACK * t->turned_back_rad2 +
                                      off * off + t->unknown_rad2);
        out->reason = fast < setup->settings.observer.least_speed_rad_s ? CVK_ANGLE_TOO_SLOW
                      : out->quality < 0.5f                             ? CVK_ANGLE_NO_MATCH
                                                                        : CVK_ANGLE_FINE;
    }
}

void cvk_tracking_gains(float bandwidth_rad_s, float period_s, float *gain_angle, float *gain_speed)
{
    const float r = expf(-bandwidth_rad_s * period_s);
    *gain_angle = 1.0f - r * r;
    *gain_speed = (1.0f - r) * (1.0f - r) / period_s;
}
