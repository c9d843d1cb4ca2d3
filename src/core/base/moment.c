/* SPDX-License-Identifier: Apache-2.0
 *
 * Names of the states in a moment.
 */
#include "corvak/core/moment.h"

#define TEXT_OF(value, texts, other)                                                               \
    ((unsigned)(value) < sizeof(texts) / sizeof(texts)[0] ? (texts)[value] : (other))

const char *cvk_fault_text(cvk_fault fault)
{
    static const char *const texts[CVK_FAULT_COUNT] = {
        [CVK_FAULT_NONE] = "no fault",
        [CVK_FAULT_SAMPLE] = "a sample is not a number",
        [CVK_FAULT_OVERCURRENT] = "a phase current is beyond the trip current",
        [CVK_FAULT_BUS_VOLTAGE] = "the bus voltage is outside its window",
        [CVK_FAULT_START] = "the rotor did not follow the start",
        [CVK_FAULT_ANGLE] = "the rotor's angle was lost",
        [CVK_FAULT_REST] = "currents flowed during the calibration at rest",
        [CVK_FAULT_STAGE] = "the power stage has switched off by itself"};
    return TEXT_OF(fault, texts, "unknown fault");
}

const char *cvk_angle_source_text(cvk_angle_source source)
{
#define TEXT(NAME, name, text) text,
    static const char *const texts[CVK_ANGLE_SOURCES] = {CVK_ANGLE_LIST(TEXT)};
#undef TEXT
    return TEXT_OF(source, texts, "unknown source");
}

const char *cvk_rotor_kind_name(int kind)
{
    static const char *const names[] = CVK_SENSOR_NAMES;
    return kind >= 0 && kind < CVK_ROTOR_KINDS ? names[kind] : names[CVK_ROTOR_NONE];
}

const char *cvk_angle_reason_text(cvk_angle_reason reason)
{
    static const char *const texts[CVK_ANGLE_REASONS] = {[CVK_ANGLE_FINE] = "fine",
                                                         [CVK_ANGLE_OFF] = "off",
                                                         [CVK_ANGLE_TOO_SLOW] = "too slow",
                                                         [CVK_ANGLE_NO_MATCH] = "does not match",
                                                         [CVK_ANGLE_NOT_SETTLED] = "not settled",
                                                         [CVK_ANGLE_BAD_READING] = "bad reading",
                                                         [CVK_ANGLE_JUMPED] = "jumped",
                                                         [CVK_ANGLE_STUCK] = "stuck",
                                                         [CVK_ANGLE_SPEED_ONLY] = "speed only",
                                                         [CVK_ANGLE_NO_SALIENCY] = "not salient"};
    return TEXT_OF(reason, texts, "unknown reason");
}

const char *cvk_mode_text(cvk_mode mode)
{
    static const char *const texts[CVK_MODE_COUNT] = {
        [CVK_MODE_OFF] = "off",         [CVK_MODE_REST] = "rest",
        [CVK_MODE_VOLTAGE] = "voltage", [CVK_MODE_IMPOSED] = "imposed",
        [CVK_MODE_CURRENT] = "current", [CVK_MODE_SPEED] = "speed",
        [CVK_MODE_STOP] = "stop",       [CVK_MODE_CALIBRATE] = "calibrate",
        [CVK_MODE_TORQUE] = "torque",   [CVK_MODE_POSITION] = "position",
        [CVK_MODE_BRAKE] = "brake"};
    return TEXT_OF(mode, texts, "unknown mode");
}

const char *cvk_start_phase_text(cvk_start_phase phase)
{
    static const char *const texts[CVK_START_PHASES] = {
        [CVK_START_IDLE] = "idle",   [CVK_START_LISTEN] = "listen", [CVK_START_PROBE] = "probe",
        [CVK_START_ALIGN] = "align", [CVK_START_TURN] = "turn",     [CVK_START_RUN] = "run",
        [CVK_START_YIELD] = "yield", [CVK_START_SEEK] = "seek"};
    return TEXT_OF(phase, texts, "unknown phase");
}

const char *cvk_start_reason_text(cvk_start_reason reason)
{
    static const char *const texts[CVK_START_REASONS] = {
        [CVK_START_FINE] = "fine",
        [CVK_START_NO_CURRENT] = "no current flows: motor wires off?",
        [CVK_START_BLOCKED] = "rotor stood still: blocked, or current too low",
        [CVK_START_SLIPPED] = "rotor fell behind: more current, or gentler",
        [CVK_START_NO_POLARITY] = "north and south look alike: more current",
        [CVK_START_UNSEEN] = "rotor turned unseen: start.speed_rad_s, motor?"};
    return TEXT_OF(reason, texts, "unknown reason");
}

const char *cvk_calibration_phase_text(cvk_calibration_phase phase)
{
    static const char *const texts[CVK_CALIBRATE_PHASES] = {
        [CVK_CALIBRATE_IDLE] = "idle",
        [CVK_CALIBRATE_RISE] = "rise",
        [CVK_CALIBRATE_SETTLE] = "settle",
        [CVK_CALIBRATE_UP] = "sweep up",
        [CVK_CALIBRATE_DOWN] = "sweep down",
        [CVK_CALIBRATE_SETTLE_AGAIN] = "settle again",
        [CVK_CALIBRATE_UP_AGAIN] = "sweep up again",
        [CVK_CALIBRATE_DOWN_AGAIN] = "sweep down again",
        [CVK_CALIBRATE_REST] = "rest",
        [CVK_CALIBRATE_TORQUE] = "torque",
        [CVK_CALIBRATE_TORQUE_BACK] = "torque back",
        [CVK_CALIBRATE_SPEED] = "speed",
        [CVK_CALIBRATE_SPEED_BACK] = "speed back",
        [CVK_CALIBRATE_DONE] = "done",
        [CVK_CALIBRATE_FAILED] = "failed"};
    return TEXT_OF(phase, texts, "unknown phase");
}

const char *cvk_calibration_reason_text(cvk_calibration_reason reason)
{
    static const char *const texts[CVK_CALIBRATE_REASONS] = {
        [CVK_CALIBRATE_FINE] = "fine",
        [CVK_CALIBRATE_NO_CURRENT] = "no current flows: motor wires off?",
        [CVK_CALIBRATE_UNPLUGGED] = "sensor unplugged: no readings",
        [CVK_CALIBRATE_HALL_DEAD] = "a hall is dead: it never changes",
        [CVK_CALIBRATE_FROZEN] = "reading frozen: unplugged, or blocked",
        [CVK_CALIBRATE_BLOCKED] = "shaft blocked, or too little current",
        [CVK_CALIBRATE_TOO_LITTLE] = "too little current: it only rocks",
        [CVK_CALIBRATE_NOT_FOLLOWING] = "rotor does not follow: pole pairs? load?",
        [CVK_CALIBRATE_REVERSED] = "the direction reversed half-way",
        [CVK_CALIBRATE_LOAD] = "a load pulls: take it off",
        [CVK_CALIBRATE_WRONG_WAY] = "torque turns it the wrong way",
        [CVK_CALIBRATE_NO_TORQUE] = "torque does not turn it",
        [CVK_CALIBRATE_NO_SPEED] = "the speed is not reached"};
    return TEXT_OF(reason, texts, "unknown reason");
}
