/* SPDX-License-Identifier: Apache-2.0
 *
 * From a calibration to the controller's parameters, by their keys.
 */
#ifndef CORVAK_HOST_CALIBRATED_H
#define CORVAK_HOST_CALIBRATED_H

#include "corvak/core/parameters.h"
#include "corvak/ident/calibrate.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_CALIBRATED_MOST 32u

typedef struct cvk_calibrated_item {
    const cvk_parameter *parameter;
    float value;
    char from[CVK_CARD_TEXT]; /* the log, and how sure it is */
} cvk_calibrated_item;

typedef struct cvk_calibrated {
    unsigned items;
    cvk_calibrated_item item[CVK_CALIBRATED_MOST];
} cvk_calibrated;

/* What the calibration of this sensor sets; `log` is named as the source. Nothing when its offset
 * is not known. Values outside a parameter's range are left out. */
void cvk_calibrated_parameters(const cvk_calibration *calibration, cvk_rotor_kind kind,
                               const char *log, cvk_calibrated *out);

/* Half of the 95 % interval of an offset that a controller has found by itself, rad: what a load
 * would have made of it, by how far less current shifted it, what friction that is not alike both
 * ways leaves of the lag, and what settling it by the d current leaves (docs/theory.md 13). NaN
 * when either is. */
double cvk_found_offset_half_rad(double shift_rad, double lag_rad);

#ifdef __cplusplus
}
#endif
#endif
