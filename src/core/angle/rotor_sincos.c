/* SPDX-License-Identifier: Apache-2.0
 *
 * Two sinusoidal channels: offsets off, the ellipse made round, and the angle of what is left. A
 * pulled cable leaves no amplitude.
 */
#include "decoders.h"

#define LEAST_SHARE 0.5f /* of the amplitude: squared, a quarter */
#define MOST_SHARE 1.5f

cvk_rotor_reading cvk_sincos_read(const cvk_setup *setup, const cvk_rotor_readings *read)
{
    const cvk_rotor_settings *s = &setup->settings.rotor;
    const float c = read->cos_v - s->cos_offset_v;
    const float leaning = setup->rotor.per_gain * (read->sin_v - s->sin_offset_v);
    const float sine = setup->rotor.per_cos_lean * leaning - setup->rotor.tan_lean * c;
    const float square = c * c + sine * sine, full = s->amplitude_v * s->amplitude_v;
    if (!(square > LEAST_SHARE * LEAST_SHARE * full && square < 1e6f) ||
        (full > 0.0f && square > MOST_SHARE * MOST_SHARE * full)) {
        return cvk_rotor_refused(CVK_ANGLE_BAD_READING);
    }
    return (cvk_rotor_reading){cvk_angle_of(c, sine), 1.0f, CVK_ANGLE_FINE};
}
