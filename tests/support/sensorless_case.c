/* SPDX-License-Identifier: Apache-2.0
 *
 * Random cases of a motor without a rotor sensor.
 */
#include "sensorless_case.h"

#include "corvak/sim/sim.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

#define PI 3.14159265358979323846
#define REST_S 0.25
#define LONGEST_S 12.0
#define MEAN_S 0.03 /* over which a speed is taken */
#define JUDGED_S 0.7
#define CAUGHT_PERIODS 4
#define HELD_S 10.0

const char *const sensorless_names[CASES] = {"start", "loaded",  "blocked", "catch",   "blind",
                                             "angle", "angle10", "slow",    "reverse", "torque",
                                             "turns", "still",   "held",    "band",    "creep"};

typedef struct work {
    cvk_sim sim;
    cvk_rig *rig;
    double period_s;
    const cvk_rig_config *config;
    const cvk_moment *now;
    double pole_pairs, turned_rad, before_rad, mean_rad_s;
    double limit_nm;  /* torque at the limit of the current, of magnets at 25 degC */
    int since_caught; /* control periods */
    sensorless_outcome out;
} work;

/* Even, 0 .. 1. */
static double even(uint64_t *state)
{
    *state = *state * 6364136223846793005u + 1442695040888963407u;
    return (double)(*state >> 40) / 16777216.0;
}

double sensorless_rated(const cvk_rig_config *b)
{
    return 0.6 * b->supply.bus_v / sqrt(3.0) / b->motor.flux_linkage_wb;
}

static void spoil(cvk_rig_config *bench, uint64_t *n, double most)
{
    cvk_motor_settings *m = &bench->tune.motor;
    const float r = (float)(1.0 + most * (2.0 * even(n) - 1.0)),
                l = (float)(1.0 + most * (2.0 * even(n) - 1.0)),
                flux = (float)(1.0 + most * (2.0 * even(n) - 1.0));
    m->resistance_ohm *= r;
    m->inductance_d_h *= l;
    m->inductance_q_h *= l;
    m->flux_linkage_wb *= flux;
    bench->motor.ambient_degc = most > 0.0 ? 10.0 + 50.0 * even(n) : 25.0;
}

static cvk_rig_scenario load_of(const cvk_rig_config *b, sensorless_what what, uint64_t *n)
{
    const double rated_nm =
        1.5 * b->motor.pole_pairs * b->motor.flux_linkage_wb * (double)b->tune.limit.current_a;
    const double share = what == CASE_LOADED                           ? 0.3
                         : what == CASE_BAND                           ? 0.4
                         : what == CASE_SLOW                           ? (even(n) < 0.5 ? 0.0 : 0.3)
                         : what == CASE_ANGLE || what == CASE_ANGLE_10 ? 0.3 * even(n)
                                                                       : 0.0;
    cvk_rig_scenario s = {.count = 0};
    if (what == CASE_BLOCKED) {
        s.item[s.count++] = cvk_rig_event_default(CVK_LOAD_BLOCKED);
    } else if (share > 0.0) {
        s.item[s.count] = cvk_rig_event_default(CVK_LOAD_BRAKE);
        s.item[s.count++].value[0] = share * rated_nm;
    }
    return s;
}

/* How often an angle of that quality is right, while the bridge is on. */
static void note_quality(work *w, double angle_rad)
{
    const cvk_settings *s = cvk_drive_settings(&w->sim.drive);
    const cvk_angle *seen = &w->now->source[cvk_observer_source(s->observer.kind)];
    if (w->now->bridge_on == 0 || seen->reason == CVK_ANGLE_OFF) {
        return;
    }
    const int bin = (int)fmin(9.0, 10.0 * (double)seen->quality);
    w->out.rows[bin] += 1.0;
    w->out.quality[bin] += (double)seen->quality;
    w->out.within[bin] +=
        fabs(remainder((double)seen->angle_rad - angle_rad, 2.0 * PI)) < PI / 6.0 ? 1.0 : 0.0;
}

