/* SPDX-License-Identifier: Apache-2.0
 *
 * Damaged logs: whatever happens to a log, a value on the card is near the truth or its interval
 * says so; else there is no value, and a finding or a reason.
 */
#include "corvak/ident/examine.h"
#include "recording.h"
#include "suite.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static cvk_estimate result;
static cvk_examination examination;
static const cvk_estimate_options options = {-1.0, -1.0, 500.0, 0.0, 0, 1, NULL};

enum { COLUMNS = 9 };
static const cvk_column order[COLUMNS] = {CVK_COLUMN_T,      CVK_COLUMN_IA,     CVK_COLUMN_IB,
                                          CVK_COLUMN_IC,     CVK_COLUMN_DUTY_A, CVK_COLUMN_DUTY_B,
                                          CVK_COLUMN_DUTY_C, CVK_COLUMN_VDC,    CVK_COLUMN_THETA_M};

/* A log whose cells may be changed. */
typedef struct patient {
    cvk_log log;
    double *cell[CVK_COLUMN_COUNT];
} patient;

static patient copy_of(const cvk_log *log)
{
    patient p = {.log = *log};
    for (int c = 0; c < COLUMNS; c++) {
        if (log->column[order[c]] != NULL) {
            p.cell[order[c]] = malloc((log->rows + 16) * sizeof(double));
            ck_assert_ptr_nonnull(p.cell[order[c]]);
            memcpy(p.cell[order[c]], log->column[order[c]], log->rows * sizeof(double));
            p.log.column[order[c]] = p.cell[order[c]];
        }
    }
    return p;
}

static void free_patient(patient *p)
{
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        free(p->cell[c]);
    }
}

/* ---- what can happen to a log --------------------------------------------------------------- */

static void remove_rows(patient *p, size_t from, size_t count)
{
    for (int c = 0; c < COLUMNS; c++) {
        double *x = p->cell[order[c]];
        if (x != NULL) {
            memmove(x + from, x + from + count, (p->log.rows - from - count) * sizeof *x);
        }
    }
    p->log.rows -= count;
}

static void gaps(patient *p)
{
    for (size_t n = 1; n < 6; n++) {
        remove_rows(p, p->log.rows * n / 7, 150);
    }
}

static void repeated_rows(patient *p)
{
    for (size_t k = 1000; k + 1 < p->log.rows; k += 997) {
        for (int c = 0; c < COLUMNS; c++) {
            if (p->cell[order[c]] != NULL) {
                p->cell[order[c]][k + 1] = p->cell[order[c]][k];
            }
        }
    }
}

static void holes(patient *p)
{
    for (size_t k = 500; k < p->log.rows; k += 2111) {
        p->cell[CVK_COLUMN_IB][k] = NAN;
    }
}

static void spikes(patient *p)
{
    for (size_t k = 700; k < p->log.rows; k += 5003) {
        p->cell[CVK_COLUMN_IA][k] += 30.0;
    }
}

static void clipped(patient *p)
{
    for (int c = CVK_COLUMN_IA; c <= CVK_COLUMN_IC; c++) {
        for (size_t k = 0; k < p->log.rows; k++) {
            p->cell[c][k] = fmax(-5.0, fmin(5.0, p->cell[c][k]));
        }
    }
}

static void milliampere(patient *p)
{
    for (int c = CVK_COLUMN_IA; c <= CVK_COLUMN_IC; c++) {
        for (size_t k = 0; k < p->log.rows; k++) {
            p->cell[c][k] *= 1e3;
        }
    }
}

static void milliseconds(patient *p)
{
    for (size_t k = 0; k < p->log.rows; k++) {
        p->cell[CVK_COLUMN_T][k] *= 1e3;
    }
}

static void two_exchanged(patient *p)
{
    double *keep = p->cell[CVK_COLUMN_IA];
    p->cell[CVK_COLUMN_IA] = p->cell[CVK_COLUMN_IB];
    p->cell[CVK_COLUMN_IB] = keep;
    p->log.column[CVK_COLUMN_IA] = p->cell[CVK_COLUMN_IA];
    p->log.column[CVK_COLUMN_IB] = p->cell[CVK_COLUMN_IB];
}

static void one_inverted(patient *p)
{
    for (size_t k = 0; k < p->log.rows; k++) {
        p->cell[CVK_COLUMN_IC][k] *= -1.0;
    }
}

static void cut_short(patient *p)
{
    p->log.rows = 300;
}

