/* SPDX-License-Identifier: Apache-2.0
 *
 * Planning by trying: no formula for the information in a recording is as true as the estimator
 * itself on a simulated one.
 */
#include "corvak/host/plan.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define MOST_LOGS 64
#define SMALLEST_WIDTH 1e-4 /* sharper than any gain can be: no reason for another recording */
#define LEAST_GAIN 0.05     /* of a recording that is worth while */
#define EQUAL_MERIT 0.1     /* apart: then the shorter recording is taken */

static const cvk_card_key keys[CVK_PLAN_KEYS] = {CVK_CARD_RESISTANCE,   CVK_CARD_INDUCTANCE_D,
                                                 CVK_CARD_INDUCTANCE_Q, CVK_CARD_FLUX_LINKAGE,
                                                 CVK_CARD_POLE_PAIRS,   CVK_CARD_INERTIA};

/* What may be recorded, and how long its plateaus are against the rig's. */
static const struct {
    const char *excitation;
    double plateaus;
} candidates[] = {{"standstill", 1.0}, {"spin", 1.0}, {"spin", 2.0}, {"coast", 1.0},
                  {"coast", 2.0},      {"duty", 1.0}, {"duty", 2.0}, {"steps", 1.0}};

cvk_card_key cvk_plan_key(int index)
{
    return keys[index];
}

static cvk_plan_widths widths_of(const cvk_card *card)
{
    cvk_plan_widths out;
    for (int k = 0; k < CVK_PLAN_KEYS; k++) {
        const cvk_card_entry *entry = &card->entry[keys[k]];
        double width = 1.0;
        if (entry->known && keys[k] == CVK_CARD_POLE_PAIRS) {
            width = 1.0 - entry->probability;
        } else if (entry->known) {
            width = 0.5 * (entry->statistical_high - entry->statistical_low) / fabs(entry->value);
        }
        out.width[k] = fmin(1.0, fmax(width, SMALLEST_WIDTH));
    }
    return out;
}

static int widest_of(const cvk_plan_widths *w)
{
    int widest = 0;
    for (int k = 1; k < CVK_PLAN_KEYS; k++) {
        widest = w->width[k] > w->width[widest] ? k : widest;
    }
    return widest;
}

/* The largest gain among the widest keys, which may be several, and a little for the others. */
static double merit_of(const cvk_plan_widths *before, const cvk_plan_option *option)
{
    const double widest = before->width[widest_of(before)];
    double merit = 0.0;
    for (int k = 0; k < CVK_PLAN_KEYS; k++) {
        double gain = log(before->width[k] / option->after.width[k]);
        if (before->width[k] > 0.99 * widest) {
            merit = fmax(merit, gain);
        }
    }
    return merit + 0.5 * option->gain;
}

/* What is tried, and against what. */
typedef struct trial {
    const cvk_plan_bench *bench;
    const cvk_settings *settings;
    const cvk_log *const *logs;
    size_t count;
    const cvk_plan_limits *limits;
    const cvk_plan_widths *before;
    cvk_estimate *estimate;
} trial;

/* What the logs and this recording show together. */
static void judge(const trial *t, const cvk_log *recorded, cvk_plan_option *option)
{
    const cvk_log *all[MOST_LOGS];
    cvk_estimate_options how = cvk_estimate_options_default();
    how.threads = t->limits->threads > 1 ? t->limits->threads : 1;
    for (size_t n = 0; n < t->count; n++) {
        all[n] = t->logs[n];
    }
    all[t->count] = recorded;
    const cvk_status estimated = cvk_estimate_logs(all, t->count + 1, &how, t->estimate);
    option->after = estimated == CVK_OK ? widths_of(&t->estimate->card) : *t->before;
    for (int k = 0; k < CVK_PLAN_KEYS; k++) {
        option->gain += log(t->before->width[k] / option->after.width[k]);
    }
}

