/* SPDX-License-Identifier: Apache-2.0
 *
 * What a mode needs to know, and what to do where it is not known.
 */
#include "prepare.h"

#include <stddef.h>

static cvk_status unknown(const char *field, const char *mode, const char *reason, cvk_refusal *why)
{
    if (why != NULL) {
        *why = (cvk_refusal){.field = field, .against = mode, .reason = reason};
    }
    return CVK_CONTRADICTION;
}

/* Why the sensor's offset does not hold, and what would make it. */
static cvk_status needs_alignment(const cvk_rotor_settings *s, const char *mode, cvk_refusal *why)
{
    return unknown(
        "rotor.startup", mode,
        s->startup == CVK_ROTOR_INDEX
            ? "the encoder's index mark has not gone by since power-up: turn the shaft "
              "once, by hand or with an imposed angle"
        : s->startup == CVK_ROTOR_CALIBRATE
            ? "a calibration is asked for after each power-up: run one (corvak "
              "calibrate), or set rotor.startup"
            : "an encoder's counts begin anywhere at power-up: a stored offset held until "
              "then. Set rotor.startup: index (with a mark), or calibrate",
        why);
}

static cvk_status needs_sensor(const cvk_settings *s, const char *mode, cvk_refusal *why)
{
    if (s->rotor.kind == CVK_ROTOR_NONE || s->rotor.kind == CVK_ROTOR_TACHOMETER) {
        return unknown("rotor.kind", mode,
                       "there is no rotor sensor that tells an angle: name its kind", why);
    }
    return s->motor.pole_pairs == 0
               ? unknown("motor.pole_pairs", mode, "a rotor sensor needs them: estimate them", why)
               : CVK_OK;
}

static cvk_status needs_angle(const cvk_setup *setup, const char *mode, bool rotor_known,
                              cvk_refusal *why)
{
    const cvk_settings *s = &setup->settings;
    const bool by_sensor = s->angle.source == CVK_BY_ROTOR_SENSOR;
    if (by_sensor && s->motor.pole_pairs == 0) {
        return unknown("motor.pole_pairs", mode, "a rotor sensor needs them: estimate them", why);
    }
    if (by_sensor && s->rotor.kind == CVK_ROTOR_NONE) {
        return unknown("rotor.kind", mode,
                       "the angle comes from a rotor sensor, and there is none: name its kind, or "
                       "set angle.source: observer",
                       why);
    }
    if (by_sensor && s->rotor.kind == CVK_ROTOR_TACHOMETER) {
        return unknown("rotor.kind", mode,
                       "a tachometer tells the speed alone: set angle.source: observer", why);
    }
    if (by_sensor && !rotor_known) {
        return needs_alignment(&s->rotor, mode, why);
    }
    if (!by_sensor && (s->motor.flux_linkage_wb == 0.0f || s->motor.resistance_ohm == 0.0f)) {
        return unknown(s->motor.flux_linkage_wb == 0.0f ? "motor.flux_linkage_wb"
                                                        : "motor.resistance_ohm",
                       mode, "an observer needs it: estimate it", why);
    }
    return CVK_OK;
}

/* What a move lacks; null when nothing. */
static const char *unknown_position(const cvk_settings *s)
{
    return s->position.gain_per_s == 0.0f         ? "position.gain_per_s"
           : s->position.speed_rad_s == 0.0f      ? "position.speed_rad_s"
           : s->speed.acceleration_rad_s2 == 0.0f ? "speed.acceleration_rad_s2"
           : s->motor.pole_pairs == 0             ? "motor.pole_pairs"
                                                  : NULL;
}

cvk_status cvk_setup_allows(const cvk_setup *setup, cvk_mode mode, bool rotor_known,
                            cvk_refusal *why)
{
    const cvk_settings *s = &setup->settings;
    const char *name = cvk_mode_text(mode);
    if (mode == CVK_MODE_OFF || mode == CVK_MODE_REST || mode == CVK_MODE_VOLTAGE) {
        return CVK_OK;
    }
    if (mode == CVK_MODE_CALIBRATE) {
        return needs_sensor(s, name, why);
    }
    if (s->motor.inductance_d_h == 0.0f || s->motor.inductance_q_h == 0.0f) {
        return unknown(s->motor.inductance_d_h == 0.0f ? "motor.inductance_d_h"
                                                       : "motor.inductance_q_h",
                       name, "the current loop needs it: estimate it (corvak gains)", why);
    }
    if (mode == CVK_MODE_TORQUE && setup->current_per_torque == 0.0f) {
        return unknown(s->motor.pole_pairs == 0 ? "motor.pole_pairs" : "motor.flux_linkage_wb",
                       name, "a torque needs it to become a current: estimate it", why);
    }
    if (mode == CVK_MODE_POSITION && unknown_position(s) != NULL) {
        return unknown(unknown_position(s), name, "a move needs it (corvak gains)", why);
    }
    const cvk_status status =
        mode == CVK_MODE_IMPOSED ? CVK_OK : needs_angle(setup, name, rotor_known, why);
    if (status == CVK_OK && (mode == CVK_MODE_SPEED || mode == CVK_MODE_POSITION) &&
        s->speed.gain_a_s == 0.0f) {
        return unknown(
            "speed.gain_a_s", name,
            "a speed loop needs it, and it needs the inertia: estimate that from a spin and "
            "a coast-down, then corvak gains; or set it by hand",
            why);
    }
    return status;
}
