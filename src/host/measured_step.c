/* SPDX-License-Identifier: Apache-2.0
 *
 * Measured steps: the stream around a change of the set-point, its shape, and a prediction from the
 * values in force (docs/theory.md section 12).
 */
#include "corvak/host/measured_step.h"

#include "corvak/core/units.h"

#include "collect.h"
#include "corvak/host/loop_margin.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

#define REPEATS 8         /* up, and as often down */
#define TIME_CONSTANTS 25 /* of the current loop, in one of them */
#define BEFORE_S 0.25     /* looked at before a step of the speed */
#define ROWS_WANTED 4000.0
#define LIMITED_SHARE 0.98 /* of the step, that must be left of it */
#define LEAST_ROWS 20      /* of a step of the current */
#define BAND 0.05          /* of the step: settled; */
#define RIPPLES 4.0        /* or so many rms of the ripple that stays */
#define PUMP_S 0.005

/* ---- shape ---------------------------------------------------------------------------------- */

/* First time at which the share of the step is passed; NaN: never. */
static double passed_s(const double *y, size_t count, double spacing_s, double from, double step,
                       double share)
{
    for (size_t n = 1; n < count; n++) {
        const double before = (y[n - 1] - from) / step, now = (y[n] - from) / step;
        if (now >= share) {
            const double part = now > before ? (share - before) / (now - before) : 0.0;
            return spacing_s * ((double)(n - 1) + fmax(0.0, part));
        }
    }
    return NAN;
}

cvk_step_shape cvk_step_shape_of(const double *y, size_t count, double spacing_s, double from,
                                 double to)
{
    const double step = to - from;
    cvk_step_shape out = {NAN, 0.0, NAN, NAN};
    if (count < 6 || step == 0.0) {
        return out;
    }
    double sum = 0.0, square = 0.0;
    size_t settled = 0;
    const size_t last = count - count / 3;
    for (size_t n = 0; n < count; n++) {
        out.overshoot = fmax(out.overshoot, (y[n] - to) / step);
        sum += n >= last ? y[n] : 0.0;
    }
    const double mean = sum / (double)(count - last);
    for (size_t n = last; n < count; n++) {
        square += (y[n] - mean) * (y[n] - mean);
    }
    out.ripple = sqrt(square / (double)(count - last));
    const double band = fmax(BAND * fabs(step), RIPPLES * out.ripple);
    for (size_t n = 0; n < count; n++) {
        settled = fabs(y[n] - to) > band ? n + 1 : settled;
    }
    out.rise_s = passed_s(y, count, spacing_s, from, step, 0.9) -
                 passed_s(y, count, spacing_s, from, step, 0.1);
    out.settling_s = settled < count ? spacing_s * (double)settled : NAN;
    return out;
}

/* ---- common --------------------------------------------------------------------------------- */

static cvk_status make_room(cvk_measured_step *out, size_t rows, bool with_current)
{
    out->rows = rows;
    out->set = calloc(rows, sizeof *out->set);
    out->measured = calloc(rows, sizeof *out->measured);
    out->predicted = calloc(rows, sizeof *out->predicted);
    out->current_q_a = with_current ? calloc(rows, sizeof *out->current_q_a) : NULL;
    return out->set != NULL && out->measured != NULL && out->predicted != NULL &&
                   (out->current_q_a != NULL || !with_current)
               ? CVK_OK
               : CVK_NO_MEMORY;
}

void cvk_measured_step_free(cvk_measured_step *step)
{
    free(step->set);
    free(step->measured);
    free(step->predicted);
    free(step->current_q_a);
    step->set = step->measured = step->predicted = step->current_q_a = NULL;
}

static cvk_status must_run(cvk_session *s, bool by_speed, const char *wanted)
{
    const int mode = s->state.mode, phase = s->state.start_phase;
    const bool right = mode == CVK_MODE_SPEED || (!by_speed && mode == CVK_MODE_CURRENT);
    if (s->state.bridge_on && right && (phase == CVK_START_IDLE || phase == CVK_START_RUN)) {
        return CVK_OK;
    }
    snprintf(s->text, sizeof s->text,
             "a step of the %s needs a motor that runs by %s (mode now: %s, start: %s): start it "
             "first",
             wanted, by_speed ? "speed" : "its own angle", cvk_mode_text((cvk_mode)mode),
             cvk_start_phase_text((cvk_start_phase)phase));
    return CVK_CONTRADICTION;
}

/* ---- the current loop ----------------------------------------------------------------------- */

