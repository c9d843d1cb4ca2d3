/* SPDX-License-Identifier: Apache-2.0
 *
 * bench_sensorless [CASES] [WHAT] [MOTOR]: the studio's motors without a rotor sensor, in random
 * cases: rotor position, temperature, load, and errors of +-10 % of resistance, inductances and
 * flux linkage in what the controller knows; every imperfection of the bench on. A fifth as many
 * cases on the switched inverter. WHAT is one of start, loaded, blocked, catch, angle, angle10;
 * else all.
 */
#include "sensorless.h"

#include "corvak/sim/device.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define PI 3.14159265358979323846
#define DEGREES (180.0 / PI)
#define REST_S 0.3
#define LONGEST_S 12.0
#define CARDS 3u
#define MEAN_S 0.03 /* over which a speed is taken */

typedef enum what { START, LOADED, BLOCKED, CATCH, ANGLE, ANGLE_10, WHATS } what;
static const char *const names[] = {"start", "loaded", "blocked", "catch", "angle", "angle10"};

typedef struct outcome {
    bool good;
    cvk_fault fault;
    double took_s, backward_rad, current_a, catch_a, angle_rms_rad;
} outcome;

typedef struct tally {
    unsigned cases, good;
    double slowest_s, mean_s, backward_rad, current_share, angle_worst_rad, angle_square;
} tally;

/* Even, 0 .. 1. */
static double even(uint64_t *state)
{
    *state = *state * 6364136223846793005u + 1442695040888963407u;
    return (double)(*state >> 40) / 16777216.0;
}

static double off_by(uint64_t *n, double most)
{
    return 1.0 + most * (2.0 * even(n) - 1.0);
}

/* What the controller believes is off by up to `most`, and the motor is cold or warm. */
static void spoil(cvk_rig_config *bench, uint64_t *n, double most)
{
    cvk_motor_settings *m = &bench->tune.motor;
    m->resistance_ohm *= (float)off_by(n, most);
    const double l = off_by(n, most);
    m->inductance_d_h *= (float)l;
    m->inductance_q_h *= (float)l;
    m->flux_linkage_wb *= (float)off_by(n, most);
    bench->motor.ambient_degc = most > 0.0 ? 10.0 + 50.0 * even(n) : 25.0;
}

static double rated_of(const cvk_rig_config *b)
{
    return 0.6 * b->supply.bus_v / sqrt(3.0) / b->motor.flux_linkage_wb;
}

static double torque_of(const cvk_rig_config *b)
{
    return 1.5 * b->motor.pole_pairs * b->motor.flux_linkage_wb * (double)b->tune.limit.current_a;
}

static cvk_rig_scenario load_of(const cvk_rig_config *b, what w, uint64_t *n)
{
    cvk_rig_scenario s = {.count = 0};
    if (w == LOADED || w == ANGLE || w == ANGLE_10) {
        s.item[s.count] = cvk_rig_event_default(CVK_LOAD_BRAKE);
        s.item[s.count++].value[0] = 0.3 * torque_of(b) * (w == LOADED ? 1.0 : even(n));
    } else if (w == BLOCKED) {
        s.item[s.count++] = cvk_rig_event_default(CVK_LOAD_BLOCKED);
    }
    return s;
}

/* One control period, and what it shows. */
static bool look(cvk_device *device, outcome *o, double sign, double *turned_rad, double *before)
{
    cvk_device_row row;
    cvk_device_truth truth;
    device->truth(device->context, &truth);
    if (device->step(device->context, &row) != CVK_OK) {
        return false;
    }
    const double step = remainder(truth.angle_e_rad - *before, 2.0 * PI);
    *turned_rad += isnan(*before) ? 0.0 : sign * step;
    *before = truth.angle_e_rad;
    o->backward_rad = fmax(o->backward_rad, -*turned_rad);
    for (int k = 0; k < 3; k++) {
        o->current_a = fmax(o->current_a, fabs(truth.current_a[k]));
    }
    o->fault = (cvk_fault)row.now->fault;
    return o->fault == CVK_FAULT_NONE;
}

