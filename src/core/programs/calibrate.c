/* SPDX-License-Identifier: Apache-2.0
 *
 * The calibration of the rotor sensor as a walk through phases:
 *
 *     rise -> settle -> up -> down -> settle -> up -> down -> rest -> torque -> torque back ->
 *     speed -> speed back -> done
 *
 * A rotor that is taken round trails the current by its friction, one way as much as the other: the
 * middle of both is the offset. A load that pulls shifts both alike, and the more, the less current
 * flows: hence the second pair. Which of the two signs of the sensor turns with the current is its
 * direction. Then the vector is led by the sensor, a quarter turn ahead: only with the right angle
 * the rotor turns the way it is meant to, either way.
 *
 * All of it works by voltage, since a current loop would need to know the winding.
 */
#include "calibrate.h"

#include "corvak/core/halls.h"

#include "base/arithmetic.h"

#include <stddef.h>

#define RISE_TIME_S 0.06f /* the voltage grows by e in this time */
#define RISE_START 2e-4f  /* first voltage, share of the bus voltage */
#define RISE_END 0.45f    /* largest, share of the bus voltage */
#define RISE_LONGEST_S 0.8f
#define HOLD_S 0.03f /* the current follows the voltage with this time */
#define SETTLE_S 0.6f
#define SWEEP_RAD_S 25.0f /* electrical */
#define SWEEP_RISE_S 0.5f
#define FEWEST_TURNS 4.0f /* electrical, each way */
#define SWEEP_SHARE 0.5f  /* of the current limit, in the first pair of sweeps, */
#define SECOND_RATIO 0.6f /* and in the second, of that in the first */
#define HEAVY_RATIO 0.75f /* the same where friction is large */
#define MORE_SHARE 1.35f  /* each time that it was too little */
#define MOST_SHARE 0.9f
#define MOST_PULL_RAD 0.09f /* between the two offsets: more is a load */
#define MOST_PULL_HALLS_RAD 0.2f
#define ALIKE 0.7f        /* likeness of a sensor that turns with the current */
#define STANDS_SHARE 0.1f /* of the way: the sensor did not move */
#define FOLLOWS_SHARE 0.7f
#define ROCKS_RAD 0.12f  /* electrical: it moved, but not on */
#define DRAGGED_RAD 9.0f /* electrical, while the vector stands: something turns the shaft */
#define LEAST_ROUND 0.3f /* amplitude of sin/cos, least against most */
#define MOST_BAD 0.3f    /* of the readings */
#define TEST_SHARE 0.1f  /* of the current limit, first try of the torque */
#define TEST_GROWTH 1.5f /* each try */
#define TRY_S 0.25f
#define MOVED_RAD 2.0f   /* electrical: the torque has turned the rotor */
#define SPEED_SHARE 0.1f /* of program.speed_rad_s */
#define SPEED_LONGEST_S 15.0f
#define SPEED_RISE_S 0.3f /* the voltage moves by that of a sweep in this time, */
#define GIVE_WAY 8.0f     /* and so much faster back when too much current flows */
#define HELD_SHARE 0.7f   /* of the speed, that is still there while it is held */
#define HELD_S 0.4f
#define MOST_LATE_RAD 0.5f /* the parameters' range */
#define REFINE_S 0.1f
#define LOOK_S 0.02f      /* a torque is looked at for so long at least */
#define STANDS_RAD_S 4.0f /* electrical */
#define STOOD_S 0.2f
#define RUNS_OUT_LONGEST_S 20.0f
#define REST_LONGEST_S 5.0f

static bool in_sweep(int32_t phase)
{
    return phase == CVK_CALIBRATE_UP || phase == CVK_CALIBRATE_DOWN ||
           phase == CVK_CALIBRATE_UP_AGAIN || phase == CVK_CALIBRATE_DOWN_AGAIN;
}

