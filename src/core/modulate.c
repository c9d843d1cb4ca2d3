/* SPDX-License-Identifier: Apache-2.0
 *
 * Space-vector modulation, compensation of the inverter's own voltage, and the windows of low-side
 * shunts: those need their leg low for a while around the sample, so the three duties go down
 * together, which leaves the motor's voltage as it is while the lowest stays above zero.
 */
#include "modulate.h"

#include "corvak/core/svm.h"
#include "inverter.h"

#include <stddef.h>

static const cvk_parameter rows[] = {
    CVK_ROW(inverter, voltage_v, "V", 0.0f, 20.0f, 0.0f, true,
            "the inverter's own voltage (dead time and devices) at ample current; 0: not "
            "compensated"),
    CVK_ROW(inverter, knee_a, "A", 0.001f, 1000.0f, 0.5f, true,
            "current at which half of that voltage is reached"),
};
const cvk_parameter_rows cvk_inverter_rows = CVK_ROWS(rows);

static const cvk_abc idle = {0.5f, 0.5f, 0.5f};

static float larger(float a, float b)
{
    return a > b ? a : b;
}

static float smaller(float a, float b)
{
    return a < b ? a : b;
}

/* The current in the middle of the period for which the duties are meant, one and a half periods
 * from now: as now, but turned on with the motor. */
static cvk_abc coming_current(const cvk_setup *setup, const cvk_moment *now)
{
    const float ahead_rad = 1.5f * setup->period_s * now->angle.speed_rad_s;
    const cvk_dq i = cvk_park(now->current_ab_a, cvk_rotation_of(-ahead_rad));
    return cvk_clarke_inverse((cvk_ab){i.d, i.q});
}

static void compensate(const cvk_setup *setup, cvk_moment *now)
{
    const cvk_abc i = coming_current(setup, now);
    const float per_volt = 1.0f / now->bus_v;
    cvk_abc *d = &now->duty;
    d->a = smaller(1.0f, larger(0.0f, d->a + per_volt * cvk_inverter_own_v(setup, i.a)));
    d->b = smaller(1.0f, larger(0.0f, d->b + per_volt * cvk_inverter_own_v(setup, i.b)));
    d->c = smaller(1.0f, larger(0.0f, d->c + per_volt * cvk_inverter_own_v(setup, i.c)));
}

static void keep_windows(const cvk_setup *setup, cvk_abc *d)
{
    const float over = larger(d->a, larger(d->b, d->c)) - setup->most_duty;
    if (over > 0.0f) {
        *d = (cvk_abc){larger(0.0f, d->a - over), larger(0.0f, d->b - over),
                       larger(0.0f, d->c - over)};
    }
}

void cvk_modulate_step(const cvk_setup *setup, cvk_moment *now)
{
    if (now->bridge_on == 0) {
        now->duty = idle;
        now->voltage_made_v = (cvk_ab){0.0f, 0.0f};
        now->headroom = 1.0f;
        return;
    }
    const cvk_svm_output out = cvk_svm(now->voltage_set_v, now->bus_v);
    const cvk_abc wanted = out.duties;
    now->duty = wanted;
    now->headroom = 1.0f - (larger(wanted.a, larger(wanted.b, wanted.c)) -
                            smaller(wanted.a, smaller(wanted.b, wanted.c)));
    /* at rest the readings are offsets: compensating for them would drive real currents */
    if (setup->settings.inverter.voltage_v > 0.0f && now->request.mode != CVK_MODE_REST) {
        compensate(setup, now);
    }
    const cvk_abc before = now->duty;
    keep_windows(setup, &now->duty);
    const cvk_abc lost = {now->duty.a - before.a, now->duty.b - before.b, now->duty.c - before.c};
    const cvk_ab lost_share = cvk_clarke(lost);
    now->voltage_made_v = (cvk_ab){out.voltage_v.alpha + now->bus_v * lost_share.alpha,
                                   out.voltage_v.beta + now->bus_v * lost_share.beta};
}
