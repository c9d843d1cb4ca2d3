/* SPDX-License-Identifier: Apache-2.0
 *
 * Bad changes to running motors, over the link: any parameter a hundredth to a hundred times of
 * what it was, or a limit the other way round. Each must be refused, or go back by itself within
 * the time that was stated, and no current may go beyond the trip current.
 */
#include "live_motor.h"
#include "noise.h"
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

static live_motor motor;
static int refused, back[CVK_TRIAL_REASONS];

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

static void try_one(void)
{
    live_motor *t = &motor;
    cvk_session *s = &t->session;
    cvk_session_change change[2];
    const cvk_settings before =
        *cvk_drive_settings(&cvk_sim_controller_inside(t->controller)->drive);
    const unsigned count = bad_change(s, change);
    t->largest_a = t->fastest_rad_s = 0.0;
    const cvk_status status = cvk_session_adopt(s, change, count, &terms);
    ck_assert_int_ne(status, CVK_NO_ANSWER);
    if (status != CVK_OK) {
        refused++;
        ck_assert_int_gt((int)strlen(s->text), 10);
    } else {
        live_advance(t, (double)(terms.watch_s + terms.confirm_s) + 0.002);
        ck_assert_int_eq(s->state.trial, CVK_TRIAL_GONE_BACK);
        back[s->state.trial_reason]++;
    }
    ck_assert_mem_eq(&before, cvk_drive_settings(&cvk_sim_controller_inside(t->controller)->drive),
                     sizeof before);
    ck_assert_msg(t->largest_a <= (double)t->bench.tune.protect.trip_current_a,
                  "%s: %s = %g took the current to %g A", s->name,
                  s->parameter[change[0].parameter].key, (double)change[0].value, t->largest_a);
    ck_assert_msg(t->fastest_rad_s <= 1.2 * fabs((double)t->speed_rad_s),
                  "%s: %s = %g (%s, %s) took the speed to %g rad/s, asked for %g", s->name,
                  s->parameter[change[0].parameter].key, (double)change[0].value,
                  status != CVK_OK ? "refused"
                                   : cvk_trial_reason_text((cvk_trial_reason)s->state.trial_reason),
                  cvk_fault_text((cvk_fault)s->state.fault), t->fastest_rad_s,
                  (double)t->speed_rad_s);
    if (!live_turns(t)) {
        live_start(t);
    } else if (status == CVK_OK) {
        live_advance(t, 0.2);
    }
}

START_TEST(bad_changes_always_go_back)
{
    lcg = 77u + (uint32_t)_i;
    live_open(&motor, motors[_i], CVK_FIDELITY_SWITCHED, 5);
    for (int n = 0; n < CHANGES; n++) {
        try_one();
    }
    ck_assert_int_gt(refused, CHANGES / 5);
    ck_assert_int_gt(back[CVK_TRIAL_UNCONFIRMED], CHANGES / 5);
    live_close(&motor);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, bad_changes_always_go_back, 0, 4);
}

int main(void)
{
    return run_suite("changes", add);
}
