/* SPDX-License-Identifier: Apache-2.0
 *
 * Excitations: short programs of steps that make a motor show its parameters. They are stepped by
 * the hot path, so a microcontroller, the simulated rig and a self-setup run the very same ones.
 *
 * What there is stands in the table of programs (programs.h).
 */
#ifndef CORVAK_CORE_EXCITATION_H
#define CORVAK_CORE_EXCITATION_H

#include "corvak/core/moment.h"
#include "corvak/core/status.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_EXCITATION_MAX_STEPS 64u
#define CVK_TURN_RISE 0.4f /* share of a turning step in which its speed is reached */

typedef enum cvk_step_kind {
    CVK_STEP_REST,        /* zero voltage */
    CVK_STEP_FIND_LEVEL,  /* raise a DC voltage until `fraction` of the current limit flows */
    CVK_STEP_LEVEL,       /* hold `fraction` of the voltage found */
    CVK_STEP_FIND_SQUARE, /* raise a square wave until its current reaches `fraction` of the limit
                           */
    CVK_STEP_SQUARE,      /* hold `fraction` of the amplitude found */
    CVK_STEP_SPEED,       /* hold a speed, with a d-axis current of `fraction` of the limit */
    CVK_STEP_RAMP,        /* from the speed of the step before to this one */
    CVK_STEP_CURRENT,     /* hold d and q currents of `fraction` and `fraction_q` of the limit */
    CVK_STEP_TURN,        /* turn an imposed angle at `speed_rad_s`, reached softly within
                             CVK_TURN_RISE of the step, with a d-axis current of `fraction` of the
                             limit */
    CVK_STEP_OFF          /* bridge off */
} cvk_step_kind;

/* What the drive does in a step of this kind. */
cvk_mode cvk_step_mode(cvk_step_kind kind);

typedef struct cvk_step {
    cvk_step_kind kind;
    float duration_s;
    float direction_rad; /* of the voltage vector */
    float fraction;      /* see the kinds; may be negative */
    float speed_rad_s;   /* electrical */
    bool record;         /* this step belongs into the log */
    float fraction_q;    /* of the current limit */
} cvk_step;

typedef struct cvk_excitation_config {
    float period_s;        /* control period: 5e-6 .. 1e-3 */
    float current_limit_a; /* allowed phase current, peak: 0.01 .. 1000 */
    float bus_v;           /* nominal bus voltage: 3 .. 100 */
    float speed_rad_s;     /* electrical, highest; not for standstill and sweep: 1 .. 20000 */
    float hold_s;          /* length of one DC level, one square wave or one plateau: 1e-3 .. 100 */
    float square_half_s;   /* half period of the square wave: 2 periods .. 0.1 */
    float sweep_turns;     /* electrical turns of a sweep, each way: 1 .. 1000 */
    float sweep_rad_s;     /* electrical speed of a sweep: 0.1 .. 20000 */
} cvk_excitation_config;

typedef struct cvk_excitation {
    cvk_excitation_config config;
    cvk_step steps[CVK_EXCITATION_MAX_STEPS];
    unsigned count, current; /* steps in the program; the one that runs */
    unsigned ticks;          /* control periods spent in this step */
    float level_v, square_v; /* what the finding steps found */
} cvk_excitation;

/* A config for control period, current limit and bus; the rest is filled with values that suit
 * most motors (levels of 40 ms, square wave of 20 periods). */
cvk_excitation_config cvk_excitation_config_default(float period_s, float current_limit_a,
                                                    float bus_v);

/* One control period: what to do now, given the current sampled now. Interrupt (cvk_drive_control()
 * calls it). After the last step the
 * request is "off" for ever. */
cvk_request cvk_excitation_next(cvk_excitation *excitation, cvk_ab current_a);

/* Any context; a task sees the state of the last control call. */
bool cvk_excitation_finished(const cvk_excitation *excitation);

/* Whether the period that the last call began belongs into the log. */
bool cvk_excitation_recorded(const cvk_excitation *excitation);

/* The step that runs, from 1 on; 0 after the last one. Any context. */
int32_t cvk_excitation_step(const cvk_excitation *excitation);

/* Total length in s (finding steps counted at their longest). */
float cvk_excitation_length_s(const cvk_excitation *excitation);

#ifdef __cplusplus
}
#endif
#endif