/* One control period, and what it shows. `way`: the direction asked for. */
static bool look(work *w, double way)
{
    const cvk_sim_row row = cvk_sim_step(&w->sim);
    const cvk_bench_truth truth = w->sim.truth;
    sensorless_outcome *o = &w->out;
    w->turned_rad +=
        isnan(w->before_rad) ? 0.0 : way * remainder(truth.angle_e_rad - w->before_rad, 2.0 * PI);
    w->before_rad = truth.angle_e_rad;
    w->now = row.now;
    w->mean_rad_s +=
        w->period_s / MEAN_S * (truth.speed_mech_rad_s * w->pole_pairs - w->mean_rad_s);
    o->backward_rad = fmax(o->backward_rad, -w->turned_rad);
    for (int k = 0; k < 3; k++) {
        o->current_a = fmax(o->current_a, fabs(truth.current_a[k]));
    }
    w->since_caught = row.now->start_phase < CVK_START_ALIGN ? 0 : w->since_caught + 1;
    if (w->since_caught < CAUGHT_PERIODS) { /* and what switching the bridge on has done */
        o->caught_a = o->current_a;
    }
    note_quality(w, truth.angle_e_rad);
    o->fault = (cvk_fault)row.now->fault;
    o->reason = (cvk_start_reason)row.now->start_reason;
    return o->fault == CVK_FAULT_NONE;
}

static bool ask(work *w, cvk_request request)
{
    return cvk_drive_request(&w->sim.drive, CVK_SIM_OWNER, &request, NULL) == CVK_OK;
}

static void rest(work *w)
{
    const long rows = lround(REST_S / w->period_s);
    bool goes = ask(w, (cvk_request){.mode = CVK_MODE_REST});
    for (long n = 0; n < rows && goes; n++) {
        goes = look(w, 1.0);
    }
    goes = goes && ask(w, (cvk_request){.mode = CVK_MODE_OFF}) && look(w, 1.0);
    w->out = (sensorless_outcome){.good = goes};
    w->turned_rad = 0.0;
}

/* Until the mean speed is within 5 %; the time that took. */
static bool reach(work *w, double speed_rad_s)
{
    double time_s = 0.0;
    bool there = false,
         goes = ask(w, (cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = (float)speed_rad_s});
    while (goes && time_s < LONGEST_S && !there) {
        goes = look(w, copysign(1.0, speed_rad_s));
        time_s += w->period_s;
        there = fabs(w->mean_rad_s - speed_rad_s) < 0.05 * fabs(speed_rad_s) &&
                w->now->start_phase >= CVK_START_TURN;
    }
    w->out.took_s += time_s;
    return there && goes;
}

/* Angle and mean speed once the speed is there. */
static bool judge(work *w, double speed_rad_s, double length_s)
{
    double square = 0.0, rows = 0.0, sum = 0.0, all = 0.0;
    bool goes = true;
    for (double t = 0.0; t < length_s && goes; t += w->period_s) {
        goes = look(w, copysign(1.0, speed_rad_s));
        sum += cvk_rig_state_of(w->rig)->speed_mech_rad_s * w->pole_pairs;
        all += 1.0;
        if (t > 0.3 * length_s && w->now->angle_source != CVK_ANGLE_IMPOSED) {
            const double off = remainder((double)w->now->angle.angle_rad - w->before_rad, 2.0 * PI);
            square += off * off;
            rows += 1.0;
        }
    }
    w->out.angle_rms_rad = rows > 0.0 ? sqrt(square / rows) : 0.0;
    w->out.speed_off = fabs(sum / all / speed_rad_s - 1.0);
    return goes;
}

/* All the torque there is, forth until the motor is fast and back until it is slow: it has to come
 * within five periods of the current loop, and nothing may trip. */