static void emptied(patient *p)
{
    p->log.rows = 0;
}

static void all_the_same(patient *p)
{
    for (int c = CVK_COLUMN_IA; c <= CVK_COLUMN_IC; c++) {
        for (size_t k = 0; k < p->log.rows; k++) {
            p->cell[c][k] = 1.0;
        }
    }
}

static void infinite(patient *p)
{
    for (size_t k = 0; k < p->log.rows; k += 3) {
        p->cell[CVK_COLUMN_VDC][k] = INFINITY;
    }
}

static void backwards(patient *p)
{
    for (size_t k = 0; k < p->log.rows; k++) {
        p->cell[CVK_COLUMN_T][k] *= -1.0;
    }
}

/* Damage that the estimate need not survive must be told, in these words; null: what is near, and
 * must leave known what such a log shows best. */
static const struct {
    void (*happen)(patient *p);
    const char *words;
} damages[] = {{gaps, NULL},
               {repeated_rows, NULL},
               {holes, NULL},
               {spikes, NULL},
               {clipped, "touch a clipped channel"},
               {milliampere, "milliampere"},
               {milliseconds, "is the time column in another unit?"},
               {two_exchanged, "when ia, ib, ic are taken for ib, ia, ic"},
               {one_inverted, "ic is inverted"},
               {cut_short, "no steady current at several levels"},
               {emptied, "no row, at least"},
               {all_the_same, "no steady current at several levels"},
               {infinite, "have an empty or non-numeric cell"},
               {backwards, "time never goes forward"}};
enum { DAMAGES = sizeof damages / sizeof damages[0] };

/* A warning or an error, or the reason for a missing resistance, says so. */
static bool told(const cvk_estimate *e, const char *words)
{
    for (size_t n = 0; n < e->findings; n++) {
        if (e->finding[n].severity != CVK_NOTE && strstr(e->finding[n].text, words) != NULL) {
            return true;
        }
    }
    const cvk_card_entry *r = &e->card.entry[CVK_CARD_RESISTANCE];
    return !r->known && strstr(r->missing, words) != NULL;
}

/* Every known value within its interval, taken twice as wide, and 0.5 % for what is in no model. */
static void assert_not_confident_and_wrong(const cvk_rig_config *rig)
{
    const double truths[] = {cvk_rig_visible_resistance(rig), rig->motor.inductance_d_h,
                             rig->motor.inductance_q_h, rig->motor.flux_linkage_wb};
    for (int key = 0; key <= CVK_CARD_FLUX_LINKAGE; key++) {
        const cvk_card_entry *entry = &result.card.entry[key];
        if (!entry->known) {
            ck_assert_msg(entry->missing[0] != '\0', "%s: no reason",
                          cvk_card_key_name((cvk_card_key)key));
            continue;
        }
        double allowed = (entry->high - entry->low) + 0.005 * truths[key];
        ck_assert_msg(fabs(entry->value - truths[key]) <= allowed, "%s is %g +- %g, not %g",
                      cvk_card_key_name((cvk_card_key)key), entry->value,
                      0.5 * (entry->high - entry->low), truths[key]);
    }
}

static void damage_and_estimate(const char *excitation, int which)
{
    const cvk_rig_config rig = studio_rig("wheel");
    recording r;
    record(&r, &rig, excitation, 12, true);
    patient p = copy_of(&r.log);
    damages[which].happen(&p);
    const cvk_log *logs[] = {&p.log};
    cvk_status status = cvk_estimate_logs(logs, 1, &options, &result);
    ck_assert(status == CVK_OK || status == CVK_NOT_IN_LOG);
    assert_not_confident_and_wrong(&rig);
    if (damages[which].words != NULL) {
        ck_assert_msg(told(&result, damages[which].words), "damage %d is not told", which);
    } else {
        const cvk_card_key shown =
            strcmp(excitation, "duty") == 0 ? CVK_CARD_FLUX_LINKAGE : CVK_CARD_RESISTANCE;
        ck_assert_msg(result.card.entry[shown].known, "damage %d: %s: %s", which,
                      cvk_card_key_name(shown), result.card.entry[shown].missing);
    }
    free_patient(&p);
    recording_free(&r);
}

START_TEST(a_damaged_standstill_log_does_not_deceive)
{
    damage_and_estimate("standstill", _i);
}
END_TEST

START_TEST(a_damaged_run_does_not_deceive)
{
    damage_and_estimate("duty", _i);
}
END_TEST

