/* SPDX-License-Identifier: Apache-2.0
 *
 * A closed-loop run: the requests of a plan, one after the other, and the judgement of each.
 */
#include "corvak/host/run.h"

#include "corvak/core/units.h"

#include <math.h>
#include <string.h>

#define LEASE_S 0.5
#define REACHED_SHARE 0.03
#define SLOW_RAD_S 2.0 /* added to that share: electrical */
#define LAST_SHARE 0.2
#define JUDGED_SHARE 0.1     /* of the rated speed */
#define HELD_S 0.2           /* what is lost again within it was only passed */
#define NEAR_MECH_RAD 0.0087 /* half a degree */

/* Of one criterion, so far. */
typedef struct measure {
    double rows, sum, square, worst;
} measure;

/* A row as numbers. */
typedef struct seen {
    double time_s, phase_a[3], d_a, q_a, angle_rad, speed_rad_s, quality, counted_mech_rad;
    int source, start_phase;
    bool bridge_on;
} seen;

typedef struct judge {
    cvk_run *out;
    const cvk_run_plan *plan;
    size_t now;               /* request that rules; plan->count before the first */
    double sum, square, rows; /* of the speed, in the last fifth of a request */
    double current_a, quality, by_vector, off_square, off_rows; /* and of the rest */
    double angle_square, angle_rows;
    bool there, arrived; /* at the set-point: now; for a while */
    double arrival_s;    /* since the request */
    measure measure[CVK_RUN_MOST];
    double turned_rad, before_rad; /* the rotor's electrical angle, true when it is known */
    bool placed;                   /* the drive has counted as the rotor has turned */
    double pole_pairs;
} judge;

static double end_of(const cvk_run_plan *plan, size_t n)
{
    return n + 1 < plan->count ? plan->item[n + 1].from_s : plan->length_s;
}

static void finish_request(judge *j)
{
    if (j->now < j->out->count) {
        j->out->result[j->now].reached_s = j->there ? j->arrival_s : NAN;
    }
    j->there = j->arrived = false;
    j->arrival_s = NAN;
    if (j->now < j->out->count && j->rows > 0.0) {
        cvk_run_result *r = &j->out->result[j->now];
        r->mean_rad_s = j->sum / j->rows;
        r->ripple_rad_s = sqrt(fmax(0.0, j->square / j->rows - r->mean_rad_s * r->mean_rad_s));
        r->current_a = j->current_a / j->rows;
        r->quality = j->quality / j->rows;
        r->by_vector = j->by_vector / j->rows;
        r->angle_rms_rad = j->off_rows > 0.0 ? sqrt(j->off_square / j->off_rows) : NAN;
    }
    j->sum = j->square = j->rows = 0.0;
    j->current_a = j->quality = j->by_vector = j->off_square = j->off_rows = 0.0;
}

/* What the row shows, by the truth when there is one: mechanical. */
typedef struct shown {
    double speed_rad_s, position_rad, largest_a, off_rad;
} shown;

/* Reached is what has been held for a while: a load that comes later is none of its business,
 * unless the set-point is lost to the end. */
static void judge_arrival(judge *j, bool there, double since_s)
{
    j->there = there;
    if (!there && !j->arrived) {
        j->arrival_s = NAN;
    } else if (there && isnan(j->arrival_s)) {
        j->arrival_s = since_s;
    }
    j->arrived = j->arrived || since_s - j->arrival_s > HELD_S;
}

