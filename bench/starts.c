/* SPDX-License-Identifier: Apache-2.0
 *
 * bench_starts [COUNT] [FROM] [WORD ...]: starts of motors drawn far outside the studio
 * (tests/support/random_start.h), cold to hot, with up to 80 % of the limit's torque as load, every
 * imperfection on. WORD: averaged or switched alone; exact: the controller knows the motor;
 * unloaded; salient: saliency 1.5 .. 4; caught: it turns already; blocked; emf, kalman: the
 * observer in use; trace: what happens.
 */
#include "random_start.h"

#include "corvak/core/drive.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static bool said(int argc, char **argv, const char *word)
{
    for (int n = 3; n < argc; n++) {
        if (strcmp(argv[n], word) == 0) {
            return true;
        }
    }
    return false;
}

static void print(uint64_t number, const random_start *s, bool switched)
{
    const cvk_rig_config *b = &s->bench;
    printf("%4u %s  %2.0f pp %6.3g V %5.3g kHz  Ld %7.3g H x%.2f  %7.3g Ohm  %7.3g Wb  %5.3g A  "
           "(Lq-Ld)I/flux %.2f  "
           "load %.2f  %3.0f degC  takeover %.3g of %.3g rad/s  %s: %s; %s%s; attempt %d, %.2f s, "
           "%.2f of limit\n",
           (unsigned)number, switched ? "sw" : "av", b->motor.pole_pairs, b->supply.bus_v,
           1e-3 * b->inverter.pwm_hz, b->motor.inductance_d_h,
           b->motor.inductance_q_h / b->motor.inductance_d_h, cvk_rig_visible_resistance(b),
           b->motor.flux_linkage_wb, (double)b->tune.limit.current_a,
           (b->motor.inductance_q_h - b->motor.inductance_d_h) * (double)b->tune.limit.current_a /
               b->motor.flux_linkage_wb,
           s->load_share, s->winding_degc, (double)b->tune.start.speed_rad_s,
           b->supply.bus_v / 1.732 / b->motor.flux_linkage_wb, s->at, cvk_fault_text(s->fault),
           cvk_start_reason_text(s->reason), s->why, s->attempts, s->took_s,
           s->current_a / (double)b->tune.limit.current_a);
}

int main(int argc, char **argv)
{
    const unsigned count = argc > 1 ? (unsigned)strtoul(argv[1], NULL, 10) : 200u;
    const unsigned from = argc > 2 ? (unsigned)strtoul(argv[2], NULL, 10) : 0u;
    random_start_options o = {.exact = said(argc, argv, "exact"),
                              .blocked = said(argc, argv, "blocked"),
                              .caught = said(argc, argv, "caught"),
                              .most_load = said(argc, argv, "unloaded") ? 0.0 : 0.8,
                              .observer = said(argc, argv, "emf")      ? CVK_OBSERVER_EMF
                                          : said(argc, argv, "kalman") ? CVK_OBSERVER_KALMAN
                                                                       : CVK_OBSERVER_FLUX,
                              .trace = said(argc, argv, "trace")};
    if (said(argc, argv, "salient")) {
        o.least_saliency = 1.5;
        o.most_saliency = 4.0;
    }
    for (int f = 0; f < 2; f++) {
        double rows[10] = {0.0}, within[10] = {0.0};
        unsigned good = 0, first = 0, beyond = 0;
        if (said(argc, argv, f == 0 ? "switched" : "averaged")) {
            continue;
        }
        o.switched = f == 1;
        for (unsigned n = from; n < from + count; n++) {
            const random_start s = start_random_motor(n, &o);
            const bool fine =
                o.blocked ? s.fault == CVK_FAULT_START && s.reason == CVK_START_BLOCKED : s.good;
            for (int bin = 0; bin < 10; bin++) {
                rows[bin] += s.rows[bin];
                within[bin] += s.within[bin];
            }
            good += fine ? 1u : 0u;
            first += fine && s.attempts == 1 ? 1u : 0u;
            beyond += s.current_a > 1.15 * (double)s.bench.tune.limit.current_a ? 1u : 0u;
            if (!fine || o.trace || s.current_a > 1.15 * (double)s.bench.tune.limit.current_a) {
                print(n, &s, o.switched);
                fflush(stdout);
            }
        }
        printf("%s: %u of %u, %u in the first attempt; current beyond 1.15 of the limit in %u\n",
               f == 0 ? "averaged" : "switched", good, count, first, beyond);
        printf("quality, and share of rows within 30 degrees:");
        for (int bin = 0; bin < 10; bin++) {
            printf("  %.1f: %.3f", 0.1 * bin + 0.05, within[bin] / rows[bin]);
        }
        printf("\n");
        fflush(stdout);
    }
    return EXIT_SUCCESS;
}
