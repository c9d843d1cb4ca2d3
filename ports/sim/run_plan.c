/* SPDX-License-Identifier: Apache-2.0
 *
 * A rig's scenario as the plan of a run.
 */
#include "corvak/sim/run_plan.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

#define AFTER_STOP_S 3.0 /* time for the last request */
#define AFTER_SPEED_S 5.0

static int by_time(const void *a, const void *b)
{
    const double x = ((const cvk_run_request *)a)->from_s, y = ((const cvk_run_request *)b)->from_s;
    return (x > y) - (x < y);
}

/* What an event asks the controller for; false when it asks for nothing. */
static bool request_of(const cvk_rig_event *e, double pole_pairs, cvk_request *out)
{
    *out = (cvk_request){.mode = CVK_MODE_OFF};
    switch (e->what) {
    case CVK_ASK_SPEED:
        out->mode = CVK_MODE_SPEED;
        out->speed_rad_s = (float)(e->value[0] * pole_pairs);
        return true;
    case CVK_ASK_TORQUE:
        out->mode = CVK_MODE_TORQUE;
        out->torque_nm = (float)e->value[0];
        return true;
    case CVK_ASK_POSITION:
        out->mode = CVK_MODE_POSITION;
        out->position_turns = (int32_t)floor(e->value[0] / CVK_TWO_PI_WIDE);
        out->position_mech_rad = (float)(e->value[0] - CVK_TWO_PI_WIDE * out->position_turns);
        return true;
    case CVK_ASK_STOP:
    case CVK_ASK_BRAKE:
        out->mode = e->what == CVK_ASK_STOP ? CVK_MODE_STOP : CVK_MODE_BRAKE;
        return true;
    default:
        return e->what == CVK_ASK_COAST;
    }
}

static bool criterion_of(const cvk_rig_event *e, cvk_run_criterion *out)
{
    static const struct {
        cvk_rig_event_kind what;
        cvk_run_quantity quantity;
        double factor;
    } kinds[] = {{CVK_EXPECT_SPEED, CVK_RUN_SPEED, 1.0},
                 {CVK_EXPECT_POSITION, CVK_RUN_POSITION, 1.0},
                 {CVK_EXPECT_CURRENT, CVK_RUN_CURRENT, 1.0},
                 {CVK_EXPECT_ANGLE, CVK_RUN_ANGLE, 1.0 / CVK_DEG_PER_RAD},
                 {CVK_EXPECT_RIPPLE, CVK_RUN_RIPPLE, 1.0}};
    for (size_t n = 0; n < sizeof kinds / sizeof kinds[0]; n++) {
        if (kinds[n].what == e->what) {
            const bool two = isfinite(e->value[1]);
            *out = (cvk_run_criterion){.quantity = kinds[n].quantity,
                                       .from_s = e->from_s,
                                       .to_s = e->from_s + e->for_s,
                                       .wanted = two ? e->value[0] : 0.0,
                                       .limit = kinds[n].factor * e->value[two ? 1 : 0]};
            snprintf(out->name, sizeof out->name, "%s", e->name);
            return true;
        }
    }
    return false;
}

/* The length that no --length gives: some time after the last request, and all that is expected. */
static double length_of(const cvk_run_plan *plan)
{
    const cvk_run_request *last = &plan->item[plan->count - 1];
    double length =
        last->from_s + (last->request.mode == CVK_MODE_STOP ? AFTER_STOP_S : AFTER_SPEED_S);
    for (size_t n = 0; n < plan->criteria; n++) {
        const double end = plan->criterion[n].to_s;
        length = isfinite(end) ? fmax(length, end) : length;
    }
    return length;
}

cvk_status cvk_run_plan_from_scenario(cvk_run_plan *plan, const cvk_rig_scenario *scenario,
                                      double pole_pairs)
{
    plan->count = plan->criteria = 0;
    for (unsigned n = 0; n < scenario->count; n++) {
        const cvk_rig_event *e = &scenario->item[n];
        cvk_request request;
        cvk_run_criterion criterion;
        if (request_of(e, pole_pairs, &request) && plan->count < CVK_RUN_MOST) {
            plan->item[plan->count++] = (cvk_run_request){e->from_s, request};
        } else if (criterion_of(e, &criterion) && plan->criteria < CVK_RUN_MOST) {
            plan->criterion[plan->criteria++] = criterion;
        }
    }
    if (plan->count == 0) {
        return CVK_NOT_IN_LOG;
    }
    qsort(plan->item, plan->count, sizeof plan->item[0], by_time);
    plan->length_s = length_of(plan);
    return CVK_OK;
}

bool cvk_run_leaves_out(const cvk_rig_event *event)
{
    cvk_request request;
    cvk_run_criterion criterion;
    return !request_of(event, 1.0, &request) && !criterion_of(event, &criterion);
}