static cvk_status step_up_and_down(cvk_session *s, cvk_collection *c, const cvk_request *request,
                                   double step_a, bool axis_q, double hold_s)
{
    cvk_status status = cvk_collect_for(c, s, hold_s);
    for (int n = 0; n < 2 * REPEATS && status == CVK_OK; n++) {
        cvk_request next = *request;
        const float more_a = n % 2 == 0 ? (float)step_a : 0.0f;
        next.current_a.d += axis_q ? 0.0f : more_a;
        next.current_a.q += axis_q ? more_a : 0.0f;
        status = cvk_session_request(s, &next);
        status = status == CVK_OK ? cvk_collect_for(c, s, hold_s) : status;
    }
    const cvk_status back = cvk_session_request(s, request); /* in any case */
    return status == CVK_OK ? back : status;
}

/* The mean of all transitions, as if each went up. Columns: set-point, current. */
static cvk_status mean_of_steps(cvk_session *s, const cvk_collection *c, double step_a,
                                cvk_measured_step *out)
{
    double most_a = 0.0; /* of smaller moves of the set-point */
    for (size_t r = 1; r + out->rows <= c->rows; r++) {
        const double move = cvk_collected(c, r, 0) - cvk_collected(c, r - 1, 0);
        if (fabs(move) < LIMITED_SHARE * fabs(step_a)) {
            most_a = fmax(most_a, fabs(move));
            continue;
        }
        const double sign = move * step_a > 0.0 ? 1.0 : -1.0;
        const double start_a = cvk_collected(c, r - 1, 0);
        for (size_t n = 0; n < out->rows; n++) {
            out->measured[n] += sign * (cvk_collected(c, r + n, 1) - start_a);
        }
        out->repeats++;
        r += out->rows / 2;
    }
    if (out->repeats < REPEATS) {
        snprintf(s->text, sizeof s->text,
                 "only %u of %d steps of the current set-point were seen; a limit left %.3g A of "
                 "them: step less",
                 out->repeats, 2 * REPEATS, most_a);
        return CVK_CONTRADICTION;
    }
    for (size_t n = 0; n < out->rows; n++) {
        out->measured[n] = out->from + out->measured[n] / out->repeats;
        out->set[n] = out->to;
    }
    return CVK_OK;
}

static cvk_status predict_current(cvk_measured_step *out, double bandwidth_hz, double period_s,
                                  unsigned decimation)
{
    const size_t count = out->rows * decimation;
    double *each = malloc(count * sizeof *each);
    if (each == NULL) {
        return CVK_NO_MEMORY;
    }
    cvk_current_loop_step(bandwidth_hz, period_s, 1.0, each, count);
    for (size_t n = 0; n < out->rows; n++) {
        out->predicted[n] = out->from + (out->to - out->from) * each[n * decimation];
    }
    free(each);
    out->shape = cvk_step_shape_of(out->measured, out->rows, out->spacing_s, out->from, out->to);
    out->predicted_shape =
        cvk_step_shape_of(out->predicted, out->rows, out->spacing_s, out->from, out->to);
    return CVK_OK;
}

cvk_status cvk_measure_current_step(cvk_session *s, const cvk_request *request, double step_a,
                                    bool axis_q, cvk_measured_step *out)
{
    static const char *const of_d[] = {"id_set", "id"}, *const of_q[] = {"iq_set", "iq"};
    const double T = (double)s->period_s,
                 bandwidth_hz = cvk_session_value(s, "current.bandwidth_hz");
    const double from = (double)(axis_q ? request->current_a.q : request->current_a.d);
    *out = (cvk_measured_step){.kind = axis_q ? CVK_MEASURED_CURRENT_Q : CVK_MEASURED_CURRENT_D,
                               .spacing_s = T,
                               .from = from,
                               .to = from + step_a,
                               .bandwidth_hz = bandwidth_hz};
    cvk_status status = must_run(s, false, "current");
    if (status == CVK_OK && axis_q && s->state.mode != CVK_MODE_CURRENT) {
        snprintf(s->text, sizeof s->text,
                 "the speed loop sets the q current: step the d current, or run by current");
        status = CVK_CONTRADICTION;
    }
    const unsigned decimation = cvk_session_decimation(s, 2, T);
    const double length_s = fmax(TIME_CONSTANTS / (CVK_TWO_PI_WIDE * bandwidth_hz), 40.0 * T);
    if (status == CVK_OK && length_s < LEAST_ROWS * decimation * T) {
        snprintf(s->text, sizeof s->text,
                 "this line carries a row of two signals every %.3g ms, too few for a step of a "
                 "current loop of %.3g Hz: use a faster one",
                 1e3 * decimation * T, bandwidth_hz);
        status = CVK_CONTRADICTION;
    }
    const double rows = length_s / (decimation * T);
    out->spacing_s = decimation * T;
    if (status == CVK_OK) {
        status = make_room(out, (size_t)rows, false);
    }
    if (status != CVK_OK) {
        return status;
    }
    cvk_collection c;
    status = cvk_collect_begin(&c, s, axis_q ? of_q : of_d, 2, decimation);
    if (status == CVK_OK) {
        status = step_up_and_down(s, &c, request, step_a, axis_q, 1.2 * length_s + PUMP_S);
        status = cvk_collect_end(&c, s, status);
    }
    if (status == CVK_OK) {
        status = mean_of_steps(s, &c, step_a, out);
    }
    if (status == CVK_OK) {
        status = predict_current(out, bandwidth_hz, T, decimation);
    }
    cvk_collect_free(&c);
    return status;
}

