/* SPDX-License-Identifier: Apache-2.0
 *
 * The check by hand.
 */
#include "corvak/host/hand_check.h"

#include "corvak/core/units.h"

#include "corvak/core/halls.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>

#define LEAST_TURNS 0.05 /* of the shaft, that count as turned */
#define ALIKE_SHARE 0.03 /* two sensors' turns, relative, */
#define ALIKE_TURNS 0.04 /* and besides */
#define ROUND_SHARE 0.25 /* amplitude of sin/cos, least against most */
#define LEAST_AMPLITUDE_V 0.1
#define COUNTS_OFF 4.0 /* from mark to mark */

void cvk_hand_begin(cvk_hand_check *c, const cvk_hand_known *known)
{
    *c = (cvk_hand_check){.known = *known,
                          .code = -1,
                          .amplitude_low_v = INFINITY,
                          .counts_at_mark = NAN,
                          .counts_between = NAN};
}

/* The sensor went on by this share of a turn. */
static void go(cvk_hand_sensor *s, double turns)
{
    s->turns += turns;
    s->way += fabs(turns);
    s->moved = s->moved || turns != 0.0;
    s->most = fmax(s->most, s->turns);
    s->least = fmin(s->least, s->turns);
}

/* Field turns as turns of the shaft, where the pole pairs are known. */
static double shaft_turns(const cvk_hand_check *c, double field_turns)
{
    return c->known.pole_pairs > 0.0 ? field_turns / c->known.pole_pairs : field_turns;
}

static void look_at_angle(cvk_hand_check *c, const cvk_hand_row *row)
{
    cvk_hand_sensor *s = &c->sensor[CVK_ROTOR_ABSOLUTE];
    if (isfinite(row->absolute_rad)) {
        go(s, s->seen ? remainder(row->absolute_rad - s->angle, CVK_TWO_PI_WIDE) / CVK_TWO_PI_WIDE
                      : 0.0);
        s->angle = row->absolute_rad;
        s->seen = true;
    }
}

static void look_at_encoder(cvk_hand_check *c, const cvk_hand_row *row)
{
    cvk_hand_sensor *s = &c->sensor[CVK_ROTOR_ENCODER];
    if (!isfinite(row->counts)) {
        return;
    }
    double step = s->seen ? row->counts - s->angle : 0.0;
    const double per_turn = c->known.encoder_counts;
    if (per_turn > 0.0 && fabs(step) > 0.5 * per_turn) { /* it begins anew each turn */
        step = remainder(step, per_turn);
    }
    go(s, per_turn > 0.0 ? step / per_turn : step);
    s->angle = row->counts;
    s->seen = true;
    if (row->index > 0.5) {
        const double here = s->turns * (per_turn > 0.0 ? per_turn : 1.0);
        if (isfinite(c->counts_at_mark) && fabs(here - c->counts_at_mark) > COUNTS_OFF) {
            c->counts_between = here - c->counts_at_mark;
        }
        c->counts_at_mark = here;
        c->marks++;
    }
}

static void look_at_sincos(cvk_hand_check *c, const cvk_hand_row *row)
{
    cvk_hand_sensor *s = &c->sensor[CVK_ROTOR_SINCOS];
    const double amplitude = hypot(row->sin_v, row->cos_v);
    if (!isfinite(amplitude)) {
        return;
    }
    /* noise has an angle too, but it is none */
    const double now = amplitude > LEAST_AMPLITUDE_V ? atan2(row->sin_v, row->cos_v) : s->angle;
    const double period =
        s->seen ? remainder(now - s->angle, CVK_TWO_PI_WIDE) / CVK_TWO_PI_WIDE : 0.0;
    go(s, c->known.periods > 0.0 ? period / c->known.periods : shaft_turns(c, period));
    s->angle = now;
    s->seen = true;
    c->amplitude_low_v = fmin(c->amplitude_low_v, amplitude);
    c->amplitude_high_v = fmax(c->amplitude_high_v, amplitude);
}

