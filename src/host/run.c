/* SPDX-License-Identifier: Apache-2.0
 *
 * A closed-loop run: the requests of a plan, one after the other, and the judgement of each.
 */
#include "corvak/host/run.h"

#include <math.h>

#define TWO_PI 6.28318530717958647693
#define REACHED_SHARE 0.03
#define SLOW_RAD_S 2.0 /* added to that share: electrical */
#define LAST_SHARE 0.2
#define JUDGED_SHARE 0.1 /* of the rated speed */

typedef struct judge {
    cvk_run *out;
    const cvk_run_plan *plan;
    size_t now; /* request that rules; plan->count before the first */
    double sum, square, rows;
    double angle_square, angle_rows;
} judge;

static double end_of(const cvk_run_plan *plan, size_t n)
{
    return n + 1 < plan->count ? plan->item[n + 1].from_s : plan->length_s;
}

static void finish_request(judge *j)
{
    if (j->now < j->out->count && j->rows > 0.0) {
        cvk_run_result *r = &j->out->result[j->now];
        r->mean_rad_s = j->sum / j->rows;
        r->ripple_rad_s = sqrt(fmax(0.0, j->square / j->rows - r->mean_rad_s * r->mean_rad_s));
    }
    j->sum = j->square = j->rows = 0.0;
}

static void judge_speed(judge *j, double time_s, double speed_rad_s, const cvk_moment *now)
{
    cvk_run_result *r = &j->out->result[j->now];
    const double end_s = end_of(j->plan, j->now);
    const bool stop = r->mode == CVK_MODE_STOP || r->mode == CVK_MODE_OFF;
    const bool there = stop ? now->bridge_on == 0
                            : fabs(speed_rad_s - r->wanted_rad_s) <
                                  REACHED_SHARE * fabs(r->wanted_rad_s) + SLOW_RAD_S;
    if (!there) {
        r->reached_s = NAN;
    } else if (isnan(r->reached_s)) {
        r->reached_s = time_s - r->from_s;
    }
    if (time_s > end_s - LAST_SHARE * (end_s - r->from_s)) {
        j->sum += speed_rad_s;
        j->square += speed_rad_s * speed_rad_s;
        j->rows += 1.0;
    }
}

static void judge_angle(judge *j, const cvk_moment *now, const cvk_device_truth *truth,
                        double speed_rad_s)
{
    const bool judged = now->angle_source != CVK_ANGLE_IMPOSED && now->bridge_on != 0 &&
                        fabs(speed_rad_s) > JUDGED_SHARE * j->plan->rated_rad_s;
    if (judged) {
        const double off = remainder((double)now->angle.angle_rad - truth->angle_e_rad, TWO_PI);
        j->angle_square += off * off;
        j->angle_rows += 1.0;
        j->out->angle_worst_rad = fmax(j->out->angle_worst_rad, fabs(off));
    }
}

static void judge_row(judge *j, const cvk_device *device, const cvk_device_row *row,
                      const cvk_device_truth *truth)
{
    const cvk_abc i = row->now->phase_a;
    const double speed_rad_s = truth != NULL ? truth->speed_mech_rad_s * device->pole_pairs
                                             : (double)row->now->angle.speed_rad_s;
    const float largest = fmaxf(fabsf(i.a), fmaxf(fabsf(i.b), fabsf(i.c)));
    j->out->largest_current_a = fmax(j->out->largest_current_a, (double)largest);
    if (j->now < j->plan->count) {
        judge_speed(j, row->time_s, speed_rad_s, row->now);
    }
    if (truth != NULL) {
        judge_angle(j, row->now, truth, speed_rad_s);
    }
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

static cvk_status next_request(judge *j, cvk_device *device, double time_s, bool rested,
                               cvk_refusal *why)
{
    const size_t n = ruling(j->plan, time_s);
    if (n == j->now || !rested) {
        return CVK_OK;
    }
    finish_request(j);
    j->now = n;
    j->out->count = n + 1;
    j->out->result[n] =
        (cvk_run_result){.from_s = j->plan->item[n].from_s,
                         .mode = j->plan->item[n].request.mode,
                         .wanted_rad_s = (double)j->plan->item[n].request.speed_rad_s,
                         .reached_s = NAN,
                         .mean_rad_s = NAN,
                         .ripple_rad_s = NAN};
    return device->request(device->context, &j->plan->item[n].request, why);
}

cvk_status cvk_run_device(cvk_device *device, const cvk_run_plan *plan, cvk_run_row on_row,
                          void *context, cvk_run *out, cvk_refusal *why)
{
    const cvk_request rest = {.mode = CVK_MODE_REST};
    judge j = {.out = out, .plan = plan, .now = plan->count};
    cvk_device_row row = {.time_s = 0.0};
    bool go_on = true, rested = false;
    *out = (cvk_run){.angle_rms_rad = NAN, .angle_worst_rad = 0.0};
    cvk_status status = device->request(device->context, &rest, why);
    while (status == CVK_OK && go_on && row.time_s < plan->length_s) {
        cvk_device_truth truth;
        if (device->truth != NULL) { /* at the sample, so before the step */
            device->truth(device->context, &truth);
        }
        status = device->step(device->context, &row);
        if (status != CVK_OK) {
            break;
        }
        judge_row(&j, device, &row, device->truth != NULL ? &truth : NULL);
        go_on = on_row == NULL || on_row(context, &row, device->truth != NULL ? &truth : NULL);
        rested = rested || row.now->rest_done != 0;
        if (row.now->fault != CVK_FAULT_NONE) {
            out->fault = (cvk_fault)row.now->fault;
            out->fault_s = row.time_s;
            status = CVK_STOPPED;
        } else {
            status = next_request(&j, device, row.time_s, rested, why);
        }
    }
    finish_request(&j);
    out->angle_s = j.angle_rows * (double)device->hardware.period_s;
    if (j.angle_rows > 0.0) {
        out->angle_rms_rad = sqrt(j.angle_square / j.angle_rows);
    }
    return status;
}
