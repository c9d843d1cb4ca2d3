/* SPDX-License-Identifier: Apache-2.0
 *
 * The calibration that runs on a controller (CVK_MODE_CALIBRATE), asked for and followed from a
 * host: the rotor sensor's direction and offset, and for halls their edges.
 */
#ifndef CORVAK_HOST_SELF_CALIBRATION_H
#define CORVAK_HOST_SELF_CALIBRATION_H

#include "corvak/host/session.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum cvk_self_calibration_end {
    CVK_SELF_CALIBRATED = 0,
    CVK_SELF_CALIBRATION_FAILED,  /* `why` says how it failed, in the controller's words */
    CVK_SELF_CALIBRATION_FAULT,   /* the drive stopped: `why` has the fault */
    CVK_SELF_CALIBRATION_STOPPED, /* by the caller */
    CVK_SELF_CALIBRATION_TOO_LONG
} cvk_self_calibration_end;

typedef struct cvk_self_calibration {
    cvk_self_calibration_end end;
    char why[CVK_SESSION_TEXT]; /* empty when it is calibrated */
    int direction;              /* 1: the sensor counts with the phase order; -1; 0: not found */
    double offset_rad;          /* electrical angle at sensor angle zero, */
    double half_rad;            /* half of its 95 % interval; NaN: not told */
    double lag_rad;             /* by which the rotor trailed the current */
    double alike;               /* how steadily they lay to each other, 0 .. 1 */
    double torque_share;        /* of the current limit, that turned the rotor */
    double offset_before_rad;   /* of the settings before */
    bool reversed_before, halls;
    double edge_rad[CVK_ROTOR_EDGES]; /* how late each is passed; of halls */
} cvk_self_calibration;

typedef struct cvk_self_calibration_calls {
    void *context;
    void (*phase)(void *context, const char *text); /* each one as it begins; or null */
    bool (*stops)(void *context);                   /* true: end it; or null */
} cvk_self_calibration_calls;

/* Claims the drive, calibrates, and stops the motor whatever came; the session stays the owner.
 * What was found is not yet adopted. CVK_UNKNOWN_NAME for a controller that cannot calibrate, or
 * what the session says; else CVK_OK, and `out->end` tells. It takes up to two minutes. */
cvk_status cvk_self_calibrate(cvk_session *session, const cvk_self_calibration_calls *calls,
                              cvk_self_calibration *out) CVK_MUST_CHECK;

/* What was found, as parameters by their keys. */
#define CVK_SELF_CALIBRATION_ITEMS (2 + CVK_ROTOR_EDGES)
typedef struct cvk_self_calibration_item {
    char key[32];
    float value;
} cvk_self_calibration_item;

/* Returns their count. */
unsigned cvk_self_calibration_items(const cvk_self_calibration *found,
                                    cvk_self_calibration_item out[CVK_SELF_CALIBRATION_ITEMS]);

/* They become the controller's settings. CVK_UNKNOWN_NAME when it lacks one, or what the session
 * says. */
cvk_status cvk_self_calibration_adopt(cvk_session *session,
                                      const cvk_self_calibration *found) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
