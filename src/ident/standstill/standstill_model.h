/* SPDX-License-Identifier: Apache-2.0
 *
 * The winding at standstill behind its inverter: from logged voltages to the current that a motor
 * with given parameters would carry. Simulates several neighbouring parameter sets in lock-step,
 * which gives the derivatives.
 */
#ifndef CORVAK_IDENT_STANDSTILL_STANDSTILL_MODEL_H
#define CORVAK_IDENT_STANDSTILL_STANDSTILL_MODEL_H

#include "log/waveforms.h"

/* The parameters, in this order. The inductance tensor in the stationary plane is
 * [mean + c, s; s, mean - c]; its eigenvalues are Ld and Lq. */
enum {
    CVK_SM_RESISTANCE,   /* ohm */
    CVK_SM_L_MEAN,       /* H */
    CVK_SM_L_COS,        /* H */
    CVK_SM_L_SIN,        /* H */
    CVK_SM_DEAD_TIME,    /* V */
    CVK_SM_LOG_KNEE,     /* natural logarithm of the knee current in A */
    CVK_SM_DELAY,        /* periods */
    CVK_SM_OFFSET_ALPHA, /* A */
    CVK_SM_OFFSET_BETA,  /* A */
    /* Saturation: along an axis of the tensor the incremental inductance at current i is
     * L / (1 + linear i + square i^2). x: the axis of high inductance, y: that of low. */
    CVK_SM_SQUARE_X, /* 1/A^2 */
    CVK_SM_SQUARE_Y, /* 1/A^2 */
    CVK_SM_LINEAR_Y, /* 1/A: the magnet has saturated its axis to one side already */
    /* Cross-saturation: current i along x couples the axes by -cross mean i. Its sign is that of y
     * in the direction in which the tensor's axes are taken. */
    CVK_SM_CROSS, /* 1/A */
    CVK_SM_COUNT
};

/* The knee's current. At the legs' edges it is no sharper than what the current moves in a dead
 * time allows: `period_s`; 0: as fitted. */
double cvk_sm_knee_a(const double p[CVK_SM_COUNT], double period_s);

#define CVK_SM_LANES                                                                               \
    (CVK_SM_COUNT + 1) /* the parameter set itself and one step along each parameter */

/* Rows begin .. end-1 of the signals are simulated, starting from the measured current. For each
 * row from begin + warm_up on, residual[2 * r] and [2 * r + 1] of each lane get measured minus
 * simulated current (A), lane by lane: out[lane][2 * (row - begin - warm_up)]. `curve` is
 * the inverter's: inverter_curve.h, and its voltage is taken at the edges where `legs` is given
 * (cvk_find_edges(), for each row of the signals; else null). All lanes must agree in
 * the whole part of the delay. False when a parameter set is impossible (an inductance that is not
 * positive). */
bool cvk_sm_simulate(const cvk_waveforms *waveforms, const cvk_legs *legs, cvk_span rows,
                     size_t warm_up, int curve, int lanes, const double *const lane[],
                     double *const out[]);

#endif
