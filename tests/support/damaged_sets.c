/* SPDX-License-Identifier: Apache-2.0
 *
 * Recordings are made once for each motor and excitation; a set takes copies and spoils one.
 */
#include "damaged_sets.h"

#include "recording.h"

#include <math.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOTORS = 4, EXCITATIONS = 4, MOST_SET = 5 };

static const char *const motors[MOTORS] = {"wheel", "blower", "mixer", "table"};
static const char *const excitations[EXCITATIONS] = {"standstill", "spin", "coast", "duty"};
static recording pool[MOTORS][EXCITATIONS];
static uint64_t state;

/* xorshift64*, Vigna, ACM Trans. Math. Softw. 42(4), 2016 */
static double uniform(double low, double high)
{
    state ^= state >> 12;
    state ^= state << 25;
    state ^= state >> 27;
    return low +
           (high - low) * ((double)(state * 2685821657736338717ull >> 11) / 9007199254740992.0);
}

static int pick(int count)
{
    return (int)uniform(0.0, count - 1e-9);
}

static const cvk_log *pooled(int motor, int excitation)
{
    recording *r = &pool[motor][excitation];
    if (r->storage == NULL) {
        cvk_rig_config rig = studio_rig(motors[motor]);
        rig.tune.program.hold_s = 0.25;
        record(r, &rig, excitations[excitation], 7u + (unsigned)motor, excitation != 0);
    }
    return &r->log;
}

/* A log of its own, to be spoilt. */
typedef struct copy {
    cvk_log log;
    double *cells[CVK_COLUMN_COUNT];
    char name[64];
} copy;

static void take_copy(copy *out, const cvk_log *log)
{
    *out = (copy){.log = *log};
    snprintf(out->name, sizeof out->name, "%s", log->name);
    out->log.name = out->name;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        if (log->column[c] != NULL) {
            out->cells[c] = malloc(log->rows * sizeof(double));
            memcpy(out->cells[c], log->column[c], log->rows * sizeof(double));
            out->log.column[c] = out->cells[c];
        }
    }
}

static void free_copy(copy *c)
{
    for (int k = 0; k < CVK_COLUMN_COUNT; k++) {
        free(c->cells[k]);
    }
}

static void scale(copy *c, int first, int last, double factor)
{
    for (int k = first; k <= last; k++) {
        for (size_t n = 0; c->cells[k] != NULL && n < c->log.rows; n++) {
            c->cells[k][n] *= factor;
        }
    }
}

static void none(copy *c)
{
    (void)c;
}

static void current_unit(copy *c)
{
    scale(c, CVK_COLUMN_IA, CVK_COLUMN_IC, pick(2) == 0 ? 1e3 : 1e-3);
}

static void duty_unit(copy *c)
{
    scale(c, CVK_COLUMN_DUTY_A, CVK_COLUMN_DUTY_C, 100.0);
    scale(c, CVK_COLUMN_VA, CVK_COLUMN_VC, c->cells[CVK_COLUMN_DUTY_A] != NULL ? 1.0 : 1e3);
}

static void time_unit(copy *c)
{
    scale(c, CVK_COLUMN_T, CVK_COLUMN_T, 1e3);
}

static void swap_currents(copy *c)
{
    const int a = pick(3), b = (a + 1 + pick(2)) % 3;
    const double *kept = c->log.column[CVK_COLUMN_IA + a];
    c->log.column[CVK_COLUMN_IA + a] = c->log.column[CVK_COLUMN_IA + b];
    c->log.column[CVK_COLUMN_IA + b] = kept;
}

static void scale_channel(copy *c)
{
    const int k = CVK_COLUMN_IA + pick(3);
    scale(c, k, k, pick(2) == 0 ? uniform(0.5, 0.85) : uniform(1.2, 2.0));
}

static void scale_currents(copy *c)
{
    scale(c, CVK_COLUMN_IA, CVK_COLUMN_IC, pick(2) == 0 ? uniform(0.5, 0.75) : uniform(1.35, 2.0));
}

static void scale_bus(copy *c)
{
    scale(c, CVK_COLUMN_VDC, CVK_COLUMN_VDC,
          pick(2) == 0 ? uniform(0.5, 0.75) : uniform(1.35, 2.0));
}

static void clip(copy *c)
{
    const double share = uniform(0.4, 0.8);
    for (int k = CVK_COLUMN_IA; k <= CVK_COLUMN_IC; k++) {
        double most = 0.0;
        for (size_t n = 0; n < c->log.rows; n++) {
            most = fmax(most, fabs(c->cells[k][n]));
        }
        for (size_t n = 0; n < c->log.rows; n++) {
            c->cells[k][n] = fmax(-share * most, fmin(share * most, c->cells[k][n]));
        }
    }
}

static void cut(copy *c)
{
    const size_t rows = c->log.rows;
    const size_t kept = (size_t)((double)rows * uniform(0.02, 0.5));
    const size_t from = (size_t)((double)(rows - kept) * uniform(0.0, 1.0));
    for (int k = 0; k < CVK_COLUMN_COUNT; k++) {
        c->log.column[k] = c->cells[k] != NULL ? c->cells[k] + from : NULL;
    }
    c->log.rows = kept;
}

static void garbage(copy *c)
{
    for (int k = CVK_COLUMN_IA; k <= CVK_COLUMN_VDC; k++) {
        const double size = uniform(0.1, 20.0);
        for (size_t n = 0; c->cells[k] != NULL && n < c->log.rows; n++) {
            c->cells[k][n] = uniform(-size, size);
        }
    }
}