static void enter(cvk_calibrator *c, cvk_moment *now, cvk_calibration_phase phase)
{
    now->calibration = (int32_t)phase;
    c->ticks = 0;
    c->field_rad = c->travel_rad = c->rocking_rad = c->turned_back_rad = 0.0f;
    c->bad = 0;
    c->stood = c->changes = 0;
    c->most_v2 = c->least_v2 = 0.0f;
}

static void fail(cvk_calibrator *c, cvk_moment *now, cvk_calibration_reason reason)
{
    enter(c, now, CVK_CALIBRATE_FAILED);
    now->calibration_reason = (int32_t)reason;
}

void cvk_calibrator_start(cvk_calibrator *c, cvk_moment *now)
{
    *c = (cvk_calibrator){.share = TEST_SHARE, .sweep_share = SWEEP_SHARE};
    enter(c, now, CVK_CALIBRATE_RISE);
    now->calibration_reason = CVK_CALIBRATE_FINE;
    now->found_direction = 0;
    for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
        now->found_edge_rad[n] = 0.0f;
    }
    now->found_offset_rad = now->found_lag_rad = now->found_alike = now->found_share = 0.0f;
    now->found_shift_rad = 0.0f;
}

static float seconds(const cvk_calibrator *c, const cvk_setup *setup)
{
    return (float)c->ticks * setup->period_s;
}

/* ---- what the sensor does ------------------------------------------------------------------- */

/* Noise in place of sine and cosine has no steady amplitude. */
static void look_at_amplitude(cvk_calibrator *c, const cvk_setup *setup,
                              const cvk_rotor_readings *read)
{
    const cvk_rotor_settings *s = &setup->settings.rotor;
    const float x = read->cos_v - s->cos_offset_v, y = read->sin_v - s->sin_offset_v;
    const float square = x * x + y * y;
    if (s->kind == CVK_ROTOR_SINCOS) {
        c->most_v2 = square > c->most_v2 ? square : c->most_v2;
        c->least_v2 = square < c->least_v2 || c->least_v2 == 0.0f ? square : c->least_v2;
    }
}

static bool is_noise(const cvk_calibrator *c)
{
    return c->least_v2 < LEAST_ROUND * LEAST_ROUND * c->most_v2;
}

/* Its way in this phase, electrical, in its own count. */
static void follow(cvk_calibrator *c, const cvk_setup *setup, const cvk_rotor *rotor,
                   const cvk_moment *now)
{
    const float ratio = fabsf(setup->rotor.ratio);
    c->seen_codes |= 1 << (now->readings.rotor.hall & 7);
    if (rotor->read_quality == 0.0f) {
        c->bad++;
        return;
    }
    look_at_amplitude(c, setup, &now->readings.rotor);
    if (c->primed) {
        c->changes += rotor->read_own_rad != c->before_rad ? 1u : 0u;
        c->travel_rad += ratio * cvk_wrap_angle(rotor->read_own_rad - c->before_rad);
    }
    c->rocking_rad = fabsf(c->travel_rad) > c->rocking_rad ? fabsf(c->travel_rad) : c->rocking_rad;
    c->before_rad = rotor->read_own_rad;
    c->primed = true;
}

/* After a sweep: did the sensor go round with the field? */
static cvk_calibration_reason judge_way(const cvk_calibrator *c, const cvk_setup *setup)
{
    const float way = fabsf(c->travel_rad) / fabsf(c->field_rad);
    const bool halls = setup->settings.rotor.kind == CVK_ROTOR_HALLS;
    const int32_t codes = c->seen_codes;
    if ((float)c->bad > MOST_BAD * (float)c->ticks) {
        return halls && (codes & 0x7e) != 0 && cvk_dead_hall((uint32_t)codes) != 0
                   ? CVK_CALIBRATE_HALL_DEAD
                   : CVK_CALIBRATE_UNPLUGGED;
    }
    if (is_noise(c)) {
        return CVK_CALIBRATE_UNPLUGGED;
    }
    if (way > FOLLOWS_SHARE && way < 1.0f / FOLLOWS_SHARE) {
        return CVK_CALIBRATE_FINE;
    }
    if (halls && codes != (codes & -codes) && cvk_dead_hall((uint32_t)codes) != 0) {
        return CVK_CALIBRATE_HALL_DEAD;
    }
    if (way < STANDS_SHARE) {
        const int32_t kind = setup->settings.rotor.kind;
        const bool frozen =
            c->changes == 0u && (kind == CVK_ROTOR_ABSOLUTE || kind == CVK_ROTOR_SINCOS);
        return frozen                       ? CVK_CALIBRATE_FROZEN
               : c->rocking_rad > ROCKS_RAD ? CVK_CALIBRATE_TOO_LITTLE
                                            : CVK_CALIBRATE_BLOCKED;
    }
    return CVK_CALIBRATE_NOT_FOLLOWING;
}

