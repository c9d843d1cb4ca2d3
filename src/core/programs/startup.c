/* SPDX-License-Identifier: Apache-2.0
 *
 * Starting without a sensor. First a look whether the rotor turns already (catch.c): then the
 * observer takes over at once. Else a current vector stands still until the rotor has come to it
 * (align), turns faster and faster and takes the rotor along (turn), until the observer is sure of
 * its angle and takes over (run): the same current, seen from another frame, so nothing jumps.
 * Slowing down, current is first moved onto the d axis (yield), then the vector is imposed again,
 * at the angle at which it stands. Through zero speed the vector goes on turning the other way.
 *
 *     listen or probe -> align -> turn <-> run <-> yield -> turn
 *                     -> run
 *
 * What the rotor does shows in the back-EMF, seen from the vector's frame: flux linkage times
 * (sin, cos) of the angle by which it trails, times the speed. The part across the current holds no
 * error of the resistance.
 *
 * With a rotor sensor none of this is needed: its angle is used at any speed.
 */
#include "startup.h"

#include "base/arithmetic.h"
#include "control/protect.h"

#include <stddef.h>

#define TRUSTED                                                                                    \
    0.8f /* quality: a probability; and of a rotor that trails so far that it may soon be lost */
#define TRUSTED_FAR 0.6f
#define FALLS_OUT 0.3f    /* follow */
#define TRAILS_ALIKE 0.5f /* cosines of the angle to the vector, as two see it */
#define LOST 0.1f
#define MOST_WAY_RAD 0.8f /* that the vector gives way */
#define STANDS_RAD_S 3.0f /* a stop is over below this electrical speed */
/* While the vector stands: little current while the rotor comes, so that it comes slowly; much, and
 * from behind, when it passes or goes away. */
#define NEAR 0.5f /* tangent of the angle to the vector from which it passes */
#define GOING_SHARE 0.1f
#define MOVES                                                                                      \
    0.25f           /* across over along, of a rotor that comes: a warm winding makes none across  \
                     */
#define SWIFT 40.0f /* times the slew of the current: while the rotor swings */
#define CALM_SHARE 0.25f     /* of align_s without motion: the rotor has come */
#define CAUGHT_RAD2 0.02f    /* variance of a caught rotor's angle */
#define ALIGNED_RAD2 0.2f    /* variance of the rotor's angle then */
#define APPROACH_RAD 1.3f    /* the vector comes from so far behind */
#define APPROACH_SHARE 0.35f /* of align_s */
/* While it turns: the current follows the load. */
#define TIGHT 0.6f          /* follow below it: more current */
#define TRAILS 0.3f         /* of the flux linkage, seen along the current: a rotor under load */
#define NOTHING_SHARE 0.01f /* of the limit: a torque below it is none */
#define EASY 0.9f           /* above it: less */
#define LEAST_SHARE 0.4f
#define FOLLOWS 0.35f     /* follow that the observer needs as a witness: no resistance makes it */
#define SLIPS 0.25f       /* follow below it: not following, */
#define LEAST_PACE 0.2f   /* of the acceleration, with a rotor that trails far */
#define DAMPED_ATTEMPTS 2 /* then it is no swing that makes them fail */
#define DAMPED_SHARE 0.1f /* of slip_ticks, in which swings are still damped */
#define SLIP_RAD 4.0f     /* for so far at least */
#define STILL_SHARE 0.6f  /* of the back-EMF that the speed of the vector would make */
#define TURNED_BY_VECTOR 0.56f /* of the saliency's voltage squared: a rotor that stands */
#define WARM_SHARE 0.4f        /* by which a resistance may be off: a winding from 0 to 120 degC */
#define FADE_S                                                                                     \
    0.01f /* in which a d current as large as the limit is taken back: it hides the angle */
#define ALIKE_RAD 0.4f    /* of two angles, that one may hand over to the other */
#define RETURN_SHARE 0.7f /* of the speed at which the source for rest is left */
#define WATCH_QUICK_S 3e-3f
#define WATCH_SLOW_S 20e-3f
/* Each attempt after the first. */
#define MOST_SHARE 0.95f /* of limit.current_a, at most */
#define MORE_CURRENT 1.4f
#define MORE_TIME 0.5f

#define START_SHARE 0.7f /* of the limit, for the start, when no other is set */
#define RISE_S 0.1f      /* the start's current rises within this time, */
#define RISE_SHARE 0.35f /* or that share of start.align_s, if it is shorter */
#define WAY_RAD_S 400.0f /* how fast the vector gives way, at most, */
#define WAY_SWINGS                                                                                 \
    2.0f /* and so many times as fast as the rotor swings: what it moves by itself is seen as well \
          */
#define SLIP_SHARE 0.3f   /* of start.patience_s, that a rotor may be out of step */
#define YIELD_SHARE 0.75f /* of start.speed_rad_s */
#define SETTLED_S 0.02f   /* the observer must agree so long */
#define LOST_S 0.02f      /* and may be without an idea so long */

