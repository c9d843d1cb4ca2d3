/* SPDX-License-Identifier: Apache-2.0
 *
 * Numbers that every layer needs: angles, turns, copper. In single precision for the controller,
 * in double (_WIDE and conversions) for hosts.
 */
#ifndef CORVAK_CORE_UNITS_H
#define CORVAK_CORE_UNITS_H

#define CVK_PI 3.14159265358979f
#define CVK_TWO_PI 6.28318530717959f

#define CVK_PI_WIDE 3.14159265358979323846
#define CVK_TWO_PI_WIDE 6.28318530717958647693
#define CVK_DEG_PER_RAD (180.0 / CVK_PI_WIDE)
#define CVK_RAD_PER_DEG (CVK_PI_WIDE / 180.0)
#define CVK_RPM_PER_RAD_S (60.0 / CVK_TWO_PI_WIDE)
#define CVK_RAD_S_PER_RPM (CVK_PI_WIDE / 30.0)

/* Copper's resistance rises by this share of that at 25 degC with each K: 0.00393 of that at 20
 * degC (IEC 60028). */
#define CVK_COPPER_PER_K 0.00385

#endif
