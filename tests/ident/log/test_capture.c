/* SPDX-License-Identifier: Apache-2.0
 *
 * Captures of a bench scope with the switching visible, at many rates, of three motors: the values
 * hold, or are left open with the rate that would do. Short captures give the flux linkage.
 */
#include "corvak/ident/estimate.h"
#include "corvak/rig/scope.h"
#include "corvak/sim/recorder.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { COLUMNS = 6 }; /* t, va vb vc, ia ib */

static const cvk_estimate_options options = {-1.0, -1.0, 500.0, 0.0, 0, 2, NULL};
static cvk_estimate result;

typedef struct capture {
    cvk_log log;
    double *cells[COLUMNS];
    size_t most;
    char name[64];
} capture;

static void on_row(void *context, const cvk_rig_scope_row *row)
{
    capture *c = context;
    const double values[COLUMNS] = {row->time_s,   row->leg_v[0], row->leg_v[1],
                                    row->leg_v[2], row->leg_a[0], row->leg_a[1]};
    for (int n = 0; n < COLUMNS && c->log.rows < c->most; n++) {
        c->cells[n][c->log.rows] = values[n];
    }
    c->log.rows += c->log.rows < c->most;
}

static bool until(void *context, const cvk_sim_row *row)
{
    return row->time_s <= *(const double *)context;
}

/* What a scope sees of an excitation from `from_s` on. */
static void take(capture *c, const char *motor, const char *excitation, double from_s,
                 double length_s, double rate_hz)
{
    static const cvk_column columns[COLUMNS] = {CVK_COLUMN_T,  CVK_COLUMN_VA, CVK_COLUMN_VB,
                                                CVK_COLUMN_VC, CVK_COLUMN_IA, CVK_COLUMN_IB};
    cvk_excitation program;
    cvk_sim sim;
    cvk_rig_config rig = studio_rig(motor);
    rig.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    ck_assert_int_eq(cvk_sim_init(&sim, &rig, 3, NULL), CVK_OK);
    ck_assert_int_eq(cvk_sim_start(&sim, cvk_program_named(excitation), &program, NULL), CVK_OK);
    snprintf(c->name, sizeof c->name, "%s %s %g Hz", motor, excitation, rate_hz);
    c->log = cvk_log_empty(c->name);
    c->most = (size_t)(length_s * rate_hz) + 2u;
    for (int n = 0; n < COLUMNS; n++) {
        c->cells[n] = malloc(c->most * sizeof(double));
        c->log.column[columns[n]] = c->cells[n];
    }
    double until_s = from_s + length_s;
    cvk_rig_scope scope = {
        .from_s = from_s, .until_s = until_s, .rate_hz = rate_hz, .row = on_row, .context = c};
    cvk_rig_scope_attach(sim.rig, &scope);
    ck_assert_int_eq(cvk_sim_run_program(&sim, until, &until_s), CVK_OK);
    cvk_sim_close(&sim);
}

static void drop(capture *c)
{
    for (int n = 0; n < COLUMNS; n++) {
        free(c->cells[n]);
    }
}

/* Known and inside its interval, or open with a reason that says why. */
static bool holds(cvk_card_key key, double truth, const char *name)
{
    const cvk_card_entry *e = &result.card.entry[key];
    if (!e->known) {
        ck_assert_msg(e->missing[0] != '\0', "%s: no reason", name);
        return false;
    }
    ck_assert_msg(truth >= e->low && truth <= e->high, "%s: %s %g .. %g, true %g", name,
                  cvk_card_key_name(key), e->low, e->high, truth);
    return true;
}

static const struct {
    const char *motor;
    double rate_hz;
    bool known; /* the resistance must be */
} captures[] = {
    {"wheel", 8e4, false},  {"wheel", 1.3e5, false},     {"wheel", 2.123e5, false},
    {"wheel", 4e5, false},  {"wheel", 4.123e5, true},    {"wheel", 1e6, false},
    {"mixer", 4e5, false},  {"mixer", 1.0123e6, true},   {"blower", 4e5, false},
    {"blower", 1e6, false}, {"blower", 1.0123e6, false},
};

START_TEST(a_capture_at_any_rate_holds_or_is_left_open)
{
    capture c;
    const cvk_rig_config rig = studio_rig(captures[_i].motor);
    take(&c, captures[_i].motor, "standstill", 0.0, 1.9, captures[_i].rate_hz);
    const cvk_log *logs[] = {&c.log};
    const cvk_status status = cvk_estimate_logs(logs, 1, &options, &result);
    ck_assert(status == CVK_OK || status == CVK_NOT_IN_LOG);
    const bool known = holds(CVK_CARD_RESISTANCE, rig.motor.resistance_ohm, c.name);
    ck_assert_msg(known || !captures[_i].known, "%s: %s", c.name,
                  result.card.entry[CVK_CARD_RESISTANCE].missing);
    holds(CVK_CARD_INDUCTANCE_D, rig.motor.inductance_d_h, c.name);
    holds(CVK_CARD_INDUCTANCE_Q, rig.motor.inductance_q_h, c.name);
    ck_assert(!result.card.entry[CVK_CARD_FLUX_LINKAGE].known); /* the shaft was held */
    if (!known) {
        const char *why = result.card.entry[CVK_CARD_RESISTANCE].missing;
        ck_assert_msg(strstr(why, "edges fall between samples") != NULL, "%s: %s", c.name, why);
        ck_assert_msg(strstr(why, "kHz") != NULL, "%s: %s", c.name, why);
    }
    drop(&c);
}
END_TEST

static const struct {
    const char *motor;
    double length_s;
} shorts[] = {{"wheel", 0.04}, {"blower", 0.002}, {"blower", 0.02}, {"mixer", 0.01}};

START_TEST(a_short_capture_of_a_turning_motor_gives_the_flux_linkage)
{
    capture c;
    recording still;
    const cvk_rig_config rig = studio_rig(shorts[_i].motor);
    record(&still, &rig, "standstill", 4, false);
    take(&c, shorts[_i].motor, "spin", 1.2, shorts[_i].length_s, 1.0123e6);
    const cvk_log *logs[] = {&c.log, &still.log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 2, &options, &result), CVK_OK);
    ck_assert_msg(holds(CVK_CARD_FLUX_LINKAGE, rig.motor.flux_linkage_wb, c.name), "%s: %s", c.name,
                  result.card.entry[CVK_CARD_FLUX_LINKAGE].missing);
    holds(CVK_CARD_INDUCTANCE_D, rig.motor.inductance_d_h, c.name);
    /* alone it shows neither, and is not taken for a motor that stands still */
    (void)!cvk_estimate_logs(logs, 1, &options, &result);
    for (int key = CVK_CARD_RESISTANCE; key <= CVK_CARD_INDUCTANCE_Q; key++) {
        ck_assert(!result.card.entry[key].known);
    }
    recording_free(&still);
    drop(&c);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, a_capture_at_any_rate_holds_or_is_left_open, 0,
                        (int)(sizeof captures / sizeof captures[0]));
    tcase_add_loop_test(tests, a_short_capture_of_a_turning_motor_gives_the_flux_linkage, 0,
                        (int)(sizeof shorts / sizeof shorts[0]));
}

int main(void)
{
    return run_suite("capture", add);
}
