/* SPDX-License-Identifier: Apache-2.0
 *
 * The programs: their steps, and the table of them.
 */
#include "corvak/core/programs.h"

#include "base/setup.h"
#include "base/text.h"

#include <stddef.h>

#define FIND_LONGEST_S 0.6f /* the stepper's voltage has risen to its largest by then */
#define LEVEL_SHARE 0.85f   /* of the current limit, at the largest DC level */
#define SQUARE_SHARE 0.25f  /* of the current limit, peak of the square wave's current */
#define SWEEP_SHARE 0.5f    /* of the current limit, during a sweep */

static const cvk_parameter rows[] = {
    CVK_ROW(program, speed_rad_s, "rad/s", 1.0f, 20000.0f, 300.0f, true,
            "highest electrical speed of a program"),
    CVK_ROW(program, hold_s, "s", 0.01f, 100.0f, 0.4f, true,
            "length of one plateau of a turning program"),
};
const cvk_parameter_rows cvk_program_rows = CVK_ROWS(rows);

static cvk_status check(const cvk_excitation_config *config, cvk_refusal *why)
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
    cvk_status status = cvk_check_ranges(config, ranges, sizeof ranges / sizeof ranges[0], why);
    if (status == CVK_OK) {
        status = cvk_check_range("square_half_s", config->square_half_s, 2.0f * config->period_s,
                                 0.1f, why);
    }
    return status;
}

static void add(cvk_excitation *excitation, cvk_step step)
{
    if (excitation->count < CVK_EXCITATION_MAX_STEPS) {
        excitation->steps[excitation->count++] = step;
    }
}

static void write_standstill(cvk_excitation *excitation, const cvk_excitation_config *config)
{
    static const float directions[] = {0.0f, CVK_TWO_PI / 3.0f, -CVK_TWO_PI / 3.0f};
    static const float levels[] = {1.0f, -1.0f, 0.66f, -0.66f, 0.33f, -0.33f};
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
}

static void write_spin(cvk_excitation *excitation, const cvk_excitation_config *config)
{
    static const float speeds[] = {0.25f, 0.5f, 1.0f, 0.7f, -0.35f, -0.85f};
    for (unsigned n = 0; n < sizeof speeds / sizeof speeds[0]; n++) {
        const float speed = speeds[n] * config->speed_rad_s;
        add(excitation,
            (cvk_step){CVK_STEP_SPEED, 2.0f * config->hold_s, 0.0f, 0.0f, speed, true, 0.0f});
        add(excitation,
            (cvk_step){CVK_STEP_SPEED, 0.5f * config->hold_s, 0.0f, -0.4f, speed, true, 0.0f});
    }
}

static void write_coast(cvk_excitation *excitation, const cvk_excitation_config *config)
{
    add(excitation, (cvk_step){CVK_STEP_SPEED, 4.0f * config->hold_s, 0.0f, 0.0f,
                               config->speed_rad_s, false, 0.0f});
    /* the winding's current dies out before the log begins */
    add(excitation, (cvk_step){CVK_STEP_OFF, 0.02f, 0.0f, 0.0f, 0.0f, false, 0.0f});
    add(excitation, (cvk_step){CVK_STEP_OFF, 8.0f * config->hold_s, 0.0f, 0.0f, 0.0f, true, 0.0f});
}

/* The rotor settles on the vector before each way; a tenth of a turn more than asked for each way
 * makes up for the start. */
static void write_sweep(cvk_excitation *excitation, const cvk_excitation_config *config)
{
    const float settle_s = 10.0f * config->hold_s, share = SWEEP_SHARE;
    const float full_share = 1.0f - 0.5f * CVK_TURN_RISE; /* of the way at full speed */
    const float way_s =
        (config->sweep_turns + 0.1f) * CVK_TWO_PI / config->sweep_rad_s / full_share;
    for (int way = 1; way >= -1; way -= 2) {
        add(excitation, (cvk_step){CVK_STEP_TURN, settle_s, 0.0f, share, 0.0f, false, 0.0f});
        add(excitation, (cvk_step){CVK_STEP_TURN, way_s, 0.0f, share,
                                   (float)way * config->sweep_rad_s, true, 0.0f});
    }
}

