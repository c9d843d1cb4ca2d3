/* SPDX-License-Identifier: Apache-2.0
 *
 * The scope is told at the start of every piece of a period: voltages hold through the piece,
 * currents go straight to the next.
 */
#include "corvak/rig/scope.h"

#include "parts.h"
#include "random.h"

#define SCOPE_COUNTS 256.0
#define SCOPE_NOISE 0.4 /* counts, rms */
#define SCOPE_SEED 1u   /* its own sequence: a scope does not change what the rig does */

static double probe(cvk_rig *rig, double truth, double range)
{
    double count = 2.0 * range / SCOPE_COUNTS;
    double seen = truth / count + SCOPE_NOISE * cvk_rig_random_normal(&rig->scope_random);
    return count * cvk_clamp(floor(seen + 0.5), -0.5 * SCOPE_COUNTS, 0.5 * SCOPE_COUNTS - 1.0);
}

static void take(cvk_rig_scope *scope, cvk_rig *rig, const cvk_rig_scope_row *now, double time_s)
{
    const cvk_rig_sensing *sensing = &rig->config.sensing;
    const cvk_rig_scope_row *from = &scope->before;
    double share =
        now->time_s > from->time_s ? (time_s - from->time_s) / (now->time_s - from->time_s) : 0.0;
    cvk_rig_scope_row row = {.time_s = time_s};
    for (int n = 0; n < 3; n++) {
        double current = from->leg_a[n] + share * (now->leg_a[n] - from->leg_a[n]);
        row.leg_v[n] = probe(rig, from->leg_v[n], sensing->voltage_range_v);
        row.leg_a[n] = probe(rig, current, 1.25 * rig->config.tune.limit.current_a);
    }
    row.bus_v = probe(rig, from->bus_v, sensing->voltage_range_v);
    scope->row(scope->context, &row);
}

static void on_piece(void *context, cvk_rig *rig, double time_s, const double node_v[3])
{
    cvk_rig_scope *scope = context;
    cvk_rig_scope_row now = {.time_s = time_s, .bus_v = rig->state.bus_v};
    cvk_leg_currents(rig, now.leg_a);
    for (int n = 0; n < 3; n++) {
        now.leg_v[n] = node_v[n];
    }
    for (;;) {
        double due_s = scope->from_s + (double)scope->taken / scope->rate_hz;
        if (due_s >= time_s || due_s >= scope->until_s) {
            break;
        }
        if (scope->started && due_s >= scope->before.time_s) {
            take(scope, rig, &now, due_s);
        }
        scope->taken++;
    }
    scope->before = now;
    scope->started = true;
}

void cvk_rig_scope_attach(cvk_rig *rig, cvk_rig_scope *scope)
{
    scope->taken = 0;
    scope->started = false;
    cvk_rig_random_seed(&rig->scope_random, SCOPE_SEED);
    rig->scope = on_piece;
    rig->scope_context = scope;
}
