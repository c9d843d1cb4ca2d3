/* SPDX-License-Identifier: Apache-2.0
 *
 * Any bytes as currents and voltages: every observer's angle and speed stay numbers, the quality a
 * probability, the adapted motor near the one of the settings.
 */
#include "corvak/core/observers_alone.h"

#include <math.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void check(const cvk_moment *now, const cvk_settings *s)
{
    for (int source = CVK_ANGLE_FLUX; source < CVK_ANGLE_FLUX + CVK_OBSERVER_KINDS; source++) {
        const cvk_angle *a = &now->source[source];
        if (!isfinite(a->angle_rad) || !isfinite(a->speed_rad_s) || !(a->quality >= 0.0f) ||
            !(a->quality <= 1.0f) || a->reason < 0 || a->reason >= CVK_ANGLE_REASONS) {
            abort();
        }
    }
    if (now->adapted_flux_wb != 0.0f &&
        !(fabsf(now->adapted_flux_wb / s->motor.flux_linkage_wb - 1.0f) < 0.21f)) {
        abort();
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static cvk_observers_alone observing;
    cvk_settings s = cvk_settings_default();
    s.motor = (cvk_motor_settings){7, 0.15f, 300e-6f, 450e-6f, 0.02f};
    s.inverter = (cvk_inverter_settings){0.3f, 0.5f};
    s.observer.all = 1;
    s.observer.kind = size > 0 ? data[0] % 3 : 0;
    if (cvk_observers_alone_init(&observing, 50e-6f, &s, NULL) != CVK_OK) {
        abort();
    }
    for (size_t at = 1; at + 17 <= size; at += 17) {
        cvk_observers_alone_row row = {.own_left = data[at] & 1, .bridge_on = data[at] >> 1 & 1};
        memcpy(&row.current_a, data + at + 1, 8);
        memcpy(&row.acted_v, data + at + 9, 8);
        check(cvk_observers_alone_step(&observing, &row), &s);
        if ((data[at] & 0x40) != 0) { /* and then something reasonable for a while */
            row.current_a = (cvk_ab){1.0f, (float)data[at] * 0.01f};
            row.acted_v = (cvk_ab){(float)data[at + 1] * 0.1f, 1.0f};
            for (int n = 0; n < 20; n++) {
                check(cvk_observers_alone_step(&observing, &row), &s);
            }
        }
    }
    return 0;
}
