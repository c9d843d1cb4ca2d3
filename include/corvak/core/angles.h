/* SPDX-License-Identifier: Apache-2.0
 *
 * The list of what gives an electrical angle, and of the rotor sensors: each stands once, here.
 * From it come the enumerators, the names of settings and signals, and the steps that the control
 * call takes (docs/architecture.md: to add an observer, to add a rotor sensor).
 */
#ifndef CORVAK_CORE_ANGLES_H
#define CORVAK_CORE_ANGLES_H

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

/* The source that an observer is. */
static inline cvk_angle_source cvk_observer_source(int kind)
{
    return (cvk_angle_source)(CVK_ANGLE_FLUX + kind);
}

#ifdef __cplusplus
}
#endif
#endif
