/* SPDX-License-Identifier: Apache-2.0
 *
 * From a sensor's direction and offset to wires.
 *
 * A log cannot tell a motor whose phases are exchanged from one whose sensor counts backwards: both
 * look alike. The answer names the phases in an even order and gives the rest to the sensor's
 * direction. The three even orders differ by a third in the sensor's offset: halls, whose zero lies
 * on phase a, tell which it is; any other sensor's zero lies anywhere, and the phases stay open.
 */
#include "calibration.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define THIRD (2.0 * CVK_PI_WIDE / 3.0)
#define SURE 0.9

static double deviation_of(const cvk_measured *x)
{
    return 0.5 * (x->high - x->low) / 1.96;
}

/* Probability that an angle with this value and deviation lies within half a third of zero. */
static double within_third(double value, double sd)
{
    const double from = (-0.5 * THIRD - value) / (sqrt(2.0) * sd);
    const double to = (0.5 * THIRD - value) / (sqrt(2.0) * sd);
    return 0.5 * (erf(to) - erf(from));
}

/* The sensor that the answer rests on: halls bear the phases' names; of the others only the
 * absolute ones have a zero of their own. */
static cvk_rotor_kind speaker_of(const cvk_calibration *c)
{
    static const cvk_rotor_kind order[CVK_ROTOR_ANGLE_KINDS] = {
        CVK_ROTOR_HALLS, CVK_ROTOR_ABSOLUTE, CVK_ROTOR_SINCOS, CVK_ROTOR_ENCODER};
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS; n++) {
        if (cvk_measured_known(&c->sensor[order[n]].electrical_offset_rad)) {
            return order[n];
        }
    }
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS; n++) {
        if (c->sensor[order[n]].present) {
            return order[n];
        }
    }
    return CVK_ROTOR_ANGLE_KINDS;
}

static const char *name_of(cvk_rotor_kind kind)
{
    static const char *const names[CVK_ROTOR_ANGLE_KINDS] = {
        [CVK_ROTOR_HALLS] = "The halls count",
        [CVK_ROTOR_ENCODER] = "The encoder counts",
        [CVK_ROTOR_SINCOS] = "The sin/cos sensor counts",
        [CVK_ROTOR_ABSOLUTE] = "The absolute sensor counts"};
    return names[kind];
}

/* Two wires exchanged turn the direction; which two decides what is left as the offset. */
static void cure_reversed(const cvk_wiring_answer *w, double offset_rad, const char *other,
                          char *text, size_t size)
{
    static const char *const pairs[3] = {"b and c", "a and b", "c and a"};
    int best = 0;
    for (int n = 1; n < 3; n++) {
        best = fabs(remainder(n * THIRD - offset_rad, 2.0 * CVK_PI_WIDE)) <
                       fabs(remainder(best * THIRD - offset_rad, 2.0 * CVK_PI_WIDE))
                   ? n
                   : best;
    }
    const double left = remainder(best * THIRD - offset_rad, 2.0 * CVK_PI_WIDE);
    int used = snprintf(text, size, "%s against the phase order of the legs.\n", name_of(w->by));
    if (other != NULL) {
        used += snprintf(text + used, size - (size_t)used,
                         "The %s counts with it: of two sensors on one shaft one has its wires "
                         "exchanged.\nWith a screwdriver: exchange two wires of that sensor, not "
                         "of the motor, and record again.\n",
                         other);
    } else {
        used += snprintf(text + used, size - (size_t)used,
                         "With a screwdriver: exchange the motor wires at legs %s (then "
                         "rotor.offset_rad: %.4f)%s.\n",
                         pairs[best], left,
                         w->by == CVK_ROTOR_HALLS ? ", or two of the hall wires" : "");
    }
    snprintf(text + used, size - (size_t)used,
             "Or leave the wires as they are: rotor.reversed: yes, rotor.offset_rad: %.4f.",
             offset_rad);
}

/* Of a sensor whose offset is not known. */
static void cure_direction_alone(const cvk_wiring_answer *w, const char *why, char *text,
                                 size_t size)
{
    snprintf(text, size,
             "%s %s the phase order of the legs: rotor.reversed: %s.\nIts offset is open: %s.",
             name_of(w->by), w->sensor_direction > 0 ? "with" : "against",
             w->sensor_direction > 0 ? "no" : "yes", why);
}

static void cure_straight(const cvk_wiring_answer *w, int shift, double offset_rad, char *text,
                          size_t size)
{
    static const char *const moves[3] = {
        "", "the wire at leg a to leg b, that at b to c, that at c to a",
        "the wire at leg a to leg c, that at c to b, that at b to a"};
    if (shift == 0) {
        snprintf(text, size,
                 "%s with the phase order of the legs: nothing to swap.\nSet "
                 "rotor.reversed: no, rotor.offset_rad: %.4f.",
                 name_of(w->by), offset_rad);
        return;
    }
    snprintf(
        text, size,
        "%s with the phase order of the legs, but from another phase.\nWith a screwdriver: "
        "move each motor wire on by one, %s (then rotor.offset_rad: %.4f).\nOr leave the wires "
        "as they are: rotor.reversed: no, rotor.offset_rad: %.4f.",
        name_of(w->by), moves[shift], remainder(offset_rad + shift * THIRD, 2.0 * CVK_PI_WIDE),
        offset_rad);
}

