/* SPDX-License-Identifier: Apache-2.0
 *
 * The inverter's own voltage at the edges: what the ripple makes of it.
 */
#ifndef CORVAK_IDENT_MODEL_EDGES_H
#define CORVAK_IDENT_MODEL_EDGES_H

#include "belief.h"
#include "inverter_curve.h"
#include "log/waveforms.h"

#include <complex.h>

/* One over the inductances: mean of both axes, and half of d less q, turned to twice the angle of
 * the rotor's d axis; 0 where they are not known. */
typedef struct cvk_axes {
    double per_h;
    double complex unlike_per_h;
} cvk_axes;

/* By what is believed, with the d axis along alpha. */
cvk_axes cvk_axes_of(const cvk_belief *belief);

/* The same with the d axis at an angle. */
static inline cvk_axes cvk_turned_axes(cvk_axes axes, double angle_rad)
{
    return (cvk_axes){axes.per_h, axes.unlike_per_h * cexp(2.0 * I * angle_rad)};
}

/* While the rotor's angle is not known. */
static inline cvk_axes cvk_mean_axes(const cvk_belief *belief)
{
    return (cvk_axes){cvk_axes_of(belief).per_h, 0.0};
}

/* What is known of what an inverter loses. */
typedef struct cvk_loss {
    double dead_time_voltage_v, knee_a; /* U s(i / knee), by a curve of inverter_curve.h; U 0: */
    int curve;                          /* nothing */
    double per_h;                       /* one over the mean inductance; 0: not known */
    long delay;                         /* rows from duties to the current at their start */
} cvk_loss;

cvk_loss cvk_loss_of(const cvk_belief *belief);

/* Finds `signals->legs` of each of the rows from its voltages and currents. */
void cvk_find_edges(const cvk_waveforms *waveforms, cvk_span rows, const cvk_loss *loss);
void cvk_find_all_edges(const cvk_waveforms *waveforms, const cvk_loss *loss, int threads);

/* Directions of the phases in the stationary plane. */
static const double cvk_phase_axis[3][2] = {
    {1.0, 0.0}, {-0.5, 0.86602540378443864676}, {-0.5, -0.86602540378443864676}};

/* What the ripple takes from each phase's current where its leg rises, and adds where it falls, A;
 * `edges` of the row whose duties act. */
INLINED void cvk_ripple_at(const cvk_edge edges[3], double per_h, double unlike_re,
                           double unlike_im, double rise_a[3], double fall_a[3])
{
    for (int n = 0; n < 3; n++) {
        const double along =
            per_h + cvk_phase_axis[n][0] * unlike_re - cvk_phase_axis[n][1] * unlike_im;
        const double across = cvk_phase_axis[n][0] * unlike_im + cvk_phase_axis[n][1] * unlike_re;
        const double less = -along * edges[n].rise_wb[0] - across * edges[n].rise_wb[1];
        const double more = along * edges[n].fall_wb[0] + across * edges[n].fall_wb[1];
        rise_a[n] = less > 0.0 ? less : 0.0;
        fall_a[n] = more > 0.0 ? more : 0.0;
    }
}

/* Adds how far the current goes from the middle to an edge, when it goes (alpha, beta) in a period.
 */
INLINED void cvk_add_way(const cvk_edge edges[3], double alpha_a, double beta_a, double rise_a[3],
                         double fall_a[3])
{
    double way_a[3];
    cvk_to_three(alpha_a, beta_a, way_a);
    for (int n = 0; n < 3; n++) {
        rise_a[n] += edges[n].off * way_a[n];
        fall_a[n] += edges[n].off * way_a[n];
    }
}

/* Takes from each phase's current what it lies below the chord of its period where its leg's edges
 * are, when its bow is (alpha, beta) per square of the period. */
INLINED void cvk_take_bow(const cvk_edge edges[3], double alpha_a, double beta_a,
                          double current_a[3])
{
    double bow_a[3];
    cvk_to_three(alpha_a, beta_a, bow_a);
    for (int n = 0; n < 3; n++) {
        current_a[n] -= (0.125 - 0.5 * edges[n].off * edges[n].off) * bow_a[n];
    }
}

/* The inverter's own voltage, per volt of dead-time voltage at the mean bus, for a current while
 * the duties of row `acting` act. */
double complex cvk_own_share(const cvk_waveforms *waveforms, double complex current_a,
                             size_t acting, double knee_a, int curve, cvk_axes axes);
/* The same at a row of a log, by the curve and delay of a belief. */
double complex cvk_own_share_at(const cvk_waveforms *waveforms, size_t row, double knee_a,
                                cvk_axes axes, const cvk_belief *belief);

#endif
