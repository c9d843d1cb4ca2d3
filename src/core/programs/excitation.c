/* SPDX-License-Identifier: Apache-2.0
 *
 * The stepper of the excitations. The finding steps raise a voltage
 * exponentially, so that a 5 mOhm motor and an 8 ohm motor both get there within half a second
 * without overshooting: the current lags the voltage by its time constant, which is short against
 * RISE_TIME_S.
 */
#include "corvak/core/excitation.h"

#include <stddef.h>

#define RISE_TIME_S 0.06f /* the voltage grows by e in this time */
#define RISE_START 2e-4f  /* first voltage of a finding step, share of the bus voltage */
#define RISE_END 0.45f    /* largest, share of the bus voltage: safely inside the hexagon */

cvk_excitation_config cvk_excitation_config_default(float period_s, float current_limit_a,
                                                    float bus_v)
{
    return (cvk_excitation_config){
        .period_s = period_s,
        .current_limit_a = current_limit_a,
        .bus_v = bus_v,
        .speed_rad_s = 300.0f,
        .hold_s = 0.04f,
        .square_half_s = 10.0f * period_s,
        .sweep_turns = 1.0f,
        .sweep_rad_s = CVK_TWO_PI,
    };
}

cvk_mode cvk_step_mode(cvk_step_kind kind)
{
    switch (kind) {
    case CVK_STEP_SPEED:
    case CVK_STEP_RAMP:
        return CVK_MODE_SPEED;
    case CVK_STEP_CURRENT:
        return CVK_MODE_CURRENT;
    case CVK_STEP_TURN:
        return CVK_MODE_IMPOSED;
    case CVK_STEP_OFF:
        return CVK_MODE_OFF;
    default:
        return CVK_MODE_VOLTAGE;
    }
}

static unsigned ticks_of(const cvk_excitation *excitation, float time_s)
{
    return (unsigned)(time_s / excitation->config.period_s + 0.5f);
}

/* Voltage of a finding step after the time already spent in it. */
static float rising_v(const cvk_excitation *excitation)
{
    float elapsed_s = (float)excitation->ticks * excitation->config.period_s;
    float share = RISE_START * expf(elapsed_s / RISE_TIME_S);
    return excitation->config.bus_v * (share < RISE_END ? share : RISE_END);
}

static float square_sign(const cvk_excitation *excitation)
{
    unsigned half = ticks_of(excitation, excitation->config.square_half_s);
    return (excitation->ticks / half) % 2u == 0u ? 1.0f : -1.0f;
}

static cvk_request voltage_along(float voltage_v, float direction_rad)
{
    cvk_rotation to = cvk_rotation_of(direction_rad);
    return (cvk_request){.mode = CVK_MODE_VOLTAGE,
                         .voltage_v = {voltage_v * to.cosine, voltage_v * to.sine}};
}

/* How much of a step's time is over: 0 .. 1. */
static float progress_of(const cvk_excitation *excitation, const cvk_step *step)
{
    float share = (float)excitation->ticks * excitation->config.period_s / step->duration_s;
    return share < 1.0f ? share : 1.0f;
}

/* Speed of a ramp: from that of the step before. */
static float ramp_speed(const cvk_excitation *excitation, const cvk_step *step)
{
    float from = excitation->current > 0 ? step[-1].speed_rad_s : 0.0f;
    return from + (step->speed_rad_s - from) * progress_of(excitation, step);
}

static cvk_request request_of(cvk_excitation *excitation, const cvk_step *step)
{
    const cvk_excitation_config *config = &excitation->config;
    switch (step->kind) {
    case CVK_STEP_FIND_LEVEL:
        excitation->level_v = rising_v(excitation);
        return voltage_along(excitation->level_v, step->direction_rad);
    case CVK_STEP_LEVEL:
        return voltage_along(excitation->level_v * step->fraction, step->direction_rad);
    case CVK_STEP_FIND_SQUARE:
        excitation->square_v = rising_v(excitation);
        return voltage_along(excitation->square_v * square_sign(excitation), step->direction_rad);
    case CVK_STEP_SQUARE:
        return voltage_along(excitation->square_v * step->fraction * square_sign(excitation),
                             step->direction_rad);
    case CVK_STEP_SPEED:
        return (cvk_request){.mode = CVK_MODE_SPEED,
                             .current_a = {step->fraction * config->current_limit_a, 0.0f},
                             .speed_rad_s = step->speed_rad_s};
    case CVK_STEP_RAMP:
        return (cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = ramp_speed(excitation, step)};
    case CVK_STEP_CURRENT:
        return (cvk_request){.mode = CVK_MODE_CURRENT,
                             .current_a = {step->fraction * config->current_limit_a,
                                           step->fraction_q * config->current_limit_a}};
    case CVK_STEP_TURN: {
        const float share = progress_of(excitation, step) / CVK_TURN_RISE;
        const float x = share < 1.0f ? share : 1.0f; /* no kick at either end of the rise */
        return (cvk_request){.mode = CVK_MODE_IMPOSED,
                             .current_a = {step->fraction * config->current_limit_a, 0.0f},
                             .speed_rad_s = step->speed_rad_s * x * x * (3.0f - 2.0f * x)};
    }
    case CVK_STEP_REST:
        return (cvk_request){.mode = CVK_MODE_VOLTAGE};
    case CVK_STEP_OFF:
    default:
        return (cvk_request){.mode = CVK_MODE_OFF};
    }
}

/* A finding step is over as soon as its current flows; every step is over after its time. */
static bool step_is_over(const cvk_excitation *excitation, const cvk_step *step, cvk_ab current_a)
{
    bool finding = step->kind == CVK_STEP_FIND_LEVEL || step->kind == CVK_STEP_FIND_SQUARE;
    float target_a = step->fraction * excitation->config.current_limit_a;
    float length2 = current_a.alpha * current_a.alpha + current_a.beta * current_a.beta;
    if (finding && length2 >= target_a * target_a) {
        return true;
    }
    return excitation->ticks >= ticks_of(excitation, step->duration_s);
}

cvk_request cvk_excitation_next(cvk_excitation *excitation, cvk_ab current_a)
{
    while (!cvk_excitation_finished(excitation)) {
        const cvk_step *step = &excitation->steps[excitation->current];
        if (!step_is_over(excitation, step, current_a)) {
            cvk_request request = request_of(excitation, step);
            excitation->ticks++;
            return request;
        }
        excitation->current++;
        excitation->ticks = 0;
        /* the current that ended a finding step must not end the next one as well */
        current_a = (cvk_ab){0.0f, 0.0f};
    }
    return (cvk_request){.mode = CVK_MODE_OFF};
}

bool cvk_excitation_finished(const cvk_excitation *excitation)
{
    return excitation->current >= excitation->count;
}

int32_t cvk_excitation_step(const cvk_excitation *excitation)
{
    return cvk_excitation_finished(excitation) ? 0 : (int32_t)excitation->current + 1;
}

bool cvk_excitation_recorded(const cvk_excitation *excitation)
{
    return !cvk_excitation_finished(excitation) && excitation->steps[excitation->current].record;
}

float cvk_excitation_length_s(const cvk_excitation *excitation)
{
    float total_s = 0.0f;
    for (unsigned n = 0; n < excitation->count; n++) {
        total_s += excitation->steps[n].duration_s;
    }
    return total_s;
}