static void judge_request(judge *j, const shown *now, const seen *row)
{
    cvk_run_result *r = &j->out->result[j->now];
    const double end_s = end_of(j->plan, j->now), speed_e = now->speed_rad_s * j->pole_pairs;
    const bool there =
        r->mode == CVK_MODE_POSITION ? fabs(now->position_rad - r->wanted_mech_rad) < NEAR_MECH_RAD
        : r->mode == CVK_MODE_SPEED
            ? fabs(speed_e - r->wanted_rad_s) < REACHED_SHARE * fabs(r->wanted_rad_s) + SLOW_RAD_S
            : !row->bridge_on;
    judge_arrival(j, there, row->time_s - r->from_s);
    if (row->time_s > end_s - LAST_SHARE * (end_s - r->from_s)) {
        j->sum += speed_e;
        j->square += speed_e * speed_e;
        j->rows += 1.0;
        j->current_a += hypot(row->d_a, row->q_a);
        j->quality += row->quality;
        j->by_vector += row->source == CVK_ANGLE_IMPOSED;
        j->off_square += isfinite(now->off_rad) ? now->off_rad * now->off_rad : 0.0;
        j->off_rows += isfinite(now->off_rad);
    }
}

static void judge_criteria(judge *j, double time_s, const shown *now)
{
    for (size_t n = 0; n < j->plan->criteria; n++) {
        const cvk_run_criterion *c = &j->plan->criterion[n];
        measure *m = &j->measure[n];
        if (time_s < c->from_s || time_s >= c->to_s) {
            continue;
        }
        const double share = c->wanted != 0.0 ? fabs(c->wanted) : 1.0;
        const double x = c->quantity == CVK_RUN_SPEED      ? (now->speed_rad_s - c->wanted) / share
                         : c->quantity == CVK_RUN_POSITION ? now->position_rad - c->wanted
                         : c->quantity == CVK_RUN_CURRENT  ? now->largest_a
                         : c->quantity == CVK_RUN_ANGLE    ? now->off_rad
                                                           : now->speed_rad_s;
        if (isfinite(x)) {
            m->rows += 1.0;
            m->sum += x;
            m->square += x * x;
            m->worst = fmax(m->worst, fabs(x));
        }
    }
}

static void conclude(judge *j)
{
    for (size_t n = 0; n < j->plan->criteria; n++) {
        const cvk_run_criterion *c = &j->plan->criterion[n];
        const measure *m = &j->measure[n];
        const double mean = m->sum / m->rows, square = m->square / m->rows;
        cvk_run_finding *f = &j->out->finding[n];
        f->measured = !(m->rows > 0.0)                ? NAN
                      : c->quantity == CVK_RUN_ANGLE  ? sqrt(square)
                      : c->quantity == CVK_RUN_RIPPLE ? sqrt(fmax(0.0, square - mean * mean))
                                                      : m->worst;
        f->met = f->measured <= c->limit;
    }
}

static void judge_angle(judge *j, const seen *now, double off_rad, double speed_rad_s)
{
    const bool judged = now->source != CVK_ANGLE_IMPOSED && now->bridge_on &&
                        fabs(speed_rad_s) > JUDGED_SHARE * j->plan->rated_rad_s;
    if (judged) {
        j->angle_square += off_rad * off_rad;
        j->angle_rows += 1.0;
        j->out->angle_worst_rad = fmax(j->out->angle_worst_rad, fabs(off_rad));
    }
}

/* Where the shaft truly is, in the drive's own count: they agree once, when the drive first knows
 * its angle, to the nearest electrical turn. */
static double true_position(judge *j, const seen *now, const cvk_bench_truth *truth)
{
    j->turned_rad +=
        isnan(j->before_rad) ? 0.0 : remainder(truth->angle_e_rad - j->before_rad, CVK_TWO_PI_WIDE);
    j->before_rad = truth->angle_e_rad;
    /* while an injection seeks, which end is north is open: half a turn may come */
    const bool knows =
        now->bridge_on && (now->source == CVK_ANGLE_ROTOR || now->start_phase == CVK_START_TURN ||
                           now->start_phase >= CVK_START_RUN);
    if (!j->placed) {
        const double off = j->pole_pairs * now->counted_mech_rad - truth->angle_e_rad;
        j->turned_rad = truth->angle_e_rad + CVK_TWO_PI_WIDE * round(off / CVK_TWO_PI_WIDE);
        j->placed = knows;
    }
    return j->turned_rad / j->pole_pairs;
}