static const cvk_parameter rows[] = {
    CVK_ROW_YES_NO(start, catch_turning, 1, "whether a turning rotor is looked for first"),
    CVK_ROW_WHOLE(start, retries, 0, 10, 3,
                  "after a start that failed: each with more current, then gentler"),
    CVK_ROW(start, current_a, "A", 0.0f, 1000.0f, 0.0f, true,
            "current of the vector that starts the rotor; 0: 70 % of limit.current_a"),
    CVK_ROW(start, align_s, "s", 0.0f, 10.0f, 0.3f, true,
            "how long the vector stands still, at most, before it turns"),
    CVK_ROW(start, acceleration_rad_s2, "rad/s^2", 0.1f, 1e6f, 200.0f, true,
            "electrical acceleration of the vector"),
    CVK_ROW(start, damping_s, "s", 0.0f, 1.0f, 0.0f, true,
            "how far the vector gives way to a rotor that swings about it: rad per rad/s"),
    CVK_ROW(start, speed_rad_s, "rad/s", 1.0f, 20000.0f, 100.0f, true,
            "electrical speed below which the vector holds the rotor"),
    CVK_ROW(start, patience_s, "s", 0.05f, 60.0f, 1.0f, true,
            "how long a rotor may fail to follow before the attempt has failed"),
};
const cvk_parameter_rows cvk_startup_rows = CVK_ROWS(rows);

/* The speed that is asked for; by torque, one in its direction. */
static float wanted_speed(const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_request *r = &now->request;
    const float push = r->mode == CVK_MODE_CURRENT  ? r->current_a.q
                       : r->mode == CVK_MODE_TORQUE ? r->torque_nm
                                                    : 0.0f;
    return r->mode == CVK_MODE_SPEED      ? r->speed_rad_s
           : r->mode == CVK_MODE_POSITION ? now->speed_set_rad_s
           : push != 0.0f ? copysignf(2.0f * setup->settings.start.speed_rad_s, push)
                          : 0.0f;
}

static bool by_torque(const cvk_moment *now)
{
    return now->request.mode == CVK_MODE_TORQUE || now->request.mode == CVK_MODE_CURRENT;
}

/* Largest current that a vector may have: no more torque than was asked for, where one was. */
static float most_current(const cvk_setup *setup, const cvk_moment *now)
{
    const float most_a = MOST_SHARE * setup->settings.limit.current_a;
    const float asked_a = fabsf(now->request.mode == CVK_MODE_TORQUE
                                    ? now->request.torque_nm * setup->current_per_torque
                                    : now->request.current_a.q);
    return by_torque(now) && asked_a < most_a ? asked_a : most_a;
}

/* A torque that is none: the rotor is left alone. */
static bool asks_for_nothing(const cvk_setup *setup, const cvk_moment *now)
{
    return by_torque(now) &&
           most_current(setup, now) < NOTHING_SHARE * setup->settings.limit.current_a;
}

static void enter(cvk_startup *s, cvk_moment *now, cvk_start_phase phase)
{
    now->start_phase = (int32_t)phase;
    s->ticks = s->agreed = s->lost = s->slid = s->calm = 0;
    now->start_gives_v = now->bridge_waits = 0;
}

static void use(cvk_moment *now, cvk_angle_source source)
{
    now->angle_source = (int32_t)source;
    now->angle = now->source[source];
}

static void impose(cvk_angles *angles, cvk_moment *now, float angle_rad, float speed_rad_s)
{
    angles->imposed = (cvk_imposed){cvk_wrap_angle(angle_rad), speed_rad_s};
    now->source[CVK_ANGLE_IMPOSED] =
        (cvk_angle){angles->imposed.angle_rad, speed_rad_s, 1.0f, CVK_ANGLE_FINE};
}

/* The current as it flows, seen from another frame. */
static cvk_dq seen_from(const cvk_moment *now, cvk_angle_source source)
{
    return cvk_park(now->current_ab_a, cvk_rotation_of(now->source[source].angle_rad));
}

static void take_over(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                      cvk_reference *reference, cvk_moment *now, cvk_angle_source by)
{
    angles->imposed.speed_rad_s = 0.0f;
    const cvk_dq i = seen_from(now, by);
    s->by = (int32_t)by;
    enter(s, now, CVK_START_RUN);
    use(now, by);
    now->start_d_a = i.d;
    /* what brakes a swing is no load */
    cvk_reference_continue(reference, setup, i.q * s->way > 0.0f ? i.q : 0.0f, now);
}

/* The same at an angle that was found in another way. */
static void take_over_at(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                         cvk_reference *reference, cvk_moment *now, cvk_angle_source by,
                         float angle_rad, float speed_rad_s)
{
    cvk_observers_seed(angles, setup, now, angle_rad, speed_rad_s, CAUGHT_RAD2);
    now->source[by] = (cvk_angle){angle_rad, speed_rad_s, 1.0f, CVK_ANGLE_FINE};
    take_over(s, setup, angles, reference, now, by);
}