/* Rms of the angle error once the speed is there. */
static void judge_angle(cvk_device *device, outcome *o, double speed, double length_s)
{
    double sum = 0.0, rows = 0.0;
    cvk_device_row row;
    cvk_device_truth truth;
    for (double t = 0.0; t < length_s; t += (double)device->hardware.period_s) {
        device->truth(device->context, &truth);
        if (device->step(device->context, &row) != CVK_OK || row.now->fault != CVK_FAULT_NONE) {
            o->good = false;
            o->fault = (cvk_fault)row.now->fault;
            return;
        }
        if (getenv("ONLY") != NULL && row.now->tick % 400u == 0u) {
            const cvk_moment *m = row.now;
            printf("J %.3f ph %d speed %.1f est %.1f set %.1f err %.1f q %.2f R %.4f f %.5f iq %.2f id %.2f\n", t, m->start_phase, truth.speed_mech_rad_s * device->pole_pairs, (double)m->angle.speed_rad_s, (double)m->speed_set_rad_s, DEGREES*remainder((double)row.now->angle.angle_rad - truth.angle_e_rad, 2.0 * PI), (double)m->angle.quality, (double)m->adapted_resistance_ohm,(double)m->adapted_flux_wb,(double)m->current_a.q,(double)m->current_a.d);
        }
        if (t > 0.3 * length_s && row.now->angle_source != CVK_ANGLE_IMPOSED) {
            const double off =
                remainder((double)row.now->angle.angle_rad - truth.angle_e_rad, 2.0 * PI);
            sum += off * off;
            rows += 1.0;
        }
    }
    o->angle_rms_rad = rows > 0.0 ? sqrt(sum / rows) : 0.0;
    (void)speed;
}

static void rest(cvk_device *device)
{
    const cvk_request resting = {.mode = CVK_MODE_REST}, off = {.mode = CVK_MODE_OFF};
    cvk_device_row row = {0};
    if (device->request(device->context, &resting, NULL) == CVK_OK) {
        while (row.time_s < REST_S && device->step(device->context, &row) == CVK_OK) {
        }
    }
    if (device->request(device->context, &off, NULL) == CVK_OK) {
        (void)(device->step(device->context, &row) == CVK_OK);
    }
}

static outcome run_case(const cvk_rig_config *bench, what w, uint64_t seed, uint64_t *n)
{
    outcome o = {.good = false};
    cvk_device device;
    if (cvk_sim_device_open(&device, bench, seed, NULL) != CVK_OK) {
        fprintf(stderr, "no device\n");
        abort();
    }
    cvk_rig *rig = cvk_sim_device_inside(&device)->rig;
    const double p = bench->motor.pole_pairs, rated = rated_of(bench);
    const double sign = even(n) < 0.5 ? -1.0 : 1.0;
    double speed = sign * 0.3 * rated;
    if (w == ANGLE || w == ANGLE_10) {
        speed = sign * rated * (0.1 + 0.9 * even(n));
    }
    rest(&device);
    const cvk_rig_scenario load = load_of(bench, w, n);
    cvk_rig_set_scenario(rig, &load);
    if (w == CATCH) {
        speed = rated * (2.0 * even(n) - 1.0);
        cvk_rig_spin(rig, speed / p, speed / p);
        speed = fabs(speed) < 0.15 * rated ? copysign(0.15 * rated, speed) : speed;
    }
    const cvk_request go = {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)speed};
    double turned = 0.0, before = NAN, time_s = 0.0, mean = 0.0;
    bool goes = device.request(device.context, &go, NULL) == CVK_OK;
    while (goes && time_s < LONGEST_S && !o.good) {
        goes = look(&device, &o, copysign(1.0, speed), &turned, &before);
        time_s += (double)device.hardware.period_s;
        mean += (double)device.hardware.period_s / MEAN_S *
                (cvk_rig_state_of(rig)->speed_mech_rad_s * p - mean);
        const cvk_moment *m = cvk_drive_now(&cvk_sim_device_inside(&device)->drive);
        o.good = fabs(mean - speed) < 0.05 * fabs(speed) && m->start_phase >= CVK_START_TURN;
        if (getenv("ONLY") != NULL &&
            m->tick % (getenv("EACH") ? (unsigned)atoi(getenv("EACH")) : 400u) == 0u) {
            const cvk_angle *a = &m->source[CVK_ANGLE_FLUX + (int)bench->tune.observer.kind];
            printf("%.3f ph %d/%d src %d cur %.2f imp %.1f follow %.2f e[%.2f %.2f] flux[%.1f "
                   "q%.2f r%d] true %.1f err %.1f R %.4f f %.5f iq %.2f id %.2f vset %.1f\n",
                   time_s, m->start_phase, m->start_attempt, m->angle_source,
                   (double)m->current_set_a.d, (double)m->source[0].speed_rad_s,
                   (double)m->start_follow, DEGREES * cvk_rig_electrical_angle(rig), 0.0,
                   (double)a->speed_rad_s, (double)a->quality, a->reason,
                   cvk_rig_state_of(rig)->speed_mech_rad_s * p,
                   DEGREES * remainder((double)a->angle_rad - before, 2 * PI),
                   (double)m->adapted_resistance_ohm, (double)m->adapted_flux_wb,
                   (double)m->current_a.q, (double)m->current_a.d, (double)m->speed_set_rad_s);
        }
        if (m->start_phase < CVK_START_ALIGN || m->start_phase == CVK_START_IDLE) {
            o.catch_a = o.current_a;
        }
    }
    o.took_s = time_s;
    if (w == BLOCKED) {
        o.good = o.fault == CVK_FAULT_START;
    } else if (o.good && (w == ANGLE || w == ANGLE_10)) {
        judge_angle(&device, &o, speed, 1.0);
    }
    cvk_device_close(&device);
    return o;
}

