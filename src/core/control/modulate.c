/* SPDX-License-Identifier: Apache-2.0
 *
 * Space-vector modulation, compensation of the inverter's own voltage, and the windows that
 * shunts need.
 */
#include "modulate.h"

#include "corvak/core/svm.h"
#include "base/arithmetic.h"
#include "inverter.h"
#include "shunt.h"

#include <stddef.h>

static const cvk_parameter rows[] = {
    CVK_ROW_MODEL(inverter, voltage_v, "V", 0.0f, 20.0f, 0.0f,
                  "the inverter's own voltage (dead time and devices) at ample current; 0: not "
                  "compensated"),
    CVK_ROW_MODEL(inverter, knee_a, "A", 0.001f, 1000.0f, 0.5f,
                  "current at which half of that voltage is reached"),
};
const cvk_parameter_rows cvk_inverter_rows = CVK_ROWS(rows);

static const char *const depths[] = {"sine", "linear", "hexagon", "six_step", NULL};

static const cvk_parameter modulation[] = {
    CVK_ROW_CHOICE_ANY_TIME(modulation, depth, depths, 3, CVK_DEPTH_HEXAGON,
                            "how far the voltage goes: sines on each leg, the linear range, the "
                            "hexagon, six steps"),
};
const cvk_parameter_rows cvk_modulation_rows = CVK_ROWS(modulation);

#define SMALL_KNEES 2.0f /* times inverter.knee_a */

static const cvk_abc idle = {0.5f, 0.5f, 0.5f};

/* A small current is noise, and about to become what is wanted; a large one is where it is. */
static float expected(float flows_a, float wanted_a, float knee_a)
{
    const float ratio = flows_a / (SMALL_KNEES * knee_a);
    return flows_a + (wanted_a - flows_a) / (1.0f + ratio * ratio);
}

/* The inverter's own voltage in the period for which the duties are meant, whose middle is one and
 * a half periods from now: the current as now, but turned on with the motor, and where it is small
 * the one that is wanted. The sign of a noisy reading near zero would be a voltage at random. */
static cvk_ab own_voltage(const cvk_setup *setup, const cvk_moment *now)
{
    const float ahead = 1.5f * setup->period_s * now->angle.speed_rad_s;
    const float knee_a = setup->settings.inverter.knee_a;
    const cvk_rotation on = cvk_small_rotation_of(cvk_clamp(ahead, 1.0f));
    const cvk_dq coming = {now->base_ab_a.alpha, now->base_ab_a.beta};
    cvk_abc i = cvk_clarke_inverse(cvk_park_inverse(coming, on));
    if (now->request.mode != CVK_MODE_VOLTAGE && now->start_gives_v == 0) {
        const cvk_rotation frame = cvk_rotation_then(now->frame, on);
        const cvk_abc set = cvk_clarke_inverse(cvk_park_inverse(now->current_set_a, frame));
        i = (cvk_abc){expected(i.a, set.a, knee_a), expected(i.b, set.b, knee_a),
                      expected(i.c, set.c, knee_a)};
    }
    return cvk_clarke((cvk_abc){cvk_inverter_own_v(setup, i.a), cvk_inverter_own_v(setup, i.b),
                                cvk_inverter_own_v(setup, i.c)});
}

void cvk_modulate_step(const cvk_setup *setup, cvk_moment *now)
{
    cvk_ab own = {0.0f, 0.0f};
    if (now->bridge_on == 0 && now->start_gives_v == 0) {
        now->duty = idle;
        now->voltage_made_v = own;
        now->headroom = 1.0f;
        now->shift = (cvk_abc){0.0f, 0.0f, 0.0f};
        return;
    }
    /* at rest the readings are offsets: compensating for them would drive real currents */
    if (setup->settings.inverter.voltage_v > 0.0f && now->request.mode != CVK_MODE_REST) {
        own = own_voltage(setup, now);
    }
    const cvk_svm_output out =
        cvk_svm((cvk_ab){now->voltage_set_v.alpha + own.alpha, now->voltage_set_v.beta + own.beta},
                now->bus_v, (cvk_depth)setup->settings.modulation.depth);
    now->duty = out.duties;
    now->headroom = out.headroom;
    now->voltage_made_v = (cvk_ab){out.voltage_v.alpha - own.alpha, out.voltage_v.beta - own.beta};
    if (setup->shunt_window > 0.0f) {
        cvk_shunt_place(setup, now);
    } else if (1.0f - 0.5f * out.headroom > setup->most_duty) { /* the largest duty */
        cvk_shunt_keep_windows(setup, now);
    }
}
