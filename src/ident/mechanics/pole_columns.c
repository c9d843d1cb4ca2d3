/* SPDX-License-Identifier: Apache-2.0
 *
 * Turns of the rotor's field over turns of the shaft, each from whatever column counts it.
 */
#include "pole_columns.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdlib.h>

#define FEWEST_SHAFT_TURNS 0.9
#define LEAST_DEVIATION 0.03    /* of the ratio */
#define END_DEVIATION_TURNS 0.1 /* of the electrical turns, at the ends together */
#define SLOW_TURNS 1.5      /* electrical, too slow to be seen at the ends of a hand's turning */
#define HAND_DEVIATION 0.03 /* of a shaft turn counted by hand */
#define LEAST_DISC_DEVIATION 0.04
#define HALLS_PER_TURN 6.0

/* Adds -(off)^2 / 2, off in deviations of a ratio that grow with p. */
static void add_ratio(cvk_pole_evidence *evidence, double ratio, double deviation, double relative)
{
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        double off = (ratio - p) / hypot(fmax(deviation, LEAST_DEVIATION), relative * p);
        evidence->log_likelihood[p] -= 0.5 * off * off;
    }
}

/* An angle that starts anew every turn, unwrapped while it goes by; in turns. */
typedef struct winder {
    double last, turns;
    bool begun;
} winder;

static double wind(winder *w, double fraction)
{
    if (isfinite(fraction)) {
        double step = fraction - w->last;
        w->turns += w->begun ? step - round(step) : 0.0;
        w->last = fraction;
        w->begun = true;
    }
    return w->turns;
}

/* Hall codes change six times a turn, whatever wire is which; going back to the code before turns
 * the direction. */
typedef struct hall_counter {
    int now, before, direction;
    double steps;
} hall_counter;

static double count_hall(hall_counter *c, double code)
{
    int next = isfinite(code) ? (int)lround(code) : 0;
    if (next >= 1 && next <= 6 && next != c->now) {
        c->direction = next == c->before ? -c->direction : c->direction;
        c->steps += c->now != 0 ? c->direction : 0;
        c->before = c->now;
        c->now = next;
    }
    return c->steps / HALLS_PER_TURN;
}

/* Electrical turns while the shaft makes so many. */
typedef struct turn_count {
    double electrical, shaft;
} turn_count;

/* Between the first and the last mark. */
static turn_count count_by_marks(const double *electrical, const cvk_log *log)
{
    const double *index = log->column[CVK_COLUMN_INDEX], level = cvk_mark_level(log);
    double first = NAN, last = NAN, marks = 0.0;
    for (size_t k = 1; k < log->rows; k++) {
        if (index[k] > level && !(index[k - 1] > level)) {
            first = marks > 0.0 ? first : electrical[k];
            last = electrical[k];
            marks += 1.0;
        }
    }
    return (turn_count){last - first, marks - 1.0};
}

static double shaft_turns_of(const cvk_log *log)
{
    const double *angle = log->column[CVK_COLUMN_THETA_M], *speed = log->column[CVK_COLUMN_SPEED_M];
    const double *enc = log->column[CVK_COLUMN_ENC], *t = log->column[CVK_COLUMN_T];
    winder w = {.begun = false};
    double turns = 0.0;
    for (size_t k = 1; k < log->rows; k++) {
        if (angle != NULL) {
            turns = wind(&w, angle[k] / (2.0 * CVK_PI_WIDE));
        } else if (enc != NULL && log->encoder_counts > 0.0) {
            turns = wind(&w, enc[k] / log->encoder_counts);
        } else if (speed != NULL && t != NULL && isfinite(speed[k] * (t[k] - t[k - 1]))) {
            turns += speed[k] * (t[k] - t[k - 1]) / (2.0 * CVK_PI_WIDE);
        }
    }
    return log->shaft_turns > 0.0 ? log->shaft_turns : turns;
}

void cvk_poles_from_columns(cvk_pole_evidence *evidence, const cvk_log *log)
{
    const double *angle = log->column[CVK_COLUMN_THETA_E], *hall = log->column[CVK_COLUMN_HALL];
    double *electrical = malloc((log->rows + 1u) * sizeof *electrical);
    if (electrical == NULL || log->rows < 2 || (angle == NULL && hall == NULL)) {
        free(electrical);
        return;
    }
    winder w = {.begun = false};
    hall_counter c = {.direction = 1};
    for (size_t k = 0; k < log->rows; k++) {
        electrical[k] =
            angle != NULL ? wind(&w, angle[k] / (2.0 * CVK_PI_WIDE)) : count_hall(&c, hall[k]);
    }
    turn_count count = {electrical[log->rows - 1], shaft_turns_of(log)};
    if (fabs(count.shaft) < FEWEST_SHAFT_TURNS && cvk_log_has(log, CVK_COLUMN_INDEX)) {
        count = count_by_marks(electrical, log);
    }
    free(electrical);
    if (fabs(count.shaft) >= FEWEST_SHAFT_TURNS && fabs(count.electrical) >= FEWEST_SHAFT_TURNS) {
        const double deviation =
            (hall != NULL && angle == NULL ? 1.0 / HALLS_PER_TURN : END_DEVIATION_TURNS);
        const double hand = log->shaft_turns > 0.0 ? HAND_DEVIATION / log->shaft_turns : 0.0;
        evidence->columns = true;
        add_ratio(evidence, fabs(count.electrical / count.shaft), deviation / fabs(count.shaft),
                  hand);
    }
}

void cvk_poles_from_count(cvk_pole_evidence *evidence, const cvk_turns *turns, double shaft_turns)
{
    double net = 0.0;
    for (size_t n = 0; n < turns->count; n++) {
        net += turns->sign[n];
    }
    if (shaft_turns > 0.0 && turns->count > 0) {
        /* the slow turns at the ends, when hands begin and end, are partly missed */
        const double electrical = fabs(net) + 0.5 * SLOW_TURNS;
        evidence->counted = true;
        add_ratio(evidence, electrical / shaft_turns, SLOW_TURNS / shaft_turns,
                  HAND_DEVIATION / shaft_turns);
    }
}

void cvk_poles_from_disc(cvk_pole_evidence *evidence, const double without[2],
                         const double with_disc[2], double disc_kg_m2)
{
    /* an inertia taken for one pole pair is the true one over p^2 */
    const double difference = with_disc[0] - without[0];
    const double relative = hypot(without[1], with_disc[1]) / difference;
    if (!(difference > 0.0) || !(disc_kg_m2 > 0.0)) {
        return;
    }
    evidence->disc = true;
    for (int p = 1; p <= CVK_MOST_POLE_PAIRS; p++) {
        double share = difference * p * p / disc_kg_m2 - 1.0;
        double off = share / fmax(relative * (1.0 + share), LEAST_DISC_DEVIATION);
        evidence->log_likelihood[p] -= 0.5 * off * off;
    }
}