static bool step_torque(work *w, double speed_rad_s, double rated)
{
    const cvk_settings *s = cvk_drive_settings(&w->sim.drive);
    const double limit_a = (double)s->limit.current_a, way = copysign(1.0, speed_rad_s);
    const double limit_nm = 1.5 * w->pole_pairs * (double)s->motor.flux_linkage_wb * limit_a;
    const double soon_s = 5.0 / (2.0 * PI * (double)s->current.bandwidth_hz);
    bool goes = ask(w, (cvk_request){.mode = CVK_MODE_TORQUE});
    for (int n = 0; n < 200 && goes; n++) {
        goes = look(w, way);
    }
    for (int n = 0; n < 2 && goes; n++) {
        const double sign = n == 0 ? way : -way, end = n == 0 ? 0.9 * rated : 0.2 * rated;
        const cvk_request all = {.mode = CVK_MODE_TORQUE, .torque_nm = (float)(sign * limit_nm)};
        bool on = false;
        goes = ask(w, all);
        for (double t = 0.0; t < LONGEST_S && goes; t += w->period_s) {
            const double speed = cvk_rig_state_of(w->rig)->speed_mech_rad_s * w->pole_pairs * way;
            goes = look(w, way);
            on = on || sign * (double)w->now->current_a.q > 0.9 * limit_a;
            if (t > soon_s + 5.0 * w->period_s && !on) {
                return false;
            }
            if (n == 0 ? speed > end : speed < end) {
                break;
            }
        }
    }
    return goes;
}

/* What the drive counts against where the shaft is, in the end. */
static bool count_turns(work *w, double speed_rad_s)
{
    const double way = copysign(1.0, speed_rad_s), from = w->turned_rad;
    const cvk_moment begun = *w->now;
    bool goes = true;
    while (goes && w->turned_rad - from < 2.0 * PI * 1000.0 * w->pole_pairs) {
        goes = look(w, way);
    }
    const double counted = 2.0 * PI * (w->now->position_turns - begun.position_turns) +
                           (double)w->now->position_mech_rad - (double)begun.position_mech_rad;
    w->out.slip_mech_rad = fabs(counted - way * (w->turned_rad - from) / w->pole_pairs);
    return goes && w->out.slip_mech_rad * w->pole_pairs < 1.0;
}

/* A time in which the angle is looked at. */
static bool watch_angle(work *w, double way, double length_s, double *square, double *rows)
{
    bool goes = true;
    for (double t = 0.0; t < length_s && goes; t += w->period_s) {
        goes = look(w, way);
        const double off =
            fabs(remainder((double)w->now->angle.angle_rad - w->before_rad, 2.0 * PI));
        *square += off * off;
        *rows += 1.0;
        w->out.angle_peak_rad = fmax(w->out.angle_peak_rad, off);
    }
    return goes;
}

/* Full torque at no speed, and at next to none; either way, with the load or against it. */
static bool stand_still(work *w, uint64_t *n)
{
    const double way = even(n) < 0.5 ? -1.0 : 1.0, pull = even(n) < 0.5 ? -0.9 : 0.9;
    double square = 0.0, rows = 0.0, unused = 0.0, farthest = 0.0;
    bool goes = ask(w, (cvk_request){.mode = CVK_MODE_SPEED});
    for (double t = 0.0; t < 2.0 && goes && w->now->start_phase < CVK_START_RUN; t += w->period_s) {
        goes = look(w, 1.0);
        farthest = fmax(farthest, fabs(w->turned_rad));
        w->out.took_s = t;
    }
    /* a wrong north would be found out by the runaway that it makes, and mended: not here */
    goes = goes && w->now->start_phase == CVK_START_RUN &&
           fabs(remainder((double)w->now->angle.angle_rad - w->before_rad, 2.0 * PI)) < PI / 6.0;
    w->out.backward_rad = farthest;
    cvk_rig_scenario load = {.count = 1};
    load.item[0] = cvk_rig_event_default(CVK_LOAD_CONSTANT);
    load.item[0].value[0] = pull * w->limit_nm;
    cvk_rig_set_scenario(w->rig, &load);
    goes = goes && watch_angle(w, way, 0.5, &unused, &unused); /* it settles */
    w->out.angle_peak_rad = 0.0;
    goes = goes && watch_angle(w, way, 1.0, &square, &rows);
    const cvk_request creep = {.mode = CVK_MODE_SPEED,
                               .speed_rad_s = (float)(way * w->pole_pairs * PI / 60.0)};
    goes = goes && ask(w, creep) && watch_angle(w, way, 2.0, &square, &rows);
    w->out.angle_rms_rad = sqrt(square / rows);
    w->out.backward_rad = farthest;
    return goes && w->out.angle_rms_rad < 5.0 / 180.0 * PI &&
           w->out.angle_peak_rad < 12.0 / 180.0 * PI;
}

