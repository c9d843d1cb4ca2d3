/* SPDX-License-Identifier: Apache-2.0
 *
 * The guards of a change on trial: how the motor runs, what may be made of that, and whether it is
 * exceeded.
 */
#include "trial_state.h"

#include "base/arithmetic.h"

#define LOOK_S 0.5f /* how it runs is looked at over so long */
/* Guards that nobody named. */
#define CURRENT_FACTOR 2.0f
#define LEAST_CURRENT 0.5f /* of the limit */
#define SPEED_SHARE 0.12f
#define MORE_SPEED_RAD_S 5.0f
#define QUALITY_SHARE 0.667f
#define ALIKE_SPEED 0.7f   /* of the speed at which a quality was called good: there it counts */
#define RISES_PERIODS 2.0f /* a current goes on rising: what acts next is computed already */
#define APART_RAD 0.7f     /* of the observer from the one with the settings before */
#define SURE 0.8f

static float larger(float a, float b)
{
    return a > b ? a : b;
}

static float peak_of(cvk_abc i)
{
    return larger(fabsf(i.a), larger(fabsf(i.b), fabsf(i.c)));
}

/* By an angle of its own: no start is under way. */
static bool is_running(const cvk_moment *now)
{
    return now->bridge_on != 0 && cvk_mode_by_angle(now->request.mode) &&
           (now->start_phase == CVK_START_IDLE || now->start_phase >= CVK_START_RUN);
}

/* ---- how it runs ----------------------------------------------------------------------------- */

void cvk_trial_call_good(cvk_trial *t, const cvk_settings *settings)
{
    unsigned model = 0;
    for (unsigned n = 0; n < cvk_parameter_count() && model < CVK_MODEL_ROWS; n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        if (row->factor > 0.0f) {
            t->good_model[model++] = cvk_parameter_get(settings, row);
        }
    }
    t->good_wanted = true;
}

void cvk_trial_look(cvk_trial *t, const cvk_setup *setup, const cvk_moment *now)
{
    const float peak = peak_of(now->phase_a), share = setup->period_s * (1.0f / LOOK_S);
    const float quality = now->angle.quality;
    t->peak_a = now->bridge_on != 0 ? larger(peak, t->peak_a - share * t->peak_a) : 0.0f;
    if (!is_running(now)) {
        t->quality = 1.0f;
        t->seen_ticks = 0;
        return;
    }
    t->quality += quality < t->quality ? quality - t->quality : share * (quality - t->quality);
    t->seen_ticks++;
    if (t->good_wanted && !t->runs && (float)t->seen_ticks * share > 1.0f) {
        t->good_peak_a = t->peak_a;
        t->good_quality = t->quality;
        t->good_speed_rad_s = fabsf(now->angle.speed_rad_s);
        t->good_wanted = false;
    }
}

void cvk_trial_fit_guards(cvk_trial *t, const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_bounds *b = &setup->bounds;
    const float speed = fabsf(now->angle.speed_rad_s);
    const bool known = !t->good_wanted;
    cvk_trial_terms *terms = &t->terms;
    if (terms->current_a == 0.0f) {
        const float flows_a = known && t->good_peak_a < t->peak_a ? t->good_peak_a : t->peak_a;
        const float wanted_a = larger(CURRENT_FACTOR * flows_a, LEAST_CURRENT * b->current_a);
        const float most_a = 0.5f * (b->current_a + b->trip_current_a);
        terms->current_a = wanted_a < most_a ? wanted_a : most_a;
    }
    if (terms->speed_error_rad_s == 0.0f) {
        terms->speed_error_rad_s = SPEED_SHARE * speed + MORE_SPEED_RAD_S;
    }
    if (terms->least_quality == 0.0f) {
        const bool as_fast = known && speed > ALIKE_SPEED * t->good_speed_rad_s;
        terms->least_quality =
            QUALITY_SHARE * (as_fast ? larger(t->quality, t->good_quality) : t->quality);
    }
}

