/* SPDX-License-Identifier: Apache-2.0
 *
 * Prediction-error fit of the turning motor (Ljung, System Identification, 2nd ed., 1999, ch. 7),
 * and what may be wrong with what it finds.
 */
#include "turning_fit.h"

#include "corvak/core/units.h"

#include "math/lane_fit.h"
#include "turning_search.h"

#include <math.h>

#define N CVK_TM_COUNT
#define SHOWN_TURNS 4.0 /* electrical, in a figure */
/* Relative deviations of a value that only a turning motor shows: by what is in no model, such as
 * iron loss and cross-saturation; by what the model does not follow, for each square of the misfit
 * beyond the usual one's; by edges, for each rms current, ripple included, that the bus moves it
 * by within the dead time; and by what a period does that has no row, for each that has (runs of a
 * mixer and of a 20-pole motor, every second to fourth row). The first three are taken from the
 * errors of 8 motors and 48 random ones on both inverters (bench_accuracy, spin and duty). */
static const struct {
    double always, unfollowed, at_edges, unlogged;
} doubts[] = {[CVK_B_RESISTANCE] = {0.001, 0.07, 0.0, 0.03},
              [CVK_B_L_D] = {0.007, 0.1, 0.35, 0.125},
              [CVK_B_L_Q] = {0.005, 0.06, 0.15, 0.075},
              [CVK_B_FLUX] = {0.0, 0.005, 0.0, 0.0075}};
/* And of the flux linkage's deviation, times what the fit says; and for the flux linkage that the d
 * inductance's deviation makes of the rms current. */
#define FLUX_BEYOND_FIT 1.5
#define FLUX_OF_L_D 0.7
#define UNLOGGED_VOLTAGE 0.15 /* the same, of the inverter's own voltage */
#define USUAL_MISFIT 1.3
#define RIPPLE_SHARE 0.1 /* its rms over what the bus moves the current by in a period */
#define LARGE_MISFIT 1.8 /* beyond it resistance and inductances are not believed, */
#define ROUGH_FLUX 0.03  /* and the flux linkage to that deviation */
/* A ratio of Lq to Ld beyond these is no motor, but a log that shows neither. */
#define SMALLEST_SALIENCY 0.9
#define LARGEST_SALIENCY 6.0
/* The q inductance is what a turning motor shows best: below this sharpness, a share of its value,
 * neither is believed. */
#define USEFUL_LQ 0.1
#define DELAY_FLOOR 0.004 /* as at standstill, periods */
#define WHOLE_DOUBT 0.25  /* of a delay that was taken for a whole number of them */
/* Of the inverter's voltage that is expected: less is not believed. */
#define LEAST_INVERTER_SHARE 0.3
#define SHAPE_DOUBT 0.12   /* of it, at currents like the knee's, */
#define HEIGHT_DOUBT 0.012 /* and at all: found as the others are */

/* Voltages that are off by a steady amount look like a drop across R or L, or like back-EMF: most
 * of all where the motor turns slowest. */
static void add_voltage_doubt(const cvk_turning_problem *f, cvk_belief *belief)
{
    double omega = INFINITY;
    for (size_t b = 0; b < f->blocks.count; b++) {
        omega = fmin(omega, fabs(f->blocks.block[b].omega_rad_s));
    }
    const double doubt_v = 2.0 * f->s->voltage_doubt_v, peak_a = f->s->peak_current_a;
    const double doubt[] = {[CVK_B_RESISTANCE] = doubt_v / peak_a,
                            [CVK_B_L_D] = doubt_v / (omega * peak_a),
                            [CVK_B_L_Q] = doubt_v / (omega * peak_a),
                            [CVK_B_FLUX] = doubt_v / omega};
    for (int k = 0; k <= CVK_B_FLUX; k++) {
        belief->cov[k * (CVK_B_COUNT + 1)] += doubt[k] * doubt[k];
    }
}

