/* SPDX-License-Identifier: Apache-2.0
 *
 * bench_sensorless [CASES] [WHAT] [MOTOR] [OBSERVER]: the studio's motors without a rotor sensor,
 * in random cases (tests/support/sensorless_case.h), every imperfection on; a fifth as many on the
 * switched inverter. WHAT: start, loaded, blocked, catch, blind, angle, angle10, slow, reverse,
 * torque, turns, still, held, band, creep or all; OBSERVER: flux, emf or kalman. Then, over all of
 * it, how often an angle of a given quality was right.
 */
#include "sensorless.h"
#include "sensorless_case.h"

#include "corvak/core/parameters.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define DEGREES (180.0 / 3.14159265358979323846)
#define CARDS 3u

typedef struct tally {
    unsigned cases, good;
    double slowest_s, sum_s, backward_rad, current_a, caught_a, angle_worst_rad, angle_square,
        speed_off, slip_mech_rad, angle_peak_rad, bump, back_mech_rad;
} tally;

typedef struct reliability {
    double rows[10], quality[10], within[10];
} reliability;

static void add(tally *t, const sensorless_outcome *o)
{
    t->cases++;
    t->good += o->good ? 1u : 0u;
    t->slowest_s = fmax(t->slowest_s, o->took_s);
    t->sum_s += o->took_s;
    t->backward_rad = fmax(t->backward_rad, o->backward_rad);
    t->current_a = fmax(t->current_a, o->current_a);
    t->caught_a = fmax(t->caught_a, o->caught_a);
    t->angle_worst_rad = fmax(t->angle_worst_rad, o->angle_rms_rad);
    t->angle_square += o->angle_rms_rad * o->angle_rms_rad;
    t->speed_off = fmax(t->speed_off, o->speed_off);
    t->angle_peak_rad = fmax(t->angle_peak_rad, o->angle_peak_rad);
    t->back_mech_rad = fmax(t->back_mech_rad, o->back_mech_rad);
    t->bump = fmax(t->bump, o->bump);
    t->slip_mech_rad = fmax(t->slip_mech_rad, o->slip_mech_rad);
}

static void count_right(reliability *r, const sensorless_outcome *o)
{
    for (int bin = 0; bin < 10; bin++) {
        r->rows[bin] += o->rows[bin];
        r->quality[bin] += o->quality[bin];
        r->within[bin] += o->within[bin];
    }
}

static void print_right(const reliability *r)
{
    printf("\nquality   mean quality   within 30 deg   rows\n");
    for (int bin = 0; bin < 10; bin++) {
        if (!(r->rows[bin] > 0.0)) {
            continue;
        }
        printf("%.1f..%.1f  %12.3f   %13.3f   %.0f\n", 0.1 * bin, 0.1 * (bin + 1),
               r->quality[bin] / r->rows[bin], r->within[bin] / r->rows[bin], r->rows[bin]);
    }
}

static void print(const char *motor, int fidelity, sensorless_what w, const tally *t,
                  double limit_a)
{
    printf("%-7s %-9s %-8s %3u of %3u  %5.2f s mean %5.2f s at most", motor,
           fidelity == 0 ? "averaged" : "switched", sensorless_names[w], t->good, t->cases,
           t->sum_s / t->cases, t->slowest_s);
    if (w == CASE_CATCH || w == CASE_BLIND) {
        printf("  current %3.0f %% until caught", 100.0 * t->caught_a / limit_a);
    } else if (w == CASE_ANGLE || w == CASE_ANGLE_10) {
        printf("  angle %5.2f deg rms, worst case %5.2f",
               DEGREES * sqrt(t->angle_square / t->cases), DEGREES * t->angle_worst_rad);
    } else if (w == CASE_STILL || w == CASE_HELD) {
        printf(
            "  moved %.1f deg at most in the start  angle %.2f deg rms, worst case %.2f, peak %.2f",
            DEGREES * t->backward_rad, DEGREES * sqrt(t->angle_square / t->cases),
            DEGREES * t->angle_worst_rad, DEGREES * t->angle_peak_rad);
    } else if (w == CASE_CREEP) {
        printf("  back by %.2f deg mechanical at most", DEGREES * t->back_mech_rad);
    } else if (w == CASE_BAND) {
        printf("  torque at a handover moves by %.1f %% of the limit's at most", 100.0 * t->bump);
    } else if (w == CASE_TURNS) {
        printf("  position off by %.2f deg mechanical at most", DEGREES * t->slip_mech_rad);
    } else if (w == CASE_SLOW) {
        printf("  mean speed off by %.1f %% at most", 100.0 * t->speed_off);
    } else {
        printf("  backward %3.0f deg at most  current %3.0f %%", DEGREES * t->backward_rad,
               100.0 * t->current_a / limit_a);
    }
    printf("\n");
    fflush(stdout);
}