/* ---- the vector ------------------------------------------------------------------------------ */

/* The amplitude moves so that this current flows. */
static void hold_current(cvk_calibrator *c, const cvk_setup *setup, float wanted_a,
                         const cvk_moment *now)
{
    const float flows_a = cvk_length(now->current_ab_a);
    const float change = setup->period_s / HOLD_S * cvk_clamp(1.0f - flows_a / wanted_a, 1.0f);
    c->amplitude_v += c->amplitude_v * change;
    c->amplitude_v =
        c->amplitude_v < RISE_END * now->bus_v ? c->amplitude_v : RISE_END * now->bus_v;
}

static void put_vector(const cvk_calibrator *c, cvk_moment *now)
{
    const cvk_rotation to = cvk_rotation_of(c->vector_rad);
    now->request =
        (cvk_request){.mode = CVK_MODE_VOLTAGE,
                      .voltage_v = {c->amplitude_v * to.cosine, c->amplitude_v * to.sine}};
}

static void turn_vector(cvk_calibrator *c, const cvk_setup *setup, float speed_rad_s)
{
    const float step = speed_rad_s * setup->period_s;
    c->vector_rad = cvk_wrap_angle(c->vector_rad + step);
    c->field_rad += step;
}

/* ---- phases ---------------------------------------------------------------------------------- */

/* A rotor that still runs out would look like a load that pulls. */
static void wait_until_it_stands(cvk_calibrator *c, const cvk_setup *setup, cvk_moment *now)
{
    if ((float)++c->stood * setup->period_s > STOOD_S) {
        c->begun = fabsf(c->travel_rad - c->held_rad) < ROCKS_RAD;
        c->held_rad = c->travel_rad;
        c->stood = 0;
    }
    if (c->begun) {
        enter(c, now, CVK_CALIBRATE_RISE);
    } else if (seconds(c, setup) > RUNS_OUT_LONGEST_S) {
        fail(c, now, is_noise(c) ? CVK_CALIBRATE_UNPLUGGED : CVK_CALIBRATE_LOAD);
    }
}

/* The voltage rises until the current flows. */
static void rise(cvk_calibrator *c, const cvk_setup *setup, cvk_moment *now)
{
    if (!c->begun) {
        wait_until_it_stands(c, setup, now);
        return;
    }
    const float wanted_a = c->sweep_share * setup->bounds.current_a;
    const float flows_a = cvk_length(now->current_ab_a);
    const float share = RISE_START * expf(seconds(c, setup) / RISE_TIME_S);
    c->amplitude_v = now->bus_v * (share < RISE_END ? share : RISE_END);
    if (flows_a >= wanted_a) {
        c->ohm = c->amplitude_v / flows_a;
        enter(c, now, CVK_CALIBRATE_SETTLE);
    } else if (seconds(c, setup) > RISE_LONGEST_S) {
        fail(c, now, CVK_CALIBRATE_NO_CURRENT);
    }
}

static float second_share(const cvk_calibrator *c)
{
    return c->sweep_share * (c->sweep_share > SWEEP_SHARE ? HEAVY_RATIO : SECOND_RATIO);
}

static float current_of(const cvk_calibrator *c, int32_t phase, const cvk_setup *setup)
{
    const bool second = phase == CVK_CALIBRATE_SETTLE_AGAIN || phase == CVK_CALIBRATE_UP_AGAIN ||
                        phase == CVK_CALIBRATE_DOWN_AGAIN;
    return (second ? second_share(c) : c->sweep_share) * setup->bounds.current_a;
}

