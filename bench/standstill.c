/* SPDX-License-Identifier: Apache-2.0
 *
 * What a log at standstill tells of motors drawn far outside the studio, beside the truth, and
 * whether parts of one log tell the same.
 *
 *   bench_standstill low FIRST MOTORS SEEDS averaged|switched   3 to 30 uH, noisy currents
 *   bench_standstill cut FIRST MOTORS CUTS averaged|switched    pieces of one log each
 */
#include "corvak/ident/estimate.h"
#include "draw.h"
#include "math/parallel.h"
#include "random_start.h"
#include "recording.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { KEYS = 3, THREADS = 2, MOST = 64 };

static const cvk_card_key keys[KEYS] = {CVK_CARD_RESISTANCE, CVK_CARD_INDUCTANCE_D,
                                        CVK_CARD_INDUCTANCE_Q};

/* A small motor of much current behind a coarse sensor. */
static cvk_rig_config low_motor(uint64_t number)
{
    uint64_t n = number * 6007u + 5u;
    cvk_rig_config b = random_motor(number);
    const double limit_a = draw_ratio(&n, 10.0, 80.0),
                 range_a = limit_a * draw_between(&n, 2.0, 4.0);
    const double pwm_hz = draw_ratio(&n, 8e3, 80e3), bus_v = draw_ratio(&n, 12.0, 48.0);
    cvk_rig_motor *m = &b.motor;
    m->inductance_d_h = draw_ratio(&n, 3e-6, 30e-6);
    m->inductance_q_h = m->inductance_d_h * draw_between(&n, 1.0, 1.6);
    const double r = fmin(m->inductance_d_h / draw_ratio(&n, 3.0, 60.0) * pwm_hz, 4.0 / limit_a);
    b.inverter.switch_resistance_ohm = fmax(0.0005, r * draw_between(&n, 0.05, 0.3));
    m->resistance_ohm = r;
    m->saturation_d_a = limit_a * draw_between(&n, 3.0, 8.0);
    m->saturation_q_a = limit_a * draw_between(&n, 2.0, 7.0);
    m->iron_loss_ohm = r * draw_ratio(&n, 300.0, 3000.0);
    m->winding_j_k = 1.5 * limit_a * limit_a * r;
    m->winding_k_w = 40.0 / m->winding_j_k;
    b.inverter.pwm_hz = pwm_hz;
    b.inverter.dead_time_s = draw_ratio(&n, 0.002, 0.04) / pwm_hz;
    b.inverter.minimum_pulse_s = 0.5 * b.inverter.dead_time_s;
    b.inverter.output_capacitance_f = fmin(
        1e-6, fmax(1e-11, draw_ratio(&n, 0.003, 0.1) * limit_a * b.inverter.dead_time_s / bus_v));
    b.supply.bus_v = bus_v;
    b.supply.resistance_ohm = 0.02 * bus_v / limit_a;
    b.supply.capacitor_f = fmax(1e-5, limit_a / pwm_hz / (0.01 * bus_v));
    b.sensing.current_range_a = range_a;
    b.sensing.amplifier_range_a = 1.3 * range_a;
    b.sensing.current_noise_a = range_a * draw_ratio(&n, 0.0005, 0.005);
    b.sensing.current_offset_a = 0.01 * range_a;
    b.sensing.current_drift_a_s = 1e-4 * limit_a;
    b.sensing.amplifier_lag_s = fmin(0.2e-6, 0.01 / pwm_hz);
    b.sensing.ringing_a = 0.03 * limit_a;
    b.sensing.settling_s = fmin(0.6e-6, 0.03 / pwm_hz);
    b.sensing.voltage_range_v = 1.6 * bus_v;
    b.sensing.voltage_noise_v = 0.001 * bus_v;
    b.sensing.current_gain_tolerance = b.sensing.voltage_gain_tolerance = 0.0;
    b.tune.motor.resistance_ohm = (float)r;
    b.tune.motor.inductance_d_h = b.tune.motor.inductance_q_h = (float)m->inductance_d_h;
    b.tune.protect.trip_current_a = (float)(1.9 * limit_a);
    b.tune.protect.bus_min_v = (float)(0.5 * bus_v);
    b.tune.protect.bus_max_v = (float)(1.5 * bus_v);
    b.tune.limit.current_a = (float)limit_a;
    b.tune.program.hold_s = 0.15f;
    return b;
}

typedef struct reading {
    bool known;
    double value, low, high;
} reading;

typedef struct job {
    cvk_rig_config bench;
    int parts; /* seeds, or pieces */
    bool cut;
    uint64_t number;
    reading of[MOST][KEYS];
    char said[MOST][160];
} job;

static double truth(const cvk_rig_config *b, int k)
{
    return k == 0 ? cvk_rig_visible_resistance(b)
                  : (k == 1 ? b->motor.inductance_d_h : b->motor.inductance_q_h);
}

static void read_log(const cvk_log *log, reading of[KEYS], char said[160])
{
    cvk_estimate_options options = cvk_estimate_options_default();
    cvk_estimate *e = malloc(sizeof *e);
    const cvk_log *logs[1] = {log};
    options.threads = 1;
    said[0] = '\0';
    memset(of, 0, KEYS * sizeof *of);
    if (e != NULL && cvk_estimate_logs(logs, 1, &options, e) != CVK_OK) {
        snprintf(said, 160, "nothing");
    }
    for (int k = 0; e != NULL && k < KEYS; k++) {
        const cvk_card_entry *entry = &e->card.entry[keys[k]];
        of[k] =
            (reading){entry->known, entry->value, entry->statistical_low, entry->statistical_high};
        if (!entry->known && said[0] == '\0') {
            snprintf(said, 160, "%s", entry->missing);
        }
    }
    free(e);
}

