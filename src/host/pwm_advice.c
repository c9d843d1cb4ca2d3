/* SPDX-License-Identifier: Apache-2.0
 *
 * PWM frequencies compared.
 */
#include "corvak/host/pwm_advice.h"

#include "corvak/core/units.h"

#include <math.h>

#define PERIODS_PER_RADIAN 3.5 /* as gains.c has it */
#define STOPS_S 1e-3           /* a shaft that is blocked at top speed stands after this time */
#define REACTION_PERIODS 2.5   /* a sample, its computation, and half the period in which it acts */

static const struct {
    const char *text;
    double limit;
} costs[CVK_PWM_COSTS] = {
    [CVK_PWM_RIPPLE] = {"current ripple", 0.5},
    [CVK_PWM_CAPACITOR] = {"ripple of the bus", 0.05},
    [CVK_PWM_ANGLE] = {"angle turned in a control period", 0.6},
    [CVK_PWM_DEAD_TIME] = {"dead time", 0.03},
    [CVK_PWM_SWITCHING] = {"switching loss", 1.0},
    [CVK_PWM_BLOCKED] = {"reaction to a blocked rotor", 1.0},
};

double cvk_pwm_limit(cvk_pwm_cost cost)
{
    return costs[cost].limit;
}

const char *cvk_pwm_cost_text(cvk_pwm_cost cost)
{
    return costs[cost].text;
}

/* Duty of phase n for a voltage of `share` of the bus at an angle, by min-max injection. */
static double duty_of(int n, double share, double angle)
{
    double x[3], low = INFINITY, high = -INFINITY;
    for (int k = 0; k < 3; k++) {
        x[k] = share * cos(angle - 2.0 * CVK_PI_WIDE / 3.0 * k);
        low = fmin(low, x[k]);
        high = fmax(high, x[k]);
    }
    return 0.5 + x[n] - 0.5 * (low + high);
}

/* Peak to peak of the integral of phase a's voltage less its mean, over half a centre-aligned
 * period, as a share of bus times period: legs go high one after the other, the largest duty first.
 * The other half is the same with the other sign. */
static double swing_at(double share, double angle)
{
    double d[3], edge[5] = {0.0, 0.5, 0.0, 0.0, 0.0}, mean, sum = 0.0, low = 0.0, high = 0.0;
    for (int n = 0; n < 3; n++) {
        d[n] = duty_of(n, share, angle);
        edge[2 + n] = 0.5 * (1.0 - d[n]);
    }
    mean = d[0] - (d[0] + d[1] + d[2]) / 3.0;
    for (int a = 0; a < 5; a++) { /* five edges: sort them */
        for (int b = a + 1; b < 5; b++) {
            if (edge[b] < edge[a]) {
                const double x = edge[a];
                edge[a] = edge[b];
                edge[b] = x;
            }
        }
    }
    for (int k = 0; k + 1 < 5; k++) {
        const double middle = 0.5 * (edge[k] + edge[k + 1]);
        double on[3];
        for (int n = 0; n < 3; n++) {
            on[n] = middle > 0.5 * (1.0 - d[n]) ? 1.0 : 0.0;
        }
        sum += (edge[k + 1] - edge[k]) * (on[0] - (on[0] + on[1] + on[2]) / 3.0 - mean);
        low = fmin(low, sum);
        high = fmax(high, sum);
    }
    return 2.0 * fmax(high, -low);
}

/* The largest over a turn and over the linear range. */
static double largest_swing(void)
{
    double most = 0.0;
    for (int m = 1; m <= 20; m++) {
        for (int k = 0; k < 60; k++) {
            most = fmax(most, swing_at(m / 20.0 / sqrt(3.0), 2.0 * CVK_PI_WIDE * k / 60.0));
        }
    }
    return most;
}

/* In the bus capacitor, at the worst modulation, current in phase with the voltage (Kolar, Round,
 * "Analytical calculation of the RMS current stress on the DC-link capacitor of voltage-PWM
 * converter systems", IEE Proc. Electr. Power Appl. 153(4), 2006). */