static void add(tally *t, what w, const outcome *o, const cvk_rig_config *bench)
{
    t->cases++;
    t->good += o->good ? 1u : 0u;
    t->slowest_s = fmax(t->slowest_s, o->took_s);
    t->mean_s += o->took_s;
    t->backward_rad = fmax(t->backward_rad, o->backward_rad);
    t->current_share = fmax(t->current_share, (w == CATCH ? o->catch_a : o->current_a) /
                                                  (double)bench->tune.limit.current_a);
    t->angle_worst_rad = fmax(t->angle_worst_rad, o->angle_rms_rad);
    t->angle_square += o->angle_rms_rad * o->angle_rms_rad;
}

static void print(const char *motor, const char *inverter, what w, const tally *t)
{
    printf("%-7s %-9s %-8s %3u of %3u  %5.2f s mean %5.2f s  back %4.0f deg  current %3.0f %%",
           motor, inverter, names[w], t->good, t->cases, t->slowest_s, t->mean_s / t->cases,
           DEGREES * t->backward_rad, 100.0 * t->current_share);
    if (w == ANGLE || w == ANGLE_10) {
        printf("  angle %5.2f deg rms, worst case %5.2f",
               DEGREES * sqrt(t->angle_square / t->cases), DEGREES * t->angle_worst_rad);
    }
    printf("\n");
    fflush(stdout);
}

static void bench_motor(const char *motor, const cvk_rig_config *cards, what w, unsigned cases)
{
    for (int f = 0; f < 2; f++) {
        tally t = {0};
        const unsigned count = f == 0 ? cases : (cases + 4u) / 5u;
        for (unsigned k = 0; k < count; k++) {
            uint64_t n = 77u + 1000003u * k + (unsigned)w;
            cvk_rig_config bench = cards[k % CARDS];
            bench.inverter.fidelity = f;
            spoil(&bench, &n, w == ANGLE ? 0.0 : 0.1);
            if (getenv("ONLY") != NULL && (unsigned)atoi(getenv("ONLY")) != k) {
                continue;
            }
            const outcome o = run_case(&bench, w, 100u + k, &n);
            if (getenv("EVERY")) {
                printf("case %u back %.0f ang %.1f\n", k, DEGREES * o.backward_rad, DEGREES * o.angle_rms_rad);
            }
            add(&t, w, &o, &bench);
            if (!o.good) {
                printf("    %s %s %s case %u: %s after %.2f s\n", motor,
                       f == 0 ? "averaged" : "switched", names[w], k,
                       o.fault != CVK_FAULT_NONE ? cvk_fault_text(o.fault) : "not reached",
                       o.took_s);
            }
        }
        print(motor, f == 0 ? "averaged" : "switched", w, &t);
    }
}

int main(int argc, char **argv)
{
    static const char *const motors[] = {"wheel", "blower", "mixer", "table"};
    const unsigned cases = argc > 1 ? (unsigned)strtoul(argv[1], NULL, 10) : 100u;
    for (size_t m = 0; m < 4; m++) {
        if (argc > 3 && strcmp(argv[3], motors[m]) != 0) {
            continue;
        }
        cvk_rig_config cards[CARDS];
        for (unsigned c = 0; c < CARDS; c++) {
            cards[c] = bench_with_gains(motors[m], 1u + c);
            cards[c].tune.observer.kind = argc > 4 ? atoi(argv[4]) : 0;
        }
        for (int w = 0; w < WHATS; w++) {
            if (argc < 3 || strcmp(argv[2], names[w]) == 0 || strcmp(argv[2], "all") == 0) {
                bench_motor(motors[m], cards, (what)w, cases);
            }
        }
    }
    return EXIT_SUCCESS;
}
