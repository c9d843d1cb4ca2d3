/* SPDX-License-Identifier: Apache-2.0
 *
 * A log through the observers, and the search for their settings.
 */
#include "corvak/host/replay.h"

#include "corvak/core/units.h"
#include "corvak/host/gains.h"

#include <complex.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

#define SURE 0.5         /* quality from which an observer counts for offset and consensus */
#define SETTLE_TURNS 2.0 /* electrical, at the begin of each piece, before anything is judged */
#define NEAR_RAD (CVK_PI_WIDE / 6.0)
#define BINS 2000 /* of the angle error, for its 95th percentile */
#define CORNER_SHARE 0.05

cvk_status cvk_replay_settings(const cvk_replay_rows *rows, const cvk_card *card, double bus_v,
                               cvk_settings *out, char missing[CVK_CARD_TEXT])
{
    double most_a = 0.1, acted_v = 0.0;
    for (size_t k = 0; k < rows->rows; k++) {
        most_a = fmax(most_a, hypot(rows->current_alpha_a[k], rows->current_beta_a[k]));
        acted_v = fmax(acted_v, hypot(rows->acted_alpha_v[k], rows->acted_beta_v[k]));
    }
    const cvk_gains_stage stage = {
        .hardware = {.period_s = (float)rows->period_s, .updates_per_period = 1},
        .bus_v = isfinite(bus_v) ? bus_v : sqrt(3.0) * acted_v};
    cvk_settings base = cvk_settings_default();
    base.limit.current_a = (float)most_a;
    base.protect.trip_current_a = 2.0f * base.limit.current_a;
    cvk_gains *gains = calloc(1, sizeof *gains);
    if (gains == NULL) {
        return CVK_NO_MEMORY;
    }
    const cvk_status status = cvk_compute_gains(card, &stage, &base, NULL, gains);
    *out = gains->settings;
    memcpy(missing, gains->missing, CVK_CARD_TEXT);
    free(gains);
    return status;
}

static double wrapped(double angle_rad)
{
    return angle_rad - 2.0 * CVK_PI_WIDE * nearbyint(angle_rad / (2.0 * CVK_PI_WIDE));
}

/* One run: every row's angles go to `use`. */
typedef struct run {
    const cvk_replay_rows *rows;
    cvk_observers_alone observing;
    unsigned which;
} run;

static const cvk_moment *step(run *r, size_t k)
{
    const cvk_replay_rows *rows = r->rows;
    const bool begins = rows->begins[k];
    const cvk_observers_alone_row row = {
        .current_a = {(float)rows->current_alpha_a[k], (float)rows->current_beta_a[k]},
        .acted_v = {begins ? NAN : (float)rows->acted_alpha_v[k], (float)rows->acted_beta_v[k]},
        .own_left = rows->own_left ? 1 : 0,
        .bridge_on = rows->bridge_off ? 0 : 1};
    return cvk_observers_alone_step(&r->observing, &row);
}

static const cvk_angle *seen_by(const cvk_moment *now, int kind)
{
    return &now->source[cvk_observer_source(kind)];
}

/* Who gives the angle, when the log does not, is all of them, each by its quality. */
static double consensus(const cvk_moment *now, unsigned which)
{
    double complex sum = 0.0;
    for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
        const cvk_angle *a = seen_by(now, kind);
        sum +=
            (which >> kind & 1u) != 0 ? (double)a->quality * cexp(I * (double)a->angle_rad) : 0.0;
    }
    return cabs(sum) > 0.0 ? carg(sum) : NAN;
}

/* ---- offset and direction of a mechanical angle ---------------------------------------------- */

typedef struct alignment {
    double complex with, against; /* sums of exp(j (seen -+ logged)) */
} alignment;

static void align(alignment *a, double seen_rad, double logged_rad, double weight)
{
    if (isfinite(logged_rad)) {
        a->with += weight * cexp(I * (seen_rad - logged_rad));
        a->against += weight * cexp(I * (seen_rad + logged_rad));
    }
}

/* ---- judging --------------------------------------------------------------------------------- */

typedef struct judgement {
    double rows, square, sum, near, quality, speed_square, speed_rows;
    unsigned histogram[BINS];
} judgement;

static void judge(judgement *j, const cvk_angle *seen, double reference_rad, double speed_rad_s)
{
    const double off = wrapped((double)seen->angle_rad - reference_rad);
    const int bin = (int)(fabs(off) / CVK_PI_WIDE * (BINS - 1));
    j->rows += 1.0;
    j->sum += off;
    j->square += off * off;
    j->near += fabs(off) < NEAR_RAD;
    j->quality += (double)seen->quality;
    j->histogram[bin < BINS ? bin : BINS - 1]++;
    if (isfinite(speed_rad_s)) {
        const double slip = (double)seen->speed_rad_s - speed_rad_s;
        j->speed_square += slip * slip;
        j->speed_rows += 1.0;
    }
}

