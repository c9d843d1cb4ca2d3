/* SPDX-License-Identifier: Apache-2.0
 *
 * Bad changes to running motors, over the link: any parameter a hundredth to a hundred times of
 * what it was, or a limit the other way round. Each must be refused, or go back by itself within
 * the time that was stated, and no current may go beyond the trip current.
 */
#include "corvak/host/session.h"
#include "corvak/sim/wire.h"
#include "noise.h"
#include "sensorless.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#ifdef __SANITIZE_ADDRESS__
enum { CHANGES = 12 }; /* ten times slower then */
#else
enum { CHANGES = 50 }; /* on each of four motors */
#endif
static const char *const motors[] = {"wheel", "blower", "mixer", "table"};
static const cvk_trial_terms terms = {.watch_s = 0.2f, .confirm_s = 0.1f};

typedef struct trier {
    cvk_rig_config bench;
    cvk_sim_controller *controller;
    cvk_session session;
    float speed_rad_s;
    double largest_a; /* true current of a leg, since it was last set to nothing */
    int refused, back[CVK_TRIAL_REASONS];
} trier;

/* One control period at a time, so that no current goes unseen. */
static void advance(trier *t, double length_s)
{
    cvk_sim *sim = cvk_sim_controller_inside(t->controller);
    const double until_s = cvk_sim_controller_time_s(t->controller) + length_s;
    for (int n = 0; cvk_sim_controller_time_s(t->controller) < until_s; n++) {
        double leg_a[3];
        cvk_sim_controller_run(t->controller, cvk_sim_controller_time_s(t->controller) + 1e-9);
        cvk_rig_true_current(sim->rig, leg_a);
        for (int k = 0; k < 3; k++) {
            t->largest_a = fmax(t->largest_a, fabs(leg_a[k]));
        }
        if (n % 20 == 0) {
            ck_assert_int_eq(cvk_session_pump(&t->session, 0.0), CVK_OK);
        }
    }
    ck_assert_int_eq(cvk_session_pump(&t->session, 0.0), CVK_OK);
}

static bool turns(const trier *t)
{
    const cvk_moment *now = cvk_sim_controller_now(t->controller);
    return now->fault == CVK_FAULT_NONE && now->start_phase == CVK_START_RUN &&
           fabsf(now->angle.speed_rad_s - t->speed_rad_s) < 0.1f * fabsf(t->speed_rad_s);
}

static void start(trier *t)
{
    cvk_session *s = &t->session;
    const cvk_request off = {.mode = CVK_MODE_OFF};
    const cvk_request speed = {.mode = CVK_MODE_SPEED, .speed_rad_s = t->speed_rad_s};
    ck_assert_int_eq(cvk_session_claim(s, 0.5), CVK_OK);
    ck_assert_int_eq(cvk_session_request(s, &off), CVK_OK);
    ck_assert_int_eq(cvk_session_clear_fault(s), CVK_OK);
    for (int n = 0;
         n < 400 &&
         fabs(cvk_rig_state_of(cvk_sim_controller_inside(t->controller)->rig)->speed_mech_rad_s) >
             0.5;
         n++) {
        advance(t, 0.05); /* it runs out */
    }
    ck_assert_int_eq(cvk_session_request(s, &speed), CVK_OK);
    for (int n = 0; n < 200 && !turns(t); n++) {
        advance(t, 0.05);
    }
    ck_assert_msg(turns(t), "%s does not run: %s at %g rad/s", s->name,
                  cvk_fault_text((cvk_fault)s->state.fault),
                  (double)cvk_sim_controller_now(t->controller)->angle.speed_rad_s);
}

static void open_motor(trier *t, const char *motor, uint64_t seed)
{
    cvk_wire wire;
    *t = (trier){.bench = bench_with_gains(motor, 3)};
    t->bench.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    const cvk_run_plan plan = there_and_back(&t->bench, 0.4);
    t->speed_rad_s = plan.item[0].request.speed_rad_s;
    ck_assert_int_eq(cvk_sim_controller_open(&t->controller, &t->bench, seed, NULL), CVK_OK);
    ck_assert_int_eq(cvk_sim_wire_open(&wire, t->controller, false), CVK_OK);
    ck_assert_int_eq(cvk_session_open(&t->session, &wire), CVK_OK);
    ck_assert_int_eq(cvk_session_claim(&t->session, 0.5), CVK_OK);
    ck_assert_int_eq(cvk_session_request(&t->session, &(cvk_request){.mode = CVK_MODE_REST}),
                     CVK_OK);
    advance(t, 0.3);
    start(t);
}

/* A change that nobody would make. */
static unsigned bad_change(const cvk_session *s, cvk_session_change *out)
{
    const unsigned low = (unsigned)cvk_session_parameter_named(s, "protect.bus_min_v"),
                   high = (unsigned)cvk_session_parameter_named(s, "protect.bus_max_v");
    if (uniform() > 0.45) {
        out[0] = (cvk_session_change){low, s->value[high]};
        out[1] = (cvk_session_change){high, s->value[low]};
        return 2;
    }
    unsigned which = 0;
    do {
        which = (unsigned)((uniform() + 0.5) * s->parameters) % s->parameters;
    } while (s->value[which] == 0.0f);
    const float factor = (float)pow(10.0, 4.0 * uniform());
    const bool reversed = uniform() > 0.45;
    out[0] = (cvk_session_change){which, s->value[which] * (reversed ? -1.0f : factor)};
    return 1;
}

static void try_one(trier *t)
{
    cvk_session *s = &t->session;
    cvk_session_change change[2];
    const cvk_settings before =
        *cvk_drive_settings(&cvk_sim_controller_inside(t->controller)->drive);
    const unsigned count = bad_change(s, change);
    t->largest_a = 0.0;
    const cvk_status status = cvk_session_adopt(s, change, count, &terms);
    ck_assert_int_ne(status, CVK_NO_ANSWER);
    if (status != CVK_OK) {
        t->refused++;
        ck_assert_int_gt((int)strlen(s->text), 10);
    } else {
        advance(t, (double)(terms.watch_s + terms.confirm_s) + 0.002);
        ck_assert_int_eq(s->state.trial, CVK_TRIAL_GONE_BACK);
        t->back[s->state.trial_reason]++;
    }
    ck_assert_mem_eq(&before, cvk_drive_settings(&cvk_sim_controller_inside(t->controller)->drive),
                     sizeof before);
    ck_assert_msg(t->largest_a <= (double)t->bench.tune.protect.trip_current_a,
                  "%s: %s = %g took the current to %g A", s->name,
                  s->parameter[change[0].parameter].key, (double)change[0].value, t->largest_a);
    if (!turns(t)) {
        start(t);
    } else if (status == CVK_OK) {
        advance(t, 0.2);
    }
}

START_TEST(bad_changes_always_go_back)
{
    static trier t;
    lcg = 77u + (uint32_t)_i;
    open_motor(&t, motors[_i], 5);
    for (int n = 0; n < CHANGES; n++) {
        try_one(&t);
    }
    ck_assert_int_gt(t.refused, CHANGES / 5);
    ck_assert_int_gt(t.back[CVK_TRIAL_UNCONFIRMED], CHANGES / 5);
    cvk_session_close(&t.session);
    cvk_sim_controller_close(t.controller);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, bad_changes_always_go_back, 0, 4);
}

int main(void)
{
    return run_suite("changes", add, 300.0);
}