/* The vector turns on with a rotor that turns with it. */
static void turn_on(cvk_startup *s, cvk_angles *angles, cvk_moment *now, float angle_rad,
                    float speed_rad_s)
{
    enter(s, now, CVK_START_TURN);
    impose(angles, now, angle_rad, speed_rad_s);
    s->across_v = s->emf_v.q = speed_rad_s * now->adapted_flux_wb;
    s->emf_v.d = s->back_rad = 0.0f;
}

/* The vector goes on to carry what the q current carried. */
static void hand_back(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    const cvk_dq i = seen_from(now, setup->observer.chosen);
    const cvk_angle seen = now->source[setup->observer.chosen];
    const float most_a = most_current(setup, now);
    turn_on(s, angles, now, seen.angle_rad + cvk_angle_of(i.d, i.q), seen.speed_rad_s);
    s->current_a = cvk_length_dq(i);
    s->full_a = s->current_a > s->full_a ? s->current_a : s->full_a;
    s->full_a = s->full_a > most_a ? most_a : s->full_a;
    now->start_d_a = 0.0f;
}

/* ---- attempts -------------------------------------------------------------------------------- */

static void begin_attempt(cvk_startup *s, const cvk_setup *setup, cvk_moment *now)
{
    const float most_a = most_current(setup, now), full_a = setup->start.current_a;
    const bool first = now->start_attempt++ == 0;
    s->full_a = first ? full_a : s->full_a * MORE_CURRENT;
    s->full_a = s->full_a > most_a ? most_a : s->full_a;
    s->acceleration_share = first ? (s->full_a < full_a ? s->full_a / full_a : 1.0f)
                                  : s->acceleration_share * MORE_TIME;
    s->way = wanted_speed(setup, now) < 0.0f ? -1.0f : 1.0f;
    s->current_a = 0.0f;
    s->emf_v = (cvk_dq){0.0f, 0.0f};
    s->across_v = s->back_rad = 0.0f;
    s->gives_way = false;
    s->across_square_v2 = 0.0f;
    now->start_d_a = 0.0f;
}

static void stand(cvk_startup *s, cvk_angles *angles, cvk_moment *now)
{
    enter(s, now, CVK_START_ALIGN);
    impose(angles, now, -s->way * APPROACH_RAD, 0.0f);
}

static void from_rest(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    if (cvk_sees_rest(setup)) {
        enter(s, now, CVK_START_SEEK);
        cvk_seek_begin(&s->seek, angles);
    } else {
        stand(s, angles, now);
    }
}

static void begin(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    now->start_attempt = 0;
    now->start_reason = CVK_START_FINE;
    begin_attempt(s, setup, now);
    if (setup->settings.start.catch_turning != 0) {
        enter(s, now, cvk_is_blind(now) ? CVK_START_PROBE : CVK_START_LISTEN);
        cvk_catch_begin(&s->catch, now);
    } else {
        from_rest(s, setup, angles, now);
    }
}

static void fail(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now,
                 cvk_start_reason reason)
{
    now->start_reason = (int32_t)reason;
    if (now->request.mode == CVK_MODE_STOP || now->request.mode == CVK_MODE_BRAKE) {
        s->stopped = true; /* slow enough for it: it runs out */
        return;
    }
    const bool stands = by_torque(now) && reason != CVK_START_NO_POLARITY; /* that is no fault */
    now->start_attempt = stands ? 0 : now->start_attempt;
    if (now->start_attempt <= setup->settings.start.retries && reason != CVK_START_NO_CURRENT) {
        begin_attempt(s, setup, now);
        from_rest(s, setup, angles, now);
    } else {
        cvk_protect_raise(now, CVK_FAULT_START);
    }
}

/* ---- what the rotor does --------------------------------------------------------------------- */

/* Voltage that may be an error of the model and no motion. */
static float doubt_v(const cvk_setup *setup, const cvk_moment *now)
{
    return setup->observer.doubt_rad_s * now->adapted_flux_wb;
}

/* Cosine of the angle x by which the rotor trails a vector of this current, from the flux linkage
 * that is seen to turn with it, across the current and along it: that of the active flux,
 * (flux - (Lq - Ld) i cos x) (cos x, sin x). The part across has two solutions when the current is
 * large; the part along, which holds the resistance's error, is good enough to tell them apart. */
static float cosine_of(const cvk_setup *setup, float flux_wb, cvk_dq turning_wb, float current_a)
{
    const float taken_wb = setup->start.saliency_h * current_a;
    const float square = flux_wb * flux_wb - 4.0f * taken_wb * turning_wb.q;
    const float root = square > 0.0f ? sqrtf(square) : 0.0f;
    const float low = cvk_clamp(2.0f * turning_wb.q / (flux_wb + root), 1.0f);
    if (!(2.0f * taken_wb > flux_wb)) {
        return low;
    }
    const float high = (flux_wb + root) / (2.0f * taken_wb);
    const float along_low = (flux_wb - taken_wb * low) * sqrtf(1.0f - low * low);
    const float along_high =
        high < 1.0f ? (flux_wb - taken_wb * high) * sqrtf(1.0f - high * high) : 0.0f;
    const bool nearer =
        fabsf(fabsf(turning_wb.d) - along_high) < fabsf(fabsf(turning_wb.d) - along_low);
    return nearer && turning_wb.q > 0.0f ? (high < 1.0f ? high : 1.0f) : low;
}