static void conclude(const judgement *j, double period_s, cvk_replay_result *r)
{
    double below = 0.0;
    int bin = 0;
    *r = (cvk_replay_result){.ran = true,
                             .error_rms_rad = NAN,
                             .error_95_rad = NAN,
                             .error_mean_rad = NAN,
                             .speed_rms_rad_s = NAN,
                             .mean_quality = NAN,
                             .within_share = NAN};
    if (j->rows > 0.0) {
        while (bin < BINS && below < 0.95 * j->rows) {
            below += j->histogram[bin++];
        }
        r->judged_s = j->rows * period_s;
        r->error_rms_rad = sqrt(j->square / j->rows);
        r->error_mean_rad = j->sum / j->rows;
        r->error_95_rad = CVK_PI_WIDE * bin / (BINS - 1);
        r->mean_quality = j->quality / j->rows;
        r->within_share = j->near / j->rows;
        r->speed_rms_rad_s = j->speed_rows > 0.0 ? sqrt(j->speed_square / j->speed_rows) : NAN;
    }
}

/* The reference of a row, and its speed from some rows before to some after. */
static double reference_of(const cvk_replay *out, const cvk_replay_rows *rows, size_t k)
{
    return out->reference == CVK_REPLAY_FITTED
               ? out->direction * rows->angle_rad[k] + out->offset_rad
               : rows->angle_rad[k];
}

static double speed_of(const cvk_replay *out, const cvk_replay_rows *rows, size_t k, size_t apart)
{
    return k < apart || k + apart >= rows->rows
               ? NAN
               : (reference_of(out, rows, k + apart) - reference_of(out, rows, k - apart)) /
                     (2.0 * (double)apart * rows->period_s);
}

/* ---- the trace ------------------------------------------------------------------------------- */

#define TRACE_ARRAYS (3 + 3 * CVK_OBSERVER_KINDS)

static cvk_status trace_new(cvk_replay_trace *t, size_t points)
{
    *t = (cvk_replay_trace){.storage = malloc(TRACE_ARRAYS * points * sizeof(double))};
    if (t->storage == NULL) {
        return CVK_NO_MEMORY;
    }
    double *at = t->storage;
    double **const first[] = {&t->time_s, &t->reference_rad, &t->speed_rad_s};
    for (size_t a = 0; a < 3; a++, at += points) {
        *first[a] = at;
    }
    for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
        double **const own[] = {&t->angle_rad[kind], &t->seen_rad_s[kind], &t->quality[kind]};
        for (size_t a = 0; a < 3; a++, at += points) {
            *own[a] = at;
        }
    }
    return CVK_OK;
}

void cvk_replay_trace_free(cvk_replay_trace *trace)
{
    free(trace->storage);
    *trace = (cvk_replay_trace){.points = 0};
}

static void trace_row(cvk_replay_trace *t, double time_s, double reference_rad, double speed_rad_s,
                      const cvk_moment *now)
{
    const size_t n = t->points++;
    t->time_s[n] = time_s;
    t->reference_rad[n] = reference_rad;
    t->speed_rad_s[n] = speed_rad_s;
    for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
        const cvk_angle *a = seen_by(now, kind);
        t->angle_rad[kind][n] = (double)a->angle_rad;
        t->seen_rad_s[kind][n] = (double)a->speed_rad_s;
        t->quality[kind][n] = (double)a->quality;
    }
}

/* ---- a run ----------------------------------------------------------------------------------- */

static cvk_status prepare(run *r, const cvk_replay_rows *rows, const cvk_settings *settings,
                          unsigned which, cvk_refusal *why)
{
    cvk_settings s = *settings;
    const bool one = (which & (which - 1u)) == 0;
    s.observer.all = one ? 0 : 1;
    for (int kind = 0; one && kind < CVK_OBSERVER_KINDS; kind++) {
        s.observer.kind = (which >> kind & 1u) != 0 ? kind : s.observer.kind;
    }
    r->rows = rows;
    r->which = which;
    return cvk_observers_alone_init(&r->observing, (float)rows->period_s, &s, why);
}

/* Offset and direction of the log's mechanical angle, from a run through all rows. */
static void fit_reference(run r, cvk_replay *out)
{
    alignment a = {0};
    for (size_t k = 0; k < r.rows->rows; k++) {
        const cvk_moment *now = step(&r, k);
        for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
            const cvk_angle *seen = seen_by(now, kind);
            if ((r.which >> kind & 1u) != 0 && (double)seen->quality > SURE) {
                align(&a, (double)seen->angle_rad, r.rows->angle_rad[k], (double)seen->quality);
            }
        }
    }
    out->direction = cabs(a.with) >= cabs(a.against) ? 1 : -1;
    out->offset_rad = carg(out->direction > 0 ? a.with : a.against);
}