static void bench_motor(const char *motor, const cvk_rig_config *cards, sensorless_what w,
                        unsigned cases, reliability *right)
{
    for (int f = 0; f < 2; f++) {
        tally t = {0};
        const unsigned count = f == 0 ? cases : (cases + 4u) / 5u;
        for (unsigned k = 0; k < count; k++) {
            cvk_rig_config bench = cards[k % CARDS];
            bench.inverter.fidelity = f;
            const sensorless_outcome o = sensorless_case(&bench, w, k);
            add(&t, &o);
            count_right(right, &o);
            if (!o.good) {
                printf("    case %u: %s; %s; after %.2f s\n", k, cvk_fault_text(o.fault),
                       cvk_start_reason_text(o.reason), o.took_s);
            }
        }
        print(motor, f, w, &t, (double)cards[0].tune.limit.current_a);
    }
}

static bool wanted(const char *name, int argc, char **argv, int place)
{
    return argc <= place || strcmp(argv[place], "all") == 0 || strcmp(argv[place], name) == 0;
}

int main(int argc, char **argv)
{
    static const char *const motors[] = {"wheel", "blower", "mixer", "table"};
    const unsigned cases = argc > 1 ? (unsigned)strtoul(argv[1], NULL, 10) : 100u;
    const cvk_parameter *kind = cvk_parameter_named("observer.kind");
    reliability right = {.rows = {0}};
    for (size_t m = 0; m < 4; m++) {
        cvk_rig_config cards[CARDS];
        if (!wanted(motors[m], argc, argv, 3)) {
            continue;
        }
        for (unsigned c = 0; c < CARDS; c++) {
            cards[c] = bench_with_gains(motors[m], 1u + c);
            for (int k = 0; k < 3 && argc > 4; k++) {
                cards[c].tune.observer.kind =
                    strcmp(kind->names[k], argv[4]) == 0 ? k : cards[c].tune.observer.kind;
            }
        }
        for (int w = 0; w < CASE_STILL; w++) {
            if (wanted(sensorless_names[w], argc, argv, 2)) {
                const unsigned most =
                    w == CASE_TURNS && cases > 5u ? 5u : cases; /* they are long */
                bench_motor(motors[m], cards, (sensorless_what)w, most, &right);
            }
        }
    }
    for (size_t m = 0; m < 4; m += 2) { /* the salient ones, by injection */
        cvk_rig_config cards[CARDS];
        if (!wanted(motors[m], argc, argv, 3)) {
            continue;
        }
        for (unsigned c = 0; c < CARDS; c++) {
            cards[c] = bench_with_injection(motors[m], 1u + c);
        }
        for (int w = CASE_STILL; w < CASES; w++) {
            if (wanted(sensorless_names[w], argc, argv, 2)) {
                const unsigned most = w == CASE_CREEP ? 1u : cases; /* ten minutes each */
                bench_motor(motors[m], cards, (sensorless_what)w, most, &right);
            }
        }
    }
    print_right(&right);
    return EXIT_SUCCESS;
}