/* ---- the speed loop ------------------------------------------------------------------------- */

enum { WANTED, SET, SPEED, Q, COLUMNS };

/* What the speed loop is made of, and what it drives. */
typedef struct loop {
    double gain, integral_gain, limit_a;     /* of the controller */
    double ahead;                            /* A per acceleration of the set-point */
    double reach;                            /* electrical acceleration per A */
    double current_rad_s, tracking_rad_s, T; /* bandwidths */
} loop;

static double speed_limit_a(const cvk_session *s)
{
    const double own_a = cvk_session_value(s, "speed.current_a"),
                 limit_a = cvk_session_value(s, "limit.current_a");
    return own_a > 0.0 ? own_a : 0.7 * limit_a;
}

/* The controller's own arithmetic on a shaft of pure inertia, from the set-point as it really was;
 * the load is what the current was before. */
static void predict_speed(const loop *l, double load_a, cvk_measured_step *out)
{
    const unsigned steps = (unsigned)(out->spacing_s / l->T + 0.5);
    double speed = out->from, lag[2] = {speed, speed}; /* the tracking filter's */
    double current_a = load_a, integral_a = current_a;
    const double follow_i = 1.0 - exp(-l->current_rad_s * l->T),
                 follow_w = 1.0 - exp(-l->tracking_rad_s * l->T);
    for (size_t n = 0; n < out->rows; n++) {
        const size_t next = n + 1 < out->rows ? n + 1 : n;
        const double ahead_a = l->ahead * (out->set[next] - out->set[n]) / out->spacing_s;
        out->predicted[n] = lag[1];
        for (unsigned k = 0; k < steps; k++) {
            const double error = out->set[n] - lag[1];
            const double wanted_a = l->gain * error + integral_a + ahead_a;
            const double given_a = fmin(fmax(wanted_a, -l->limit_a), l->limit_a);
            if (given_a == wanted_a || (wanted_a > 0.0) != (error > 0.0)) {
                integral_a += l->integral_gain * l->T * error;
                integral_a = fmin(fmax(integral_a, -l->limit_a), l->limit_a);
            }
            current_a += follow_i * (given_a - current_a);
            speed += l->T * l->reach * (current_a - load_a);
            lag[0] += follow_w * (speed - lag[0]);
            lag[1] += follow_w * (lag[0] - lag[1]);
        }
    }
}

/* Acceleration per A from speed = start + reach * (integral of current) - drag * time, by least
 * squares; NaN when the current did not move. */
static double measured_reach(const cvk_measured_step *s)
{
    double a[3][4] = {{0.0}}, charge = 0.0;
    for (size_t n = 0; n < s->rows; n++) {
        const double x[3] = {1.0, charge, s->spacing_s * (double)n};
        for (int r = 0; r < 3; r++) {
            for (int k = 0; k < 3; k++) {
                a[r][k] += x[r] * x[k];
            }
            a[r][3] += x[r] * s->measured[n];
        }
        charge += s->spacing_s * s->current_q_a[n];
    }
    for (int r = 0; r < 3; r++) { /* elimination; symmetric and positive, so without pivots */
        if (!(fabs(a[r][r]) > 1e-12)) {
            return NAN;
        }
        for (int k = r + 1; k < 3; k++) {
            const double share = a[k][r] / a[r][r];
            for (int j = r; j < 4; j++) {
                a[k][j] -= share * a[r][j];
            }
        }
    }
    const double drag = a[2][3] / a[2][2];
    return (a[1][3] - a[1][2] * drag) / a[1][1];
}

/* From the row at which the new speed was first wanted. */
static cvk_status cut_out(cvk_session *s, const cvk_collection *c, cvk_measured_step *out,
                          double *load_a)
{
    size_t first = 1;
    double sum_a = 0.0, sum_rad_s = 0.0;
    while (first < c->rows && cvk_collected(c, first, WANTED) == cvk_collected(c, 0, WANTED)) {
        first++;
    }
    if (first < 10 || first + 50 > c->rows) {
        snprintf(s->text, sizeof s->text, "the step was not seen in what came from the controller");
        return CVK_CONTRADICTION;
    }
    for (size_t r = 0; r < first; r++) {
        sum_a += cvk_collected(c, r, Q);
        sum_rad_s += cvk_collected(c, r, SPEED);
    }
    *load_a = sum_a / (double)first;
    out->from = sum_rad_s / (double)first;
    const cvk_status status = make_room(out, c->rows - first, true);
    for (size_t n = 0; n < out->rows && status == CVK_OK; n++) {
        out->set[n] = cvk_collected(c, first + n, SET);
        out->measured[n] = cvk_collected(c, first + n, SPEED);
        out->current_q_a[n] = cvk_collected(c, first + n, Q);
    }
    return status;
}

