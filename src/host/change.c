/* SPDX-License-Identifier: Apache-2.0
 *
 * A guarded change: look, try, look again.
 */
#include "corvak/host/change.h"

#include "collect.h"

#include <math.h>
#include <stdio.h>

#define BEFORE_S 0.5
#define SPACING_S 0.1e-3 /* of rows, when the wire carries them */
#define PUMP_S 0.02
#define CURRENT_FACTOR 2.0 /* of the peak before */
#define LEAST_CURRENT 0.5  /* of the limit */
#define SPEED_SHARE 0.2    /* of the speed */
#define LEAST_SPEED_RAD_S 20.0
#define QUALITY_SHARE 0.667
#define SETTLING_S 0.5 /* beyond the watch, the state is waited for */

enum { SPEED, SPEED_SET, D, Q, QUALITY, MODE, TRIAL, SETTINGS, COLUMNS };
static const char *const signals[COLUMNS] = {"speed_e", "speed_set", "id",    "iq",
                                             "quality", "mode",      "trial", "settings"};

static unsigned decimation_of(const cvk_session *s)
{
    return cvk_session_decimation(s, COLUMNS, SPACING_S);
}

static cvk_running_figures figures_of(const cvk_collection *c, double row_s, size_t from, size_t to)
{
    cvk_running_figures f = {.quality = NAN};
    double sum[COLUMNS] = {0.0}, square_d = 0.0, square_q = 0.0, square_error = 0.0, errors = 0.0;
    const double rows = (double)(to - from);
    for (size_t r = from; r < to; r++) {
        const double d = cvk_collected(c, r, D), q = cvk_collected(c, r, Q);
        for (unsigned k = 0; k < COLUMNS; k++) {
            sum[k] += cvk_collected(c, r, k);
        }
        square_d += d * d;
        square_q += q * q;
        f.peak_a = fmax(f.peak_a, hypot(d, q));
        f.quality = fmin(f.quality, cvk_collected(c, r, QUALITY));
        const int mode = (int)cvk_collected(c, r, MODE);
        if (mode == CVK_MODE_SPEED || mode == CVK_MODE_STOP) {
            const double error = cvk_collected(c, r, SPEED_SET) - cvk_collected(c, r, SPEED);
            square_error += error * error;
            errors += 1.0;
        }
    }
    if (rows > 0.0) {
        const double mean_d = sum[D] / rows, mean_q = sum[Q] / rows;
        f.length_s = rows * row_s;
        f.speed_rad_s = sum[SPEED] / rows;
        f.current_q_a = mean_q;
        f.ripple_a = sqrt(fmax(0.0, square_d / rows - mean_d * mean_d) +
                          fmax(0.0, square_q / rows - mean_q * mean_q));
    }
    f.speed_error_rad_s = errors > 0.0 ? sqrt(square_error / errors) : NAN;
    return f;
}

/* From the first row with the new settings to the one in which the trial ended. */
static cvk_running_figures figures_on_trial(const cvk_collection *c, double row_s,
                                            uint32_t number_before)
{
    size_t from = 0, to;
    while (from < c->rows && cvk_collected(c, from, SETTINGS) == (double)number_before) {
        from++;
    }
    for (to = from; to < c->rows; to++) {
        if (!cvk_trial_runs((int32_t)cvk_collected(c, to, TRIAL))) {
            to++;
            break;
        }
    }
    return figures_of(c, row_s, from, to);
}

cvk_status cvk_look_how_it_runs(cvk_session *s, double length_s, cvk_running_figures *out)
{
    const unsigned decimation = decimation_of(s);
    cvk_collection c;
    cvk_status status = cvk_collect_begin(&c, s, signals, COLUMNS, decimation);
    if (status == CVK_OK) {
        status = cvk_collect_end(&c, s, cvk_collect_for(&c, s, length_s));
    }
    *out = figures_of(&c, (double)s->period_s * decimation, 0, c.rows);
    cvk_collect_free(&c);
    return status;
}

void cvk_fit_guards(const cvk_session *s, const cvk_running_figures *now, cvk_trial_terms *terms)
{
    const double limit_a = fmax(0.0, cvk_session_value(s, "limit.current_a"));
    const double trip_a = fmax(limit_a, cvk_session_value(s, "protect.trip_current_a"));
    if (terms->current_a == 0.0f) {
        terms->current_a = (float)fmin(fmax(CURRENT_FACTOR * now->peak_a, LEAST_CURRENT * limit_a),
                                       0.5 * (limit_a + trip_a));
    }
    if (terms->speed_error_rad_s == 0.0f && isfinite(now->speed_error_rad_s)) {
        terms->speed_error_rad_s =
            (float)fmax(SPEED_SHARE * fabs(now->speed_rad_s), LEAST_SPEED_RAD_S);
    }
    if (terms->least_quality == 0.0f && now->quality > 0.0) {
        terms->least_quality = (float)(QUALITY_SHARE * now->quality);
    }
}

static bool runs(const cvk_session *s)
{
    return s->state.trial == CVK_TRIAL_WATCHED;
}

/* Until the watch is over, one way or the other; at most so long as it can take, by the
 * controller's own time. */
static cvk_status follow(cvk_session *s, uint32_t settings_number, double watch_s)
{
    const uint32_t begun = s->state.tick;
    const double most_s = watch_s + SETTLING_S;
    cvk_status status = CVK_OK;
    while (status == CVK_OK && (s->state.tick - begun) * (double)s->period_s < most_s &&
           (runs(s) || s->state.settings_number == settings_number)) {
        status = cvk_session_pump(s, PUMP_S);
    }
    return status;
}

static cvk_status try_it(cvk_session *s, cvk_change *change)
{
    const unsigned decimation = decimation_of(s);
    cvk_collection c;
    cvk_status status = cvk_look_how_it_runs(s, BEFORE_S, &change->before);
    if (status != CVK_OK) {
        return status;
    }
    cvk_fit_guards(s, &change->before, &change->terms);
    status = cvk_collect_begin(&c, s, signals, COLUMNS, decimation);
    const uint32_t number = s->state.settings_number;
    if (status == CVK_OK) {
        status = cvk_session_adopt(s, change->item, change->count, &change->terms);
        status = status == CVK_OK ? follow(s, number, (double)change->terms.watch_s) : status;
        status = cvk_collect_end(&c, s, status);
    }
    change->during = figures_on_trial(&c, (double)s->period_s * decimation, number);
    change->state = s->state.trial;
    change->reason = s->state.trial_reason;
    cvk_collect_free(&c);
    return status;
}

cvk_status cvk_change_guarded(cvk_session *s, cvk_change *change)
{
    cvk_status status = CVK_OK;
    for (unsigned n = 0; n < change->count; n++) {
        change->before_value[n] = s->value[change->item[n].parameter];
    }
    change->on_trial = s->state.bridge_on;
    if (change->on_trial) {
        status = try_it(s, change);
    } else {
        status = cvk_session_adopt(s, change->item, change->count, NULL);
        change->state = CVK_TRIAL_KEPT;
        if (status == CVK_OK) {
            status = cvk_session_wait(s, PUMP_S); /* it is adopted with the next control call */
        }
    }
    return status == CVK_OK ? cvk_session_read_values(s) : status;
}

const char *cvk_trial_words(const cvk_session *session, int32_t state, int32_t reason)
{
    const char *why = cvk_session_state_text(session, "trial_reason", reason);
    const char *what = cvk_session_state_text(session, "trial", state);
    return state == CVK_TRIAL_GONE_BACK && why != NULL ? why : (what != NULL ? what : "unknown");
}