static void settle(cvk_calibrator *c, const cvk_setup *setup, cvk_moment *now)
{
    hold_current(c, setup, current_of(c, now->calibration, setup), now);
    if (fabsf(c->travel_rad) > DRAGGED_RAD) {
        fail(c, now, is_noise(c) ? CVK_CALIBRATE_UNPLUGGED : CVK_CALIBRATE_LOAD);
    } else if (seconds(c, setup) > SETTLE_S) {
        c->ohm = c->amplitude_v / cvk_length(now->current_ab_a);
        enter(c, now, (cvk_calibration_phase)(now->calibration + 1));
    }
}

/* Direction of the current against the sensor's angle, either sign. */
static void look(cvk_sweep *sweep, const cvk_setup *setup, const cvk_rotor *rotor,
                 const cvk_moment *now)
{
    const float length = cvk_length(now->current_ab_a);
    const cvk_rotation by =
        cvk_rotation_of(cvk_wrap_angle(fabsf(setup->rotor.ratio) * rotor->read_own_rad));
    if (rotor->read_quality == 0.0f || !(length > 0.0f)) {
        return;
    }
    const float a = now->current_ab_a.alpha / length, b = now->current_ab_a.beta / length;
    sweep->with.alpha += a * by.cosine + b * by.sine;
    sweep->with.beta += b * by.cosine - a * by.sine;
    sweep->against.alpha += a * by.cosine - b * by.sine;
    sweep->against.beta += b * by.cosine + a * by.sine;
    sweep->count++;
}

static float likeness(const cvk_sweep *s, int32_t direction)
{
    return cvk_length(direction > 0 ? s->with : s->against) / (float)(s->count + 1u);
}

static float place_of(const cvk_sweep *s, int32_t direction)
{
    const cvk_ab sum = direction > 0 ? s->with : s->against;
    return cvk_angle_of(sum.alpha, sum.beta);
}

/* The middle of a sweep up and one down. */
static float middle_of(const cvk_sweep *up, const cvk_sweep *down, int32_t direction,
                       float *half_gap_rad)
{
    const float first = place_of(up, direction), second = place_of(down, direction);
    *half_gap_rad = 0.5f * cvk_wrap_angle(first - second);
    return cvk_wrap_angle(first - *half_gap_rad);
}

/* After all sweeps: direction and offset, or what is wrong. */
static cvk_calibration_reason judge_sweeps(const cvk_calibrator *c, const cvk_setup *setup,
                                           cvk_moment *now)
{
    const bool halls = setup->settings.rotor.kind == CVK_ROTOR_HALLS;
    int32_t forward = 0;
    float alike = 1.0f, lag = 0.0f, other_lag = 0.0f;
    for (int n = 0; n < 4; n++) {
        const float with = likeness(&c->sweep[n], 1), against = likeness(&c->sweep[n], -1);
        const float best = with > against ? with : against;
        forward += with > against ? 1 : -1;
        alike = best < alike ? best : alike;
    }
    if (alike < ALIKE) {
        return CVK_CALIBRATE_NOT_FOLLOWING;
    }
    if (forward != 4 && forward != -4) {
        return CVK_CALIBRATE_REVERSED;
    }
    const int32_t direction = forward > 0 ? 1 : -1;
    const float offset = middle_of(&c->sweep[0], &c->sweep[1], direction, &lag);
    const float other = middle_of(&c->sweep[2], &c->sweep[3], direction, &other_lag);
    now->found_direction = direction;
    now->found_offset_rad = offset;
    now->found_lag_rad = lag;
    now->found_shift_rad = cvk_wrap_angle(other - offset);
    now->found_alike = alike;
    return fabsf(now->found_shift_rad) > (halls ? MOST_PULL_HALLS_RAD : MOST_PULL_RAD)
               ? CVK_CALIBRATE_LOAD
               : CVK_CALIBRATE_FINE;
}