/* The back-EMF since the sample before, along and across the current. */
static void watch_rotor(cvk_startup *s, const cvk_setup *setup, const cvk_angles *angles,
                        cvk_moment *now, float quick)
{
    const cvk_ab i = angles->observed.current_a, emf = cvk_emf_seen(angles, setup);
    const float length = cvk_length(i);
    const float per = length > 0.0f ? 1.0f / length : 0.0f, share = setup->period_s / quick;
    const float along = per * (i.alpha * emf.alpha + i.beta * emf.beta);
    const float across = per * (i.alpha * emf.beta - i.beta * emf.alpha);
    s->across_v += setup->period_s / WATCH_QUICK_S * (across - s->across_v);
    s->emf_v.d += share * (along - s->emf_v.d);
    s->emf_v.q += share * (across - s->emf_v.q);
    const float square = s->across_v * s->across_v;
    s->across_square_v2 += setup->period_s / WATCH_SLOW_S * (square - s->across_square_v2);
    const float speed = angles->imposed.speed_rad_s, flux_wb = now->adapted_flux_wb;
    now->start_follow = s->taken_along = 1.0f;
    s->beside = 0.0f;
    if (speed != 0.0f && flux_wb > 0.0f) {
        const cvk_dq turning_wb = {s->emf_v.d / speed, s->emf_v.q / speed};
        s->beside = (fabsf(turning_wb.d) - doubt_v(setup, now) / fabsf(speed)) / flux_wb;
        now->start_follow = cosine_of(setup, flux_wb, turning_wb, length);
        s->taken_along = s->beside > now->start_follow ? s->beside : now->start_follow;
    }
}

/* Calls in which it was so, less those in which it was not. */
static uint32_t counted(uint32_t so_far, bool so)
{
    return so ? so_far + 1u : so_far - (so_far > 0u ? 1u : 0u);
}

/* ---- phases ---------------------------------------------------------------------------------- */

static void look(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                 cvk_reference *reference, cvk_moment *now)
{
    const cvk_catch_answer answer = cvk_catch_step(&s->catch, setup, angles, now);
    const cvk_catch *c = &s->catch;
    if (answer == CVK_CATCH_TURNS) {
        take_over_at(s, setup, angles, reference, now, setup->observer.chosen, c->angle_rad,
                     c->speed_rad_s);
        now->start_d_a = 0.0f;
        return;
    }
    if (answer == CVK_CATCH_SLOW && cvk_sees_rest(setup)) {
        cvk_angles_seed_at_rest(angles, c->angle_rad, c->speed_rad_s);
        take_over_at(s, setup, angles, reference, now, setup->at_rest, c->angle_rad,
                     c->speed_rad_s);
        return;
    }
    if (answer == CVK_CATCH_SLOW) {
        cvk_observers_seed(angles, setup, now, c->angle_rad, c->speed_rad_s, CAUGHT_RAD2);
        turn_on(s, angles, now, c->angle_rad, c->speed_rad_s);
        return;
    }
    if (answer == CVK_CATCH_STANDS) {
        from_rest(s, setup, angles, now);
        return;
    }
    now->current_set_a = (cvk_dq){0.0f, 0.0f};
    impose(angles, now, 0.0f, 0.0f);
    use(now, CVK_ANGLE_IMPOSED);
    now->start_gives_v = now->bridge_waits != 0 || !cvk_catch_listens(c) ? 1 : 0;
    now->voltage_set_v = now->bridge_waits != 0
                             ? cvk_catch_emf(setup, now, c->angle_rad, c->speed_rad_s)
                             : (cvk_ab){0.0f, 0.0f};
}

/* What the voltage along the current is too much by while nothing moves is the resistance's. */
static void learn_resistance(const cvk_startup *s, const cvk_setup *setup, cvk_angles *angles)
{
    cvk_observers_measure_resistance(angles, setup, s->emf_v.d / s->current_a);
}

