/* SPDX-License-Identifier: Apache-2.0
 *
 * An absolute sensor: its reading is the shaft's angle, any number of turns.
 */
#include "decoders.h"

#define MOST_RAD 1e6f /* beyond it a float has lost the angle */

cvk_rotor_reading cvk_absolute_read(const cvk_rotor_readings *read)
{
    const float x = read->absolute_mech_rad;
    return fabsf(x) < MOST_RAD ? (cvk_rotor_reading){x, 1.0f, CVK_ANGLE_FINE}
                               : cvk_rotor_refused(CVK_ANGLE_BAD_READING);
}
