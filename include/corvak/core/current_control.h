/* SPDX-License-Identifier: Apache-2.0
 *
 * Current control of a synchronous motor in the rotor frame, with exact delay compensation.
 *
 * The controller works on the flux linkage psi = (Ld id + flux, Lq iq), because in the stationary
 * frame d psi/dt = v - R i holds for salient motors as for round ones, and a voltage held over one
 * period adds exactly T (v - R i). One step of that model gives the flux at the instant at which
 * the new voltage starts to act; the new voltage then moves it a share `alpha` of the way to its
 * set-point, the rotation of the frame included. What the model does not know (a wrong R or flux,
 * the inverter's own voltage) is found as a constant voltage in the rotor frame by comparing each
 * prediction with what came. The prediction uses the voltage that was really commanded after
 * limiting, so there is nothing to wind up. What comes back six times a turn can be learned as two
 * voltages that turn with it (resonant terms: Bojoi, Griva, Bostan, Guerriero, Farina, Profumo,
 * "Current control strategy for power conditioners using sinusoidal signal integrators in
 * synchronous reference frame", IEEE Trans. Power Electron. 20(6), 2005).
 *
 * After Awan, Saarakkala, Hinkkanen, "Flux-linkage-based current control of saturated synchronous
 * motors", IEEE Trans. Ind. Appl. 55(5), 2019; equations in docs/theory.md section 2.
 */
#ifndef CORVAK_CORE_CURRENT_CONTROL_H
#define CORVAK_CORE_CURRENT_CONTROL_H

#include "corvak/core/frames.h"
#include "corvak/core/status.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_current_control_config {
    float period_s;        /* control period: 5e-6 .. 1e-3 */
    float bandwidth_hz;    /* of the current loop; at most 1/16 of the control rate */
    float resistance_ohm;  /* 0 .. 100 */
    float inductance_d_h;  /* 1e-7 .. 1 */
    float inductance_q_h;  /* 1e-7 .. 1 */
    float flux_linkage_wb; /* 0 .. 10; 0 when not known yet */
    bool harmonics;        /* reject the fifth and seventh harmonic of the currents */
} cvk_current_control_config;

/* An unknown voltage is learned at this share of the rate at which the current is controlled. */
#define CVK_LEARNING_RATIO 0.25f

/* What follows from the config: prepared outside the control call, and exchanged while the
 * controller runs. */
typedef struct cvk_current_constants {
    float period_s, rate_hz, resistance_ohm, inductance_d_h, inductance_q_h, flux_linkage_wb;
    float alpha;          /* share of the remaining error removed in one period */
    float learning;       /* share of a prediction error taken into the disturbance voltage */
    float learning_sixth; /* the same of its harmonics; 0: none */
} cvk_current_constants;

/* The state; starts as all zeros. */
typedef struct cvk_current_control {
    cvk_dq predicted_wb;  /* flux expected at the next sample */
    cvk_dq disturbance_v; /* the voltage that the model does not know of */
    /* and what of it turns against the rotor's frame six times as fast as that turns, either way:
     * the seventh and fifth harmonic of magnet and dead time */
    cvk_dq forward_v, backward_v;
    bool primed; /* false until a prediction exists */
} cvk_current_control;

/* Refuses any field outside the ranges above; `why` may be null. Task. */
cvk_status cvk_current_control_prepare(cvk_current_constants *constants,
                                       const cvk_current_control_config *config,
                                       cvk_refusal *why) CVK_MUST_CHECK;

/* Forgets what was predicted and learnt, as after another mode. Interrupt. */
void cvk_current_control_restart(cvk_current_control *control);

/* The frame has been turned on by `turned_rad` more than its speed says: another source gives the
 * angle now. The back-EMF that the control has learnt stays where it points, so nothing jumps. */
void cvk_current_control_reframe(cvk_current_control *control,
                                 const cvk_current_constants *constants, float turned_rad,
                                 float speed_before_rad_s, float speed_rad_s);

/* One step: from the current sampled now, the voltage that acts from now to the next sample (after
 * all limits), the frame now and its speed (rad/s; at most 1 rad per sample, beyond it is taken for
 * that), to the stationary voltage for the period that begins one period from now. Interrupt. */
cvk_ab cvk_current_control_step(cvk_current_control *control,
                                const cvk_current_constants *constants, cvk_dq setpoint_a,
                                cvk_ab current_a, cvk_ab acting_v, cvk_rotation frame,
                                float speed_rad_s);

#ifdef __cplusplus
}
#endif
#endif