static seen seen_in(const cvk_device_row *row)
{
    const float *v = row->value;
    return (seen){.time_s = row->time_s,
                  .phase_a = {(double)v[CVK_RUN_ROW_IA], (double)v[CVK_RUN_ROW_IB],
                              (double)v[CVK_RUN_ROW_IC]},
                  .d_a = (double)v[CVK_RUN_ROW_ID],
                  .q_a = (double)v[CVK_RUN_ROW_IQ],
                  .angle_rad = (double)v[CVK_RUN_ROW_THETA],
                  .speed_rad_s = (double)v[CVK_RUN_ROW_SPEED],
                  .quality = (double)v[CVK_RUN_ROW_QUALITY],
                  .counted_mech_rad = CVK_TWO_PI_WIDE * (double)v[CVK_RUN_ROW_TURNS] +
                                      (double)v[CVK_RUN_ROW_POSITION],
                  .source = (int)v[CVK_RUN_ROW_SOURCE],
                  .start_phase = (int)v[CVK_RUN_ROW_START_PHASE],
                  .bridge_on = v[CVK_RUN_ROW_BRIDGE_ON] > 0.5f};
}

static void judge_row(judge *j, const cvk_device_row *row, const cvk_bench_truth *truth)
{
    const seen now = seen_in(row);
    const double *i = now.phase_a;
    shown s = {.largest_a = fmax(fabs(i[0]), fmax(fabs(i[1]), fabs(i[2]))),
               .speed_rad_s = now.speed_rad_s / j->pole_pairs,
               .position_rad = now.counted_mech_rad,
               .off_rad = NAN};
    if (truth != NULL) {
        s.speed_rad_s = truth->speed_mech_rad_s;
        s.position_rad = true_position(j, &now, truth);
        s.off_rad = now.bridge_on && now.source != CVK_ANGLE_IMPOSED
                        ? remainder(now.angle_rad - truth->angle_e_rad, CVK_TWO_PI_WIDE)
                        : NAN;
        judge_angle(j, &now, s.off_rad, j->pole_pairs * s.speed_rad_s);
    }
    j->out->rows++;
    j->out->missing += row->missing;
    j->out->start_attempts = (int32_t)row->value[CVK_RUN_ROW_START_ATTEMPT];
    j->out->start_reason = (cvk_start_reason)row->value[CVK_RUN_ROW_START_REASON];
    j->out->largest_current_a = fmax(j->out->largest_current_a, s.largest_a);
    judge_criteria(j, now.time_s, &s);
    if (j->now < j->plan->count && cvk_run_has_goal(j->out->result[j->now].mode)) {
        judge_request(j, &s, &now);
    }
}

bool cvk_run_has_goal(int32_t mode)
{
    return mode == CVK_MODE_SPEED || mode == CVK_MODE_POSITION || mode == CVK_MODE_STOP;
}

bool cvk_run_is_good(const cvk_run *run, const cvk_run_plan *plan)
{
    bool good = run->count == plan->count && run->fault == CVK_FAULT_NONE;
    for (size_t n = 0; n < run->count; n++) {
        const cvk_run_result *r = &run->result[n];
        good = good && (!cvk_run_has_goal(r->mode) || isfinite(r->reached_s));
    }
    for (size_t n = 0; n < plan->criteria; n++) {
        good = good && run->finding[n].met;
    }
    return good;
}

/* The request that rules at this time; plan->count before the first one. */
static size_t ruling(const cvk_run_plan *plan, double time_s)
{
    size_t n = plan->count;
    for (size_t k = 0; k < plan->count && plan->item[k].from_s <= time_s; k++) {
        n = k;
    }
    return n;
}