/* ---- the guards ------------------------------------------------------------------------------ */

void cvk_trial_arm_guards(cvk_trial *t, const cvk_moment *now)
{
    t->speed_off = t->quality_off = t->angle_off = 0;
    t->before_a = cvk_length(now->current_ab_a);
    t->low_rad_s = t->high_rad_s = t->lagging_rad_s = now->angle.speed_rad_s;
}

static uint32_t in_a_row(uint32_t so_far, bool so)
{
    return so ? so_far + 1u : 0u;
}

static bool is_beyond(const cvk_trial *t, float speed_rad_s)
{
    const float off = t->terms.speed_error_rad_s;
    return speed_rad_s > t->high_rad_s + off || speed_rad_s < t->low_rad_s - off;
}

/* Away from the set-point for a while; or beyond all speeds that were asked for since it began, as
 * the set-point itself may be, or the speed that comes, since the filter that sees it lags: at
 * once, for a light rotor goes far in that while. */
static void judge_speed(cvk_trial *t, const cvk_setup *setup, const cvk_moment *now)
{
    const int32_t mode = now->request.mode;
    const float speed = now->angle.speed_rad_s, set = now->speed_set_rad_s;
    const float asked = mode == CVK_MODE_SPEED      ? now->request.speed_rad_s
                        : mode == CVK_MODE_POSITION ? set
                                                    : 0.0f;
    t->low_rad_s = asked < t->low_rad_s ? asked : t->low_rad_s;
    t->high_rad_s = larger(asked, t->high_rad_s);
    const float lag = setup->period_s * setup->settings.observer.tracking_bandwidth_rad_s;
    t->lagging_rad_s += (lag < 1.0f ? lag : 1.0f) * (speed - t->lagging_rad_s);
    const bool beyond = is_beyond(t, set) || is_beyond(t, 2.0f * speed - t->lagging_rad_s);
    t->speed_off = beyond ? t->patience_ticks + 1u
                          : in_a_row(t->speed_off, fabsf(set - speed) > t->terms.speed_error_rad_s);
}

/* The observer in use, and the same with the settings before, which is sure: far apart. */
static bool is_contradicted(const cvk_trial *t, const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_angle *seen = &now->source[setup->observer.chosen];
    return now->angle_source == (int32_t)setup->observer.chosen && t->twin.quality > SURE &&
           fabsf(cvk_wrap_angle(seen->angle_rad - t->twin.angle_rad)) > APART_RAD;
}

cvk_trial_reason cvk_trial_guard(cvk_trial *t, const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_trial_terms *terms = &t->terms;
    const float length_a = cvk_length(now->current_ab_a);
    const float rises_a = larger(0.0f, length_a - t->before_a);
    const float coming_a = peak_of(now->phase_a) + RISES_PERIODS * rises_a;
    const bool running = is_running(now), by_speed = cvk_mode_by_speed(now->request.mode);
    t->before_a = length_a;
    const bool turned = now->bridge_on != 0 && now->start_phase == CVK_START_TURN;
    if ((running || turned) && by_speed) {
        judge_speed(t, setup, now);
    } else {
        t->speed_off = 0;
    }
    t->quality_off = in_a_row(t->quality_off, running && now->angle.quality < terms->least_quality);
    t->angle_off = in_a_row(t->angle_off, running && is_contradicted(t, setup, now));
    return now->fault != CVK_FAULT_NONE            ? CVK_TRIAL_FAULT
           : !(coming_a <= terms->current_a)       ? CVK_TRIAL_CURRENT
           : t->speed_off > t->patience_ticks      ? CVK_TRIAL_SPEED
           : t->quality_off > t->patience_ticks    ? CVK_TRIAL_QUALITY
           : t->angle_off > t->contradiction_ticks ? CVK_TRIAL_ANGLE
                                                   : CVK_TRIAL_FINE;
}
