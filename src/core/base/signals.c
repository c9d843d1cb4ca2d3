/* SPDX-License-Identifier: Apache-2.0
 *
 * The signal table, in the order of the moment.
 */
#include "corvak/core/signals.h"

#include "corvak/core/trial.h"
#include "text.h"

#define AT(place) offsetof(cvk_moment, place)
#define REAL(name, unit, place, digits, help)                                                      \
    {                                                                                              \
        name, unit, NULL, AT(place), false, digits, 0, CVK_MEANING(help)                           \
    }
#define SOURCE(NAME, name, text)                                                                   \
    REAL("theta_" #name, "rad", source[CVK_ANGLE_##NAME].angle_rad, 5,                             \
         "electrical angle by the " text),                                                         \
        REAL("speed_" #name, "rad/s", source[CVK_ANGLE_##NAME].speed_rad_s, 3, "and its speed"),   \
        REAL("quality_" #name, "", source[CVK_ANGLE_##NAME].quality, 3, "and its quality, 0..1"),  \
        STATE("reason_" #name, source[CVK_ANGLE_##NAME].reason, reason_text, CVK_ANGLE_REASONS,    \
              "why it is not trusted"),
#define EDGE(number, n)                                                                            \
    REAL("found_edge_" #number, "rad", found_edge_rad[n], 4, "hall edge as it found it")
#define WHOLE(name, place, help)                                                                   \
    {                                                                                              \
        name, "", NULL, AT(place), true, 0, 0, CVK_MEANING(help)                                   \
    }
#define STATE(name, place, text, states, help)                                                     \
    {                                                                                              \
        name, "", text, AT(place), true, 0, states, CVK_MEANING(help)                              \
    }

static const char *fault_text(int value)
{
    return cvk_fault_text((cvk_fault)value);
}

static const char *source_text(int value)
{
    return cvk_angle_source_text((cvk_angle_source)value);
}

static const char *reason_text(int value)
{
    return cvk_angle_reason_text((cvk_angle_reason)value);
}

static const char *mode_text(int value)
{
    return cvk_mode_text((cvk_mode)value);
}

static const char *phase_text(int value)
{
    return cvk_start_phase_text((cvk_start_phase)value);
}

static const char *start_reason_text(int value)
{
    return cvk_start_reason_text((cvk_start_reason)value);
}

static const char *trial_text(int value)
{
    return cvk_trial_state_text((cvk_trial_state)value);
}

static const char *trial_reason_text(int value)
{
    return cvk_trial_reason_text((cvk_trial_reason)value);
}

static const char *calibration_text(int value)
{
    return cvk_calibration_phase_text((cvk_calibration_phase)value);
}

static const char *calibration_reason_text(int value)
{
    return cvk_calibration_reason_text((cvk_calibration_reason)value);
}

static const cvk_signal signals[] = {
    REAL("theta_m", "rad", readings.rotor.absolute_mech_rad, 6, "absolute sensor, mechanical"),
    WHOLE("enc", readings.rotor.encoder_counts, "encoder counts"),
    WHOLE("index", readings.rotor.index_passed, "encoder: 1 when the index mark went by"),
    WHOLE("hall", readings.rotor.hall, "halls: 0..7, a is bit 0"),
    REAL("sin", "V", readings.rotor.sin_v, 5, "sin/cos sensor"),
    REAL("cos", "V", readings.rotor.cos_v, 5, "sin/cos sensor"),
    REAL("tach", "V", readings.rotor.tachometer_v, 5, "tachometer"),
    REAL("temp", "degC", readings.winding_degc, 2, "winding temperature"),
    REAL("va", "V", readings.terminal_v.a, 4, "terminal voltage, where it is measured"),
    REAL("vb", "V", readings.terminal_v.b, 4, "terminal voltage"),
    REAL("vc", "V", readings.terminal_v.c, 4, "terminal voltage"),
    REAL("ia", "A", phase_a.a, 4, "phase current: offset taken off, completed where not seen"),
    REAL("ib", "A", phase_a.b, 4, "phase current"),
    REAL("ic", "A", phase_a.c, 4, "phase current"),
    REAL("offset_a", "A", offset_a.a, 4, "offset of current channel a, taken off"),
    REAL("offset_b", "A", offset_a.b, 4, "offset of current channel b"),
    REAL("offset_c", "A", offset_a.c, 4, "offset of current channel c"),
    WHOLE("rest_done", rest_done, "1 when the calibration at rest has found these offsets"),
    REAL("vdc", "V", bus_v, 4, "bus voltage"),
    REAL("v_alpha", "V", acting_v.alpha, 4, "voltage that acts until the next sample"),
    REAL("v_beta", "V", acting_v.beta, 4, "the same, beta"),
    STATE("fault", fault, fault_text, CVK_FAULT_COUNT, "why the bridge was switched off"),
    WHOLE("settings", settings_number, "sets of settings that came into force, also by going back"),
    STATE("trial", trial, trial_text, CVK_TRIAL_STATES, "where a change on trial stands"),
    STATE("trial_reason", trial_reason, trial_reason_text, CVK_TRIAL_REASONS, "why it went back"),
    REAL("theta_imposed", "rad", source[CVK_ANGLE_IMPOSED].angle_rad, 5, "the imposed angle"),
    SOURCE(ROTOR, rotor, "rotor sensor")
        WHOLE("rotor_known", rotor_known, "1 when the rotor sensor's offset holds since power-up"),
    CVK_OBSERVER_LIST(SOURCE) REAL("theta_injection", "rad", source[CVK_ANGLE_INJECTION].angle_rad,
                                   5, "angle by injection"),
    REAL("speed_injection", "rad/s", source[CVK_ANGLE_INJECTION].speed_rad_s, 3, "and its speed"),
    REAL("quality_injection", "", source[CVK_ANGLE_INJECTION].quality, 3, "and its quality, 0..1"),
    REAL("winding_ohm", "Ohm", winding_ohm, 5, "resistance, by current at standstill; 0: not seen"),
    REAL("winding_warmer", "K", winding_warmer_k, 1,
         "winding by that, above the temperature of motor.resistance_ohm"),
    REAL("saliency", "", saliency, 3,
         "inductance q over d at this current, by injection; 0: not seen"),
    STATE("reason_injection", source[CVK_ANGLE_INJECTION].reason, reason_text, CVK_ANGLE_REASONS,
          "why it is not to be trusted"),
    REAL("resistance_adapted", "ohm", adapted_resistance_ohm, 6,
         "resistance as the observer has found it"),
    REAL("flux_adapted", "Wb", adapted_flux_wb, 7, "and the magnets' flux linkage"),
    STATE("mode", request.mode, mode_text, CVK_MODE_COUNT, "what the drive does"),
    WHOLE("program_step", program_step, "step of the excitation that runs, from 1; 0: none"),
    WHOLE("recorded", recorded, "1 when that step belongs into a log"),
    REAL("speed_request", "rad/s", request.speed_rad_s, 3, "electrical speed that is asked for"),
    STATE("start_phase", start_phase, phase_text, CVK_START_PHASES,
          "where a start without a sensor stands"),
    WHOLE("start_attempt", start_attempt, "its attempts: each next one with more current or time"),
    STATE("start_reason", start_reason, start_reason_text, CVK_START_REASONS,
          "why the last attempt failed"),
    REAL("start_follow", "", start_follow, 3, "cosine of how far the rotor trails the vector"),
    STATE("calibration", calibration, calibration_text, CVK_CALIBRATE_PHASES,
          "where a calibration of the rotor sensor stands"),
    STATE("calibration_reason", calibration_reason, calibration_reason_text, CVK_CALIBRATE_REASONS,
          "why it failed"),
    WHOLE("found_direction", found_direction,
          "it found: 1 the sensor counts with the field, or -1"),
    REAL("found_offset", "rad", found_offset_rad, 5, "electrical angle at sensor angle zero"),
    REAL("found_lag", "rad", found_lag_rad, 5, "how far the rotor trailed the current"),
    REAL("found_shift", "rad", found_shift_rad, 5, "how far less current shifted the offset"),
    REAL("found_alike", "", found_alike, 3, "how steadily they lay to each other, 0..1"),
    REAL("found_share", "", found_share, 3, "share of the current limit that turned the rotor"),
    EDGE(1, 0),
    EDGE(2, 1),
    EDGE(3, 2),
    EDGE(4, 3),
    EDGE(5, 4),
    EDGE(6, 5),
    STATE("angle_source", angle_source, source_text, CVK_ANGLE_SOURCES, "which angle is used"),
    REAL("theta_e", "rad", angle.angle_rad, 5, "electrical angle in use"),
    REAL("speed_e", "rad/s", angle.speed_rad_s, 3, "electrical speed in use"),
    REAL("quality", "", angle.quality, 3, "quality of the angle in use, 0..1"),
    WHOLE("turns", position_turns, "whole turns of the shaft since power-up"),
    REAL("position", "rad", position_mech_rad, 5, "and where it is in this turn, mechanical"),
    REAL("speed_set", "rad/s", speed_set_rad_s, 3, "speed set-point after its slew"),
    REAL("id_weakening", "A", weakening_a, 4, "d current that weakens the field, 0 or below"),
    REAL("torque_room", "N m", torque_room_nm, 5, "largest torque that current and voltage leave"),
    REAL("id_set", "A", current_set_a.d, 4, "current set-point, d"),
    REAL("iq_set", "A", current_set_a.q, 4, "current set-point, q"),
    REAL("id", "A", current_a.d, 4, "current in the frame of the angle in use, d"),
    REAL("iq", "A", current_a.q, 4, "the same, q"),
    WHOLE("bridge_on", bridge_on, "1 while the switches follow the duties"),
    REAL("duty_a", "", duty.a, 6, "duty computed from this sample: acts one period later"),
    REAL("duty_b", "", duty.b, 6, "duty"),
    REAL("duty_c", "", duty.c, 6, "duty"),
    REAL("headroom", "", headroom, 3, "voltage left: 1 all, 0 none"),
};

unsigned cvk_signal_count(void)
{
    return sizeof signals / sizeof signals[0];
}

const cvk_signal *cvk_signal_at(unsigned index)
{
    return index < cvk_signal_count() ? &signals[index] : NULL;
}

const cvk_signal *cvk_signal_named(const char *name)
{
    for (unsigned n = 0; n < cvk_signal_count(); n++) {
        if (cvk_same_text(signals[n].name, name)) {
            return &signals[n];
        }
    }
    return NULL;
}

float cvk_signal_value(const cvk_moment *moment, const cvk_signal *signal)
{
    const void *place = (const char *)moment + signal->offset;
    return signal->whole ? (float)*(const int32_t *)place : *(const float *)place;
}
