/* SPDX-License-Identifier: Apache-2.0
 *
 * Names of the card's keys and the quantities that follow from several entries.
 */
#include "corvak/ident/card.h"

#include <math.h>
#include <string.h>

const char *cvk_card_key_name(cvk_card_key key)
{
    static const char *const names[CVK_CARD_COUNT] = {
        [CVK_CARD_RESISTANCE] = "resistance_ohm",
        [CVK_CARD_INDUCTANCE_D] = "inductance_d_h",
        [CVK_CARD_INDUCTANCE_Q] = "inductance_q_h",
        [CVK_CARD_FLUX_LINKAGE] = "flux_linkage_wb",
        [CVK_CARD_POLE_PAIRS] = "pole_pairs",
        [CVK_CARD_INERTIA] = "inertia_kg_m2",
        [CVK_CARD_FRICTION_COULOMB] = "friction_coulomb_nm",
        [CVK_CARD_FRICTION_VISCOUS] = "friction_viscous_nm_s",
        [CVK_CARD_DEAD_TIME_VOLTAGE] = "dead_time_voltage_v",
        [CVK_CARD_DELAY] = "delay_periods",
    };
    return (unsigned)key < CVK_CARD_COUNT ? names[key] : NULL;
}

/* factor * flux, or factor / flux, with the flux's interval carried along. */
static cvk_card_entry scaled_flux(const cvk_card_entry *flux, double factor, bool inverse)
{
    cvk_card_entry out = *flux;
    out.value = inverse ? factor / flux->value : factor * flux->value;
    out.low = inverse ? factor / flux->high : factor * flux->low;
    out.high = inverse ? factor / flux->low : factor * flux->high;
    out.statistical_low =
        inverse ? factor / flux->statistical_high : factor * flux->statistical_low;
    out.statistical_high =
        inverse ? factor / flux->statistical_low : factor * flux->statistical_high;
    return out;
}

static bool flux_and_pole_pairs(const cvk_card *card)
{
    return card->entry[CVK_CARD_FLUX_LINKAGE].known && card->entry[CVK_CARD_POLE_PAIRS].known;
}

bool cvk_card_torque_constant(const cvk_card *card, cvk_card_entry *out)
{
    if (!flux_and_pole_pairs(card)) {
        return false;
    }
    double p = card->entry[CVK_CARD_POLE_PAIRS].value;
    *out = scaled_flux(&card->entry[CVK_CARD_FLUX_LINKAGE], 1.5 * p, false);
    return true;
}

bool cvk_card_rpm_per_volt(const cvk_card *card, cvk_card_entry *out)
{
    if (!flux_and_pole_pairs(card)) {
        return false;
    }
    double p = card->entry[CVK_CARD_POLE_PAIRS].value;
    double rpm_per_rad_s = 60.0 / (2.0 * 3.14159265358979323846);
    *out = scaled_flux(&card->entry[CVK_CARD_FLUX_LINKAGE], rpm_per_rad_s / (sqrt(3.0) * p), true);
    return true;
}