/* The vector comes to its place from behind, and stands there. */
static void align(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles, cvk_moment *now)
{
    const float length = (float)setup->start.align_ticks + 1.0f, share = (float)s->ticks / length;
    const float left = 1.0f - share / APPROACH_SHARE;
    impose(angles, now, left > 0.0f ? -s->way * APPROACH_RAD * left : 0.0f, 0.0f);
    watch_rotor(s, setup, angles, now, WATCH_QUICK_S);
    const float doubt = doubt_v(setup, now), speed_v2 = s->across_square_v2;
    /* a resistance that is off, and an inductance along the current that is not the q axis' */
    const float step_a = 2.0f * setup->start.current_step_a,
                per_step_v = setup->start.saliency_h / setup->period_s;
    const float warm_v =
        WARM_SHARE * setup->settings.motor.resistance_ohm * s->current_a + step_a * per_step_v;
    const bool steady = left <= 0.0f && s->current_a == s->full_a;
    s->calm = steady && speed_v2 < doubt * doubt ? s->calm + 1u : 0u;
    const bool rests = (float)s->calm > CALM_SHARE * length;
    const float along = s->emf_v.d, across = fabsf(s->emf_v.q);
    const bool passes = across > doubt && along<NEAR * across, comes = along> doubt &&
                        (along > doubt + warm_v || across > MOVES * along) && !passes;
    const bool swings = comes || passes || along < -doubt - warm_v;
    const float swift_a = SWIFT * setup->start.current_step_a;
    s->current_a = cvk_toward(s->current_a, comes ? GOING_SHARE * s->full_a : s->full_a,
                              swings ? swift_a : step_a);
    s->gives_way = swings && !comes;
    const float flows_a = seen_from(now, CVK_ANGLE_IMPOSED).d;
    s->lost = counted(s->lost, flows_a < 0.3f * s->current_a);
    if (share >= 1.0f || rests) {
        if (s->lost > setup->start.settle_ticks) {
            fail(s, setup, angles, now, CVK_START_NO_CURRENT);
        } else {
            if (s->calm > 0u) {
                learn_resistance(s, setup, angles);
            }
            s->gives_way = false;
            turn_on(s, angles, now, angles->imposed.angle_rad, 0.0f);
            cvk_observers_seed(angles, setup, now, angles->imposed.angle_rad, 0.0f, ALIGNED_RAD2);
        }
    }
}

/* The observer sees the rotor trail the vector about as far as the back-EMF does. */
static bool alike(const cvk_startup *s, const cvk_setup *setup, const cvk_angles *angles,
                  const cvk_moment *now)
{
    const cvk_angle *seen = &now->source[setup->observer.chosen];
    const float trails_rad =
        cvk_wrap_angle(angles->imposed.angle_rad - s->back_rad - seen->angle_rad);
    return fabsf(cvk_rotation_of(trails_rad).cosine - now->start_follow) < TRAILS_ALIKE;
}

/* The observer is sure, and turns the vector's way. That the rotor still swings about the vector
 * does not matter: its angle is what is seen. */
static bool agrees(const cvk_startup *s, const cvk_setup *setup, const cvk_angles *angles,
                   const cvk_moment *now)
{
    const cvk_angle *seen = &now->source[setup->observer.chosen];
    const float along = copysignf(seen->speed_rad_s, now->source[CVK_ANGLE_IMPOSED].speed_rad_s);
    const float enough = now->start_follow < FALLS_OUT ? TRUSTED_FAR : TRUSTED;
    return seen->quality > enough && along == seen->speed_rad_s && s->taken_along > FOLLOWS &&
           alike(s, setup, angles, now);
}

/* More current when the rotor trails far, less when it hardly does; and never so much along the
 * magnets that the angle does not show. */
static void follow_load(cvk_startup *s, const cvk_setup *setup, const cvk_moment *now, bool seen)
{
    const float most_a = most_current(setup, now), follow = now->start_follow;
    const float step = setup->start.current_step_a, least_a = LEAST_SHARE * s->full_a;
    const float most_d_a = setup->start.most_d_a;
    /* a first attempt takes it for light, unless the voltage along the current shows a load */
    const bool trails = now->start_attempt > 1 || s->beside > TRAILS;
    const float cosine = trails ? follow : 1.0f;
    const float bound_a = cosine * most_a > most_d_a ? most_d_a / cosine : most_a;
    if (!seen) {
        s->current_a = cvk_toward(s->current_a, s->full_a, step);
        return;
    }
    if (follow < TIGHT) {
        s->current_a = cvk_toward(s->current_a, most_a > s->full_a ? most_a : s->full_a, step);
    } else if (follow > EASY) {
        s->current_a = cvk_toward(s->current_a, least_a, 0.2f * step);
    }
    s->current_a =
        s->current_a > bound_a ? cvk_toward(s->current_a, bound_a, 2.0f * step) : s->current_a;
}

/* The voltage across the current, squared, below which a rotor under a turning vector stands: one
 * with saliency changes its flux linkage with the vector though. */
static float still_v2(const cvk_startup *s, const cvk_setup *setup, const cvk_moment *now,
                      float speed_rad_s)
{
    const float full_v = STILL_SHARE * speed_rad_s * now->adapted_flux_wb;
    const float saliency_v = speed_rad_s * setup->start.saliency_h * s->current_a;
    return full_v * full_v + TURNED_BY_VECTOR * saliency_v * saliency_v;
}

/* It has not followed for long, and the vector has come far enough to take along a rotor that a
 * brake holds a quarter turn ahead of it. */
static bool slipped_far(const cvk_startup *s, const cvk_setup *setup, float speed_rad_s)
{
    return s->lost > setup->start.slip_ticks &&
           (float)s->lost * setup->period_s * fabsf(speed_rad_s) > SLIP_RAD;
}