static void look_at_halls(cvk_hand_check *c, const cvk_hand_row *row)
{
    cvk_hand_sensor *s = &c->sensor[CVK_ROTOR_HALLS];
    if (!(row->hall >= 0.0 && row->hall <= 7.0)) {
        return;
    }
    const int code = (int)row->hall, before = c->code;
    s->seen = true;
    s->angle = code;
    c->codes |= 1u << code;
    if (cvk_hall_sector(code) < 0) {
        c->bad_codes++;
        return;
    }
    if (before >= 0 && code != before) {
        const int ahead = (cvk_hall_sector(code) - cvk_hall_sector(before) + 6) % 6;
        const int way = ahead == 1 ? 1 : (ahead == 5 ? -1 : 0);
        c->edges++;
        c->skipped += way == 0;
        go(s, shaft_turns(c, way / 6.0));
        s->moved = true;
    }
    c->code = code;
}

void cvk_hand_look(cvk_hand_check *c, const cvk_hand_row *row)
{
    look_at_angle(c, row);
    look_at_encoder(c, row);
    look_at_sincos(c, row);
    look_at_halls(c, row);
    c->length_s += c->rows > 0 ? fmax(row->time_s - c->last.time_s, 0.0) : 0.0;
    c->last = *row;
    c->rows++;
}

/* ---- the verdict ----------------------------------------------------------------------------- */

#if defined(__GNUC__)
__attribute__((format(printf, 3, 4)))
#endif
static void
say(cvk_hand_check *c, bool good, const char *format, ...)
{
    if (c->findings < CVK_HAND_FINDINGS) {
        cvk_hand_finding *f = &c->finding[c->findings++];
        va_list values;
        va_start(values, format);
        vsnprintf(f->text, sizeof f->text, format, values);
        va_end(values);
        f->good = good;
        c->consistent = c->consistent && good;
    }
}

static double span_of(const cvk_hand_sensor *s)
{
    return s->most - s->least;
}

static bool is_expected(const cvk_hand_check *c, int n)
{
    return (c->known.expected >> n & 1u) != 0u;
}

/* Its turns are those of the shaft. */
static bool counts_shaft(const cvk_hand_check *c, int n)
{
    return n == CVK_ROTOR_ABSOLUTE || (n == CVK_ROTOR_ENCODER && c->known.encoder_counts > 0.0) ||
           (n == CVK_ROTOR_SINCOS && c->known.periods > 0.0) ||
           (n >= CVK_ROTOR_SINCOS && c->known.pole_pairs > 0.0);
}

static void judge_halls(cvk_hand_check *c)
{
    const cvk_hand_sensor *s = &c->sensor[CVK_ROTOR_HALLS];
    const int dead = c->edges + c->bad_codes > 3 ? cvk_dead_hall(c->codes) : 0;
    if (c->bad_codes == c->rows) {
        say(c, false, "halls: code %s only: unplugged, or without supply",
            (c->codes & 1u) != 0u ? "0" : "7");
    } else if (dead != 0) {
        say(c, false, "halls: hall %c never changes: a broken wire, or the hall itself",
            'a' + dead - 1);
    } else if (c->bad_codes > 0) {
        say(c, false, "halls: %lu looks found code 0 or 7, which no rotor makes", c->bad_codes);
    } else if (c->skipped > c->edges / 20u) {
        say(c, false,
            "halls: %lu of %lu changes left a code out: turned too fast for these looks, or a "
            "loose contact",
            c->skipped, c->edges);
    } else if (c->edges >= 6) {
        say(c, true, "halls: all codes in order, %lu changes", c->edges);
    } else if (s->moved) {
        say(c, true, "halls: %lu changes, too few to see all codes", c->edges);
    }
}

static void judge_encoder(cvk_hand_check *c)
{
    const double per_turn = c->known.encoder_counts;
    if (c->marks > 0 && isfinite(c->counts_between) && per_turn > 0.0) {
        const double off = fabs(remainder(c->counts_between, per_turn));
        say(c, off <= COUNTS_OFF, "encoder: %.0f counts from mark to mark, %.0f are %s",
            fabs(c->counts_between), per_turn,
            off <= COUNTS_OFF ? "a turn" : "said to be a turn: lost counts, or another encoder");
    } else if (c->marks > 0) {
        say(c, true, "encoder: the index mark was seen %lu times", c->marks);
    } else if (span_of(&c->sensor[CVK_ROTOR_ENCODER]) > 1.1 && per_turn > 0.0) {
        say(c, true, "encoder: no index mark in more than a turn");
    }
}