static cvk_status try_option(const trial *t, cvk_plan_option *option)
{
    cvk_settings settings = *t->settings;
    cvk_log log;
    const cvk_plan_bench *bench = t->bench;
    settings.program.hold_s = (float)option->plateau_s;
    if (option->length_s > 0.0) { /* known to be too long */
        return CVK_OK;
    }
    const cvk_status status =
        bench->record(bench->context, &settings, option->excitation, t->limits->rotor_sensor, &log);
    option->length_s = (double)log.rows * bench->period_s;
    option->possible = status == CVK_OK && log.rows > 0 &&
                       (t->limits->time_s <= 0.0 || option->length_s <= t->limits->time_s);
    if (option->possible) {
        judge(t, &log, option);
    }
    bench->drop(bench->context);
    return status == CVK_NO_MEMORY ? status : CVK_OK;
}

/* Ties between unknown keys go to the one that the best option sharpens most. */
static void choose(cvk_plan *plan)
{
    double best = LEAST_GAIN;
    plan->best = -1;
    for (size_t n = 0; n < plan->options; n++) {
        const cvk_plan_option *option = &plan->option[n];
        const double merit = option->possible ? merit_of(&plan->before, option) : 0.0;
        const bool shorter =
            plan->best >= 0 && option->length_s < plan->option[plan->best].length_s;
        if (merit > best + (plan->best >= 0 && !shorter ? EQUAL_MERIT : 0.0) ||
            (shorter && merit > LEAST_GAIN && merit > best - EQUAL_MERIT)) {
            best = merit > best ? merit : best;
            plan->best = (int)n;
        }
    }
    int widest = widest_of(&plan->before);
    for (int k = 0; k < CVK_PLAN_KEYS && plan->best >= 0; k++) {
        const cvk_plan_widths *after = &plan->option[plan->best].after;
        if (plan->before.width[k] >= plan->before.width[widest] &&
            after->width[k] < after->width[widest]) {
            widest = k;
        }
    }
    plan->widest = keys[widest];
}

static cvk_settings limited(const cvk_settings *settings, const cvk_plan_limits *limits)
{
    cvk_settings s = *settings;
    if (limits->current_a > 0.0) {
        s.limit.current_a = fminf(s.limit.current_a, (float)limits->current_a);
    }
    if (limits->speed_rad_s > 0.0) {
        s.program.speed_rad_s = fminf(s.program.speed_rad_s, (float)limits->speed_rad_s);
    }
    return s;
}

cvk_status cvk_plan_next(const cvk_plan_bench *bench, const cvk_settings *settings,
                         const cvk_log *const *logs, size_t count, const cvk_plan_limits *limits,
                         void (*progress)(double share), cvk_plan *out)
{
    if (bench == NULL || settings == NULL || (logs == NULL && count > 0) || limits == NULL ||
        out == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    if (count >= MOST_LOGS) {
        return CVK_OUT_OF_RANGE;
    }
    const cvk_settings allowed = limited(settings, limits);
    const cvk_estimate_options how = cvk_estimate_options_default();
    cvk_estimate *estimate = calloc(1, sizeof *estimate);
    cvk_status status = estimate != NULL ? CVK_OK : CVK_NO_MEMORY;
    *out = (cvk_plan){.best = -1,
                      .current_a = (double)allowed.limit.current_a,
                      .speed_rad_s = (double)allowed.program.speed_rad_s};
    if (status == CVK_OK && count > 0) {
        status = cvk_estimate_logs(logs, count, &how, estimate);
        status = status == CVK_NOT_IN_LOG ? CVK_OK : status; /* they show nothing yet */
    }
    if (status == CVK_OK) {
        out->before = widths_of(&estimate->card);
    }
    const trial t = {bench, &allowed, logs, count, limits, &out->before, estimate};
    const size_t total = sizeof candidates / sizeof candidates[0];
    for (size_t n = 0; n < total && status == CVK_OK; n++) {
        cvk_plan_option *option = &out->option[out->options++];
        *option =
            (cvk_plan_option){.excitation = candidates[n].excitation,
                              .plateau_s = candidates[n].plateaus * (double)allowed.program.hold_s};
        if (n > 0 && option[-1].excitation == candidates[n].excitation && !option[-1].possible) {
            option->length_s = option[-1].length_s * candidates[n].plateaus;
        }
        status = try_option(&t, option);
        if (progress != NULL) {
            progress((double)(n + 1) / (double)total);
        }
    }
    if (status == CVK_OK) {
        choose(out);
    }
    free(estimate);
    return status;
}