static void turn(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                 cvk_reference *reference, cvk_moment *now)
{
    const float top = setup->settings.start.speed_rad_s, wanted = wanted_speed(setup, now);
    const float goal = cvk_clamp(wanted, top);
    float *speed = &angles->imposed.speed_rad_s;
    watch_rotor(s, setup, angles, now, WATCH_SLOW_S);
    const bool seen = fabsf(*speed) * now->adapted_flux_wb > doubt_v(setup, now);
    const bool away = *speed * goal > 0.0f && fabsf(*speed) < fabsf(goal);
    const float grip = (now->start_follow - SLIPS) / (TIGHT - SLIPS);
    const float pace = seen && away ? (grip < LEAST_PACE ? LEAST_PACE
                                       : grip > 1.0f     ? 1.0f
                                                         : grip)
                                    : 1.0f;
    *speed = cvk_toward(*speed, goal, pace * s->acceleration_share * setup->start.speed_step_rad_s);
    follow_load(s, setup, now, seen);
    const bool goes_on = fabsf(wanted) >= setup->start.yield_rad_s && *speed * wanted > 0.0f;
    const bool waits = fabsf(wanted) >= top && fabsf(*speed) >= 0.98f * top;
    const bool slips = seen && s->taken_along < SLIPS;
    s->agreed = counted(s->agreed, goes_on && agrees(s, setup, angles, now));
    s->lost = counted(s->lost, slips || waits);
    s->slid = counted(s->slid, slips);
    if (s->agreed >= setup->start.settle_ticks) {
        take_over(s, setup, angles, reference, now, setup->observer.chosen);
    } else if (slips && slipped_far(s, setup, *speed)) {
        fail(s, setup, angles, now,
             s->across_square_v2 < still_v2(s, setup, now, *speed) ? CVK_START_BLOCKED
                                                                   : CVK_START_SLIPPED);
    } else if (waits && !slips && s->lost > setup->start.patience_ticks) {
        fail(s, setup, angles, now, CVK_START_UNSEEN);
    }
}

static void seek(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                 cvk_reference *reference, cvk_moment *now)
{
    const cvk_seek_answer answer = cvk_seek_step(&s->seek, setup, angles, now);
    const float flows_a = seen_from(now, setup->at_rest).d;
    s->lost = counted(s->lost, fabsf(flows_a) < 0.3f * fabsf(s->seek.current_a));
    if (s->lost > setup->start.settle_ticks) {
        fail(s, setup, angles, now, CVK_START_NO_CURRENT);
    } else if (answer == CVK_SEEK_NO_POLARITY) {
        fail(s, setup, angles, now, CVK_START_NO_POLARITY);
    } else if (answer == CVK_SEEK_FOUND) {
        take_over_at(s, setup, angles, reference, now, setup->at_rest, s->seek.found_rad, 0.0f);
    }
}

/* The source that sees a rotor at rest below its speed, the observer above; each only when it is
 * sure. */
static void choose_by_speed(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                            cvk_reference *reference, const cvk_moment *now)
{
    const int32_t before = s->by;
    const float speed = fabsf(now->angle.speed_rad_s), leave = setup->leave_rest_rad_s;
    const cvk_angle *slow = &now->source[setup->at_rest],
                    *seen = &now->source[setup->observer.chosen];
    if (s->by == (int32_t)setup->at_rest && speed > leave) {
        const float apart = cvk_wrap_angle(seen->angle_rad - slow->angle_rad);
        if (seen->quality > TRUSTED && fabsf(apart) < ALIKE_RAD) {
            s->by = (int32_t)setup->observer.chosen;
        } else {
            cvk_observers_seed(angles, setup, now, slow->angle_rad, slow->speed_rad_s, CAUGHT_RAD2);
        }
    } else if (s->by != (int32_t)setup->at_rest && speed < RETURN_SHARE * leave &&
               slow->quality > TRUSTED) {
        s->by = (int32_t)setup->at_rest;
    }
    if (s->by != before) { /* while it accelerates one lags behind the other */
        cvk_reference_reseen(reference, setup,
                             now->source[s->by].speed_rad_s - now->source[before].speed_rad_s);
    }
}

/* The angle in use is without an idea, and has been too long. Looked at once in `calls`. */
static bool angle_is_lost(cvk_startup *s, const cvk_setup *setup, const cvk_moment *now,
                          uint32_t calls)
{
    s->lost = now->angle.quality < LOST ? s->lost + calls : 0u;
    return s->lost > setup->start.lost_ticks;
}