static void write_duty(cvk_excitation *excitation, const cvk_excitation_config *config)
{
    static const float speeds[] = {0.4f, 0.8f, 0.55f, -0.3f, -0.7f};
    for (unsigned n = 0; n < sizeof speeds / sizeof speeds[0]; n++) {
        const float speed = speeds[n] * config->speed_rad_s;
        add(excitation, (cvk_step){CVK_STEP_RAMP, config->hold_s, 0.0f, 0.0f, speed, true, 0.0f});
        add(excitation, (cvk_step){CVK_STEP_SPEED, config->hold_s, 0.0f, 0.0f, speed, true, 0.0f});
    }
}

static void write_steps(cvk_excitation *excitation, const cvk_excitation_config *config)
{
    static const float currents[][2] = {{-0.25f, 0.0f}, {0.0f, 0.0f}, {0.0f, 0.3f},
                                        {0.0f, -0.3f},  {0.0f, 0.0f}, {-0.25f, 0.2f}};
    static const float speeds[] = {0.6f, 0.5f, 0.35f, 0.5f};
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
}

/* ---- the table ------------------------------------------------------------------------------ */

static const cvk_program programs[] = {
    {.name = "standstill",
     .help = CVK_MEANING(
         "shaft held: finds the voltage that drives the allowed current, then holds DC levels "
         "of both signs along three directions, then a small square wave along each; needs to "
         "know nothing of the motor"),
     .shaft_held = true,
     .write = write_standstill},
    {.name = "spin",
     .help = CVK_MEANING("a few speeds either way, with and without a d current"),
     .knows_angle = true,
     .write = write_spin},
    {.name = "coast",
     .help = CVK_MEANING("speeds up, then leaves the bridge off"),
     .knows_angle = true,
     .bridge_off = true,
     .write = write_coast},
    {.name = "sweep",
     .help = CVK_MEANING(
         "turns a current vector slowly forward and back, and the rotor with it: shows every "
         "rotor sensor over whole turns both ways"),
     .open_loop = true,
     .write = write_sweep},
    {.name = "duty",
     .help = CVK_MEANING("an ordinary run: ramps and plateaus, nothing injected"),
     .knows_angle = true,
     .write = write_duty},
    {.name = "steps",
     .help = CVK_MEANING("current steps on both axes and speed steps, around half the speed"),
     .knows_angle = true,
     .write = write_steps},
};

unsigned cvk_program_count(void)
{
    return sizeof programs / sizeof programs[0];
}

const cvk_program *cvk_program_at(unsigned index)
{
    return index < cvk_program_count() ? &programs[index] : NULL;
}

const cvk_program *cvk_program_named(const char *name)
{
    for (unsigned n = 0; n < cvk_program_count(); n++) {
        if (cvk_same_text(programs[n].name, name)) {
            return &programs[n];
        }
    }
    return NULL;
}

cvk_status cvk_program_write(const cvk_program *program, cvk_excitation *excitation,
                             const cvk_excitation_config *config, cvk_refusal *why)
{
    if (program == NULL || excitation == NULL || config == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_status status = check(config, why);
    if (status == CVK_OK) {
        *excitation = (cvk_excitation){.config = *config};
        program->write(excitation, config);
    }
    return status;
}

#define SWEEP_MOST_RAD_S 22.0f /* electrical: a heavy rotor must be able to follow */

cvk_status cvk_program_prepare(const cvk_program *program, cvk_excitation *excitation,
                               const cvk_settings *settings, const cvk_hardware *hardware,
                               float bus_v, cvk_refusal *why)
{
    cvk_excitation_config config = cvk_excitation_config_default(
        hardware->period_s, settings->limit.current_a,
        hardware->nominal_bus_v > 0.0f ? hardware->nominal_bus_v : bus_v);
    if (program == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    config.speed_rad_s = settings->program.speed_rad_s;
    /* once round, at half a turn per second */
    config.sweep_turns = settings->motor.pole_pairs > 0 ? (float)settings->motor.pole_pairs : 1.0f;
    config.sweep_rad_s = CVK_PI * config.sweep_turns < SWEEP_MOST_RAD_S
                             ? CVK_PI * config.sweep_turns
                             : SWEEP_MOST_RAD_S;
    if (program->knows_angle) {
        config.hold_s = settings->program.hold_s;
    }
    return cvk_program_write(program, excitation, &config, why);
}
