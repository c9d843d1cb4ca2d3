/* SPDX-License-Identifier: Apache-2.0
 *
 * Excitation programs and the stepper that runs them. The finding steps raise a voltage
 * exponentially, so that a 5 mOhm motor and an 8 ohm motor both get there within half a second
 * without overshooting: the current lags the voltage by its time constant, which is short against
 * RISE_TIME_S.
 */
#include "corvak/core/excitation.h"

#include <stddef.h>

#define RISE_TIME_S 0.06f   /* the voltage grows by e in this time */
#define RISE_START 2e-4f    /* first voltage of a finding step, share of the bus voltage */
#define RISE_END 0.45f      /* largest, share of the bus voltage: safely inside the hexagon */
#define FIND_LONGEST_S 0.6f /* RISE_TIME_S * ln(RISE_END / RISE_START), rounded up */
#define LEVEL_SHARE 0.85f   /* of the current limit, at the largest DC level */
#define SQUARE_SHARE 0.25f  /* of the current limit, peak of the square wave's current */
#define SWEEP_SHARE 0.5f    /* of the current limit, during a sweep */

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

static cvk_status start(cvk_excitation *excitation, const cvk_excitation_config *config,
                        cvk_refusal *why)
{
    static const cvk_range ranges[] = {
        {"period_s", offsetof(cvk_excitation_config, period_s), 5e-6f, 1e-3f},
        {"current_limit_a", offsetof(cvk_excitation_config, current_limit_a), 0.01f, 1000.0f},
        {"bus_v", offsetof(cvk_excitation_config, bus_v), 3.0f, 100.0f},
        {"speed_rad_s", offsetof(cvk_excitation_config, speed_rad_s), 1.0f, 20000.0f},
        {"hold_s", offsetof(cvk_excitation_config, hold_s), 1e-3f, 100.0f},
        {"sweep_turns", offsetof(cvk_excitation_config, sweep_turns), 1.0f, 1000.0f},
        {"sweep_rad_s", offsetof(cvk_excitation_config, sweep_rad_s), 0.1f, 20000.0f},
    };
    if (excitation == NULL || config == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_status status = cvk_check_ranges(config, ranges, sizeof ranges / sizeof ranges[0], why);
    if (status == CVK_OK) {
        status = cvk_check_range("square_half_s", config->square_half_s, 2.0f * config->period_s,
                                 0.1f, why);
    }
    if (status != CVK_OK) {
        return status;
    }
    *excitation = (cvk_excitation){.config = *config};
    return CVK_OK;
}

static void add(cvk_excitation *excitation, cvk_step step)
{
    if (excitation->count < CVK_EXCITATION_MAX_STEPS) {
        excitation->steps[excitation->count++] = step;
    }
}

cvk_status cvk_excitation_standstill(cvk_excitation *excitation,
                                     const cvk_excitation_config *config, cvk_refusal *why)
{
    static const float directions[] = {0.0f, CVK_TWO_PI / 3.0f, -CVK_TWO_PI / 3.0f};
    static const float levels[] = {1.0f, -1.0f, 0.66f, -0.66f, 0.33f, -0.33f};
    cvk_status status = start(excitation, config, why);
    if (status != CVK_OK) {
        return status;
    }
    const float hold = config->hold_s;
    add(excitation, (cvk_step){CVK_STEP_REST, hold, 0.0f, 0.0f, 0.0f, true, 0.0f});
    add(excitation,
        (cvk_step){CVK_STEP_FIND_LEVEL, FIND_LONGEST_S, 0.0f, LEVEL_SHARE, 0.0f, true, 0.0f});
    for (unsigned d = 0; d < 3; d++) {
        for (unsigned l = 0; l < 6; l++) {
            add(excitation,
                (cvk_step){CVK_STEP_LEVEL, hold, directions[d], levels[l], 0.0f, true, 0.0f});
        }
    }
    add(excitation, (cvk_step){CVK_STEP_REST, hold, 0.0f, 0.0f, 0.0f, true, 0.0f});
    add(excitation,
        (cvk_step){CVK_STEP_FIND_SQUARE, FIND_LONGEST_S, 0.0f, SQUARE_SHARE, 0.0f, true, 0.0f});
    for (unsigned d = 0; d < 3; d++) {
        add(excitation,
            (cvk_step){CVK_STEP_SQUARE, 2.0f * hold, directions[d], 1.0f, 0.0f, true, 0.0f});
    }
    add(excitation, (cvk_step){CVK_STEP_REST, 0.5f * hold, 0.0f, 0.0f, 0.0f, true, 0.0f});
    return CVK_OK;
}

cvk_status cvk_excitation_spin(cvk_excitation *excitation, const cvk_excitation_config *config,
                               cvk_refusal *why)
{
    static const float speeds[] = {0.25f, 0.5f, 1.0f, 0.7f, -0.35f, -0.85f};
    cvk_status status = start(excitation, config, why);
    if (status != CVK_OK) {
        return status;
    }
    for (unsigned n = 0; n < sizeof speeds / sizeof speeds[0]; n++) {
        const float speed = speeds[n] * config->speed_rad_s;
        add(excitation,
            (cvk_step){CVK_STEP_SPEED, 2.0f * config->hold_s, 0.0f, 0.0f, speed, true, 0.0f});
        add(excitation,
            (cvk_step){CVK_STEP_SPEED, 0.5f * config->hold_s, 0.0f, -0.4f, speed, true, 0.0f});
    }
    return CVK_OK;
}

cvk_status cvk_excitation_coast(cvk_excitation *excitation, const cvk_excitation_config *config,
                                cvk_refusal *why)
{
    cvk_status status = start(excitation, config, why);
    if (status != CVK_OK) {
        return status;
    }
    add(excitation, (cvk_step){CVK_STEP_SPEED, 4.0f * config->hold_s, 0.0f, 0.0f,
                               config->speed_rad_s, false, 0.0f});
    /* the winding's current dies out before the log begins */
    add(excitation, (cvk_step){CVK_STEP_OFF, 0.02f, 0.0f, 0.0f, 0.0f, false, 0.0f});
    add(excitation, (cvk_step){CVK_STEP_OFF, 8.0f * config->hold_s, 0.0f, 0.0f, 0.0f, true, 0.0f});
    return CVK_OK;
}

/* The rotor settles on the vector before each way; a tenth of a turn more than asked for each way
 * makes up for the start. */
cvk_status cvk_excitation_sweep(cvk_excitation *excitation, const cvk_excitation_config *config,
                                cvk_refusal *why)
{
    cvk_status status = start(excitation, config, why);
    if (status != CVK_OK) {
        return status;
    }
    const float settle_s = 10.0f * config->hold_s, share = SWEEP_SHARE;
    const float way_s = (config->sweep_turns + 0.1f) * CVK_TWO_PI / config->sweep_rad_s / 0.9f;
    for (int way = 1; way >= -1; way -= 2) {
        add(excitation, (cvk_step){CVK_STEP_TURN, settle_s, 0.0f, share, 0.0f, false, 0.0f});
        add(excitation, (cvk_step){CVK_STEP_TURN, way_s, 0.0f, share,
                                   (float)way * config->sweep_rad_s, true, 0.0f});
    }
    return CVK_OK;
}

cvk_status cvk_excitation_duty(cvk_excitation *excitation, const cvk_excitation_config *config,
                               cvk_refusal *why)
{
    static const float speeds[] = {0.4f, 0.8f, 0.55f, -0.3f, -0.7f};
    cvk_status status = start(excitation, config, why);
    if (status != CVK_OK) {
        return status;
    }
    for (unsigned n = 0; n < sizeof speeds / sizeof speeds[0]; n++) {
        const float speed = speeds[n] * config->speed_rad_s;
        add(excitation, (cvk_step){CVK_STEP_RAMP, config->hold_s, 0.0f, 0.0f, speed, true, 0.0f});
        add(excitation, (cvk_step){CVK_STEP_SPEED, config->hold_s, 0.0f, 0.0f, speed, true, 0.0f});
    }
    return CVK_OK;
}

cvk_status cvk_excitation_steps(cvk_excitation *excitation, const cvk_excitation_config *config,
                                cvk_refusal *why)
{
    static const float currents[][2] = {{-0.25f, 0.0f}, {0.0f, 0.0f}, {0.0f, 0.3f},
                                        {0.0f, -0.3f},  {0.0f, 0.0f}, {-0.25f, 0.2f}};
    static const float speeds[] = {0.6f, 0.5f, 0.35f, 0.5f};
    cvk_status status = start(excitation, config, why);
    if (status != CVK_OK) {
        return status;
    }
    const float hold = config->hold_s, middle = 0.5f * config->speed_rad_s;
    add(excitation, (cvk_step){CVK_STEP_RAMP, hold, 0.0f, 0.0f, middle, false, 0.0f});
    add(excitation, (cvk_step){CVK_STEP_SPEED, hold, 0.0f, 0.0f, middle, true, 0.0f});
    for (unsigned n = 0; n < sizeof currents / sizeof currents[0]; n++) {
        add(excitation, (cvk_step){CVK_STEP_CURRENT, 0.05f * hold, 0.0f, currents[n][0], 0.0f, true,
                                   currents[n][1]});
    }
    for (unsigned n = 0; n < sizeof speeds / sizeof speeds[0]; n++) {
        const float speed = speeds[n] * config->speed_rad_s;
        add(excitation, (cvk_step){CVK_STEP_SPEED, hold, 0.0f, 0.0f, speed, true, 0.0f});
    }
    return CVK_OK;
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

static cvk_command voltage_along(float voltage_v, float direction_rad)
{
    cvk_rotation to = cvk_rotation_of(direction_rad);
    return (cvk_command){.mode = CVK_MODE_VOLTAGE,
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

static cvk_command command_of(cvk_excitation *excitation, const cvk_step *step)
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
        return (cvk_command){.mode = CVK_MODE_SPEED,
                             .current_a = {step->fraction * config->current_limit_a, 0.0f},
                             .speed_rad_s = step->speed_rad_s};
    case CVK_STEP_RAMP:
        return (cvk_command){.mode = CVK_MODE_SPEED, .speed_rad_s = ramp_speed(excitation, step)};
    case CVK_STEP_CURRENT:
        return (cvk_command){.mode = CVK_MODE_CURRENT,
                             .current_a = {step->fraction * config->current_limit_a,
                                           step->fraction_q * config->current_limit_a}};
    case CVK_STEP_TURN: {
        float share = 5.0f * progress_of(excitation, step);
        return (cvk_command){.mode = CVK_MODE_CURRENT,
                             .current_a = {step->fraction * config->current_limit_a, 0.0f},
                             .speed_rad_s = step->speed_rad_s * (share < 1.0f ? share : 1.0f)};
    }
    case CVK_STEP_REST:
        return (cvk_command){.mode = CVK_MODE_VOLTAGE};
    case CVK_STEP_OFF:
    default:
        return (cvk_command){.mode = CVK_MODE_OFF};
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

cvk_command cvk_excitation_next(cvk_excitation *excitation, cvk_ab current_a)
{
    while (!cvk_excitation_finished(excitation)) {
        const cvk_step *step = &excitation->steps[excitation->current];
        if (!step_is_over(excitation, step, current_a)) {
            cvk_command command = command_of(excitation, step);
            excitation->ticks++;
            return command;
        }
        excitation->current++;
        excitation->ticks = 0;
        /* the current that ended a finding step must not end the next one as well */
        current_a = (cvk_ab){0.0f, 0.0f};
    }
    return (cvk_command){.mode = CVK_MODE_OFF};
}

bool cvk_excitation_finished(const cvk_excitation *excitation)
{
    return excitation->current >= excitation->count;
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