static void judge_sincos(cvk_hand_check *c)
{
    const double least = c->amplitude_low_v, most = c->amplitude_high_v;
    const bool round = least > (1.0 - ROUND_SHARE) * most;
    if (most < LEAST_AMPLITUDE_V) {
        say(c, false, "sin/cos: amplitude %.3f V: unplugged", most);
    } else if (c->sensor[CVK_ROTOR_SINCOS].moved) {
        say(c, round, "sin/cos: amplitude %.3f to %.3f V%s", least, most,
            round ? "" : ": a channel is missing, or saturates");
    }
}

/* Two sensors that both tell the shaft's turns. */
static void judge_pair(cvk_hand_check *c, int a, int b)
{
    const cvk_hand_sensor *x = &c->sensor[a], *y = &c->sensor[b];
    const double turns = x->most > -x->least ? x->most : x->least;
    const double others = y->most > -y->least ? y->most : y->least;
    const double off = fabs(fabs(turns) - fabs(others));
    const double coarse =
        b == CVK_ROTOR_HALLS && c->known.pole_pairs > 0.0 ? 2.0 / 6.0 / c->known.pole_pairs : 0.0;
    const char *first = cvk_rotor_kind_name(a), *second = cvk_rotor_kind_name(b);
    if (fabs(turns) < LEAST_TURNS && fabs(others) < LEAST_TURNS) {
        return;
    }
    if (off > ALIKE_SHARE * fabs(turns) + ALIKE_TURNS + coarse) {
        say(c, false,
            "%s and %s differ: %+.2f and %+.2f turns of the shaft at the furthest: pole pairs or "
            "counts?",
            first, second, turns, others);
    } else if (turns * others < 0.0) {
        say(c, false, "%s and %s count in opposite directions", first, second);
    } else {
        say(c, true, "%s and %s agree: %+.2f and %+.2f turns at the furthest", first, second, turns,
            others);
    }
}

/* How far it came, from where it began. */
static void judge_way(cvk_hand_check *c, int n)
{
    const cvk_hand_sensor *s = &c->sensor[n];
    if (!s->moved || !counts_shaft(c, n)) {
        return;
    }
    if (span_of(s) > LEAST_TURNS || n == CVK_ROTOR_HALLS) {
        say(c, true, "%s: at most %.2f turns one way from where it began, %.2f the other",
            cvk_rotor_kind_name(n), fabs(s->most), fabs(s->least));
    } else if (is_expected(c, n)) {
        say(c, false, "%s: it moved by %.3f turns only while another turned: its own noise?",
            cvk_rotor_kind_name(n), span_of(s));
    }
}

void cvk_hand_judge(cvk_hand_check *c)
{
    int first = -1, moved = 0;
    c->findings = 0;
    c->consistent = true;
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS; n++) {
        const bool turned =
            c->sensor[n].moved &&
            (!counts_shaft(c, n) || span_of(&c->sensor[n]) > LEAST_TURNS || n == CVK_ROTOR_HALLS);
        moved += turned;
        first = first < 0 && turned && counts_shaft(c, n) ? n : first;
    }
    if (moved == 0) {
        say(c, false,
            c->rows == 0 ? "nothing was read"
                         : "no sensor moved: the shaft was not "
                           "turned, or no sensor is plugged in");
    }
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS && moved > 0; n++) {
        if (c->sensor[n].seen && !c->sensor[n].moved && is_expected(c, n)) {
            say(c, false, "%s: it did not change while another did: unplugged, or not fitted",
                cvk_rotor_kind_name(n));
        }
    }
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS && moved > 0; n++) {
        judge_way(c, n);
    }
    if (c->sensor[CVK_ROTOR_HALLS].seen &&
        (is_expected(c, CVK_ROTOR_HALLS) || c->sensor[CVK_ROTOR_HALLS].moved)) {
        judge_halls(c);
    }
    if (c->sensor[CVK_ROTOR_ENCODER].moved) {
        judge_encoder(c);
    }
    if (c->sensor[CVK_ROTOR_SINCOS].seen &&
        (is_expected(c, CVK_ROTOR_SINCOS) || c->sensor[CVK_ROTOR_SINCOS].moved)) {
        judge_sincos(c);
    }
    for (int n = first + 1; n < CVK_ROTOR_ANGLE_KINDS && first >= 0; n++) {
        if (c->sensor[n].moved && counts_shaft(c, n)) {
            judge_pair(c, first, n);
        }
    }
}