/* False when the drive stopped itself. */
static bool record_standstill(recording *out, const cvk_rig_config *bench, uint64_t seed)
{
    cvk_excitation program;
    cvk_sim sim;
    const bool fine =
        cvk_sim_init(&sim, bench, seed, NULL) == CVK_OK &&
        cvk_sim_start(&sim, cvk_program_named("standstill"), &program, NULL) == CVK_OK &&
        cvk_sim_record(out, &sim, false) == CVK_OK;
    cvk_sim_close(&sim);
    return fine;
}

/* Some contiguous part of a log, at least a quarter. */
static cvk_log piece_of(const cvk_log *whole, uint64_t *state)
{
    const double share = draw_between(state, 0.25, 1.0);
    const size_t rows = (size_t)(share * (double)whole->rows);
    const size_t begin = (size_t)(draw_even(state) * (double)(whole->rows - rows));
    return part_of_log(whole, begin, rows);
}

static bool run_job(void *context, size_t n)
{
    job *j = (job *)context + n;
    recording r;
    uint64_t state = 77u * j->number + 3u;
    bool fine = j->cut && record_standstill(&r, &j->bench, 1000u + j->number);
    for (int k = 0; k < j->parts; k++) {
        if (!j->cut) {
            fine = record_standstill(&r, &j->bench, 1000u + 31u * j->number + (uint64_t)k);
        }
        if (!fine) {
            snprintf(j->said[k], sizeof j->said[k], "the drive stopped");
            continue;
        }
        const cvk_log part = j->cut && k > 0 ? piece_of(&r.log, &state) : r.log;
        read_log(&part, j->of[k], j->said[k]);
        if (!j->cut) {
            recording_free(&r);
        }
    }
    if (j->cut && fine) {
        recording_free(&r);
    }
    return true;
}

/* What each piece or seed of a motor has brought; counts what is known, and what holds the truth.
 */
static void report(const job *j, int known[KEYS], int held[KEYS])
{
    const cvk_rig_config *b = &j->bench;
    printf("%llu: Ld %.1f Lq %.1f uH, R %.1f mOhm, %.0f A, noise %.2f %%, dead %.2f %%, %.0f kHz\n",
           (unsigned long long)j->number, 1e6 * b->motor.inductance_d_h,
           1e6 * b->motor.inductance_q_h, 1e3 * truth(b, 0), (double)b->tune.limit.current_a,
           100.0 * b->sensing.current_noise_a / b->sensing.current_range_a,
           100.0 * b->inverter.dead_time_s * b->inverter.pwm_hz, 1e-3 * b->inverter.pwm_hz);
    for (int p = 0; p < j->parts; p++) {
        printf("   ");
        for (int k = 0; k < KEYS; k++) {
            const reading *r = &j->of[p][k];
            const double is = truth(b, k);
            const bool in = is >= r->low && is <= r->high;
            known[k] += r->known;
            held[k] += r->known && in;
            if (r->known) {
                printf(" %+6.2f of %5.2f %%%s", 100.0 * (r->value / is - 1.0),
                       50.0 * (r->high - r->low) / is, in ? "  " : " *");
            } else {
                printf("       open       ");
            }
        }
        printf("  %s\n", j->said[p]);
    }
}

int main(int argc, char **argv)
{
    if (argc != 6) {
        fprintf(stderr, "bench_standstill low|cut FIRST MOTORS SEEDS averaged|switched\n");
        return 2;
    }
    const bool cut = strcmp(argv[1], "cut") == 0;
    const uint64_t first = strtoull(argv[2], NULL, 10);
    const size_t count = strtoull(argv[3], NULL, 10);
    const int parts = atoi(argv[4]);
    int held[KEYS] = {0}, known[KEYS] = {0};
    job *jobs = parts >= 1 && parts <= MOST ? calloc(count, sizeof *jobs) : NULL;
    if (jobs == NULL) {
        fprintf(stderr, "bench_standstill: 1 to %d seeds or pieces\n", MOST);
        return 2;
    }
    for (size_t n = 0; n < count; n++) {
        jobs[n].bench = cut && n % 2 ? random_motor(first + n) : low_motor(first + n);
        jobs[n].bench.inverter.fidelity =
            strcmp(argv[5], "switched") == 0 ? CVK_FIDELITY_SWITCHED : CVK_FIDELITY_AVERAGED;
        jobs[n].bench.sensing.current_gain_tolerance = 0.0;
        jobs[n].bench.sensing.voltage_gain_tolerance = 0.0;
        jobs[n].parts = parts;
        jobs[n].cut = cut;
        jobs[n].number = first + n;
    }
    (void)cvk_for_each(count, THREADS, run_job, jobs);
    for (size_t n = 0; n < count; n++) {
        report(&jobs[n], known, held);
    }
    for (int k = 0; k < KEYS; k++) {
        printf("%-14s known %d of %d, inside %d\n", cvk_card_key_name(keys[k]), known[k],
               (int)count * parts, held[k]);
    }
    free(jobs);
    return 0;
}