static void invert(copy *c)
{
    const int k = CVK_COLUMN_IA + pick(3);
    scale(c, k, k, -1.0);
}

static void holes(copy *c)
{
    const int k = CVK_COLUMN_IA + pick(3);
    const double share = uniform(0.001, 0.3);
    for (size_t n = 0; n < c->log.rows; n++) {
        c->cells[k][n] = uniform(0.0, 1.0) < share ? NAN : c->cells[k][n];
    }
}

static const struct {
    const char *name;
    void (*spoil)(copy *c);
    bool driven; /* only a log with current can show it against the others */
    bool mixed;  /* another motor's log is added instead */
} damages[] = {
    {"shuffled only", none, false, false},
    {"unit of currents", current_unit, true, false},
    {"unit of voltages", duty_unit, true, false},
    {"unit of time", time_unit, true, false},
    {"two motors", none, false, true},
    {"swapped currents", swap_currents, true, false},
    {"one channel scaled", scale_channel, true, false},
    {"currents scaled", scale_currents, true, false},
    {"bus scaled", scale_bus, true, false},
    {"clipped", clip, true, false},
    {"cut", cut, false, false},
    {"one bad log", garbage, false, false},
    {"one channel inverted", invert, true, false},
    {"holes", holes, false, false},
};

int damage_kinds(void)
{
    return (int)(sizeof damages / sizeof damages[0]);
}

/* How far beyond its interval an entry is, in widths of it; 0 inside. */
static double beyond(const cvk_card_entry *e, double truth)
{
    const double out = fmax(fmax(e->low - truth, truth - e->high), 0.0);
    return out / fmax(e->high - e->low, 1e-12 * truth);
}

static void judge(damaged_result *r, const cvk_card *card, const cvk_rig_config *rig)
{
    const struct {
        cvk_card_key key;
        double truth;
    } rows[] = {{CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(rig)},
                {CVK_CARD_INDUCTANCE_D, rig->motor.inductance_d_h},
                {CVK_CARD_INDUCTANCE_Q, rig->motor.inductance_q_h},
                {CVK_CARD_FLUX_LINKAGE, rig->motor.flux_linkage_wb},
                {CVK_CARD_POLE_PAIRS, rig->motor.pole_pairs},
                {CVK_CARD_INERTIA, rig->shaft.inertia_kg_m2 + rig->shaft.load_inertia_kg_m2}};
    double worst = 0.0;
    for (size_t n = 0; n < sizeof rows / sizeof rows[0]; n++) {
        const cvk_card_entry *e = &card->entry[rows[n].key];
        const double off = e->known ? beyond(e, rows[n].truth) : 0.0;
        r->known += e->known;
        r->outside += off > 0.0;
        r->far_outside += off > 2.0;
        if (off > worst) {
            worst = off;
            snprintf(r->worst, sizeof r->worst, "%s is %.5g (%.5g .. %.5g), true %.5g",
                     cvk_card_key_name(rows[n].key), e->value, e->low, e->high, rows[n].truth);
        }
    }
}

damaged_result estimate_damaged_set(unsigned n, int threads)
{
    static const int combinations[][3] = {{0, 1, 2}, {0, 3, -1}, {0, 1, 3}, {1, 3, 2}};
    static cvk_estimate estimate;
    const int kind = (int)(n % (unsigned)damage_kinds());
    state = 88172645463325252ull + 7919ull * n;
    (void)uniform(0.0, 1.0);
    const int motor = pick(MOTORS), other = (motor + 1 + pick(MOTORS - 1)) % MOTORS;
    const int *chosen = combinations[pick(4)];
    copy copies[MOST_SET];
    const cvk_log *logs[MOST_SET];
    int count = 0;
    for (int k = 0; k < 3 && chosen[k] >= 0; k++) {
        take_copy(&copies[count++], pooled(motor, chosen[k]));
    }
    if (damages[kind].mixed) {
        static const int shows_winding[] = {0, 1, 3};
        take_copy(&copies[count++], pooled(other, shows_winding[pick(3)]));
    } else {
        int at = pick(count);
        while (damages[kind].driven && strstr(copies[at].name, "coast") != NULL) {
            at = pick(count);
        }
        damages[kind].spoil(&copies[at]);
    }
    for (int k = 0; k < count; k++) { /* in any order */
        logs[k] = &copies[k].log;
        const int with = pick(k + 1);
        const cvk_log *kept = logs[k];
        logs[k] = logs[with];
        logs[with] = kept;
    }
    damaged_result r = {.motor = motors[motor], .damage = damages[kind].name};
    cvk_estimate_options options = cvk_estimate_options_default();
    options.threads = threads;
    r.status = cvk_estimate_logs(logs, (size_t)count, &options, &estimate);
    if (r.status == CVK_OK) {
        const cvk_rig_config rig = studio_rig(motors[motor]);
        judge(&r, &estimate.card, &rig);
    }
    for (int k = 0; k < count; k++) {
        free_copy(&copies[k]);
    }
    return r;
}

void free_damaged_sets(void)
{
    for (int m = 0; m < MOTORS; m++) {
        for (int e = 0; e < EXCITATIONS; e++) {
            recording_free(&pool[m][e]);
        }
    }
}
