/* SPDX-License-Identifier: Apache-2.0
 *
 * Rotor sensors: from the readings of each kind to an angle, and a second-order tracking filter
 * behind it (alpha-beta filter, both poles at the bandwidth): quantisation and noise do not reach
 * the speed, and a constant speed leaves no lag.
 */
#include "angles.h"

#include <stddef.h>

static const char *const kinds[] = {"none", "absolute", "encoder", "sincos", "halls", NULL};

static const cvk_parameter rows[] = {
    CVK_ROW_CHOICE(rotor, kind, kinds, 4, 0, "kind of the rotor sensor"),
    CVK_ROW_WHOLE(rotor, counts, 4, 1e6f, 4096, "encoder: counts per turn, four per line"),
    CVK_ROW_WHOLE(rotor, periods_per_turn, 0, 200, 0,
                  "sin/cos: periods per turn; 0: one per pole pair"),
    CVK_ROW_YES_NO(rotor, reversed, 0, "whether it counts against the field's direction"),
    CVK_ROW(rotor, offset_rad, "rad", -7.0f, 7.0f, 0.0f, false,
            "electrical angle at sensor angle zero"),
    CVK_ROW(rotor, bandwidth_hz, "Hz", 1.0f, 5000.0f, 100.0f, true,
            "bandwidth of the tracking filter behind the sensor"),
};
const cvk_parameter_rows cvk_rotor_rows = CVK_ROWS(rows);

/* Electrical angle by the sensor's own readings; false when they are none. */
static bool angle_read(const cvk_setup *setup, const cvk_rotor_readings *read, float *angle_rad)
{
    static const int32_t sixth_of[8] = {-1, 0, 2, 1, 4, 5, 3, -1}; /* of a hall word */
    const cvk_rotor_constants *c = &setup->rotor;
    const int32_t counts = setup->settings.rotor.counts;
    float sensor_rad = 0.0f;
    switch ((cvk_rotor_kind)setup->settings.rotor.kind) {
    case CVK_ROTOR_ABSOLUTE:
        sensor_rad = read->absolute_mech_rad;
        break;
    case CVK_ROTOR_ENCODER: /* within a turn, where a float is fine */
        sensor_rad = c->per_count_rad * (float)(read->encoder_counts % counts);
        break;
    case CVK_ROTOR_SINCOS:
        sensor_rad = cvk_angle_of(read->cos_v, read->sin_v) / c->sensor_periods;
        break;
    case CVK_ROTOR_HALLS: {
        const int32_t sixth = sixth_of[read->hall & 7];
        if (sixth < 0) {
            return false;
        }
        *angle_rad = cvk_wrap_angle(copysignf(CVK_TWO_PI / 6.0f * (float)sixth, c->ratio) +
                                    setup->settings.rotor.offset_rad);
        return true;
    }
    case CVK_ROTOR_NONE:
    default:
        return false;
    }
    if (!(fabsf(sensor_rad) < 1e6f)) {
        return false;
    }
    *angle_rad = cvk_wrap_angle(c->ratio * sensor_rad + setup->settings.rotor.offset_rad);
    return true;
}

void cvk_rotor_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_rotor *s = &angles->rotor;
    float read_rad = 0.0f;
    const bool good = angle_read(setup, &now->readings.rotor, &read_rad);
    if (!s->primed) {
        s->now =
            (cvk_angle){read_rad, 0.0f, good ? 1.0f : 0.0f, good ? CVK_ANGLE_FINE : CVK_ANGLE_OFF};
        s->primed = good;
    } else {
        const float expected = s->now.angle_rad + s->now.speed_rad_s * setup->period_s;
        const float error = good ? cvk_wrap_angle(read_rad - expected) : 0.0f;
        s->now.angle_rad = cvk_wrap_angle(expected + setup->rotor.gain_angle * error);
        s->now.speed_rad_s += setup->rotor.gain_speed * error;
        s->now.quality = good ? 1.0f : 0.0f;
        s->now.reason = good ? CVK_ANGLE_FINE : CVK_ANGLE_BAD_READING;
    }
    now->source[CVK_ANGLE_ROTOR] = s->now;
}
