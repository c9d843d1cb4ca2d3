/* SPDX-License-Identifier: Apache-2.0
 *
 * The turning motor behind its inverter: a Kalman filter over flux linkage, angle and speed that
 * predicts the next current sample. Several neighbouring parameter sets are filtered in lock-step,
 * which gives the derivatives of the prediction errors.
 */
#ifndef CORVAK_IDENT_TURNING_TURNING_MODEL_H
#define CORVAK_IDENT_TURNING_TURNING_MODEL_H

#include "model/belief.h"
#include "log/waveforms.h"

/* The parameters: first those of a belief, at small current, then these. */
enum {
    CVK_TM_LOG_KNEE = CVK_B_COUNT, /* natural logarithm of the knee current in A */
    CVK_TM_OFFSET_ALPHA,           /* A */
    CVK_TM_OFFSET_BETA,            /* A */
    /* Harmonics of the magnet's flux linkage, as shares of the fundamental. */
    CVK_TM_FIFTH,
    CVK_TM_SEVENTH,
    CVK_TM_PUSH, /* rad/s^2 per A, electrical: what a q current adds to the speed */
    /* Unequal magnets: cosine and sine of the rotor's angle and of twice that, as shares of the
     * flux linkage; without effect where the log has no rotor angle. */
    CVK_TM_UNEQUAL,
    /* Ohm, of the bus capacitor: of the bus voltage a row shows none is lost in it, of that which
     * the legs pass on there is; without effect where no edges are known. */
    CVK_TM_BUS = CVK_TM_UNEQUAL + 4,
    CVK_TM_LATE, /* s: a current reading is so old, taken where no voltage drives the current */
    CVK_TM_COUNT
};

#define CVK_TM_LANES 8 /* filtered together at most */

/* Standard deviations, per sample. */
typedef struct cvk_tm_noise {
    double current_a;     /* of a measured current, per axis */
    double flux_wb;       /* what voltages the model does not know add to the flux linkage */
    double speed_rad_s;   /* how far the speed wanders */
    double change_rad_s2; /* how far the acceleration wanders */
    double magnet;        /* share by which unequal magnets make the flux linkage vary */
} cvk_tm_noise;

/* A stretch of rows: filtered from its first row on, its prediction errors count after `warm_up`
 * rows. */
typedef struct cvk_tm_block {
    cvk_span rows;
    size_t warm_up;
    double theta_rad, omega_rad_s; /* roughly, at the first row */
} cvk_tm_block;

/* Of one row: how a prediction error of the current (d, q) corrects the filter's states, and
 * how much of the magnet's deviation is kept until the next row. */
#define CVK_TM_STATES 6

typedef struct cvk_tm_gain {
    double k[CVK_TM_STATES][2], keep;
} cvk_tm_gain;

/* The filter's gains over a block for one parameter set: out[0 .. rows - 1], and its prediction
 * errors as from cvk_tm_filter(). False when the set is impossible or the filter runs away. */
bool cvk_tm_gains(const cvk_waveforms *waveforms, const cvk_tm_block *block, int curve,
                  const cvk_tm_noise *noise, const double p[CVK_TM_COUNT], cvk_tm_gain *out,
                  double *errors);

/* Up to CVK_TM_LANES sets of parameters and noises side by side, each with the gains it has by
 * itself: squares[lane] gets the sum of its squared prediction errors (A^2), infinity when the
 * filter runs away, or for all when one set is impossible. All lanes must agree in the whole part
 * of the delay. */
void cvk_tm_compare(const cvk_waveforms *waveforms, const cvk_tm_block *block, int curve, int lanes,
                    const double *const p[], const cvk_tm_noise noise[], double squares[]);

/* With these gains kept, for each row from warm_up on out[lane][2 r] and [2 r + 1] get measured
 * minus predicted current (A). All lanes must agree in the whole part of the delay. False when a
 * parameter set is impossible or the filter runs away. */
bool cvk_tm_filter(const cvk_waveforms *waveforms, const cvk_tm_block *block, int curve,
                   const cvk_tm_gain *gains, int lanes, const double *const lane[],
                   double *const out[]);

#endif