static bool hold_shaft(work *w, double speed_rad_s)
{
    double square = 0.0, rows = 0.0;
    const double way = copysign(1.0, speed_rad_s);
    cvk_rig_scenario hold = {.count = 1};
    hold.item[0] = cvk_rig_event_default(CVK_LOAD_BLOCKED);
    cvk_rig_set_scenario(w->rig, &hold);
    bool goes = watch_angle(w, way, HELD_S, &square, &rows);
    hold.count = 0;
    cvk_rig_set_scenario(w->rig, &hold);
    w->mean_rad_s = 0.0;
    goes = goes && reach(w, speed_rad_s) && watch_angle(w, way, 0.5, &square, &rows);
    w->out.angle_rms_rad = sqrt(square / rows);
    return goes && w->out.angle_peak_rad < PI / 6.0;
}

static bool creep(work *w, double speed_rad_s)
{
    const double way = copysign(1.0, speed_rad_s), slow = 0.1 * 2.0 * PI / 60.0 * w->pole_pairs;
    bool goes = ask(w, (cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = (float)(way * slow)});
    for (int n = 0; n < 20000 && goes; n++) {
        goes = look(w, way);
    }
    const double from = w->turned_rad;
    double farthest = from;
    for (double t = 0.0; t < 660.0 && goes && w->turned_rad - from < 2.0 * PI * w->pole_pairs;
         t += w->period_s) {
        goes = look(w, way);
        farthest = fmax(farthest, w->turned_rad);
        w->out.back_mech_rad =
            fmax(w->out.back_mech_rad, (farthest - w->turned_rad) / w->pole_pairs);
    }
    return goes && w->turned_rad - from >= 2.0 * PI * w->pole_pairs &&
           w->out.back_mech_rad < 2.0 / 180.0 * PI;
}

/* Torque of the true currents. */
static double torque_now(const work *w, const cvk_bench_truth *t)
{
    const cvk_rig_config *c = w->config;
    const cvk_abc i = {(float)t->current_a[0], (float)t->current_a[1], (float)t->current_a[2]};
    const cvk_dq dq =
        cvk_park(cvk_clarke(i), cvk_rotation_of((float)remainder(t->angle_e_rad, 2.0 * PI)));
    const double d = (double)dq.d, q = (double)dq.q;
    return 1.5 * w->pole_pairs *
           (c->motor.flux_linkage_wb * q +
            (c->motor.inductance_d_h - c->motor.inductance_q_h) * d * q);
}

/* Between 40 and 160 % of the speed of the handover, up and down: the torque within 1 ms before
 * each handover and within 1 ms after it. */
static bool cross_band(work *w, double speed_rad_s)
{
    enum { ROWS = 20 };
    const cvk_settings *s = cvk_drive_settings(&w->sim.drive);
    const double way = copysign(1.0, speed_rad_s), leave = (double)s->injection.leave_rad_s;
    double before[ROWS] = {0.0}, mean_before = 0.0, after = 0.0;
    int source = w->now->angle_source, since = ROWS, handovers = 0;
    bool goes = true;
    for (int n = 0; n < 4 && goes; n++) {
        const double goal = (n % 2 == 0 ? 1.6 : 0.4) * leave * way;
        goes = ask(w, (cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = (float)goal});
        for (int k = 0; k < 80000 && goes; k++) {
            const cvk_bench_truth t = w->sim.truth;
            const double torque = torque_now(w, &t);
            goes = look(w, way);
            if (w->now->angle_source != source) {
                source = w->now->angle_source;
                since = 0;
                after = mean_before = 0.0;
                for (int b = 0; b < ROWS; b++) {
                    mean_before += before[b] / ROWS;
                }
                handovers++;
            }
            after += since < ROWS ? torque / ROWS : 0.0;
            if (++since == ROWS) {
                w->out.bump = fmax(w->out.bump, fabs(after - mean_before) / w->limit_nm);
            }
            before[k % ROWS] = torque;
        }
    }
    return goes && handovers >= 4;
}

