/* SPDX-License-Identifier: Apache-2.0
 *
 * From settings to the constants of the control call: each module prepares its own; here what
 * belongs to several, and what the hardware forbids.
 */
#include "prepare.h"

#include "base/arithmetic.h"
#include "angle/angle_sources.h"
#include "control/protect.h"
#include "control/torque.h"
#include "programs/startup.h"

#include <stddef.h>

/* Of the period's share that low-side windows leave; a little more than the two windows. */
#define WINDOW_MARGIN 2.1f
#define SHUNT_MARGIN 1.05f
/* A vector that is imposed stands anywhere to a rotor that does not follow: across it, d and q are
 * exchanged. The loop is made for no more than so many times the smaller inductance. */
#define MOST_EXCHANGED 2.0f
#define CURRENT_SHARE 0.7f /* of the limit, for the speed loop, when no other is set */
#define SEEN 0.97f         /* of a channel's range: offset and gain take the rest */

static cvk_status prepare_current(cvk_setup *setup, cvk_refusal *why)
{
    const cvk_settings *s = &setup->settings;
    const float most_hz = 0.0625f / setup->period_s;
    if (s->current.bandwidth_hz > most_hz) {
        if (why != NULL) {
            *why = (cvk_refusal){
                .field = "current.bandwidth_hz",
                .value = s->current.bandwidth_hz,
                .low = 1.0f,
                .high = most_hz,
                .against = "the control rate",
                .reason = "the current loop can be at most 1/16 of the control rate: lower it, or "
                          "control faster"};
        }
        return CVK_CONTRADICTION;
    }
    if (s->motor.inductance_d_h == 0.0f || s->motor.inductance_q_h == 0.0f) {
        return CVK_OK; /* not known: modes that need them are refused */
    }
    cvk_current_control_config config = {setup->period_s,          s->current.bandwidth_hz,
                                         s->motor.resistance_ohm,  s->motor.inductance_d_h,
                                         s->motor.inductance_q_h,  s->motor.flux_linkage_wb,
                                         s->current.harmonics != 0};
    const cvk_status status = cvk_current_control_prepare(&setup->current, &config, why);
    const float most_h = config.inductance_d_h < config.inductance_q_h
                             ? MOST_EXCHANGED * config.inductance_d_h
                             : MOST_EXCHANGED * config.inductance_q_h;
    config.inductance_d_h = config.inductance_d_h < most_h ? config.inductance_d_h : most_h;
    config.inductance_q_h = config.inductance_q_h < most_h ? config.inductance_q_h : most_h;
    return status == CVK_OK ? cvk_current_control_prepare(&setup->current_imposed, &config, why)
                            : status;
}

float cvk_hardware_most_duty(const cvk_hardware *hardware)
{
    const float pwm_hz = 1.0f / (hardware->period_s * (float)hardware->updates_per_period);
    const float windows = hardware->current_sensing == CVK_CURRENTS_LOW_SIDE       ? WINDOW_MARGIN
                          : hardware->current_sensing == CVK_CURRENTS_SINGLE_SHUNT ? SHUNT_MARGIN
                                                                                   : 0.0f;
    return 1.0f - windows * hardware->window_s * pwm_hz;
}

static float or_none(float ceiling)
{
    return ceiling > 0.0f ? ceiling : INFINITY;
}

/* What is soldered is stronger than any setting. */
static cvk_status check_ceilings(const cvk_hardware *h, const cvk_settings *s, cvk_refusal *why)
{
    const struct {
        const char *key;
        float value, most;
        const char *against, *reason;
    } ceilings[] = {
        {"protect.trip_current_a", s->protect.trip_current_a, SEEN * or_none(h->current_range_a),
         "the current channels' range", "beyond it no trip would ever come; lower it"},
        {"protect.bus_max_v", s->protect.bus_max_v, SEEN * or_none(h->bus_range_v),
         "the bus channel's range", "a bus beyond it would not be seen; lower it"},
        {"protect.trip_current_a", s->protect.trip_current_a, or_none(h->stage_current_a),
         "the power stage", "it bears no more; lower it"},
        {"protect.bus_max_v", s->protect.bus_max_v, or_none(h->stage_bus_v), "the power stage",
         "it bears no more; lower it"},
    };
    for (unsigned n = 0; n < sizeof ceilings / sizeof ceilings[0]; n++) {
        if (ceilings[n].value > ceilings[n].most) {
            if (why != NULL) {
                *why = (cvk_refusal){.field = ceilings[n].key,
                                     .value = ceilings[n].value,
                                     .high = ceilings[n].most,
                                     .against = ceilings[n].against,
                                     .reason = ceilings[n].reason};
            }
            return CVK_CONTRADICTION;
        }
    }
    return CVK_OK;
}

cvk_status cvk_setup_prepare(cvk_setup *setup, const cvk_hardware *hardware,
                             const cvk_settings *settings, cvk_refusal *why)
{
    cvk_status status = cvk_settings_check(settings, why);
    *setup = (cvk_setup){
        .settings = *settings, .bounds = cvk_bounds_of(settings), .period_s = hardware->period_s};
    if (status == CVK_OK) {
        status = check_ceilings(hardware, settings, why);
    }
    if (status == CVK_OK) {
        status = prepare_current(setup, why);
    }
    if (status == CVK_OK) {
        cvk_rotor_prepare(setup);
        cvk_observers_prepare(setup);
        cvk_startup_prepare(setup);
        cvk_injection_prepare(setup);
        cvk_torque_prepare(setup);
        const cvk_speed_settings *speed = &setup->settings.speed;
        setup->rest_ticks = cvk_ticks_of(setup->settings.sensing.rest_s, setup->period_s);
        setup->speed_current_a = speed->current_a > 0.0f
                                     ? speed->current_a
                                     : CURRENT_SHARE * setup->settings.limit.current_a;
        const cvk_motor_settings *m = &setup->settings.motor;
        const float torque_per_a = 1.5f * (float)m->pole_pairs * m->flux_linkage_wb;
        setup->current_per_torque = torque_per_a > 0.0f ? 1.0f / torque_per_a : 0.0f;
        setup->most_duty = cvk_hardware_most_duty(hardware);
        setup->shunt_window =
            hardware->current_sensing == CVK_CURRENTS_SINGLE_SHUNT ? 1.0f - setup->most_duty : 0.0f;
        setup->pole_pairs = m->pole_pairs > 0 ? m->pole_pairs : 1;
        setup->per_pole_pair = 1.0f / (float)setup->pole_pairs;
    }
    return status;
}
