/* SPDX-License-Identifier: Apache-2.0
 *
 * Least current: of all currents that make a torque, the shortest has (Morimoto, Takeda, Hirasa,
 * Taniguchi, "Expansion of operating limits for permanent magnet motor by current vector control
 * considering inverter capacity", IEEE Trans. Ind. Appl. 26(5), 1990)
 *
 *     id = [flux - sqrt(flux^2 + 4 (Lq - Ld)^2 iq^2)] / 2 (Lq - Ld)
 *
 * Field weakening: an integral of the voltage that is left adds a negative d current when there is
 * none left, and takes it back when there is. At the largest d current the q current gives way, so
 * the voltage never ends.
 */
#include "torque.h"

#include "corvak/core/svm.h"

#include "base/arithmetic.h"

#include <stddef.h>

#define LEAST_ROOM 0.02f

#define WEAKENING_RATIO 0.05f /* of the current loop's bandwidth */
#define WEAKENING_FROM 0.3f
#define MOST_LOST                                                                                  \
    0.04f /* of the linear range, cut off by six steps: a flat-topped wave loses that */

static const cvk_parameter rows[] = {
    CVK_ROW_YES_NO(torque, least_current, 0,
                   "whether a salient motor gets the d current with which the least current makes "
                   "the torque"),
    CVK_ROW_YES_NO(torque, weakening, 0,
                   "whether a d current weakens the field at the end of the voltage"),
    CVK_ROW(torque, weakening_current_a, "A", 0.0f, 1000.0f, 0.0f, true,
            "largest d current that weakens, also one by hand; 0: limit.current_a"),
};
const cvk_parameter_rows cvk_torque_rows = CVK_ROWS(rows);

static float least_current_d(const cvk_setup *setup, float q_a)
{
    const float more_h = setup->torque.saliency_h, flux = setup->settings.motor.flux_linkage_wb;
    if (!(more_h > 0.0f)) {
        return 0.0f;
    }
    const float across = 2.0f * more_h * q_a;
    return (flux - sqrtf(flux * flux + across * across)) / (2.0f * more_h);
}

/* N m per A of q current. */
static float torque_per_a(const cvk_setup *setup, float d_a)
{
    const cvk_motor_settings *m = &setup->settings.motor;
    return 1.5f * (float)setup->pole_pairs *
           (m->flux_linkage_wb + (m->inductance_d_h - m->inductance_q_h) * d_a);
}

static void weaken(cvk_torque *t, const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_torque_constants *c = &setup->torque;
    const cvk_ab v = now->voltage_set_v;
    const float range_v = now->bus_v * (1.0f / CVK_SQRT3);
    const cvk_ab made = now->voltage_made_v;
    const float used = cvk_length(v) / range_v;
    /* what is cut off: with a small inductance no current error makes the wanted voltage much
     * larger */
    const float lost = sqrtf((v.alpha - made.alpha) * (v.alpha - made.alpha) +
                             (v.beta - made.beta) * (v.beta - made.beta)) /
                       range_v;
    const float by_use = c->most_used - used, by_loss = c->most_lost - lost;
    const float left = cvk_clamp(by_use < by_loss ? by_use : by_loss, 0.2f);
    const float speed = fabsf(now->angle.speed_rad_s), least = c->least_speed_rad_s;
    const float per_a = (speed > least ? speed : least) * setup->settings.motor.inductance_d_h;
    const float goal_a = t->weakening_a + c->share * left * range_v / per_a;
    if (t->room >= 1.0f) {
        t->weakening_a = goal_a > 0.0f ? 0.0f : (goal_a < -c->most_a ? -c->most_a : goal_a);
    }
    if (goal_a < -c->most_a || t->room < 1.0f) { /* no more of it: the q current gives way */
        const float room = t->room + c->share * left;
        t->room = room > 1.0f ? 1.0f : (room < LEAST_ROOM ? LEAST_ROOM : room);
    }
}

static float most_q(const cvk_torque *t, const cvk_setup *setup, const cvk_moment *now)
{
    const float d_a = now->current_set_a.d, left = setup->bounds.current_square_a2 - d_a * d_a;
    return left > 0.0f ? t->room * sqrtf(left) : 0.0f;
}

float cvk_torque_step(cvk_torque *t, const cvk_setup *setup, cvk_moment *now)
{
    if (setup->torque.share > 0.0f && now->bridge_on != 0 && cvk_mode_by_angle(now->request.mode) &&
        now->angle_source != CVK_ANGLE_IMPOSED) {
        weaken(t, setup, now);
    } else {
        *t = (cvk_torque){0.0f, 1.0f};
    }
    const float q_a = most_q(t, setup, now);
    now->weakening_a = t->weakening_a;
    now->torque_room_nm = torque_per_a(setup, now->current_set_a.d) * q_a;
    return q_a;
}

float cvk_torque_d(const cvk_torque *t, const cvk_setup *setup, const cvk_moment *now, float q_a)
{
    const float asked = now->request.current_a.d, most = setup->torque.most_a;
    const float by_hand = asked < -most ? -most : asked;
    return by_hand + now->start_d_a + least_current_d(setup, q_a) + t->weakening_a;
}

float cvk_torque_q(const cvk_setup *setup, float torque_nm)
{
    const float q_a = torque_nm * setup->current_per_torque;
    /* twice is enough: the d current is a small correction */
    const float again_a = torque_nm / torque_per_a(setup, least_current_d(setup, q_a));
    return torque_nm / torque_per_a(setup, least_current_d(setup, again_a));
}

void cvk_torque_prepare(cvk_setup *setup)
{
    static const float used[CVK_DEPTHS] = {[CVK_DEPTH_SINE] = 0.95f * 0.8660254f,
                                           [CVK_DEPTH_LINEAR] = 0.95f,
                                           [CVK_DEPTH_HEXAGON] = 0.98f,
                                           [CVK_DEPTH_SIX_STEP] = 1.08f};
    const cvk_settings *s = &setup->settings;
    const cvk_motor_settings *m = &s->motor;
    cvk_torque_constants *c = &setup->torque;
    const bool known = m->inductance_d_h > 0.0f && m->flux_linkage_wb > 0.0f;
    const float most_a = s->torque.weakening_current_a;
    c->most_a = most_a > 0.0f ? most_a : s->limit.current_a;
    if (s->torque.least_current != 0 && known && m->inductance_q_h > m->inductance_d_h) {
        c->saliency_h = m->inductance_q_h - m->inductance_d_h;
    }
    if (s->torque.weakening != 0 && known) {
        c->share = WEAKENING_RATIO * CVK_TWO_PI * s->current.bandwidth_hz * setup->period_s;
        c->most_used = used[s->modulation.depth];
        c->most_lost = s->modulation.depth == CVK_DEPTH_SIX_STEP ? MOST_LOST : INFINITY;
        c->least_speed_rad_s = WEAKENING_FROM * s->protect.bus_min_v / m->flux_linkage_wb;
    }
}
