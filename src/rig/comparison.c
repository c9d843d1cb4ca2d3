/* SPDX-License-Identifier: Apache-2.0
 *
 * Runs one rig with both inverters and compares what comes out.
 */
#include "corvak/rig/comparison.h"

#include "parts.h"

#define SETTLE_TIME_CONSTANTS 9.0
#define MOST_SETTLE_PERIODS 4000.0
#define COUNTED_PERIODS 4

typedef struct gathering {
    double time_s, current_a; /* of the piece before */
    double integral_as, from_s, low_a, high_a;
    bool started;
} gathering;

static void gather_piece(void *context, cvk_rig *rig, double time_s, const double node_v[3])
{
    gathering *g = context;
    double i[3];
    (void)node_v;
    cvk_leg_currents(rig, i);
    if (g->started) {
        g->integral_as += 0.5 * (i[0] + g->current_a) * (time_s - g->time_s);
    } else {
        g->from_s = time_s;
        g->low_a = g->high_a = i[0];
    }
    g->low_a = cvk_smaller(g->low_a, i[0]);
    g->high_a = cvk_larger(g->high_a, i[0]);
    g->time_s = time_s;
    g->current_a = i[0];
    g->started = true;
}

/* Voltage along phase a as duties about one half. */
static void held_duties(const cvk_rig *rig, double voltage_v, double duty[3])
{
    double share = voltage_v / rig->state.bus_v;
    duty[0] = 0.5 + 0.75 * share;
    duty[1] = duty[2] = 0.5 - 0.75 * share;
}

static void settle(cvk_rig *rig, double voltage_v)
{
    double duty[3], slowest_s = rig->config.motor.inductance_d_h / rig->derived.resistance_ohm;
    int periods = (int)cvk_smaller(
        MOST_SETTLE_PERIODS, SETTLE_TIME_CONSTANTS * slowest_s * rig->config.inverter.pwm_hz + 8.0);
    for (int n = 0; n < periods; n++) {
        held_duties(rig, voltage_v, duty);
        cvk_rig_advance(rig, duty);
    }
}

static double mean_averaged(cvk_rig *rig, double voltage_v)
{
    double i[3], sum = 0.0, duty[3];
    settle(rig, voltage_v);
    for (int n = 0; n < COUNTED_PERIODS; n++) {
        held_duties(rig, voltage_v, duty);
        cvk_rig_advance(rig, duty);
        cvk_leg_currents(rig, i);
        sum += i[0];
    }
    return sum / COUNTED_PERIODS;
}

/* `g` is the caller's: the rig points to it while it runs. */
static double mean_switched(cvk_rig *rig, gathering *g, double voltage_v,
                            cvk_rig_comparison_point *point)
{
    *g = (gathering){.started = false};
    double duty[3], nothing[3] = {0.0, 0.0, 0.0};
    settle(rig, voltage_v);
    rig->scope = gather_piece;
    rig->scope_context = g;
    rig->meter = (cvk_rig_meter){.on = true};
    for (int n = 0; n < COUNTED_PERIODS; n++) {
        held_duties(rig, voltage_v, duty);
        cvk_rig_advance(rig, duty);
    }
    gather_piece(g, rig, rig->time_s, nothing);
    rig->scope = NULL;
    point->ripple_a = g->high_a - g->low_a;
    point->capacitor_ripple_a = sqrt(rig->meter.capacitor_a2_s / rig->meter.time_s);
    return g->integral_as / (g->time_s - g->from_s);
}

cvk_status cvk_rig_compare_inverters(const cvk_rig_config *config, cvk_rig_comparison *comparison)
{
    static const double shares[] = {0.003, 0.006, 0.01, 0.015, 0.02, 0.03, 0.04, 0.06,
                                    0.08,  0.1,   0.14, 0.2,   0.3,  0.4,  0.6,  0.9};
    cvk_rig averaged, switched;
    cvk_rig_config one = *config, other = *config;
    one.inverter.fidelity = CVK_FIDELITY_AVERAGED;
    other.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    /* a steady temperature, so that settling times do not show */
    one.imperfections.heating = other.imperfections.heating = 0;
    cvk_status status = cvk_rig_init(&averaged, &one, 1);
    if (status == CVK_OK) {
        status = cvk_rig_init(&switched, &other, 1);
    }
    if (status != CVK_OK) {
        return status;
    }
    cvk_rig *const rigs[] = {&averaged, &switched};
    for (int n = 0; n < 2; n++) {
        cvk_rig_place(rigs[n], 0.0);
        cvk_rig_hold_shaft(rigs[n], true);
        cvk_rig_enable_bridge(rigs[n], true);
    }
    *comparison = (cvk_rig_comparison){.crossover_a = averaged.derived.crossover_a};
    gathering g;
    const size_t each = sizeof shares / sizeof shares[0];
    double full_v = cvk_smaller(config->tune.limit.current_a * averaged.derived.resistance_ohm +
                                    4.0 / 3.0 * averaged.derived.dead_v,
                                0.5 * config->supply.bus_v);
    for (size_t n = 0; n < 2 * each; n++) {
        cvk_rig_comparison_point *p = &comparison->point[comparison->points++];
        double share = n < each ? -shares[each - 1 - n] : shares[n - each];
        p->voltage_v = share * full_v;
        p->averaged_a = mean_averaged(&averaged, p->voltage_v);
        p->switched_a = mean_switched(&switched, &g, p->voltage_v, p);
    }
    return CVK_OK;
}