/* The d current of the start fades; slow, it comes back. Looked at when the angle is judged. */
static void run(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                cvk_reference *reference, cvk_moment *now)
{
    const float slow = setup->start.yield_rad_s, speed = now->angle.speed_rad_s;
    const float rise_a = (float)CVK_JUDGE_TICKS * setup->start.current_step_a;
    const float fade_a =
        (float)CVK_JUDGE_TICKS * setup->period_s / FADE_S * setup->settings.limit.current_a;
    const float along = wanted_speed(setup, now) * copysignf(1.0f, speed);
    const bool yields = !cvk_sees_rest(setup) && along < slow && fabsf(speed) < 1.2f * slow;
    if (cvk_sees_rest(setup)) {
        choose_by_speed(s, setup, angles, reference, now);
    }
    now->start_phase = yields ? CVK_START_YIELD : CVK_START_RUN;
    now->start_d_a = yields ? cvk_toward(now->start_d_a, setup->start.current_a, rise_a)
                            : cvk_toward(now->start_d_a, 0.0f, fade_a > rise_a ? fade_a : rise_a);
    const bool lost = angle_is_lost(s, setup, now, CVK_JUDGE_TICKS);
    if (now->angle.quality > TRUSTED && CVK_JUDGE_TICKS * s->ticks > setup->start.patience_ticks) {
        now->start_attempt = 1; /* it runs: what fails from here on is a start of its own */
    }
    const bool strains = s->by != (int32_t)setup->at_rest &&
                         fabsf(now->current_set_a.q) > 0.98f * setup->speed_current_a;
    s->calm = counted(s->calm, strains && cvk_mode_by_speed(now->request.mode) && along > slow &&
                                   fabsf(speed) < slow);
    if (CVK_JUDGE_TICKS * s->calm > setup->start.patience_ticks) {
        fail(s, setup, angles, now, CVK_START_BLOCKED);
    } else if (yields && now->start_d_a >= setup->start.current_a) {
        hand_back(s, setup, angles, now);
    } else if (lost && (s->ticks < setup->start.patience_ticks ||
                        (by_torque(now) && fabsf(speed) < 2.0f * slow))) {
        fail(s, setup, angles, now, CVK_START_UNSEEN);
    } else if (lost) {
        cvk_protect_raise(now, CVK_FAULT_ANGLE);
    }
}

/* The vector gives way to the rotor's swing about it: like a spring that gets a damper. The part of
 * the back-EMF across the current tells the rotor's speed well enough. */
static void damp(cvk_startup *s, const cvk_setup *setup, cvk_moment *now)
{
    const float swing = s->across_v / now->adapted_flux_wb - now->angle.speed_rad_s;
    const float back = cvk_clamp(setup->settings.start.damping_s * swing, MOST_WAY_RAD);
    /* what the vector's own giving way induces in a rotor that stands would keep it swinging */
    const bool follows = now->start_phase == CVK_START_TURN &&
                         now->start_attempt <= DAMPED_ATTEMPTS &&
                         (float)s->slid < DAMPED_SHARE * (float)setup->start.slip_ticks;
    const bool gives = follows || s->gives_way;
    s->back_rad = cvk_toward(s->back_rad, gives ? back : 0.0f, setup->start.way_step_rad);
    now->angle.angle_rad = cvk_wrap_angle(now->angle.angle_rad - s->back_rad);
}

static void by_observer(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                        cvk_reference *reference, cvk_moment *now)
{
    if (now->start_phase == CVK_START_IDLE) {
        begin(s, setup, angles, now);
    }
    if (asks_for_nothing(setup, now) &&
        (now->start_phase == CVK_START_ALIGN ||
         (now->start_phase == CVK_START_TURN && angles->imposed.speed_rad_s == 0.0f))) {
        now->start_attempt = 0;
        begin_attempt(s, setup, now);
        stand(s, angles, now);
    }
    s->ticks++;
    if (now->start_phase == CVK_START_LISTEN || now->start_phase == CVK_START_PROBE) {
        look(s, setup, angles, reference, now);
    } else if (now->start_phase == CVK_START_ALIGN) {
        align(s, setup, angles, now);
    } else if (now->start_phase == CVK_START_TURN) {
        turn(s, setup, angles, reference, now);
    } else if (now->start_phase == CVK_START_SEEK) {
        seek(s, setup, angles, reference, now);
    } else if (angles->observed.judge) {
        run(s, setup, angles, reference, now);
    }
    if (now->start_phase == CVK_START_ALIGN || now->start_phase == CVK_START_TURN) {
        use(now, CVK_ANGLE_IMPOSED);
        damp(s, setup, now);
        now->current_set_a = (cvk_dq){s->current_a, 0.0f};
    } else if (now->start_phase == CVK_START_SEEK) {
        use(now, setup->at_rest);
    } else if (now->start_phase >= CVK_START_RUN) {
        use(now, (cvk_angle_source)s->by);
    }
}

static void by_rotor_sensor(cvk_startup *s, const cvk_setup *setup, cvk_moment *now)
{
    use(now, CVK_ANGLE_ROTOR);
    if (angle_is_lost(s, setup, now, 1u)) {
        cvk_protect_raise(now, CVK_FAULT_ANGLE);
    }
}