/* A sensor that counts the other way; null when there is none. */
static const char *contradicting(const cvk_calibration *c, int direction)
{
#define TEXT(NAME, name, text) text,
    static const char *const texts[] = {CVK_SENSOR_LIST(TEXT)};
#undef TEXT
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        if (c->sensor[k].direction == -direction && direction != 0) {
            return texts[k];
        }
    }
    return NULL;
}

/* Which phases are at the legs: by how many thirds of a turn they are moved on, when halls tell. */
static int name_phases(const cvk_sensor_calibration *by, cvk_wiring_answer *w)
{
    static const char *const orders[3] = {"abc", "bca", "cab"};
    const double offset = by->electrical_offset_rad.value;
    if (w->by != CVK_ROTOR_HALLS) {
        snprintf(w->phases_open, sizeof w->phases_open,
                 "its zero may lie anywhere: all three wires moved on by one only turn its offset "
                 "by 120 degrees; halls would tell");
        return 0;
    }
    const int shift = ((int)lround(-offset / THIRD) % 3 + 3) % 3;
    const double left = remainder(offset + shift * THIRD, 2.0 * CVK_PI_WIDE);
    const double here = within_third(left, deviation_of(&by->electrical_offset_rad));
    if (w->probability * here < SURE) {
        snprintf(w->phases_open, sizeof w->phases_open,
                 "the halls lie midway between two phases (%.0f degrees from one): either name "
                 "fits; set rotor.offset_rad instead of moving wires",
                 left / CVK_RAD_PER_DEG);
        return 0;
    }
    w->probability *= here;
    memcpy(w->phases, orders[shift], sizeof w->phases);
    return shift;
}

void cvk_answer_wiring(cvk_calibration *c)
{
    cvk_wiring_answer *w = &c->wiring;
    w->by = speaker_of(c);
    if (w->by == CVK_ROTOR_ANGLE_KINDS) {
        snprintf(w->undecided, sizeof w->undecided,
                 "the log has no rotor sensor: log hall, theta_m, enc, or sin and cos");
        return;
    }
    const cvk_sensor_calibration *by = &c->sensor[w->by];
    w->sensor_direction = by->direction;
    w->probability = by->direction_probability;
    if (by->direction == 0) {
        snprintf(w->undecided, sizeof w->undecided, "%s: %s", cvk_rotor_kind_name((int)w->by),
                 by->why);
        return;
    }
    if (!cvk_measured_known(&by->electrical_offset_rad)) {
        snprintf(w->phases_open, sizeof w->phases_open, "the sensor's offset is not known");
        cure_direction_alone(w, by->why, w->cure, sizeof w->cure);
        return;
    }
    const int shift = name_phases(by, w);
    const double offset = by->electrical_offset_rad.value;
    if (by->direction < 0) {
        cure_reversed(w, offset, contradicting(c, by->direction), w->cure, sizeof w->cure);
    } else {
        cure_straight(w, shift, offset, w->cure, sizeof w->cure);
    }
}

/* ---- which sensor to use -------------------------------------------------------------------- */

/* Electrical error of a reading that stays after the correction. */
static double error_of(const cvk_sensor_calibration *s)
{
    const double noise = isfinite(s->noise_rad) ? s->noise_rad : 0.0;
    return hypot(hypot(s->resolution_rad / sqrt(12.0), noise),
                 deviation_of(&s->electrical_offset_rad));
}

void cvk_choose_sensor(cvk_calibration *c)
{
    double least = INFINITY, next = INFINITY;
    int second = CVK_ROTOR_ANGLE_KINDS;
    c->best = CVK_ROTOR_ANGLE_KINDS;
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        const cvk_sensor_calibration *s = &c->sensor[k];
        if (!cvk_measured_known(&s->electrical_offset_rad)) {
            continue;
        }
        const double error = error_of(s);
        if (error < least) {
            next = least;
            second = (int)c->best;
            least = error;
            c->best = (cvk_rotor_kind)k;
        } else if (error < next) {
            next = error;
            second = k;
        }
    }
    if (c->best == CVK_ROTOR_ANGLE_KINDS) {
        snprintf(c->why_best, sizeof c->why_best, "no sensor could be calibrated");
    } else if (second == CVK_ROTOR_ANGLE_KINDS) {
        snprintf(c->why_best, sizeof c->why_best, "%s, the only one calibrated",
                 cvk_rotor_kind_name((int)c->best));
    } else {
        snprintf(c->why_best, sizeof c->why_best,
                 "%s: a reading of it is %.2g degrees electrical wrong (steps, noise and offset "
                 "together), of the second best (%s) %.2g%s",
                 cvk_rotor_kind_name((int)c->best), least / CVK_RAD_PER_DEG,
                 cvk_rotor_kind_name(second), next / CVK_RAD_PER_DEG,
                 c->best == CVK_ROTOR_ENCODER ? "; it must find its index after each power-up"
                                              : "");
    }
}
