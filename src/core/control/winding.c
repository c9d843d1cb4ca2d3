/* SPDX-License-Identifier: Apache-2.0
 *
 * At standstill a current meets the resistance alone: voltage times current over its square, both
 * averaged, is the resistance now. Copper gains with each K.
 */
#include "winding.h"

#define SLOW_SHARE                                                                                 \
    0.1f /* of the drop across the resistance, that inductance and back-EMF may add */
#define LEAST_SHARE 0.2f /* of the current limit */
#define MEAN_S 0.2f

static bool shows(const cvk_setup *setup, const cvk_moment *now, float square_a2)
{
    const cvk_motor_settings *m = &setup->settings.motor;
    const float w = now->angle.speed_rad_s;
    const float most = SLOW_SHARE * m->resistance_ohm;
    const float moving_v = w * m->flux_linkage_wb;
    return now->bridge_on != 0 && now->request.mode != CVK_MODE_REST &&
           square_a2 > LEAST_SHARE * LEAST_SHARE * setup->bounds.current_square_a2 &&
           fabsf(w) * m->inductance_q_h < most && moving_v * moving_v < most * most * square_a2;
}

void cvk_winding_step(cvk_winding *w, const cvk_setup *setup, cvk_moment *now)
{
    const cvk_ab i = now->base_ab_a, v = now->acted_v;
    const float square_a2 = i.alpha * i.alpha + i.beta * i.beta;
    if (!shows(setup, now, square_a2)) {
        w->seconds = 0.0f;
        return;
    }
    const float share = setup->period_s / MEAN_S;
    if (w->seconds <= 0.0f) {
        w->power = w->square_a2 = 0.0f;
    }
    w->power += share * (v.alpha * i.alpha + v.beta * i.beta - w->power);
    w->square_a2 += share * (square_a2 - w->square_a2);
    w->seconds += w->seconds < MEAN_S ? setup->period_s : 0.0f;
    if (w->seconds >= MEAN_S) {
        const float ohm = w->power / w->square_a2;
        now->winding_ohm = ohm;
        now->winding_warmer_k =
            (ohm / setup->settings.motor.resistance_ohm - 1.0f) / (float)CVK_COPPER_PER_K;
    }
}