/* The sensor is read with what was found from now on, until other settings come into force. */
static void try_found(cvk_angles *angles, const cvk_setup *setup, const cvk_moment *now)
{
    angles->rotor.found_ratio = (float)now->found_direction * fabsf(setup->rotor.ratio);
    angles->rotor.found_offset_rad = now->found_offset_rad;
    angles->rotor.found = true;
    angles->rotor.primed = 0;
}

static float sweep_length_rad(const cvk_setup *setup)
{
    const float pole_pairs = (float)setup->settings.motor.pole_pairs;
    return CVK_TWO_PI * (pole_pairs > FEWEST_TURNS ? pole_pairs : FEWEST_TURNS);
}

/* A sensor that did not go round as it should: the current may be too little for the friction. */
static bool may_be_friction(cvk_calibration_reason reason)
{
    return reason == CVK_CALIBRATE_TOO_LITTLE || reason == CVK_CALIBRATE_NOT_FOLLOWING ||
           reason == CVK_CALIBRATE_BLOCKED;
}

static void again_with_more(cvk_calibrator *c, cvk_moment *now)
{
    const float more = c->sweep_share * MORE_SHARE;
    *c =
        (cvk_calibrator){.share = TEST_SHARE, .sweep_share = more < MOST_SHARE ? more : MOST_SHARE};
    enter(c, now, CVK_CALIBRATE_RISE);
}

static void sweep(cvk_calibrator *c, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    const int32_t phase = now->calibration;
    const bool up = phase == CVK_CALIBRATE_UP || phase == CVK_CALIBRATE_UP_AGAIN;
    const int32_t which = phase == CVK_CALIBRATE_UP         ? 0
                          : phase == CVK_CALIBRATE_DOWN     ? 1
                          : phase == CVK_CALIBRATE_UP_AGAIN ? 2
                                                            : 3;
    const float share = seconds(c, setup) / SWEEP_RISE_S, x = share < 1.0f ? share : 1.0f;
    const float speed = SWEEP_RAD_S * x * x * (3.0f - 2.0f * x);
    hold_current(c, setup, current_of(c, phase, setup), now);
    turn_vector(c, setup, up ? speed : -speed);
    if (share >= 1.0f) {
        look(&c->sweep[which], setup, &angles->rotor, now);
    }
    if (fabsf(c->field_rad) < sweep_length_rad(setup) + SWEEP_RAD_S * 0.5f * SWEEP_RISE_S) {
        return;
    }
    cvk_calibration_reason reason = judge_way(c, setup);
    if (reason == CVK_CALIBRATE_FINE && phase == CVK_CALIBRATE_DOWN_AGAIN) {
        reason = judge_sweeps(c, setup, now);
    }
    if (reason == CVK_CALIBRATE_FINE) {
        enter(c, now, (cvk_calibration_phase)(phase + 1));
    } else if (may_be_friction(reason) && c->sweep_share < MOST_SHARE) {
        again_with_more(c, now);
    } else {
        fail(c, now, reason);
    }
}

/* ---- the angle found, tried ----------------------------------------------------------------- */

/* The vector stays a quarter turn ahead of the rotor, as the sensor has it now; a negative voltage
 * pulls the other way. How far the rotor has come that way since it last turned about. */
static float lead_rotor(cvk_calibrator *c, const cvk_moment *now, float way)
{
    const float turned = way * (float)now->found_direction * c->travel_rad;
    c->vector_rad = cvk_wrap_angle(now->source[CVK_ANGLE_ROTOR].angle_rad + 0.5f * CVK_PI);
    c->turned_back_rad = turned < c->turned_back_rad ? turned : c->turned_back_rad;
    return turned - c->turned_back_rad;
}

/* The rotor comes to rest on a vector that stands. */
static void rest(cvk_calibrator *c, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    const bool stands = fabsf(now->source[CVK_ANGLE_ROTOR].speed_rad_s) < STANDS_RAD_S;
    hold_current(c, setup, second_share(c) * setup->bounds.current_a, now);
    c->stood = stands ? c->stood + 1u : 0u;
    if ((seconds(c, setup) > SETTLE_S && (float)c->stood * setup->period_s > STOOD_S) ||
        seconds(c, setup) > REST_LONGEST_S) {
        try_found(angles, setup, now);
        enter(c, now, CVK_CALIBRATE_TORQUE);
    }
}