static cvk_status next_request(judge *j, cvk_device *device, double time_s, bool rested)
{
    const size_t n = ruling(j->plan, time_s);
    if (n == j->now || !rested) {
        return CVK_OK;
    }
    finish_request(j);
    j->now = n;
    j->out->count = n + 1;
    const cvk_request *request = &j->plan->item[n].request;
    j->out->result[n] =
        (cvk_run_result){.from_s = j->plan->item[n].from_s,
                         .mode = request->mode,
                         .wanted_rad_s = (double)request->speed_rad_s,
                         .wanted_mech_rad = CVK_TWO_PI_WIDE * request->position_turns +
                                            (double)request->position_mech_rad,
                         .reached_s = NAN,
                         .mean_rad_s = NAN,
                         .ripple_rad_s = NAN};
    return cvk_session_request(&device->session, request);
}

#define NAME(NAME, name) name,
static const char *const looked_at[] = {CVK_RUN_SIGNALS(NAME)};
#undef NAME

int cvk_run_place(const cvk_run_plan *plan, const char *signal)
{
    for (int n = 0; n < CVK_RUN_ROW_SIGNALS + (int)plan->more_count; n++) {
        const char *name =
            n < CVK_RUN_ROW_SIGNALS ? looked_at[n] : plan->more[n - CVK_RUN_ROW_SIGNALS];
        if (strcmp(name, signal) == 0) {
            return n;
        }
    }
    return -1;
}

/* At rest, commanded from here, and its rows begun. */
static cvk_status begin(cvk_device *device, const cvk_run_plan *plan)
{
    const cvk_request rest = {.mode = CVK_MODE_REST};
    const char *signal[CVK_LINK_STREAM_SIGNALS];
    memcpy(signal, looked_at, sizeof looked_at);
    for (unsigned n = 0; n < plan->more_count; n++) {
        signal[CVK_RUN_ROW_SIGNALS + n] = plan->more[n];
    }
    cvk_status status =
        device->session.owner ? CVK_OK : cvk_session_claim(&device->session, LEASE_S);
    if (status == CVK_OK) {
        status = cvk_device_begin(device, signal, CVK_RUN_ROW_SIGNALS + plan->more_count,
                                  plan->spacing_s);
    }
    return status == CVK_OK ? cvk_session_request(&device->session, &rest) : status;
}

static void finish(judge *j, double spacing_s)
{
    finish_request(j);
    conclude(j);
    j->out->angle_s = j->angle_rows * spacing_s;
    if (j->angle_rows > 0.0) {
        j->out->angle_rms_rad = sqrt(j->angle_square / j->angle_rows);
    }
}

cvk_status cvk_run_device(cvk_device *device, const cvk_run_plan *plan, cvk_run_row on_row,
                          void *context, cvk_run *out)
{
    const double pole_pairs = cvk_session_value(&device->session, "motor.pole_pairs");
    const cvk_bench *bench = &device->bench;
    judge j = {.out = out,
               .plan = plan,
               .now = plan->count,
               .arrival_s = NAN,
               .before_rad = NAN,
               .pole_pairs = pole_pairs > 0.0 ? pole_pairs : 1.0};
    cvk_device_row row = {.time_s = 0.0};
    bool go_on = true, rested = false;
    *out = (cvk_run){.angle_rms_rad = NAN, .angle_worst_rad = 0.0};
    cvk_status status = begin(device, plan);
    while (status == CVK_OK && go_on && row.time_s < plan->length_s) {
        cvk_bench_truth truth;
        status = cvk_device_next(device, &row);
        if (status != CVK_OK) {
            break;
        }
        const bool known = bench->truth != NULL && bench->truth(bench->context, row.tick, &truth);
        judge_row(&j, &row, known ? &truth : NULL);
        go_on = on_row == NULL || on_row(context, &row, known ? &truth : NULL);
        rested = rested || row.value[CVK_RUN_ROW_REST_DONE] > 0.5f;
        if (row.value[CVK_RUN_ROW_FAULT] > 0.5f) {
            out->fault = (cvk_fault)row.value[CVK_RUN_ROW_FAULT];
            out->fault_s = row.time_s;
            status = CVK_STOPPED;
        } else {
            status = next_request(&j, device, row.time_s, rested);
        }
    }
    finish(&j, cvk_device_spacing_s(device));
    cvk_device_end(device);
    return status;
}