/* What was done to the log is what the examination counts. */
START_TEST(damage_is_counted)
{
    const cvk_rig_config rig = studio_rig("wheel");
    recording r;
    record(&r, &rig, "standstill", 12, true);
    patient p = copy_of(&r.log);
    gaps(&p);
    ck_assert_int_eq(cvk_examine_log(&p.log, &options, &examination), CVK_OK);
    ck_assert_uint_eq(examination.gaps, 5);
    free_patient(&p);
    p = copy_of(&r.log);
    holes(&p);
    ck_assert_int_eq(cvk_examine_log(&p.log, &options, &examination), CVK_OK);
    size_t missing = 0;
    for (size_t n = 0; n < examination.channels; n++) {
        missing += examination.channel[n].missing;
    }
    ck_assert_uint_eq(missing, (p.log.rows - 500 + 2110) / 2111);
    free_patient(&p);
    p = copy_of(&r.log);
    clipped(&p);
    cvk_status status = cvk_examine_log(&p.log, &options, &examination);
    ck_assert(status == CVK_OK || status == CVK_NOT_IN_LOG);
    ck_assert_double_gt(examination.channel[1].clipped_share, 0.02);
    free_patient(&p);
    recording_free(&r);
}
END_TEST

/* A rotor that is held while the voltage turns: there is no back-EMF, so no flux linkage, although
 * everything rotates as in a motor that runs. */
START_TEST(a_held_rotor_in_a_turning_field_shows_no_flux)
{
    enum { ROWS = 30000, PARTS = 10, CHANNELS = 7 };
    static double cell[CHANNELS][ROWS];
    static const double hz[] = {8.0, 25.0, 60.0, 150.0};
    static const cvk_column columns[CHANNELS] = {CVK_COLUMN_T,  CVK_COLUMN_IA, CVK_COLUMN_IB,
                                                 CVK_COLUMN_IC, CVK_COLUMN_VA, CVK_COLUMN_VB,
                                                 CVK_COLUMN_VC};
    const double r = 0.5, ld = 1.0e-3, lq = 1.4e-3, step = 1e-4, half_sqrt3 = 0.8660254;
    cvk_log log = {.name = "held", .rows = ROWS};
    const cvk_log *logs[] = {&log};
    double alpha = 0.0, beta = 0.0;
    for (size_t k = 0; k < ROWS; k++) {
        const double angle = 2.0 * 3.14159265358979 * hz[_i] * step * (double)k;
        const double va = 3.0 * cos(angle), vb = 3.0 * sin(angle);
        const double row[CHANNELS] = {step * (double)k,
                                      alpha,
                                      half_sqrt3 * beta - 0.5 * alpha,
                                      -half_sqrt3 * beta - 0.5 * alpha,
                                      va,
                                      half_sqrt3 * vb - 0.5 * va,
                                      -half_sqrt3 * vb - 0.5 * va};
        for (int c = 0; c < CHANNELS; c++) { /* and converters with steps of 20 mA */
            cell[c][k] = c >= 1 && c <= 3 ? 0.02 * round(row[c] / 0.02) : row[c];
        }
        for (int part = 0; part < PARTS; part++) {
            alpha += step / PARTS * (va - r * alpha) / ld;
            beta += step / PARTS * (vb - r * beta) / lq;
        }
    }
    for (int c = 0; c < CHANNELS; c++) {
        log.column[columns[c]] = cell[c];
    }
    const cvk_status status = cvk_estimate_logs(logs, 1, &options, &result);
    ck_assert(status == CVK_OK || status == CVK_NOT_IN_LOG);
    const cvk_card_entry *flux = &result.card.entry[CVK_CARD_FLUX_LINKAGE];
    ck_assert_msg(!flux->known, "flux linkage %g Wb", flux->value);
    ck_assert_msg(strstr(flux->missing, "does not turn") != NULL ||
                      strstr(flux->missing, "back-EMF") != NULL ||
                      strstr(flux->missing, "back-EMF cannot be told") != NULL,
                  "%s", flux->missing);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, a_damaged_standstill_log_does_not_deceive, 0, DAMAGES);
    tcase_add_loop_test(tests, a_damaged_run_does_not_deceive, 0, DAMAGES);
    tcase_add_loop_test(tests, a_held_rotor_in_a_turning_field_shows_no_flux, 0, 4);
    tcase_add_test(tests, damage_is_counted);
}

int main(void)
{
    return run_suite("damage", add);
}