static void judge_rows(run *r, const cvk_settings *settings, size_t points, cvk_replay *out,
                       cvk_replay_trace *trace, judgement *j)
{
    const cvk_replay_rows *rows = r->rows;
    const double T = rows->period_s, least = (double)settings->observer.least_speed_rad_s;
    const size_t apart = (size_t)fmax(2.0, 2e-3 / T), every = rows->rows / (points + 1) + 1;
    double turned = 0.0, before = NAN, speed = NAN;
    for (size_t k = 0; k < rows->rows; k++) {
        const cvk_moment *now = step(r, k);
        const double reference = out->reference == CVK_REPLAY_CONSENSUS
                                     ? consensus(now, r->which)
                                     : reference_of(out, rows, k);
        if (k % 8 == 0) {
            speed = out->reference == CVK_REPLAY_CONSENSUS
                        ? (double)seen_by(now, settings->observer.kind)->speed_rad_s
                        : speed_of(out, rows, k, apart);
        }
        turned = rows->begins[k] ? 0.0 : turned;
        turned += isfinite(before) && isfinite(reference) ? fabs(wrapped(reference - before)) : 0.0;
        before = reference;
        const bool judged =
            turned > 2.0 * CVK_PI_WIDE * SETTLE_TURNS && isfinite(reference) && fabs(speed) > least;
        for (int kind = 0; kind < CVK_OBSERVER_KINDS && judged; kind++) {
            if ((r->which >> kind & 1u) != 0) {
                judge(&j[kind], seen_by(now, kind), reference, speed);
            }
        }
        if (trace != NULL && k % every == 0) {
            trace_row(trace, rows->time_s[k], reference, speed, now);
        }
    }
}

cvk_status cvk_replay_run(const cvk_replay_rows *rows, const cvk_settings *settings, unsigned which,
                          size_t points, cvk_replay *out, cvk_replay_trace *trace, cvk_refusal *why)
{
    if (rows == NULL || settings == NULL || out == NULL || which == 0 || which >= 8u) {
        return CVK_NULL_ARGUMENT;
    }
    run r;
    judgement *j = calloc(CVK_OBSERVER_KINDS, sizeof *j);
    cvk_status status = j == NULL ? CVK_NO_MEMORY : prepare(&r, rows, settings, which, why);
    *out = (cvk_replay){.reference = rows->angle == CVK_ANGLE_ELECTRICAL   ? CVK_REPLAY_COLUMN
                                     : rows->angle == CVK_ANGLE_MECHANICAL ? CVK_REPLAY_FITTED
                                                                           : CVK_REPLAY_CONSENSUS,
                        .direction = 1};
    if (status == CVK_OK && trace != NULL) {
        status = trace_new(trace, points + 2);
    }
    if (status == CVK_OK) {
        if (out->reference == CVK_REPLAY_FITTED) {
            fit_reference(r, out);
        }
        judge_rows(&r, settings, points, out, trace, j);
        bool any = false;
        for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
            if ((which >> kind & 1u) != 0) {
                conclude(&j[kind], rows->period_s, &out->result[kind]);
                any = any || j[kind].rows > 0.0;
            }
        }
        status = any ? CVK_OK : CVK_NOT_IN_LOG;
    }
    free(j);
    return status;
}

/* ---- the search ------------------------------------------------------------------------------ */

#define CORNERS 9 /* nominal, and all of three parameters */
#define ROUNDS 2
#define SPAN 16.0 /* factor either way that is searched at first */
#define EXPECTED_RUNS (ROUNDS * CVK_SEARCH_KEYS * CVK_SEARCH_POINTS * CORNERS)

typedef struct search {
    const cvk_replay_rows *rows;
    unsigned which;
    cvk_motor_settings corner[CORNERS];
    double per_rad_s; /* what an error of the speed counts as an angle */
    const cvk_search_wish *wish;
    cvk_search *out;
    bool stopped;
} search;

static float *value_in(cvk_settings *s, unsigned key)
{
    return key == 0 ? &s->observer.bandwidth_rad_s : &s->observer.tracking_bandwidth_rad_s;
}

static double half_share(const cvk_card *card, cvk_card_key key)
{
    const cvk_card_entry *e = card != NULL ? &card->entry[key] : NULL;
    return e != NULL && e->known ? 0.5 * (e->high - e->low) / e->value : CORNER_SHARE;
}