/* Rms current of the fitted rows. */
static double rms_current(const cvk_turning_problem *f)
{
    double square = 0.0, rows = 0.0;
    for (size_t b = 0; b < f->blocks.count; b++) {
        for (size_t k = f->blocks.block[b].rows.begin; k < f->blocks.block[b].rows.end; k++) {
            square += f->s->i_alpha[k] * f->s->i_alpha[k] + f->s->i_beta[k] * f->s->i_beta[k];
            rows += 1.0;
        }
    }
    return sqrt(square / rows);
}

/* Periods of the pulses that have no row, for each that has: their voltages are guessed. */
static double periods_missing(const cvk_waveforms *s)
{
    const bool guessed = s->path == CVK_PATH_COMMANDED && !cvk_row_each_period(s);
    return guessed ? fmax(s->period_s / s->pwm_period_s - 1.0, 0.0) : 0.0;
}

/* Every inverter has a voltage of its own. Where the fit does not find it, the currents have been
 * so small that it looked like resistance; where it does, the shape of its curve around the knee is
 * still a guess. */
static void add_inverter_doubt(const cvk_turning_problem *f, const cvk_turning_result *result,
                               double rms_a, cvk_belief *belief)
{
    const double expected_v = f->centre[CVK_B_DEAD_TIME], found_v = result->p[CVK_B_DEAD_TIME];
    const double deviation_v = sqrt(result->cov[CVK_B_DEAD_TIME * (N + 1)]);
    const double knee_a = exp(result->p[CVK_TM_LOG_KNEE]);
    const double shape = SHAPE_DOUBT * fmin(1.0, knee_a / rms_a);
    double doubt_v =
        fabs(found_v) * hypot(hypot(shape, HEIGHT_DOUBT), UNLOGGED_VOLTAGE * periods_missing(f->s));
    if (belief->knee_a > 0.0) {
        return;
    }
    if (f->s->path == CVK_PATH_COMMANDED &&
        found_v < fmax(3.0 * deviation_v, LEAST_INVERTER_SHARE * expected_v)) {
        doubt_v = 2.0 * expected_v;
    }
    belief->cov[CVK_B_RESISTANCE * (CVK_B_COUNT + 1)] += pow(doubt_v / rms_a, 2.0);
}

/* What bends an inductance bends the flux linkage along. */
static void add_flux_doubt(double rms_a, cvk_belief *belief)
{
    const double of_l_d_wb = FLUX_OF_L_D * cvk_belief_deviation(belief, CVK_B_L_D) * rms_a;
    double *variance = &belief->cov[CVK_B_FLUX * (CVK_B_COUNT + 1)];
    *variance = FLUX_BEYOND_FIT * FLUX_BEYOND_FIT * *variance + of_l_d_wb * of_l_d_wb;
}

/* Not of what a standstill log has shown better. */
static void add_doubts(const cvk_turning_problem *f, const cvk_turning_result *result, double rms_a,
                       const bool known_before[], cvk_belief *belief)
{
    const double beyond = fmax(0.0, result->misfit * result->misfit - USUAL_MISFIT * USUAL_MISFIT);
    const double a_per_v = f->s->pwm_period_s / belief->mean[CVK_B_L_D];
    const double rippled_a = hypot(rms_a, RIPPLE_SHARE * f->s->bus_v * a_per_v);
    const double moved = fabs(result->p[CVK_B_DEAD_TIME]) * a_per_v / rippled_a;
    for (int k = 0; k <= CVK_B_FLUX; k++) {
        double share = hypot(hypot(doubts[k].always, doubts[k].unfollowed * beyond),
                             doubts[k].at_edges * moved) +
                       doubts[k].unlogged * periods_missing(f->s);
        if (result->misfit > LARGE_MISFIT) {
            share = k == CVK_B_FLUX ? fmax(share, ROUGH_FLUX) : 1.0;
        }
        if (!known_before[k]) {
            belief->cov[k * (CVK_B_COUNT + 1)] += pow(share * belief->mean[k], 2.0);
        }
    }
}

