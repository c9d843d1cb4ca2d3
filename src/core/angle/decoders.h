/* SPDX-License-Identifier: Apache-2.0
 *
 * What the decoders of the rotor sensors share. Each turns a reading into the sensor's own angle:
 * of the shaft (absolute, encoder), of a period (sin/cos), of the field (halls).
 */
#ifndef CORVAK_CORE_ANGLE_DECODERS_H
#define CORVAK_CORE_ANGLE_DECODERS_H

#include "angle_sources.h"

/* A reading, understood. */
typedef struct cvk_rotor_reading {
    float own_rad;  /* within a turn of the sensor, or about it */
    float quality;  /* 0: not usable, for this reason */
    int32_t reason; /* cvk_angle_reason */
} cvk_rotor_reading;

static inline cvk_rotor_reading cvk_rotor_refused(cvk_angle_reason reason)
{
    return (cvk_rotor_reading){0.0f, 0.0f, (int32_t)reason};
}

cvk_rotor_reading cvk_absolute_read(const cvk_rotor_readings *read);
cvk_rotor_reading cvk_encoder_read(cvk_encoder *encoder, const cvk_setup *setup,
                                   const cvk_rotor_readings *read);
cvk_rotor_reading cvk_sincos_read(const cvk_setup *setup, const cvk_rotor_readings *read);
cvk_rotor_reading cvk_halls_read(cvk_halls *halls, const cvk_setup *setup,
                                 const cvk_rotor_readings *read);

#endif
