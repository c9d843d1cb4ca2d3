/* SPDX-License-Identifier: Apache-2.0
 *
 * The table of programs: every excitation with what it needs. The recorder, the controller and the
 * help all read it here.
 */
#ifndef CORVAK_CORE_PROGRAMS_H
#define CORVAK_CORE_PROGRAMS_H

#include "corvak/core/drive.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_program {
    const char *name;
    const char *help;
    bool shaft_held;  /* somebody or something must hold it; else it must be free */
    bool knows_angle; /* needs the rotor's angle: a sensor, or an observer that has started */
    bool bridge_off;  /* what it records is recorded with the bridge off */
    bool open_loop;   /* turns an imposed angle */
    void (*write)(cvk_excitation *excitation, const cvk_excitation_config *config);
} cvk_program;

unsigned cvk_program_count(void);

/* Row 0 .. count - 1; null beyond. */
const cvk_program *cvk_program_at(unsigned index);

/* Null when there is none of that name. */
const cvk_program *cvk_program_named(const char *name);

/* The program's steps for a config. Task. CVK_OUT_OF_RANGE when a field is outside its range
 * (cvk_excitation_config); `why` may be null. */
cvk_status cvk_program_write(const cvk_program *program, cvk_excitation *excitation,
                             const cvk_excitation_config *config, cvk_refusal *why) CVK_MUST_CHECK;

/* The same as the settings in force ask for it: limit.current_a, program.speed_rad_s,
 * program.hold_s, and a sweep once round by motor.pole_pairs. `bus_v`: as it is now, for hardware
 * that has no nominal one. Task. */
cvk_status cvk_program_prepare(const cvk_program *program, cvk_excitation *excitation,
                               const cvk_settings *settings, const cvk_hardware *hardware,
                               float bus_v, cvk_refusal *why) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