static void to_belief(const cvk_turning_problem *f, const cvk_turning_result *result,
                      cvk_belief *belief)
{
    bool known_before[CVK_B_FLUX + 1] = {false};
    for (int k = 0; k <= CVK_B_L_Q; k++) {
        known_before[k] = cvk_belief_knows(belief, k, 0.01);
    }
    for (int r = 0; r < CVK_B_COUNT; r++) {
        belief->mean[r] = result->p[r];
        for (int c = 0; c < CVK_B_COUNT; c++) {
            belief->cov[r * CVK_B_COUNT + c] = result->cov[r * N + c];
        }
    }
    const double rms_a = rms_current(f);
    const double doubt = f->hold_delay > 0.0 ? WHOLE_DOUBT : DELAY_FLOOR;
    belief->cov[CVK_B_DELAY * (CVK_B_COUNT + 1)] += doubt * doubt;
    add_flux_doubt(rms_a, belief); /* by what the fit alone says of Ld */
    add_doubts(f, result, rms_a, known_before, belief);
    add_voltage_doubt(f, belief);
    add_inverter_doubt(f, result, rms_a, belief);
    const double saliency = belief->mean[CVK_B_L_Q] / belief->mean[CVK_B_L_D];
    const bool shown = saliency > SMALLEST_SALIENCY && saliency < LARGEST_SALIENCY &&
                       cvk_belief_knows(belief, CVK_B_L_Q, USEFUL_LQ);
    for (int k = CVK_B_L_D; k <= CVK_B_L_Q; k++) {
        if (!shown) {
            belief->cov[k * (CVK_B_COUNT + 1)] += pow(belief->mean[k], 2.0);
        }
    }
    belief->dof = fmin(belief->dof, CVK_LANE_DOF);
    if (!(belief->knee_a > 0.0)) {
        belief->knee_a = exp(result->p[CVK_TM_LOG_KNEE]);
        belief->curve = f->curve;
    }
    belief->flat = result->flat;
}

/* Some turns of the first block that the fit has used, for a figure. */
static void show(const cvk_turning_problem *f, const cvk_turning_result *result, cvk_curve *shown)
{
    const cvk_tm_block *block = &f->blocks.block[0];
    const double turn_rows = 2.0 * CVK_PI_WIDE / fabs(block->omega_rad_s) / f->s->period_s;
    const size_t stride = (size_t)(SHOWN_TURNS * turn_rows / CVK_CURVE_POINTS) + 1u;
    const size_t most = (size_t)(SHOWN_TURNS * turn_rows),
                 from = block->rows.begin + block->warm_up;
    shown->points = 0;
    if (!cvk_tm_gains(f->s, block, f->curve, &f->noise, result->p, f->gains, f->errors)) {
        return;
    }
    for (size_t n = 0; from + n < block->rows.end && n < most && shown->points < CVK_CURVE_POINTS;
         n += stride) {
        const size_t point = shown->points++;
        shown->x[point] = (double)(from + n) * f->s->period_s;
        shown->y[point] = f->s->i_alpha[from + n];
        shown->fit[point] = shown->y[point] - f->errors[2u * n];
    }
}

cvk_status cvk_turning_fit(const cvk_waveforms *waveforms, const cvk_turns *turns, int threads,
                           cvk_belief *belief, cvk_turning_result *result, cvk_curve *shown)
{
    cvk_turning_problem f;
    cvk_status status = cvk_turning_open(&f, waveforms, turns, threads) ? CVK_OK : CVK_NO_MEMORY;
    if (status == CVK_OK) {
        cvk_choose_blocks(&f.blocks, waveforms, turns, CVK_SCOUT_ROWS, CVK_SCOUT_BLOCK_ROWS);
        const bool fine = f.blocks.residual_rows >= CVK_TURNING_SMALLEST_BLOCK_ROWS &&
                          cvk_turning_prior(&f, belief) &&
                          cvk_turning_search(&f, turns, belief, result);
        status = fine ? CVK_OK : CVK_NOT_IN_LOG;
    }
    if (status == CVK_OK && shown != NULL) {
        show(&f, result, shown);
    }
    if (status == CVK_OK) {
        to_belief(&f, result, belief);
    }
    cvk_turning_close(&f);
    return status;
}