static double capacitor_rms(double peak_a)
{
    double most = 0.0;
    for (int k = 1; k <= 20; k++) {
        const double m = 1.1547 * k / 20.0;
        const double square =
            2.0 * m * (sqrt(3.0) / (4.0 * CVK_PI_WIDE) + sqrt(3.0) / CVK_PI_WIDE - 9.0 * m / 16.0);
        most = fmax(most, sqrt(fmax(0.0, square)));
    }
    return most * peak_a / sqrt(2.0);
}

static void fill(cvk_pwm_row *row, const cvk_gains *g, const cvk_pwm_stage *s, double swing)
{
    const cvk_settings *set = &g->settings;
    const double T = 1.0 / row->pwm_hz, control_s = T / s->updates_per_period;
    const double l_h = fmin((double)set->motor.inductance_d_h, (double)set->motor.inductance_q_h);
    const double limit_a = (double)set->limit.current_a,
                 trip_a = (double)set->protect.trip_current_a;
    const double emf_v = g->top_speed_rad_s * (double)set->motor.flux_linkage_wb;
    row->cost[CVK_PWM_RIPPLE] = swing * s->bus_v * T / l_h / limit_a;
    row->cost[CVK_PWM_CAPACITOR] =
        s->capacitor_f > 0.0 ? 0.25 * limit_a * T / s->capacitor_f / s->bus_v : 0.0;
    row->cost[CVK_PWM_ANGLE] = g->top_speed_rad_s * control_s;
    row->cost[CVK_PWM_DEAD_TIME] = s->dead_time_s * row->pwm_hz;
    /* both edges of each leg, at the mean of a half wave; conduction at the rms of three phases */
    const double switching_w =
        3.0 * s->bus_v * limit_a * (2.0 / CVK_PI_WIDE) * s->edge_s * row->pwm_hz;
    const double conduction_w = 1.5 * s->switch_resistance_ohm * limit_a * limit_a;
    row->cost[CVK_PWM_SWITCHING] = conduction_w > 0.0 ? switching_w / conduction_w : 0.0;
    /* until it reacts, what the back-EMF has lost drives current: with the square of the time while
     * the shaft still stops, and then with the time */
    const double reaction_s = REACTION_PERIODS * control_s;
    const double volt_s = reaction_s < STOPS_S ? 0.5 * emf_v * reaction_s * reaction_s / STOPS_S
                                               : emf_v * (reaction_s - 0.5 * STOPS_S);
    row->cost[CVK_PWM_BLOCKED] = volt_s / l_h / fmax(trip_a - limit_a, 1e-6);
    row->capacitor_a = capacitor_rms(limit_a);
    row->bandwidth_hz = 1.0 / (2.0 * CVK_PI_WIDE * PERIODS_PER_RADIAN * control_s);
    row->worst_ratio = 0.0;
    for (int c = 0; c < CVK_PWM_COSTS; c++) {
        const double ratio = row->cost[c] / costs[c].limit;
        if (ratio > row->worst_ratio) {
            row->worst_ratio = ratio;
            row->worst = (cvk_pwm_cost)c;
        }
    }
}

void cvk_advise_pwm(const cvk_gains *gains, const cvk_pwm_stage *stage, cvk_pwm_advice *out)
{
    static const double factors[CVK_PWM_MOST] = {0.25, 0.35, 0.5, 0.7, 1.0, 1.4, 2.0, 2.8, 4.0};
    const double swing = largest_swing();
    *out = (cvk_pwm_advice){.count = CVK_PWM_MOST};
    for (size_t n = 0; n < CVK_PWM_MOST; n++) {
        out->row[n].pwm_hz = factors[n] * stage->pwm_hz;
        fill(&out->row[n], gains, stage, swing);
        out->present = factors[n] == 1.0 ? n : out->present;
        out->best = out->row[n].worst_ratio < out->row[out->best].worst_ratio ? n : out->best;
        out->poorest =
            out->row[n].worst_ratio > out->row[out->poorest].worst_ratio ? n : out->poorest;
    }
}
