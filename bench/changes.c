/* SPDX-License-Identifier: Apache-2.0
 *
 * bench_changes [EACH] [averaged|switched] [MOTOR ...]: EACH bad values of every parameter that is
 * live, given to a running motor over the link by an owner who names no guard and then falls
 * silent. Prints what was refused, what ended the others and what went beyond the trip current (and
 * a period's rise) or 1.2 times the speed that was asked for.
 */
#include "live_motor.h"
#include "noise.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const cvk_trial_terms terms = {.watch_s = 0.2f, .confirm_s = 0.1f};

typedef struct tally {
    unsigned live, refused, back[CVK_TRIAL_REASONS], beyond, fast, stays, lost;
} tally;

/* From a hundredth to a hundred times of what it was, the other way round, or anything that the
 * table of parameters allows, and half as much again on either side. */
static float bad_value(const cvk_session *s, unsigned which)
{
    const cvk_parameter *row = &s->parameter[which].row;
    const double was = (double)s->value[which], low = (double)row->low, high = (double)row->high;
    const double kind = uniform() + 0.5, share = uniform() + 0.5;
    double value = kind < 0.3   ? was * pow(10.0, 4.0 * share - 2.0)
                   : kind < 0.4 ? -was
                   : kind < 0.7 ? low + (1.5 * share - 0.25) * (high - low)
                                : high * pow(10.0, -6.0 * share);
    return (float)(row->kind == CVK_REAL ? value : round(value));
}

static bool holds(const live_motor *m, const cvk_settings *before)
{
    const cvk_settings *now = cvk_drive_settings(&cvk_sim_controller_inside(m->controller)->drive);
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        if (cvk_parameter_get(before, row) != cvk_parameter_get(now, row)) {
            return false;
        }
    }
    return true;
}

static void change(live_motor *m, unsigned which, tally *t)
{
    cvk_session *s = &m->session;
    const cvk_settings before =
        *cvk_drive_settings(&cvk_sim_controller_inside(m->controller)->drive);
    const cvk_session_change to = {which, bad_value(s, which)};
    const char *key = s->parameter[which].key, *why = "refused";
    m->largest_a = m->fastest_rad_s = 0.0;
    const cvk_status status = cvk_session_adopt(s, &to, 1, &terms);
    if (status == CVK_OK) {
        live_advance(m, (double)(terms.watch_s + terms.confirm_s) + 0.002);
        why = cvk_trial_reason_text((cvk_trial_reason)s->state.trial_reason);
        t->back[s->state.trial_reason]++;
    } else {
        t->refused++;
    }
    const double trip_a = (double)m->bench.tune.protect.trip_current_a;
    if (m->largest_a > trip_a + live_rise_a(m)) {
        t->beyond++;
        printf("  %s = %g (%s): %.3g A, trip %.3g A\n", key, (double)to.value, why, m->largest_a,
               trip_a);
    }
    if (m->fastest_rad_s > 1.2 * fabs((double)m->speed_rad_s)) {
        t->fast++;
        printf("  %s = %g (%s): %.4g rad/s, asked for %.4g\n", key, (double)to.value, why,
               m->fastest_rad_s, (double)m->speed_rad_s);
    }
    if (!holds(m, &before)) {
        t->stays++;
        printf("  %s = %g (%s): other settings than before\n", key, (double)to.value, why);
    }
    if (!live_turns(m)) {
        t->lost++;
        live_start(m);
    } else if (status == CVK_OK) {
        live_advance(m, 0.1);
    }
}

static void try_motor(const char *name, int fidelity, unsigned each)
{
    static live_motor motor;
    tally t = {.live = 0};
    lcg = 991u + each;
    live_open(&motor, name, fidelity, 11);
    for (unsigned which = 0; which < motor.session.parameters; which++) {
        if (motor.session.parameter[which].row.while_on == 0) {
            continue;
        }
        t.live++;
        for (unsigned n = 0; n < each; n++) {
            change(&motor, which, &t);
        }
    }
    printf("%s, %s: %u live parameters, %u values of each: %u refused; back because of", name,
           fidelity == CVK_FIDELITY_SWITCHED ? "switched" : "averaged", t.live, each, t.refused);
    for (int r = 0; r < CVK_TRIAL_REASONS; r++) {
        if (t.back[r] > 0) {
            printf(" %s %u,", cvk_trial_reason_text((cvk_trial_reason)r), t.back[r]);
        }
    }
    printf(" current beyond %u, speed beyond %u, not gone back %u; stopped by a fault %u\n",
           t.beyond, t.fast, t.stays, t.lost);
    fflush(stdout);
    live_close(&motor);
}

int main(int argc, char **argv)
{
    static const char *const studio[] = {"wheel", "blower", "mixer", "table"};
    const unsigned each = argc > 1 ? (unsigned)strtoul(argv[1], NULL, 10) : 30u;
    const bool switched = argc > 2 && strcmp(argv[2], "switched") == 0;
    const int fidelity = switched ? CVK_FIDELITY_SWITCHED : CVK_FIDELITY_AVERAGED;
    for (int n = 3; n < argc; n++) {
        try_motor(argv[n], fidelity, each);
    }
    for (size_t n = 0; argc < 4 && n < sizeof studio / sizeof studio[0]; n++) {
        try_motor(studio[n], fidelity, each);
    }
    return EXIT_SUCCESS;
}