static void make_corners(search *s, const cvk_motor_settings *nominal, const cvk_card *card)
{
    const double r = half_share(card, CVK_CARD_RESISTANCE),
                 l = half_share(card, CVK_CARD_INDUCTANCE_Q),
                 flux = half_share(card, CVK_CARD_FLUX_LINKAGE);
    s->corner[0] = *nominal;
    for (unsigned c = 1; c < CORNERS; c++) {
        cvk_motor_settings m = *nominal;
        const unsigned bits = c - 1;
        const float by_l = (float)(1.0 + ((bits & 2u) != 0 ? l : -l));
        m.resistance_ohm *= (float)(1.0 + ((bits & 1u) != 0 ? r : -r));
        m.inductance_d_h *= by_l;
        m.inductance_q_h *= by_l;
        m.flux_linkage_wb *= (float)(1.0 + ((bits & 4u) != 0 ? flux : -flux));
        s->corner[c] = m;
    }
}

/* The worst error over the corners; infinite for settings that are refused. */
static double worst_error(search *s, const cvk_settings *settings)
{
    double worst = 0.0;
    for (unsigned c = 0; c < CORNERS && !s->stopped; c++) {
        cvk_settings at = *settings;
        cvk_replay replay;
        at.motor = s->corner[c];
        if (cvk_replay_run(s->rows, &at, s->which, 0, &replay, NULL, NULL) != CVK_OK) {
            return INFINITY;
        }
        for (int kind = 0; kind < CVK_OBSERVER_KINDS; kind++) {
            const cvk_replay_result *r = &replay.result[kind];
            worst = r->ran ? fmax(worst, hypot(r->error_rms_rad, s->per_rad_s * r->speed_rms_rad_s))
                           : worst;
        }
        s->out->runs++;
        s->stopped =
            s->wish->progress != NULL &&
            !s->wish->progress(s->wish->context, fmin(0.99, (double)s->out->runs / EXPECTED_RUNS));
    }
    return worst;
}

/* Goes through a parameter on both sides of where it is, and takes the best. */
static void sweep(search *s, cvk_settings *settings, unsigned key, double span, double *best)
{
    const float middle = *value_in(settings, key);
    float chosen = middle;
    for (unsigned n = 0; n < CVK_SEARCH_POINTS && !s->stopped; n++) {
        const double power = 2.0 * n / (CVK_SEARCH_POINTS - 1.0) - 1.0;
        cvk_settings trial = *settings;
        const float value = (float)((double)middle * pow(span, power));
        const cvk_parameter *row = s->out->key[key];
        *value_in(&trial, key) = value < row->low    ? row->low
                                 : value > row->high ? row->high
                                                     : value;
        const double error = worst_error(s, &trial);
        s->out->value[key][n] = (double)*value_in(&trial, key);
        s->out->error_rad[key][n] = error;
        if (error < *best) {
            *best = error;
            chosen = *value_in(&trial, key);
        }
    }
    *value_in(settings, key) = chosen;
}

cvk_status cvk_replay_search(const cvk_replay_rows *rows, const cvk_settings *settings,
                             const cvk_search_wish *wish, cvk_search *out, cvk_refusal *why)
{
    if (rows == NULL || settings == NULL || wish == NULL || out == NULL ||
        (int)wish->kind >= CVK_OBSERVER_KINDS) {
        return CVK_NULL_ARGUMENT;
    }
    *out = (cvk_search){.best = *settings,
                        .key = {cvk_parameter_named("observer.bandwidth_rad_s"),
                                cvk_parameter_named("observer.tracking_bandwidth_rad_s")}};
    out->best.observer.kind = (int32_t)wish->kind;
    if (rows->angle == CVK_NO_ANGLE) {
        return CVK_NOT_IN_LOG;
    }
    search s = {.rows = rows, .which = 1u << wish->kind, .wish = wish, .out = out};
    make_corners(&s, &settings->motor, wish->card);
    s.per_rad_s = 1.0 / fmax((double)settings->observer.least_speed_rad_s, 1.0);
    cvk_replay check;
    cvk_status status = cvk_replay_run(rows, &out->best, s.which, 0, &check, NULL, why);
    if (status != CVK_OK) {
        return status;
    }
    double best = out->before_rad = worst_error(&s, &out->best);
    for (int round = 0; round < ROUNDS; round++) {
        for (unsigned key = CVK_SEARCH_KEYS; key-- > 0;) {
            sweep(&s, &out->best, key, round == 0 ? SPAN : sqrt(sqrt(SPAN)), &best);
        }
    }
    out->after_rad = best;
    return s.stopped ? CVK_STOPPED : CVK_OK;
}