static double speed_of(sensorless_what what, double rated, uint64_t *n)
{
    const double way = even(n) < 0.5 ? -1.0 : 1.0;
    return way * rated *
           (what == CASE_CATCH || what == CASE_BLIND      ? even(n)
            : what == CASE_ANGLE || what == CASE_ANGLE_10 ? 0.1 + 0.9 * even(n)
            : what == CASE_SLOW                           ? 0.02
            : what == CASE_REVERSE                        ? 0.6
            : what == CASE_TORQUE                         ? 0.4
            : what == CASE_TURNS                          ? 1.0
            : what >= CASE_HELD                           ? 0.05
                                                          : 0.3);
}

static void run(work *w, sensorless_what what, double rated, uint64_t *n)
{
    double speed = speed_of(what, rated, n);
    if (what == CASE_STILL) {
        w->out.good = stand_still(w, n);
        return;
    }
    if (what == CASE_CATCH || what == CASE_BLIND) {
        const double mech = speed / w->pole_pairs;
        cvk_rig_spin(w->rig, mech, mech);
        speed = copysign(fmax(fabs(speed), 0.15 * rated), speed);
    }
    bool good = reach(w, speed);
    if (what == CASE_BLOCKED) {
        good = w->out.fault == CVK_FAULT_START && w->out.reason == CVK_START_BLOCKED;
    } else if (good && what == CASE_REVERSE) {
        const double backward = w->out.backward_rad;
        good = reach(w, -speed);
        w->out.backward_rad = backward;
    } else if (good && what == CASE_SLOW) {
        /* whole turns of the motor's cogging, and of the electrical angle */
        const double turn_s = 2.0 * PI / fabs(speed);
        good = judge(w, speed, fmax(0.5, turn_s)) && judge(w, speed, fmax(1.0, 2.0 * turn_s)) &&
               w->out.speed_off < 0.05;
    } else if (good && (what == CASE_ANGLE || what == CASE_ANGLE_10)) {
        good = judge(w, speed, JUDGED_S);
    }
    if (good && what == CASE_TORQUE) {
        good = step_torque(w, speed, rated);
    } else if (good && what == CASE_TURNS) {
        good = count_turns(w, speed);
    } else if (good && what == CASE_HELD) {
        good = hold_shaft(w, speed);
    } else if (good && what == CASE_CREEP) {
        good = creep(w, speed);
    } else if (good && what == CASE_BAND) {
        good = cross_band(w, speed);
    }
    w->out.good = good;
}

sensorless_outcome sensorless_case(const cvk_rig_config *bench, sensorless_what what, unsigned k)
{
    uint64_t n = 77u + 1000003u * k + (unsigned)what;
    cvk_rig_config own = *bench;
    work w = {.config = bench,
              .pole_pairs = bench->motor.pole_pairs,
              .before_rad = NAN,
              .limit_nm = 1.5 * bench->motor.pole_pairs * bench->motor.flux_linkage_wb *
                          (double)bench->tune.limit.current_a};
    spoil(&own, &n, what == CASE_ANGLE ? 0.0 : 0.1);
    if (what == CASE_BAND) { /* else what is asked for moves the torque in a ms as well */
        own.tune.speed.acceleration_rad_s2 *= 0.15f;
        own.tune.speed.jerk_rad_s3 *= 0.15f;
    }
    own.sensing.terminal_voltages =
        what == CASE_BLIND ? CVK_TERMINALS_NOT_MEASURED : own.sensing.terminal_voltages;
    if (cvk_sim_init(&w.sim, &own, 100u + k, NULL) != CVK_OK) {
        fprintf(stderr, "%s: no device\n", bench->name);
        abort();
    }
    w.rig = w.sim.rig;
    w.period_s = (double)cvk_sim_hardware(&own).period_s;
    rest(&w);
    const cvk_rig_scenario load = load_of(&own, what, &n);
    cvk_rig_set_scenario(w.rig, &load);
    run(&w, what, sensorless_rated(bench), &n);
    cvk_sim_close(&w.sim);
    return w.out;
}
