/* SPDX-License-Identifier: Apache-2.0
 *
 * The list of what gives an electrical angle, and of the rotor sensors: each stands once, here.
 * From it come the enumerators, the names of settings and signals, and the steps that the control
 * call takes (docs/architecture.md: to add an observer, to add a rotor sensor).
 */
#ifndef CORVAK_CORE_ANGLES_H
#define CORVAK_CORE_ANGLES_H

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

/* X(ENUMERATOR, name, text). Observers: active flux with its length held; extended back-EMF; Kalman
 * filter over flux linkage, angle and speed. */
#define CVK_OBSERVER_LIST(X)                                                                       \
    X(FLUX, flux, "flux observer")                                                                 \
    X(EMF, emf, "back-EMF observer")                                                               \
    X(KALMAN, kalman, "Kalman filter")

/* All sources: an angle that is imposed, whatever the rotor does; the rotor sensor; the observers;
 * of a salient motor, a voltage that is injected. */
#define CVK_ANGLE_LIST(X)                                                                          \
    X(IMPOSED, imposed, "imposed")                                                                 \
    X(ROTOR, rotor, "rotor sensor")                                                                \
    CVK_OBSERVER_LIST(X)                                                                           \
    X(INJECTION, injection, "injection")

#define CVK_ENUMERATOR(NAME, name, text) CVK_ANGLE_##NAME,
typedef enum cvk_angle_source { CVK_ANGLE_LIST(CVK_ENUMERATOR) CVK_ANGLE_SOURCES } cvk_angle_source;
#undef CVK_ENUMERATOR

#define CVK_ENUMERATOR(NAME, name, text) CVK_OBSERVER_##NAME,
typedef enum cvk_observer_kind {
    CVK_OBSERVER_LIST(CVK_ENUMERATOR) CVK_OBSERVER_KINDS
} cvk_observer_kind;
#undef CVK_ENUMERATOR

/* Rotor sensors: first those that tell an angle, then one of speed alone, and none. */
#define CVK_SENSOR_LIST(X)                                                                         \
    X(ABSOLUTE, absolute, "absolute sensor")                                                       \
    X(ENCODER, encoder, "encoder")                                                                 \
    X(SINCOS, sincos, "sin/cos sensor")                                                            \
    X(HALLS, halls, "halls")                                                                       \
    X(TACHOMETER, tachometer, "tachometer")                                                        \
    X(NONE, none, "no sensor")

#define CVK_ENUMERATOR(NAME, name, text) CVK_ROTOR_##NAME,
typedef enum cvk_rotor_kind { CVK_SENSOR_LIST(CVK_ENUMERATOR) CVK_ROTOR_KINDS } cvk_rotor_kind;
#undef CVK_ENUMERATOR
#define CVK_ROTOR_ANGLE_KINDS CVK_ROTOR_TACHOMETER /* kinds that tell an angle: 0 .. that - 1 */

/* Their names in files, the last one NULL. */
#define CVK_SENSOR_NAME(NAME, name, text) #name,
#define CVK_SENSOR_NAMES                                                                           \
    {                                                                                              \
        CVK_SENSOR_LIST(CVK_SENSOR_NAME) NULL                                                      \
    }

/* Of a rotor sensor, as in files; "none" for no kind. Any context. */
const char *cvk_rotor_kind_name(int kind);

/* The source that an observer is. */
static inline cvk_angle_source cvk_observer_source(int kind)
{
    return (cvk_angle_source)(CVK_ANGLE_FLUX + kind);
}

#ifdef __cplusplus
}
#endif
#endif
