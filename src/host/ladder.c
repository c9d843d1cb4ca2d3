/* SPDX-License-Identifier: Apache-2.0
 *
 * A ladder of speeds, as one run that asks for them one after the other.
 */
#include "corvak/host/ladder.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdlib.h>

#define DOWN 0.7 /* from rung to rung */
#define RUNGS 16 /* at most CVK_LADDER_MOST */
#define UP 0.1   /* of the rated speed */
#define SHORTEST_S 1.5
#define LONGEST_S 10.0
#define TURNS 10.0 /* electrical, on a rung: two of them in its last fifth */

cvk_ladder_options cvk_ladder_options_default(void)
{
    return (cvk_ladder_options){.within = 0.05, .ripple = 0.2};
}

typedef struct walk {
    const cvk_run_plan *plan;
    bool (*progress)(void *context, double share);
    void *context;
    unsigned long rows;
} walk;

static bool on_row(void *context, const cvk_device_row *row, const cvk_bench_truth *truth)
{
    walk *w = context;
    (void)truth;
    return w->progress == NULL || w->rows++ % 4000u != 0 ||
           w->progress(w->context, row->time_s / w->plan->length_s);
}

static void make_plan(cvk_run_plan *plan, const cvk_device *device, const cvk_ladder_options *o)
{
    const cvk_session *s = &device->session;
    const double start_s = cvk_session_value(s, "start.align_s") +
                           cvk_session_value(s, "start.speed_rad_s") /
                               cvk_session_value(s, "start.acceleration_rad_s2");
    const double a = fmax(1.0, cvk_session_value(s, "speed.acceleration_rad_s2"));
    double at_s = 0.5, speed = 0.5 * o->rated_rad_s;
    *plan = (cvk_run_plan){.rated_rad_s = o->rated_rad_s, .spacing_s = o->spacing_s};
    for (int n = 0; n < RUNGS; n++) {
        const double hold_s = fmin(fmax(SHORTEST_S, TURNS * CVK_TWO_PI_WIDE / speed), LONGEST_S);
        plan->item[plan->count++] =
            (cvk_run_request){at_s, {.mode = CVK_MODE_SPEED, .speed_rad_s = (float)speed}};
        at_s += hold_s + (n == 0 ? 2.0 * start_s + speed / a : 0.5 * start_s);
        speed = o->up ? speed + UP * o->rated_rad_s : speed * DOWN;
    }
    plan->item[plan->count++] = (cvk_run_request){at_s, {.mode = CVK_MODE_STOP}};
    plan->length_s = at_s + 1.0 + (o->up ? speed / a : 0.5 * start_s);
}

static bool is_usable(const cvk_run_result *r, const cvk_ladder_options *o)
{
    const double wanted = r->wanted_rad_s;
    return fabs(r->mean_rad_s - wanted) <= o->within * wanted &&
           r->ripple_rad_s <= o->ripple * wanted;
}

cvk_status cvk_ladder_walk(cvk_device *device, const cvk_ladder_options *options,
                           bool (*progress)(void *context, double share), void *context,
                           cvk_ladder *out)
{
    cvk_run_plan *plan = malloc(sizeof *plan);
    cvk_run *run = malloc(sizeof *run);
    *out = (cvk_ladder){.count = 0};
    cvk_status status = plan == NULL || run == NULL ? CVK_NO_MEMORY : CVK_OK;
    if (status == CVK_OK) {
        make_plan(plan, device, options);
        walk w = {.plan = plan, .progress = progress, .context = context};
        status = cvk_run_device(device, plan, on_row, &w, run);
        out->fault = run->fault;
        status = status == CVK_STOPPED ? CVK_OK : status;
    }
    bool usable = status == CVK_OK;
    for (size_t n = 0; usable && n < run->count && n < RUNGS; n++) {
        const bool ended = run->fault != CVK_FAULT_NONE && n + 1 == run->count;
        const bool seen = device->bench.truth != NULL || run->result[n].by_vector < 0.5;
        usable = !ended && seen && is_usable(&run->result[n], options);
        out->rung[out->count++] = (cvk_rung){run->result[n], seen, usable};
        out->farthest_rad_s = usable ? run->result[n].wanted_rad_s : out->farthest_rad_s;
    }
    free(run);
    free(plan);
    return status;
}