/* More and more torque, until the rotor turns: the right way, or the angle is wrong. */
static void torque(cvk_calibrator *c, const cvk_setup *setup, cvk_moment *now)
{
    const bool back = now->calibration == CVK_CALIBRATE_TORQUE_BACK;
    const float way = back ? -1.0f : 1.0f, turned = lead_rotor(c, now, way);
    c->amplitude_v = way * c->ohm * c->share * setup->bounds.current_a;
    if (turned > MOVED_RAD && seconds(c, setup) > LOOK_S) {
        now->found_share = c->share > now->found_share ? c->share : now->found_share;
        c->share = TEST_SHARE;
        enter(c, now, (cvk_calibration_phase)(now->calibration + 1));
    } else if (c->turned_back_rad < -MOVED_RAD && !back) {
        fail(c, now, CVK_CALIBRATE_WRONG_WAY);
    } else if (seconds(c, setup) > TRY_S) {
        c->ticks = 0;
        c->share *= TEST_GROWTH;
        if (c->share > (c->sweep_share > SWEEP_SHARE ? MOST_SHARE : SWEEP_SHARE)) {
            fail(c, now, CVK_CALIBRATE_NO_TORQUE);
        }
    }
}

/* Led by a voltage a quarter turn ahead, a motor without load draws no d current, unless the angle
 * is off: then i_d = - w flux sin(error) / R, and w flux is nearly the voltage. So the offset moves
 * until there is none. What the inductance adds has the sign of the speed: the middle of both ways
 * is free of it. */
static void refine(cvk_calibrator *c, const cvk_setup *setup, cvk_angles *angles,
                   const cvk_moment *now)
{
    const cvk_rotation frame = cvk_rotation_of(now->source[CVK_ANGLE_ROTOR].angle_rad);
    const float d_a = cvk_park(now->current_ab_a, frame).d;
    const float error = cvk_clamp(-d_a * c->ohm / c->amplitude_v, 1.0f);
    angles->rotor.found_offset_rad -= error * setup->period_s / REFINE_S;
}

/* The mean over a turn of the shaft, in which a sensor's error once a turn has no share; the first
 * moments are left out, in which the offset still moves to its place. */
static void average_refined(cvk_calibrator *c, const cvk_setup *setup, const cvk_angles *angles)
{
    if ((float)c->stood * setup->period_s < HELD_S) {
        c->held_rad = c->travel_rad;
        c->middle_rad = angles->rotor.found_offset_rad;
        c->off_rad = 0.0f;
        c->averaged = 0;
    } else {
        c->off_rad += cvk_wrap_angle(angles->rotor.found_offset_rad - c->middle_rad);
        c->averaged++;
        c->in_sector[angles->rotor.halls.sector % CVK_ROTOR_EDGES]++;
    }
}

static bool has_gone_round(const cvk_calibrator *c, const cvk_setup *setup)
{
    const float turn_rad = CVK_TWO_PI * (float)setup->settings.motor.pole_pairs;
    return c->averaged > 0u && c->stood > 0u && fabsf(c->travel_rad - c->held_rad) > turn_rad;
}

/* At a speed that is held a sector is as wide as the time in it is long. Edges about their mean:
 * where that lies is the offset's. */
static void find_edges(const cvk_calibrator *c, cvk_moment *now)
{
    float total = 0.0f, late[CVK_ROTOR_EDGES], sum = 0.0f, edge = 0.0f;
    for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
        total += (float)c->in_sector[n];
    }
    for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
        edge += CVK_TWO_PI * (float)c->in_sector[n] / total - CVK_PI / 3.0f;
        late[n] = edge;
        sum += edge / (float)CVK_ROTOR_EDGES;
    }
    for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
        now->found_edge_rad[n] = cvk_clamp(late[n] - sum, MOST_LATE_RAD);
    }
}

