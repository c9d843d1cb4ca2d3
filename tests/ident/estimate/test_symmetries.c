/* SPDX-License-Identifier: Apache-2.0
 *
 * What must not change an estimate: which phase is called a, in which order they follow, and the
 * size of a motor. No truth is needed for that, so it also holds where the
 * truth is not known.
 */
#include "corvak/ident/estimate.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <stdint.h>

/* A log that is made from another. */
typedef struct change {
    const char *what;
    int phase[3];            /* a, b, c come from these */
    double current, voltage; /* times as large */
    /* What that may change: a value, share of its interval's half width, and that, times as wide.
     * Of the resistance, where an ohm of the bus capacitor counts more or less: */
    double value, width, resistance_value, resistance_width;
} change;

/* Turns that begin elsewhere are cut into other windows and blocks; a size alone changes nothing.
 */
static const change changes[] = {
    {"next phase", {1, 2, 0}, 1.0, 1.0, 0.35, 1.35, 0.35, 1.35},
    {"mirrored", {0, 2, 1}, 1.0, 1.0, 0.35, 1.35, 0.35, 1.35},
    {"twice as large", {0, 1, 2}, 2.0, 2.0, 0.02, 1.02, 0.02, 1.02},
    {"a third of the impedance", {0, 1, 2}, 3.0, 1.0, 0.02, 1.02, 0.6, 2.7},
};
enum { CHANGES = sizeof changes / sizeof changes[0] };

typedef struct run {
    const char *bench, *excitation;
    int fidelity;
} run;

static const run runs[] = {
    {"blower", "standstill", CVK_FIDELITY_SWITCHED},
    {"mixer", "spin", CVK_FIDELITY_SWITCHED},
    {"wheel", "duty", CVK_FIDELITY_AVERAGED},
    {"table", "coast", CVK_FIDELITY_AVERAGED},
};
enum { RUNS = sizeof runs / sizeof runs[0] };

static double *scaled(const double *column, size_t rows, double by)
{
    double *out = malloc(rows * sizeof *out);
    ck_assert_ptr_nonnull(out);
    for (size_t k = 0; k < rows; k++) {
        out[k] = by * column[k];
    }
    return out;
}

/* Three columns: exchanged, and made larger. */
static void take_three(cvk_log *to, const cvk_log *from, cvk_column first, const change *c,
                       double by)
{
    for (int n = 0; n < 3; n++) {
        const double *column = from->column[(int)first + c->phase[n]];
        to->column[(int)first + n] = column != NULL ? scaled(column, from->rows, by) : NULL;
    }
}

static cvk_log changed(const cvk_log *from, const change *c)
{
    const double *bus = from->column[CVK_COLUMN_VDC];
    cvk_log to = *from;
    take_three(&to, from, CVK_COLUMN_IA, c, c->current);
    take_three(&to, from, CVK_COLUMN_DUTY_A, c, 1.0);
    take_three(&to, from, CVK_COLUMN_VA, c, c->voltage);
    to.column[CVK_COLUMN_VDC] = bus != NULL ? scaled(bus, from->rows, c->voltage) : NULL;
    return to;
}

static void free_changed(cvk_log *log)
{
    static const cvk_column made[] = {
        CVK_COLUMN_IA, CVK_COLUMN_IB,     CVK_COLUMN_IC,     CVK_COLUMN_VA,     CVK_COLUMN_VB,
        CVK_COLUMN_VC, CVK_COLUMN_DUTY_A, CVK_COLUMN_DUTY_B, CVK_COLUMN_DUTY_C, CVK_COLUMN_VDC};
    for (size_t n = 0; n < sizeof made / sizeof made[0]; n++) {
        /* NOLINTNEXTLINE(performance-no-int-to-ptr): columns are const */
        free((double *)(uintptr_t)log->column[made[n]]);
    }
}

static double factor_of(cvk_card_key key, const change *c)
{
    switch (key) {
    case CVK_CARD_FLUX_LINKAGE:
        return c->voltage;
    case CVK_CARD_INERTIA: /* what turns it is flux linkage times current */
        return c->voltage * c->current;
    default:
        return c->voltage / c->current;
    }
}

static void compare(const cvk_card *was, const cvk_card *is, const change *c)
{
    static const cvk_card_key keys[] = {CVK_CARD_RESISTANCE, CVK_CARD_INDUCTANCE_D,
                                        CVK_CARD_INDUCTANCE_Q, CVK_CARD_FLUX_LINKAGE,
                                        CVK_CARD_INERTIA};
    for (size_t n = 0; n < sizeof keys / sizeof keys[0]; n++) {
        const cvk_card_entry *a = &was->entry[keys[n]], *b = &is->entry[keys[n]];
        const char *name = cvk_card_key_name(keys[n]);
        ck_assert_msg(a->known == b->known, "%s: %s", name, b->missing);
        if (!a->known) {
            continue;
        }
        const double half = 0.5 * (a->statistical_high - a->statistical_low);
        const double by = factor_of(keys[n], c);
        const double moved = (b->value / by - a->value) / half;
        const double width = 0.5 * (b->statistical_high - b->statistical_low) / by / half;
        const bool ohm = keys[n] == CVK_CARD_RESISTANCE;
        const double most = ohm ? c->resistance_value : c->value;
        const double wide = ohm ? c->resistance_width : c->width;
        ck_assert_msg(fabs(moved) < most, "%s: %s moved by %.3f of its half width", c->what, name,
                      moved);
        ck_assert_msg(width > 1.0 / wide && width < wide, "%s: %s %.3f times as wide", c->what,
                      name, width);
    }
}

static void estimate(const cvk_log *log, cvk_estimate *out)
{
    const cvk_estimate_options options = cvk_estimate_options_default();
    const cvk_log *logs[] = {log};
    ck_assert_int_eq(cvk_estimate_logs(logs, 1, &options, out), CVK_OK);
}

START_TEST(names_and_size_change_nothing)
{
    static cvk_estimate was, is;
    cvk_rig_config rig = studio_rig(runs[_i].bench);
    recording r;
    rig.inverter.fidelity = runs[_i].fidelity;
    record(&r, &rig, runs[_i].excitation, 61, false);
    estimate(&r.log, &was);
    for (int n = 0; n < CHANGES; n++) {
        cvk_log log = changed(&r.log, &changes[n]);
        estimate(&log, &is);
        compare(&was.card, &is.card, &changes[n]);
        free_changed(&log);
    }
    recording_free(&r);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, names_and_size_change_nothing, 0, RUNS);
}

int main(void)
{
    return run_suite("symmetries of a log", add);
}