static void judge_speed(const cvk_session *s, double load_a, double inertia_kg_m2,
                        cvk_measured_step *out)
{
    const double p = cvk_session_value(s, "motor.pole_pairs"),
                 flux = cvk_session_value(s, "motor.flux_linkage_wb");
    const double per_a_nm = 1.5 * p * flux;
    const double reach = measured_reach(out);
    const bool by_observer = s->state.angle_source >= CVK_ANGLE_FLUX;
    loop l = {.gain = cvk_session_value(s, "speed.gain_a_s"),
              .integral_gain = cvk_session_value(s, "speed.integral_gain_a"),
              .limit_a = speed_limit_a(s),
              .ahead = fmax(0.0, cvk_session_value(s, "speed.feedforward_a_s2")),
              .current_rad_s = CVK_TWO_PI_WIDE * cvk_session_value(s, "current.bandwidth_hz"),
              .tracking_rad_s = by_observer
                                    ? cvk_session_value(s, "observer.tracking_bandwidth_rad_s")
                                    : CVK_TWO_PI_WIDE * cvk_session_value(s, "rotor.bandwidth_hz"),
              .T = (double)s->period_s};
    out->inertia_measured = !isfinite(inertia_kg_m2);
    l.reach = out->inertia_measured ? reach : per_a_nm * p / inertia_kg_m2;
    out->inertia_kg_m2 = out->inertia_measured && p > 0.0 ? per_a_nm * p / reach : inertia_kg_m2;
    out->stiffness_nm_rad = p > 0.0 ? per_a_nm * l.integral_gain * p : NAN;
    out->damping_nms_rad = p > 0.0 ? per_a_nm * l.gain * p : NAN;
    for (size_t n = 0; n < out->rows; n++) {
        out->limited = out->limited || fabs(out->current_q_a[n]) > 0.98 * l.limit_a;
    }
    if (isfinite(l.reach)) {
        predict_speed(&l, load_a, out);
    } else {
        free(out->predicted);
        out->predicted = NULL;
    }
    out->shape = cvk_step_shape_of(out->measured, out->rows, out->spacing_s, out->from, out->to);
    out->predicted_shape =
        out->predicted != NULL
            ? cvk_step_shape_of(out->predicted, out->rows, out->spacing_s, out->from, out->to)
            : (cvk_step_shape){NAN, NAN, NAN, NAN};
}

cvk_status cvk_measure_speed_step(cvk_session *s, const cvk_request *request, double step_rad_s,
                                  double length_s, double inertia_kg_m2, cvk_measured_step *out)
{
    static const char *const signals[COLUMNS] = {"speed_request", "speed_set", "speed_e", "iq"};
    const double T = (double)s->period_s;
    const unsigned decimation = cvk_session_decimation(s, COLUMNS, length_s / ROWS_WANTED);
    cvk_request next = *request;
    next.speed_rad_s += (float)step_rad_s;
    *out = (cvk_measured_step){.kind = CVK_MEASURED_SPEED,
                               .spacing_s = T * decimation,
                               .to = (double)next.speed_rad_s,
                               .repeats = 1,
                               .bandwidth_hz = NAN};
    cvk_status status = must_run(s, true, "speed");
    if (status != CVK_OK) {
        return status;
    }
    cvk_collection c;
    status = cvk_collect_begin(&c, s, signals, COLUMNS, decimation);
    if (status == CVK_OK) {
        status = cvk_collect_for(&c, s, BEFORE_S);
        status = status == CVK_OK ? cvk_session_request(s, &next) : status;
        status = status == CVK_OK ? cvk_collect_for(&c, s, length_s) : status;
        status = cvk_collect_end(&c, s, status);
        const cvk_status back = cvk_session_request(s, request); /* in any case */
        status = status == CVK_OK ? back : status;
        status = status == CVK_OK ? cvk_session_wait(s, length_s) : status;
    }
    double load_a = 0.0;
    if (status == CVK_OK && s->state.fault != CVK_FAULT_NONE) {
        snprintf(s->text, sizeof s->text, "the drive stopped with a fault: %s",
                 cvk_fault_text((cvk_fault)s->state.fault));
        status = CVK_STOPPED;
    }
    if (status == CVK_OK) {
        status = cut_out(s, &c, out, &load_a);
    }
    if (status == CVK_OK) {
        judge_speed(s, load_a, inertia_kg_m2, out);
    }
    cvk_collect_free(&c);
    return status;
}