/* The speed has been held for a turn of the shaft: one way after the other. */
static void finish_speed(cvk_calibrator *c, const cvk_setup *setup, cvk_angles *angles,
                         cvk_moment *now)
{
    const float mean_rad = c->middle_rad + c->off_rad / (float)c->averaged;
    c->averaged = 0;
    if (now->calibration == CVK_CALIBRATE_SPEED) {
        c->refined_rad = mean_rad;
    } else {
        const float apart = cvk_wrap_angle(mean_rad - c->refined_rad);
        now->found_offset_rad = cvk_wrap_angle(c->refined_rad + 0.5f * apart);
        angles->rotor.found_offset_rad = now->found_offset_rad;
        if (setup->settings.rotor.kind == CVK_ROTOR_HALLS) {
            find_edges(c, now);
        }
    }
    enter(c, now, (cvk_calibration_phase)(now->calibration + 1));
}

/* The voltage goes up, then down through zero, until a tenth of the speed is reached that way; it
 * is held, and the offset made finer: detents of the magnets have shifted that of the sweeps. */
static void speed(cvk_calibrator *c, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    const float way = now->calibration == CVK_CALIBRATE_SPEED ? 1.0f : -1.0f;
    const float wanted = SPEED_SHARE * setup->settings.program.speed_rad_s;
    const float most_a = c->sweep_share * setup->bounds.current_a, most_v = RISE_END * now->bus_v;
    const float seen = way * now->source[CVK_ANGLE_ROTOR].speed_rad_s;
    const float step_v = c->ohm * most_a * setup->period_s / SPEED_RISE_S;
    const bool too_much = cvk_length(now->current_ab_a) > most_a;
    const float slew_v = seen > wanted ? 0.0f : way * step_v;
    c->amplitude_v = cvk_clamp(
        c->amplitude_v + (too_much ? -GIVE_WAY * copysignf(step_v, c->amplitude_v) : slew_v),
        most_v);
    (void)lead_rotor(c, now, way);
    c->stood = seen > HELD_SHARE * wanted ? c->stood + 1u : 0u;
    if (c->stood > 0u) {
        refine(c, setup, angles, now);
        average_refined(c, setup, angles);
    }
    if (has_gone_round(c, setup)) {
        finish_speed(c, setup, angles, now);
    } else if (seconds(c, setup) > SPEED_LONGEST_S) {
        fail(c, now, seen < -0.1f * wanted ? CVK_CALIBRATE_WRONG_WAY : CVK_CALIBRATE_NO_SPEED);
    }
}

void cvk_calibrator_step(cvk_calibrator *c, const cvk_setup *setup, cvk_angles *angles,
                         cvk_moment *now)
{
    follow(c, setup, &angles->rotor, now);
    switch ((cvk_calibration_phase)now->calibration) {
    case CVK_CALIBRATE_RISE:
        rise(c, setup, now);
        break;
    case CVK_CALIBRATE_SETTLE:
    case CVK_CALIBRATE_SETTLE_AGAIN:
        settle(c, setup, now);
        break;
    case CVK_CALIBRATE_REST:
        rest(c, setup, angles, now);
        break;
    case CVK_CALIBRATE_TORQUE:
    case CVK_CALIBRATE_TORQUE_BACK:
        torque(c, setup, now);
        break;
    case CVK_CALIBRATE_SPEED:
    case CVK_CALIBRATE_SPEED_BACK:
        speed(c, setup, angles, now);
        break;
    default:
        if (in_sweep(now->calibration)) {
            sweep(c, setup, angles, now);
        }
        break;
    }
    c->ticks++;
    if (now->calibration == CVK_CALIBRATE_DONE) {
        angles->rotor.aligned = true;
    }
    if (c->begun && now->calibration < CVK_CALIBRATE_DONE) {
        put_vector(c, now);
    } else {
        now->request = (cvk_request){.mode = CVK_MODE_OFF};
    }
}