/* A stop is over when the motor stands, a brake when it is too slow for the angle. */
static bool is_over(const cvk_startup *s, const cvk_setup *setup, const cvk_moment *now)
{
    const bool by_vector = now->start_phase == CVK_START_TURN;
    const bool by_sensor = now->angle_source == CVK_ANGLE_ROTOR ||
                           (cvk_sees_rest(setup) && now->angle_source == (int32_t)setup->at_rest);
    const float speed = fabsf(now->angle.speed_rad_s);
    if (now->request.mode == CVK_MODE_BRAKE) {
        const bool slow = speed < (by_sensor ? STANDS_RAD_S : setup->start.yield_rad_s);
        return s->stopped || by_vector || now->start_phase == CVK_START_ALIGN ||
               (slow && (by_sensor || now->start_phase >= CVK_START_RUN));
    }
    return now->request.mode == CVK_MODE_STOP &&
           (s->stopped || ((by_vector || by_sensor) && speed < STANDS_RAD_S));
}

/* After a stop the mode is off until something else is asked for; after a brake the winding is
 * shorted. */
static void rest(cvk_moment *now)
{
    if (now->request.mode == CVK_MODE_BRAKE) {
        now->start_gives_v = 1;
        now->voltage_set_v = (cvk_ab){0.0f, 0.0f};
    } else {
        now->request.mode = CVK_MODE_OFF;
    }
}

void cvk_startup_step(cvk_startup *s, const cvk_setup *setup, cvk_angles *angles,
                      cvk_reference *reference, cvk_moment *now)
{
    const int32_t mode = now->request.mode;
    if (now->start_phase >= CVK_START_RUN && !angles->observed.judge &&
        now->fault == CVK_FAULT_NONE && cvk_mode_by_angle(mode)) {
        use(now, (cvk_angle_source)s->by); /* nothing new until it is judged again */
        return;
    }
    const bool by_sensor = setup->settings.angle.source == CVK_BY_ROTOR_SENSOR;
    const bool turns = cvk_mode_by_angle(mode);
    if (mode == CVK_MODE_STOP && now->bridge_on == 0) { /* nothing turns under its power */
        s->stopped = true;
    }
    if (now->fault == CVK_FAULT_NONE && turns && !s->stopped) {
        if (by_sensor) {
            by_rotor_sensor(s, setup, now);
        } else {
            by_observer(s, setup, angles, reference, now);
        }
    }
    s->stopped = is_over(s, setup, now);
    if (now->fault != CVK_FAULT_NONE || !turns || s->stopped || by_sensor) {
        now->start_phase = CVK_START_IDLE;
        now->start_d_a = 0.0f;
        now->start_gives_v = now->bridge_waits = 0;
    }
    if (s->stopped) {
        rest(now);
        use(now, (cvk_angle_source)now->angle_source); /* how sure it is, and its speed, go on */
    }
    if (!turns || now->fault != CVK_FAULT_NONE) {
        s->lost = 0;
        angles->imposed.speed_rad_s = mode == CVK_MODE_IMPOSED ? now->request.speed_rad_s : 0.0f;
        use(now, mode == CVK_MODE_IMPOSED ? CVK_ANGLE_IMPOSED
                 : by_sensor              ? CVK_ANGLE_ROTOR
                                          : setup->observer.chosen);
    }
}

void cvk_startup_prepare(cvk_setup *setup)
{
    const cvk_settings *s = &setup->settings;
    const float T = setup->period_s, limit_a = s->limit.current_a;
    const float wanted_a = s->start.current_a > 0.0f ? s->start.current_a : START_SHARE * limit_a;
    const float saliency_h = s->motor.inductance_q_h - s->motor.inductance_d_h;
    const float quick_s = RISE_SHARE * s->start.align_s;
    const float rise_s = quick_s < RISE_S && quick_s > 0.0f ? quick_s : RISE_S;
    cvk_start_constants *start = &setup->start;
    start->saliency_h = saliency_h > 0.0f ? saliency_h : 0.0f;
    start->most_d_a = saliency_h * limit_a > CVK_START_D_SHARE * s->motor.flux_linkage_wb
                          ? CVK_START_D_SHARE * s->motor.flux_linkage_wb / saliency_h
                          : limit_a;
    start->pulse_a = wanted_a;
    start->current_a = wanted_a < start->most_d_a ? wanted_a : start->most_d_a;
    start->current_step_a = wanted_a * T / rise_s;
    start->yield_rad_s = YIELD_SHARE * s->start.speed_rad_s;
    const float swing_rad_s = WAY_SWINGS / (s->start.damping_s + WAY_SWINGS / WAY_RAD_S);
    start->way_step_rad = swing_rad_s * T;
    start->speed_step_rad_s = s->start.acceleration_rad_s2 * T;
    start->align_ticks = cvk_ticks_of(s->start.align_s, T);
    start->patience_ticks = cvk_ticks_of(s->start.patience_s, T);
    start->slip_ticks = cvk_ticks_of(SLIP_SHARE * s->start.patience_s, T);
    start->settle_ticks = cvk_ticks_of(SETTLED_S, T);
    start->lost_ticks = cvk_ticks_of(LOST_S, T);
}
